package workspace

import (
	"fmt"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/route"
	"meatus/core/sanitize"
)

// Proposal is a way to a machine that no session names: the sessions that lead there, which are not written yet.
type Proposal struct {
	*Workspace              // as if the sessions stood in it
	Session    string       // the last of them, or one that is there already
	Drafts     []book.Draft // to write, in the order of the route; none where the session is there
	Of         string       // what the machine is, in words
	Blocked    bool         // firewall rules and networks leave no way there that is known
}

// Propose finds the instance that a text fits (a name, an id or a query), and the best way to it. It fails with
// [route.ErrNoSession] where the text fits no instance, or several. Visits is when sessions were used last, nil for never.
func (w *Workspace) Propose(text string, visits map[string]time.Time) (*Proposal, error) {
	none := fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(text, 60))
	if len(w.Book.Estates) == 0 {
		return nil, none
	}
	m, why := estate.NewIndex(w.Estates).One(text)
	if why != "" {
		return nil, fmt.Errorf("%w: %s", none, why)
	}
	source := m.Kept.Source
	p := &Proposal{Workspace: w, Of: fmt.Sprintf("instance %s of estate %s, %s", sanitize.Line(called(m.Instance), 60), source, m.Instance.State)}
	if s := w.SessionOf(source, m.Instance.ID); s != nil {
		p.Session = s.Name
		return p, nil
	}
	if ways, _ := w.WaysTo(source, m.Instance, reach.Port{Protocol: "tcp", Number: 22}, visits); len(ways) > 0 {
		p.Drafts, p.Session = w.Drafts(source, ways[0])
	}
	if p.Session == "" {
		d := w.DraftOf(source, m.Instance)
		p.Drafts, p.Session, p.Blocked = []book.Draft{d}, d.Name, true
	}
	return p, p.try(w)
}

// ProposeJoined is the way to a machine that has joined at a gateway, by its name there.
func (w *Workspace) ProposeJoined(gateway, machine string) (*Proposal, error) {
	name := estate.SessionName(machine)
	if !book.ValidName(name) {
		return nil, fmt.Errorf("no session can be called %q", sanitize.Line(machine, 60))
	}
	for n := 2; w.Book.Session(name) != nil; n++ {
		name = fmt.Sprintf("%s-%d", estate.SessionName(machine), n)
	}
	p := &Proposal{Session: name, Drafts: []book.Draft{{Name: name, Host: machine, Via: []string{gateway}}}, Of: fmt.Sprintf("a machine at gateway %s", gateway)}
	return p, p.try(w)
}

// try has the workspace be as if the drafts stood in it.
func (p *Proposal) try(w *Workspace) error {
	b, err := book.Try(w.SessionsPath(), p.Drafts...)
	if err != nil {
		return err
	}
	p.Workspace = w.With(b)
	return nil
}

// Save writes the sessions to the sessions file.
func (p *Proposal) Save() error {
	_, err := book.Add(p.SessionsPath(), p.Drafts...)
	return err
}
