package gateway

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
)

// Of many machines that join at once a few ask the store at a time, all get their turn, and one that waits too long is told.
func TestMachinesJoinAFewAtATime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		q := make(joinQueue, joinsAtOnce)
		var now, most, done atomic.Int64
		var all sync.WaitGroup
		release := make(chan struct{})
		for range 500 {
			all.Go(func() {
				err := q.do(t.Context(), func() error {
					if n := now.Add(1); n > most.Load() {
						most.Store(n)
					}
					<-release
					now.Add(-1)
					return nil
				})
				if err == nil {
					done.Add(1)
				}
			})
		}
		synctest.Wait()
		if now.Load() != joinsAtOnce {
			t.Errorf("%d ask the store at once", now.Load())
		}
		close(release)
		all.Wait()
		if most.Load() > joinsAtOnce || done.Load() != 500 {
			t.Errorf("%d at once at most, %d of 500 joined", most.Load(), done.Load())
		}

		full := make(joinQueue, 1)
		full <- struct{}{}
		if err := full.do(t.Context(), func() error { return nil }); !errors.Is(err, errManyJoin) {
			t.Errorf("behind one that never ends: %v", err)
		}
		ctx, cancel := context.WithCancel(t.Context())
		cancel()
		if err := full.do(ctx, func() error { return nil }); !errors.Is(err, context.Canceled) {
			t.Errorf("given up: %v", err)
		}
	})
}
