package dial

import (
	"context"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

func TestFewConnectionsToAServerAreMadeAtOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var g Guests
		var inside, most atomic.Int64
		for range 20 {
			go func() {
				leave, err := g.Enter(t.Context(), "quay")
				if err != nil {
					t.Error(err)
					return
				}
				most.Store(max(most.Load(), inside.Add(1)))
				time.Sleep(10 * time.Second)
				inside.Add(-1)
				leave()
				leave() // twice is once
			}()
		}
		synctest.Wait()
		// Whoever waits for one server keeps nobody from another.
		began := time.Now()
		leave, err := g.Enter(t.Context(), "mole")
		if err != nil || time.Since(began) > 0 {
			t.Errorf("another server waits %v: %v", time.Since(began), err)
		}
		leave()
		time.Sleep(time.Minute)
		synctest.Wait()
		if most.Load() != guestsAtOnce || inside.Load() != 0 {
			t.Errorf("%d at once, %d left", most.Load(), inside.Load())
		}
		if len(g.of) != 0 {
			t.Errorf("%d servers are kept", len(g.of))
		}
	})
}

func TestAServerThatTurnsAwayIsAskedSlowly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var g Guests
		enter := func() time.Duration {
			began := time.Now()
			leave, err := g.Enter(t.Context(), "quay")
			if err != nil {
				t.Fatal(err)
			}
			leave()
			return time.Since(began)
		}
		for range guestRate { // as many as may come in the first second
			if waited := enter(); waited > 0 {
				t.Fatalf("waited %v", waited)
			}
		}
		leave, err := g.Enter(t.Context(), "quay")
		if err != nil {
			t.Fatal(err)
		}
		g.TurnedAway("quay")
		leave()
		enter()
		if waited := enter(); waited != 2*time.Second {
			t.Errorf("at a server that turned one away it is waited for %v", waited)
		}
		// One at a time, and who gives up leaves nothing behind.
		leave, err = g.Enter(t.Context(), "quay")
		if err != nil {
			t.Fatal(err)
		}
		ctx, cancel := context.WithTimeout(t.Context(), 30*time.Second)
		defer cancel()
		if _, err := g.Enter(ctx, "quay"); err == nil {
			t.Error("two at once at a server that turned one away")
		}
		leave()
		time.Sleep(StrictTime)
		for range guestRate {
			if waited := enter(); waited > time.Second {
				t.Fatalf("after %v it is still waited for %v", StrictTime, waited)
			}
		}
	})
}

func TestGivingUpFreesAPlace(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var g Guests
		var leaves []func()
		for range guestsAtOnce {
			leave, err := g.Enter(t.Context(), "quay")
			if err != nil {
				t.Fatal(err)
			}
			leaves = append(leaves, leave)
		}
		ctx, cancel := context.WithCancel(t.Context())
		gave := make(chan error)
		go func() { _, err := g.Enter(ctx, "quay"); gave <- err }()
		synctest.Wait()
		cancel()
		if err := <-gave; err == nil {
			t.Error("a place was given to whoever had given up")
		}
		leaves[0]()
		if leave, err := g.Enter(t.Context(), "quay"); err != nil {
			t.Error(err)
		} else {
			leave()
		}
		for _, leave := range leaves[1:] {
			leave()
		}
		if len(g.of) != 0 {
			t.Errorf("%d servers are kept", len(g.of))
		}
	})
}
