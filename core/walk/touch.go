package walk

import (
	"context"
	"errors"
	"io"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/contain"
	"meatus/core/gate"
	"meatus/core/route"
)

// TouchParallel is how many routes [Walker.TouchAll] looks at together.
const TouchParallel = 16

// errTouched ends a handshake that has seen what it wanted to see.
var errTouched = errors.New("touched")

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
// since there is no other way to look from there. It returns the report of what
// this machine knows, made truer by what was found.
func (w *Walker) Touch(ctx context.Context, r route.Route, look Look) gate.Report {
	depth := look.Depth
	a := &attempt{w: w, id: w.newID(), at: gate.Address, quiet: look.Quiet}
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
			w.mu.Lock()
			a.route, a.report = way, report
			w.mu.Unlock()
			return contain.Do("the check of "+r.Session, func() error { return a.touch(ctx, depth) })
		})
	}
	w.mu.Lock()
	a.report = &gate.Report{} // what comes late is of nobody's
	w.mu.Unlock()
	report := *reports[r.End()]
	var f *gate.Failure
	if errors.As(w.explain(r, err), &f) && f.Cause != gate.Cancelled {
		for i, h := range r.Hops {
			if h.Name == f.Hop {
				report.Set(i, f.Judged())
			}
		}
	}
	if ctx.Err() == nil {
		w.tell(Touched{report, f, depth})
	}
	return report
}

// Touched is what was found at the end of a look at a session's machine.
type Touched struct {
	Report  gate.Report
	Failure *gate.Failure // where a gate was found shut on the way, else nil
	Depth   Depth
}

func (Touched) IsEvent() {}

// TouchAll touches many routes, some of them together, and tells each report as
// it comes, from several goroutines. Those that lead to the same machine by the same way
// are looked at once for all. It ends early when ctx does.
func (w *Walker) TouchAll(ctx context.Context, routes []route.Route, look Look, each func(i int, report gate.Report)) {
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

// sameMachine is the report of a route to a machine that was looked at for another.
func (w *Walker) sameMachine(ctx context.Context, r route.Route, first gate.Report, depth Depth) gate.Report {
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
	if ctx.Err() == nil {
		w.tell(Touched{Report: report, Depth: depth})
	}
	return report
}

func (a *attempt) touch(ctx context.Context, depth Depth) error {
	return a.upTo(ctx, len(a.route.Hops)-1, func(below *Link) error {
		return a.overProbe(ctx, below, func(l *Link, p *patience) error {
			h := &handshake{l: l, p: p, at: gate.Identity, touch: true}
			switch depth {
			case Knock:
				return h.introduction()
			case Login:
				return h.askLogin()
			}
			return h.shake()
		})
	})
}

// upTo walks the hops before one, and does something with the link there, nil
// for the first hop.
func (a *attempt) upTo(ctx context.Context, hop int, do func(below *Link) error) error {
	var below *Link
	for i := range a.route.Hops[:hop] {
		a.hop = i
		link, err := a.pass(ctx, i, below)
		if below != nil {
			below.release()
		}
		if err != nil {
			return err
		}
		below = link
	}
	if below != nil {
		defer below.release()
	}
	return do(below)
}

// overProbe connects to the last hop by a connection of its own, which is no
// link, and does something with it.
func (a *attempt) overProbe(ctx context.Context, below *Link, do func(l *Link, p *patience) error) error {
	i := len(a.route.Hops) - 1
	l := &Link{w: a.w, hop: a.route.Hops[i], route: a.route, index: i, below: below, watchers: []watcher{{a, i}}}
	l.ctx, l.cancel = context.WithCancelCause(ctx)
	defer l.cancel(errClosed)
	leave, err := a.w.guests.enter(l.ctx, l.server())
	if err != nil {
		return l.orCancelled(err, gate.Port)
	}
	defer leave()
	p := newPatience(l.ctx, a.w.Patience)
	defer p.end()
	began := time.Now()
	raw, err := l.reach(p)
	if err != nil {
		return l.orCancelled(err, gate.Port)
	}
	l.reached = time.Since(began)
	l.conn = &countedConn{Conn: raw, gone: make(chan struct{})}
	defer raw.Close()
	p.renew()
	if err := do(l, p); err != nil {
		return l.orCancelled(err, gate.Identity)
	}
	return nil
}

// introduction reads as much as it takes to know what answers: a server speaks
// first (RFC 4253 section 4.2).
func (h *handshake) introduction() error {
	l := h.l
	stop := context.AfterFunc(h.p.ctx, func() { l.conn.Close() })
	defer stop()
	buf := make([]byte, 256)
	var err error
	for err == nil && !introduced(l.conn.greeting()) && len(l.conn.greeting()) < maxFirst {
		_, err = l.conn.Read(buf)
	}
	if !introduced(l.conn.greeting()) {
		if err == nil {
			err = io.EOF
		}
		return h.classify(err)
	}
	l.passed(gate.Port, h.answers())
	return nil
}
