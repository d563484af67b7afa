// Package hold keeps the tunnels of sessions up: it decides when all of them are ready, and tries failed sessions again
// while the others stay connected.
package hold

import (
	"errors"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/retry"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/walk"
)

// Session is a session whose tunnels are held.
type Session struct {
	Route   route.Route
	Specs   []book.Tunnel
	OnKnock bool // its machine is connected to only when a local port is used
}

// ProveTime is how long services behind forwards may take to answer before ready is reported without them.
const ProveTime = 10 * time.Second

// Readiness decides when everything that is held is ready: once, and for good.
type Readiness struct {
	Sessions []Session
	Lines    func() []tunnel.Line // the tunnels as they are now

	since time.Time // all listeners and connections are up since then, or zero
	told  bool
}

// Reached reports, a single time, that all listeners and connections are up, and that the services behind forwards answer
// or have had [ProveTime] to. It returns those that do not.
func (r *Readiness) Reached() (now bool, notAnswering []string) {
	lines := r.Lines()
	switch {
	case r.told:
		return false, nil
	case !r.up(lines):
		r.since = time.Time{}
		return false, nil
	case r.since.IsZero():
		r.since = time.Now()
	}
	waits, not := r.unproven(lines)
	r.told = !waits || time.Since(r.since) >= ProveTime
	return r.told, not
}

// up reports whether every listener is open, and every connection that is not made on a knock.
func (r *Readiness) up(lines []tunnel.Line) bool {
	open, lazy := map[string]int{}, r.lazy()
	for _, l := range lines {
		if lazy := lazy[l.Session]; l.Open && (l.Up || lazy) || lazy && l.Kind == "lend" {
			open[l.Session]++
		}
	}
	for _, s := range r.Sessions {
		if open[s.Route.Session] < len(s.Specs) {
			return false
		}
	}
	return true
}

// unproven reports whether services behind forwards are still being tried, and which do not answer.
func (r *Readiness) unproven(lines []tunnel.Line) (waits bool, not []string) {
	lazy := r.lazy()
	for _, l := range lines {
		if l.Kind != "bring" || lazy[l.Session] {
			continue
		}
		switch l.Answers {
		case gate.Open.String():
		case gate.Untried.String():
			waits = true
			not = append(not, l.Session+": "+l.Reach+" was not tried yet")
		default:
			not = append(not, l.Session+": "+l.Reach+": "+l.Proof)
		}
	}
	return waits, not
}

func (r *Readiness) lazy() map[string]bool {
	all := map[string]bool{}
	for _, s := range r.Sessions {
		all[s.Route.Session] = s.OnKnock
	}
	return all
}

// The first and the longest pause between two tries.
const (
	FirstRetry = 2 * time.Second
	LastRetry  = 2 * time.Minute
)

// Retries connects failed sessions again after growing pauses, and leaves the others connected. It is for one goroutine.
type Retries struct {
	Sessions int                                                  // that are held
	Walk     func(session string)                                 // connects a session again
	Again    func(session string, why error, pause time.Duration) // told of the next try
	Never    func(session string, why error)                      // told of a session that no retry can connect
	tries    map[string]int
	shut     map[string]error
	timers   map[string]*time.Timer // the next try, by session
}

// Failed schedules the next try of a failed session. It returns the error with which holding ends: the error of a single
// session, unless its server is only busy, or the last one's when no session can connect by a retry.
func (r *Retries) Failed(session string, why error) error {
	if r.tries == nil {
		r.tries, r.shut, r.timers = map[string]int{}, map[string]error{}, map[string]*time.Timer{}
	}
	var failure *gate.Failure
	passes := errors.As(why, &failure) && walk.MayPass(failure)
	if r.Sessions == 1 && !(passes && failure.Cause == gate.Busy) {
		return why
	}
	if !passes {
		r.shut[session] = why
		r.Never(session, why)
		if len(r.shut) == r.Sessions {
			return why
		}
		return nil
	}
	r.tries[session]++
	pause := retry.After(r.tries[session], FirstRetry, LastRetry)
	r.Again(session, why, pause)
	r.timers[session] = time.AfterFunc(pause, func() { r.Walk(session) })
	return nil
}

// Stop tries nothing again.
func (r *Retries) Stop() {
	for _, t := range r.timers {
		t.Stop()
	}
}
