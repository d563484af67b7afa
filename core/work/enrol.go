package work

import (
	"cmp"
	"context"
	"fmt"
	"slices"

	"meatus/core/book"
	"meatus/core/enrol"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/route"
)

// Enrolling is a session's machine that is to trust an issuer of leases, or with Out to do so no more.
type Enrolling struct {
	Session string
	Issuer  string // the one that the session names where ""
	Machine string // its name there; the session's, or what it names, where ""
	Tags    []string
	Names   []string // hosts that its own certificate is for, besides the session's
	Config  string   // its server's configuration, "" for the usual one
	Reload  string   // what has the server read that anew, "" for what is usual
	Super   bool     // by sudo, which asks for no password
	Host    bool     // have its own key signed, too
	Out     bool
}

// enrolOptions are what enrolling a session's machine needs. Where it trusts the issuer already its leases let somebody in.
func (t Tools) enrolOptions(e Enrolling, trusts bool) (o enrol.Options, err error) {
	ws := t.Workspace()
	planner := ws.Planner()
	way, err := planner.Plan(e.Session)
	if err != nil {
		return o, err
	}
	if s := ws.Book.Session(e.Session); s != nil {
		issuer, machine := s.Issuer()
		e.Issuer, e.Machine = cmp.Or(e.Issuer, issuer), cmp.Or(e.Machine, machine)
		if s.Site.V != "" {
			o.Machine.Site = s.Site.V
		}
		if s.Network.V != "" {
			o.Machine.Networks = []string{s.Network.V}
		}
	}
	if e.Issuer == "" {
		return o, fmt.Errorf("%s names no issuer; say which one is meant", e.Session)
	}
	e.Machine = cmp.Or(e.Machine, e.Session)
	of, err := planner.LeaseOf(e.Issuer, e.Machine)
	if err != nil {
		return o, err
	}
	target := way.Target()
	if target.Instance != nil {
		o.Machine.Instance = target.Instance.ID
		if _, i := ws.InstanceOf(target); i != nil {
			for name, value := range i.Tags {
				if value != "" {
					name += "=" + value
				}
				o.Machine.Tags = append(o.Machine.Tags, name)
			}
		}
	}
	o.Machine.Name, o.Machine.Tags = e.Machine, append(o.Machine.Tags, e.Tags...)
	slices.Sort(o.Machine.Tags)
	o.Machine.Tags = slices.Compact(o.Machine.Tags)
	o.Machine.Names = append([]string{target.Host}, e.Names...)
	way.Others = nil
	o.Lease = of
	o.Way = way.AtEnd(func(h *route.Hop) {
		if len(h.Keys) > 0 && !trusts { // the way that is there already
			h.Lease = nil
		}
	})
	o.Walker, o.Leases, o.Name, o.Issuer = t.Walker, t.Leases, e.Issuer, of.Way.AsRoute()
	o.Config, o.Reload, o.Super, o.Host = e.Config, e.Reload, e.Super, e.Host
	return o, nil
}

// LookToEnrol sees what enrolling a machine would write there. The caller closes the plan.
func (t Tools) LookToEnrol(ctx context.Context, e Enrolling) (*enrol.Plan, error) {
	o, err := t.enrolOptions(e, e.Out)
	if err != nil {
		return nil, err
	}
	return enrol.Look(ctx, o, e.Out)
}

