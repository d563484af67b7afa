package run

import (
	"errors"
	"fmt"
	"strings"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

// propose finds the machine that a name is of where no session is called that: an instance of an estate, or a machine at a
// gateway. It prints the route and asks. It returns the workspace with the sessions that lead there, written or not, and the last
// of them.
func (o runOptions) propose(cmd *command.Call, open live.Opener, w *workspace.Workspace, name string) (*workspace.Workspace, string, error) {
	p, err := w.Propose(name, live.Visits(w))
	if errors.Is(err, route.ErrNoSession) && len(w.Book.Estates) > 0 { // it may be newer than what is known
		if w, err = open.Renewed(cmd); err != nil {
			return nil, "", err
		}
		p, err = w.Propose(name, live.Visits(w))
	}
	if len(w.Book.Gateways) > 0 && (errors.Is(err, route.ErrNoSession) || p != nil && p.Blocked) {
		if joined, jerr := o.joined(cmd, open, w, name); joined != nil || jerr != nil {
			p, err = joined, jerr
		}
	}
	if err != nil {
		return nil, "", err
	}
	r, err := p.Planner().Plan(p.Session)
	if err != nil {
		return nil, "", err
	}
	if len(p.Drafts) == 0 {
		fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %s is %s, the session %s\n", sanitize.Line(name, 60), p.Of, p.Session)
		return w, p.Session, nil
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "meatus: no session is called %s; it is %s:\n%s", sanitize.Line(name, 60), p.Of, routeText(r))
	if o.yes {
		return p.Workspace, p.Session, nil
	}
	answer, err := prompt.Ask(cmd.Context(), "Connect? Type yes, or save to also write the session: ", "there is nobody to ask whether to connect to "+sanitize.Line(name, 60)+"; pass --yes")
	switch {
	case err != nil:
		return nil, "", err
	case answer == "save":
		return p.Workspace, p.Session, p.Save()
	case answer != "yes":
		return nil, "", errors.New("nothing was done")
	}
	return p.Workspace, p.Session, nil
}

// joined is the machine of a name, or an instance id, at the gateways; nil where none has it.
func (o runOptions) joined(cmd *command.Call, open live.Opener, w *workspace.Workspace, name string) (p *workspace.Proposal, err error) {
	err = open.With(cmd, o.identities, func(e *live.Engine, _ *workspace.Workspace) error {
		for _, g := range w.Book.Gateways {
			list, err := e.ListGateway(cmd.Context(), g.Name)
			if err != nil {
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: gateway %s could not be asked: %s\n", g.Name, sanitize.Line(err.Error(), 300))
				continue
			}
			for _, m := range list {
				if m.Name == name || m.Instance == name && name != "" {
					p, err = w.ProposeJoined(g.Name, m.Name)
					return err
				}
			}
		}
		return nil
	})
	return p, err
}

// routeText is a route to a machine, a hop a line, with the login and the keys.
func routeText(r route.Route) string {
	text := ""
	for i, h := range r.Hops {
		with := "no key"
		var keys []string
		for _, k := range h.Keys {
			keys = append(keys, sanitize.Name(k))
		}
		switch {
		case h.Gateway != nil:
			with = "a gateway"
		case h.Lease != nil:
			with = "a short-lived certificate"
		case len(keys) > 0:
			with = strings.Join(keys, ", ")
		}
		who := h.User + "@"
		if h.Gateway != nil {
			who = ""
		}
		text += fmt.Sprintf("  %d %s  %s%s, %s\n", i+1, h.Name, who, h.Address(), with)
	}
	return text
}
