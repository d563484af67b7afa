package walk

import (
	"context"
	"errors"
	"slices"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sync/errgroup"

	"meatus/core/contain"
	"meatus/core/gate"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/step"
)

// TouchParallel is how many routes [Walker.TouchAll] looks at together.
const TouchParallel = 16

// Depth is how far a check goes.
type Depth uint8

// The depths of a check, none of which logs in to the machine that is checked.
const (
	Here     Depth = iota // what this machine alone can know: no packet leaves
	Knock                 // address, port, and what answers there introduces itself
	Identity              // as far as the host key
	Login                 // the server is asked about the session's keys, and nothing is signed
)

// DepthWords are the words of the depths.
var DepthWords = [...]string{"here", "knock", "identity", "login"}

// Look is a check: how far it goes, and whether it may ask a person.
type Look struct {
	Depth Depth
	Quiet bool // ask nobody: what needs an answer is a gate that stays shut
}

func (d Depth) String() string { return DepthWords[d] }

// Touch judges a route as far as the look says, without logging in to its machine:
// does it resolve, does it answer and how soon, what does it answer with, is it
// the machine it was. The hops before it are walked, and their links shared,
// since there is no other way to look from there. Its report is that of what
// this machine knows, made truer by what was found.
func (w *Walker) Touch(ctx context.Context, r route.Route, look Look) Touched {
	depth := look.Depth
	a := &attempt{w: w, id: w.NewID(), at: gate.Address, quiet: look.Quiet}
	reports := map[route.LinkKey]*gate.Report{} // by the end of the way
	judge := func(way route.Route) *gate.Report {
		report := way.Check(w.knowledge())
		reports[way.End()] = &report
		return &report
	}
	var err error
	if depth == Here {
		judge(r)
	} else {
		r, err = w.ways(ctx, r, func(way route.Route) error {
			report := judge(way)
			a.mu.Lock()
			a.route, a.report = way, report
			a.mu.Unlock()
			return contain.Do("the check of "+r.Session, func() error { return a.touch(ctx, depth) })
		})
	}
	a.mu.Lock()
	a.report = &gate.Report{} // what comes late is of nobody's
	a.mu.Unlock()
	report := *reports[r.End()]
	var f *gate.Failure
	if errors.As(w.explain(r, err), &f) && f.Cause != gate.Cancelled {
		for i, h := range r.Hops {
			if h.Name == f.Hop {
				report.Set(i, f.Judged())
			}
		}
	}
	t := Touched{report, r, f, depth}
	if ctx.Err() == nil {
		w.tell(t)
	}
	return t
}

// Touched is what was found at the end of a look at a session's machine.
type Touched struct {
	Report  gate.Report
	Route   route.Route   // the way that was taken
	Failure *gate.Failure // where a gate was found shut on the way, else nil
	Depth   Depth
}

func (Touched) IsEvent() {}

// TouchAll touches many routes, some of them together, and tells what was found at each as
// it comes, from several goroutines. Those that lead to the same machine by the same way
// are looked at once for all. It ends early when ctx does.
func (w *Walker) TouchAll(ctx context.Context, routes []route.Route, look Look, each func(i int, t Touched)) {
	var group errgroup.Group
	group.SetLimit(TouchParallel)
	var order []string
	same := map[string][]int{}
	for i, r := range routes {
		key := machine(r)
		if look.Depth == Login { // what is asked about is each session's own
			key += "\n" + r.Session
		}
		if same[key] == nil {
			order = append(order, key)
		}
		same[key] = append(same[key], i)
	}
	for _, key := range order {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			if ctx.Err() != nil {
				return nil
			}
			all := same[key]
			first := w.Touch(ctx, routes[all[0]], look)
			each(all[0], first)
			for _, i := range all[1:] {
				each(i, w.sameMachine(ctx, routes[i], first, look.Depth))
			}
			return nil
		})
	}
	group.Wait()
}

// machine names the machine that a route leads to and the way to it, whatever the login.
func machine(r route.Route) string {
	key := ""
	for _, way := range r.Ways() {
		last := len(way.Hops) - 1
		key += way.Hops[last].Knock() + " " + way.Hops[last].At().String() + " " + way.Hops[last].Proxy.String() + "\n"
		if last > 0 {
			key += way.Link(last - 1).String()
		}
	}
	return key
}

// sameMachine is what a route to a machine that was looked at for another comes to.
func (w *Walker) sameMachine(ctx context.Context, r route.Route, found Touched, depth Depth) Touched {
	first := found.Report
	for _, way := range r.Ways() { // the one that was taken
		if slices.EqualFunc(way.Hops[:len(way.Hops)-1], first.Hops[:len(first.Hops)-1], func(h route.Hop, is gate.Hop) bool { return h.Name == is.Name }) {
			if len(r.Others) > 0 {
				r = r.Turned(way.End())
				w.turn(r)
			}
			break
		}
	}
	report := r.Check(w.knowledge())
	for i, h := range first.Hops {
		for _, g := range h.Gates {
			if i < len(r.Hops)-1 || g.Kind <= gate.Identity && g.Kind != gate.Rules {
				report.Set(i, g)
			}
		}
	}
	t := Touched{Report: report, Route: r, Depth: depth}
	if ctx.Err() == nil {
		w.tell(t)
	}
	t.Failure = found.Failure // it was told of the first
	return t
}

func (a *attempt) touch(ctx context.Context, depth Depth) error {
	logins := a.w.logins
	return a.probe(ctx, func(s *step.Step, p *step.Patience, at login.At) error {
		switch depth {
		case Knock:
			return logins.Introduction(s, p, at)
		case Login:
			return logins.AskLogin(s, p, at)
		}
		return logins.Look(s, p, at)
	})
}

// probe walks the hops before the last, connects to that by a connection of its own, which is no link, and does something
// with it.
func (a *attempt) probe(ctx context.Context, do func(s *step.Step, p *step.Patience, at login.At) error) error {
	last := len(a.route.Hops) - 1
	below, err := a.upTo(ctx, last)
	if err != nil {
		return err
	}
	if below != nil {
		defer below.Release()
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	hearing := ear{a, last}
	s := &step.Step{Route: a.route, Index: last, Hop: a.route.Hops[last], Asker: a.w.config.Asker, Events: a.w.Events, Limit: a.w.config.Patience, Hear: hearing.Hear, Quiet: hearing.Quiet, Ctx: ctx, Go: func(f func()) { go f() }}
	at, p, done, err := a.w.connect(s, below)
	if err != nil {
		return err
	}
	defer done()
	defer at.Conn.Close()
	at.Took = at.took
	p.Renew()
	if err := do(s, p, at.At); err != nil {
		return s.OrCancelled(err, gate.Identity)
	}
	return nil
}

// WouldTake asks the machine at the end of a route which of some keys it would take for the route's login, as
// [login.Config.WouldTake] does. The hops before it are walked as usual.
func (w *Walker) WouldTake(ctx context.Context, r route.Route, keys []ssh.PublicKey) (answers []login.Asked, err error) {
	a := &attempt{w: w, id: w.NewID(), at: gate.Address, route: r, report: &gate.Report{Hops: make([]gate.Hop, len(r.Hops))}}
	err = a.probe(ctx, func(s *step.Step, p *step.Patience, at login.At) (err error) {
		answers, err = w.logins.WouldTake(s, p, at, keys)
		return err
	})
	return answers, err
}