// Enrol does what a plan shows, has the session use leases where it says nothing of them yet, and tells each step.
func (t Tools) Enrol(ctx context.Context, plan *enrol.Plan, e Enrolling, tell func(say string)) error {
	err := plan.Apply(ctx, tell)
	t.Tell(Enrolled{Session: e.Session, Issuer: plan.Name, Machine: plan.Machine.Name, Out: e.Out, Failed: err})
	ws := t.Workspace()
	s := ws.Book.Session(e.Session)
	if err != nil || s == nil || s.Fleet != nil || e.Out == (s.Lease.V == "") {
		return err
	}
	value, say := "", e.Session+" has leases of "+plan.Name+" from now on; its keys stay until you take them out"
	if e.Out {
		say = e.Session + " has leases no more"
	} else if value = plan.Name; plan.Machine.Name != e.Session {
		value += "/" + plan.Machine.Name
	}
	if e.Out && s.Lease.Origin.Layer() != book.InSession {
		return nil
	}
	b, err := book.Set(ws.SessionsPath(), e.Session, "lease", value)
	if err != nil {
		return fmt.Errorf("it is done there, and the session could not be changed: %w", err)
	}
	t.Adopt(b)
	tell(say)
	return nil
}

// Refresh carries an issuer's signing keys and what is stopped to machines that trust it.
type Refresh struct {
	Tools
	Of       Enrolling
	Sessions []string
}

// Title says what the job is.
func (j *Refresh) Title() Title {
	return Title{What: "carry", Of: "what is stopped", Record: "carried"}
}

// Run does it, at one machine after the other, and goes on where one fails.
func (j *Refresh) Run(ctx context.Context, tell func(Step)) error {
	failed := 0
	for _, name := range j.Sessions {
		e := j.Of
		e.Session = name
		o, err := j.enrolOptions(e, true)
		if err == nil {
			err = enrol.Refresh(ctx, o)
		}
		step := Step{Verdict: gate.Open, Where: name, Session: name, Say: "it knows what is stopped, and the signing keys"}
		if err != nil {
			failed++
			step = Step{Verdict: gate.Shut, Where: name, Session: name, Say: "it does not know what is stopped", Err: err}
		}
		tell(step)
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d machines were not reached: leases that were stopped hold there until they end", failed, len(j.Sessions))
	}
	return nil
}

// Enrolled says that a machine trusts an issuer from now on, or no more.
type Enrolled struct {
	Session, Issuer, Machine string
	Out                      bool
	Failed                   error
}

func (Enrolled) IsEvent() {}

// Record words the event.
func (e Enrolled) Record() event.Record {
	r := event.Record{Name: "enrolled", Session: e.Session, Say: fmt.Sprintf("%s trusts the issuer %s, as %s", e.Session, e.Issuer, e.Machine)}
	if e.Out {
		r.Say = fmt.Sprintf("%s trusts the issuer %s no more", e.Session, e.Issuer)
	}
	if e.Failed != nil {
		r.Failed = e.Failed.Error()
	}
	return r
}

// AtIssuer is how one stands at an issuer of leases.
type AtIssuer struct {
	About   lease.About
	May     []lease.Right
	Held    []lease.Lease
	Waiting []lease.Waiting
}

// LeasesOf asks an issuer how one stands there.
func (t Tools) LeasesOf(ctx context.Context, issuer string) (at AtIssuer, err error) {
	r, err := t.Workspace().Planner().Issuer(issuer)
	if err != nil {
		return at, err
	}
	about, err := lease.Told(ctx, t.Leases, r, lease.Introduce{})
	if err == nil && len(about) == 1 {
		at.About = about[0]
	}
	if err == nil {
		at.May, err = lease.Told(ctx, t.Leases, r, lease.Rights{})
	}
	if err == nil {
		at.Held, err = lease.Told(ctx, t.Leases, r, lease.Leases{})
	}
	if err == nil {
		at.Waiting, err = lease.Told(ctx, t.Leases, r, lease.Waits{})
	}
	return at, err
}

// AnswerAsking answers what waits for a second person at an issuer: "agree", "decline" or "withdraw".
func (t Tools) AnswerAsking(ctx context.Context, issuer, id, say string) error {
	r, err := t.Workspace().Planner().Issuer(issuer)
	if err != nil {
		return err
	}
	_, err = lease.Told(ctx, t.Leases, r, lease.Answer{ID: id, Say: say})
	return err
}
