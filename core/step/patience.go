package step

import (
	"context"
	"errors"
	"sync"
	"time"
)

// errImpatient is why a gate that took too long was given up.
var errImpatient = errors.New("no answer in time")

// Patience ends a context after a time that stands still while a person is
// asked.
type Patience struct {
	Ctx context.Context

	cancel context.CancelCauseFunc
	limit  time.Duration

	mu    sync.Mutex
	timer *time.Timer
}

// Begin starts the time for the first gate of what follows. The caller ends it.
func (s *Step) Begin() *Patience {
	p := &Patience{limit: s.Limit}
	p.Ctx, p.cancel = context.WithCancelCause(s.Ctx)
	p.timer = time.AfterFunc(p.limit, func() { p.cancel(errImpatient) })
	return p
}

// Renew starts the time anew, for the next gate.
func (p *Patience) Renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Reset(p.limit)
}

// Pause stops the time until the returned function is called.
func (p *Patience) Pause() (resume func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Stop()
	return p.Renew
}

// End ends the context.
func (p *Patience) End() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Stop()
	p.cancel(nil)
}

// RanOut tells whether the time was over before the end.
func (p *Patience) RanOut() bool { return errors.Is(context.Cause(p.Ctx), errImpatient) }
