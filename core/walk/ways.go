package walk

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

// Turned says which of several ways a walk of a route takes. It comes before what is heard
// of the walk on it.
type Turned struct {
	event.Note
	Route  route.Route // with that way first, and the others behind it
	Report gate.Report // what this machine knows of it
}

// Diverted says that a walk takes another way than the one that is named first, and why.
type Diverted struct {
	event.Note
	Session string
	Via     string // the last session before its machine
	Why     string
}

// Record words the event.
func (e Diverted) Record() event.Record {
	return event.Record{Name: "diverted", Session: e.Session, Hop: e.Via, Say: fmt.Sprintf("goes via %s: %s", e.Via, e.Why), Fields: map[string]any{"via": e.Via, "why": e.Why}}
}

// ways does something along one way of a route after the other, until one leads there. One
// whose links are live is taken first. It goes on to the next only where a machine did not
// answer, or could not lead on: what has to be decided by a person, as another host key,
// ends it. It returns the way that was taken, the others behind it, and fails as the first
// did.
func (w *Walker) ways(ctx context.Context, r route.Route, along func(way route.Route) error) (route.Route, error) {
	if len(r.Others) == 0 {
		return r, along(r)
	}
	turned := w.liveFirst(r)
	why := ""
	if turned.End() != r.End() {
		why = "its link is live"
	}
	var first *gate.Failure
	failed := map[route.LinkKey]*gate.Failure{} // by the way up to where they failed
	for _, way := range turned.Ways() {
		if shared(way, failed) {
			continue
		}
		at := turned.Turned(way.End())
		w.turn(at)
		if why != "" {
			w.tell(Diverted{Session: r.Session, Via: way.Hops[max(len(way.Hops)-2, 0)].Name, Why: why})
		}
		err := along(at)
		var f *gate.Failure
		if !errors.As(err, &f) || ctx.Err() != nil {
			return at, err
		}
		hop := slices.IndexFunc(way.Hops, func(h route.Hop) bool { return h.Name == f.Hop })
		if hop < 0 || !leadsOn(f, hop == len(way.Hops)-1) {
			return at, err
		}
		failed[way.Link(hop)] = f
		why = fmt.Sprintf("%s: %s: %s", f.Hop, f.Gate, f.Cause)
		if first == nil {
			copied := *f
			first = &copied
		} else {
			first.Detail = append(slices.Clip(first.Detail), fmt.Sprintf("%s: %s: %s", f.Hop, f.Gate, f.Why))
		}
	}
	if len(failed) > 1 { // what is told is told of the first
		w.turn(turned)
	}
	return turned, first
}

// turn tells which way is taken.
func (w *Walker) turn(r route.Route) {
	w.tell(Turned{Route: r, Report: r.Check(w.knowledge())})
}

// liveFirst is a route with a way first whose links are live, as far as any is.
func (w *Walker) liveFirst(r route.Route) route.Route {
	longest, found := 0, r
	for _, way := range r.Ways() {
		n := 0
		for n < len(way.Hops) && w.links.Live(way.Link(n)) != nil {
			n++
		}
		// The last hop of a way is as live as the one before it, where that is all there is.
		if n > longest {
			longest, found = n, r.Turned(way.End())
		}
	}
	return found
}

// shared tells whether a way leads through what has failed already.
func shared(way route.Route, failed map[route.LinkKey]*gate.Failure) bool {
	for i := range way.Hops {
		if failed[way.Link(i)] != nil {
			return true
		}
	}
	return false
}

// leadsOn tells whether another way may lead there after a failure, of the machine at the
// end or of one before it.
func leadsOn(f *gate.Failure, end bool) bool {
	switch f.Cause {
	case gate.NoAnswer, gate.Unreachable, gate.FarUnreachable, gate.OnwardForbidden, gate.NoAddress:
		return true
	case gate.Refused, gate.Busy, gate.ServerClosed, gate.LinkLost:
		return !end
	}
	return false
}
