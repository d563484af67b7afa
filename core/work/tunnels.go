package work

import (
	"context"
	"fmt"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
)

// OpenTunnels opens tunnels along a route. Where another Meatus of the workspace
// listens at one of their addresses, it is asked to close that if TakeOver is set, and
// else the job fails with a [HeldElsewhere].
type OpenTunnels struct {
	Tools
	Route    route.Route
	Specs    []book.Tunnel
	Options  tunnel.Options
	OnKnock  bool
	TakeOver bool
}

// HeldElsewhere says that another Meatus listens at an address that is wanted.
type HeldElsewhere struct {
	Program  tunnel.Program
	Listener string
	For      string // the session it holds it for
	Err      error  // why the tunnel was not opened
}

func (h *HeldElsewhere) Error() string {
	return fmt.Sprintf("%v; the Meatus with process %d (%s) holds %s for %s", h.Err, h.Program.PID, h.Program.What, h.Listener, h.For)
}

func (h *HeldElsewhere) Unwrap() error { return h.Err }

// Title says what the job is.
func (j *OpenTunnels) Title() Title {
	return Title{What: "tunnels", Of: j.Route.Session, Session: j.Route.Session}
}

// Run does it.
func (j *OpenTunnels) Run(_ context.Context, tell func(Step)) error {
	open := func() error { return j.Tunnels.Open(j.Route, j.Specs, j.Options, j.OnKnock) }
	err := open()
	if err == nil {
		return nil
	}
	taken := false
	for _, held := range j.held(err) {
		if !j.TakeOver {
			return held
		}
		if err := tunnel.TakeOver(held.Program, held.Listener); err != nil {
			return fmt.Errorf("%w; %w", held.Err, err)
		}
		tell(Step{Verdict: gate.Open, Where: j.Route.Session, Say: fmt.Sprintf("process %d (%s) has closed %s", held.Program.PID, held.Program.What, held.Listener)})
		taken = true
	}
	if taken {
		return open()
	}
	return err
}

// held are the wanted addresses at which other programs of the workspace listen.
func (j *OpenTunnels) held(err error) []*HeldElsewhere {
	programs, perr := tunnel.Programs(j.Workspace().Dir)
	if perr != nil {
		return nil
	}
	var all []*HeldElsewhere
	for _, p := range programs {
		for _, l := range p.Lines {
			for _, spec := range j.Specs {
				if _, at := spec.Kind(); at == l.Listener && l.Kind != "lend" {
					all = append(all, &HeldElsewhere{Program: p, Listener: l.Listener, For: l.Session, Err: err})
				}
			}
		}
	}
	return all
}
