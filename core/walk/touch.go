package walk

import (
	"context"
	"errors"

	"golang.org/x/sync/errgroup"

	"meatus/core/gate"
	"meatus/core/route"
)

// TouchParallel is how many routes [Walker.TouchAll] looks at together.
const TouchParallel = 16

// errTouched ends a handshake that has seen what it wanted to see.
var errTouched = errors.New("touched")

// Touch judges a route as far as the host key of its machine, without logging in
// there: does it resolve, does it answer, what does it answer with, is it the
// machine it was. The hops before it are walked, and their links shared, since
// there is no other way to look from there. It returns the report of what this
// machine knows, made truer by what was found.
func (w *Walker) Touch(ctx context.Context, r route.Route) gate.Report {
	a := &attempt{w: w, id: w.newID(), route: r}
	report := r.Check(w.Vouched, nil)
	a.report = &report
	err := a.touch(ctx)
	w.mu.Lock()
	a.report = nil
	w.mu.Unlock()
	var f *gate.Failure
	if errors.As(err, &f) && f.Cause != gate.Cancelled {
		for i, h := range r.Hops {
			if h.Name == f.Hop {
				report.Set(i, f.Judged())
			}
		}
	}
	if ctx.Err() == nil {
		w.tell(Touched{report, f})
	}
	return report
}

// Touched is what was found at the end of a look at a session's machine.
type Touched struct {
	Report  gate.Report
	Failure *gate.Failure // where a gate was found shut on the way, else nil
}

func (Touched) isEvent() {}

// TouchAll touches many routes, some of them together, and tells each report as
// it comes, from several goroutines. It ends early when ctx does.
func (w *Walker) TouchAll(ctx context.Context, routes []route.Route, each func(i int, report gate.Report)) {
	var group errgroup.Group
	group.SetLimit(TouchParallel)
	for i, r := range routes {
		if ctx.Err() != nil {
			break
		}
		group.Go(func() error {
			if ctx.Err() == nil {
				each(i, w.Touch(ctx, r))
			}
			return nil
		})
	}
	group.Wait()
}

func (a *attempt) touch(ctx context.Context) error {
	var below *Link
	last := len(a.route.Hops) - 1
	for i := range a.route.Hops[:last] {
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
	return a.probe(ctx, last, below)
}

// probe looks at the last hop over a connection of its own, which is no link.
func (a *attempt) probe(ctx context.Context, i int, below *Link) error {
	l := &Link{w: a.w, hop: a.route.Hops[i], route: a.route, index: i, below: below, watchers: []watcher{{a, i}}}
	l.ctx, l.cancel = context.WithCancelCause(ctx)
	defer l.cancel(errClosed)
	p := newPatience(l.ctx, a.w.Patience)
	defer p.end()
	raw, err := l.reach(p)
	if err != nil {
		return l.orCancelled(err, gate.Port)
	}
	l.conn = &countedConn{Conn: raw}
	defer raw.Close()
	p.renew()
	h := &handshake{l: l, p: p, at: gate.Identity, touch: true}
	if err := h.shake(); err != nil {
		return l.orCancelled(err, h.at)
	}
	return nil
}
