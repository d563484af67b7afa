package walk

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"meatus/core/gate"
	"meatus/core/netchange"
	"meatus/core/retry"
	"meatus/core/route"
)

// Waiting for a machine that is not up yet: the first pause, the longest, and
// how long in all.
const (
	firstPause  = time.Second
	longestWait = 30 * time.Second
	WaitLimit   = 15 * time.Minute
)

// Waiting says that a walk met a gate that may open by itself, and when it is
// tried again.
type Waiting struct {
	Session string
	Try     int // how often it was tried so far
	Next    time.Time
	End     time.Time // when waiting is given up
	Failure *gate.Failure
	Lost    bool // the way was there and was lost
}

func (Waiting) IsEvent() {}

// passing are the causes that go away by themselves when a machine comes up.
var passing = map[gate.Cause]bool{
	gate.Refused: true, gate.NoAnswer: true, gate.Unreachable: true, gate.FarUnreachable: true,
	gate.Busy: true, gate.ServerClosed: true, gate.LinkLost: true, gate.NoAddress: true,
}

// MayPass tells whether a failure may go away by itself, so that waiting helps.
func MayPass(f *gate.Failure) bool { return passing[f.Cause] }

// Await walks the route like [Walker.Walk], and where a gate is shut that may open
// by itself, walks again: after a second, then after longer and longer pauses of
// up to half a minute, until limit has passed. A gate that waiting does not mend
// ends it at once. The pauses vary by a fifth, so that many who wait do not connect
// together.
func (w *Walker) Await(ctx context.Context, r route.Route, limit time.Duration) (*Passage, error) {
	return w.keepTrying(ctx, r, limit, false)
}

// Return walks a route again whose way was lost, like [Walker.Await], the first
// time at once. Many who lost the same way share its links, those below first. It
// also walks at once when this machine's addresses change or when it wakes, since
// that is when a line comes back.
func (w *Walker) Return(ctx context.Context, r route.Route, limit time.Duration) (*Passage, error) {
	// A little apart, so that not all who lost a way connect in the same instant.
	pause := rand.N(firstPause / 2)
	if n, why := w.links.Briefly(r.Links()); n > 0 { // it lets us in and ends at once: that is tried less and less often
		pause += retry.After(n, firstPause, longestWait)
		w.tell(Waiting{r.Session, n, time.Now().Add(pause), time.Now().Add(limit), why, true})
	}
	select {
	case <-time.After(pause):
	case <-ctx.Done():
	}
	return w.keepTrying(ctx, r, limit, true)
}

func (w *Walker) keepTrying(ctx context.Context, r route.Route, limit time.Duration, lost bool) (*Passage, error) {
	end := time.Now().Add(limit)
	pauses := retry.Pauses(firstPause, longestWait)
	var changed <-chan struct{}
	if lost {
		var stop func()
		changed, stop = netchange.Watch()
		defer stop()
	}
	for try := 1; ; try++ {
		if w.config.Follow != nil { // an instance that was started meanwhile may have another address
			r = w.config.Follow(r)
		}
		passage, err := w.Walk(ctx, r)
		var f *gate.Failure
		if err == nil || !errors.As(err, &f) || !MayPass(f) {
			return passage, err
		}
		next := time.Now().Add(pauses.NextBackOff())
		if next.After(end) {
			return nil, err
		}
		w.tell(Waiting{r.Session, try, next, end, f, lost})
		timer := time.NewTimer(time.Until(next))
		select {
		case <-timer.C:
		case <-changed:
			timer.Stop()
			pauses.Reset()
		case <-ctx.Done():
			timer.Stop()
			return nil, &gate.Failure{Hop: f.Hop, Gate: f.Gate, Cause: gate.Cancelled, Seen: "stopped", Why: "waiting was stopped", Err: ctx.Err()}
		}
	}
}
