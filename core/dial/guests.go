package dial

import (
	"context"
	"runtime"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// How a server is treated. Servers count connections that do not log in, and those that
// come fast, and shut out whom they come from; so few are made at a time, and fewer once a
// server has said that it is too much.
const (
	guestsAtOnce = 4  // connections to one server that are not logged in
	guestsByCore = 16 // connections to all servers together that are not logged in, by core of this machine: a login costs it time
	guestRate    = 8  // connections a second
	strictRate   = 0.5
)

// StrictTime is how long a server is asked more slowly after it last turned a connection away.
const StrictTime = 2 * time.Minute

// Guests are the connections that are being made, by server.
type Guests struct {
	mu  sync.Mutex
	of  map[string]*guest
	all chan struct{} // taken for as long as one is being made, whoever it is to
}

// guest is how we are at one server.
type guest struct {
	slots  chan struct{}
	alone  chan struct{} // taken, too, while the server is strict
	rate   *rate.Limiter
	strict time.Time // until when, zero for never
	using  int
}

// Enter waits for a turn to connect to a server. leave is called when the connection is
// logged in, or ended.
func (g *Guests) Enter(ctx context.Context, server string) (leave func(), err error) {
	g.mu.Lock()
	if g.of == nil {
		g.of = map[string]*guest{}
		g.all = make(chan struct{}, guestsByCore*runtime.GOMAXPROCS(0))
	}
	at := g.of[server]
	if at == nil {
		at = &guest{slots: make(chan struct{}, guestsAtOnce), alone: make(chan struct{}, 1), rate: rate.NewLimiter(guestRate, guestRate)}
		g.of[server] = at
	}
	at.using++
	strict := time.Now().Before(at.strict)
	if !strict && at.rate.Limit() != guestRate {
		at.rate.SetLimit(guestRate)
		at.rate.SetBurst(guestRate)
	}
	g.mu.Unlock()
	var held []chan struct{}
	var once sync.Once
	leave = func() {
		once.Do(func() {
			for _, c := range held {
				<-c
			}
			g.mu.Lock()
			defer g.mu.Unlock()
			if at.using--; at.using == 0 && time.Now().After(at.strict) {
				delete(g.of, server)
			}
		})
	}
	take := []chan struct{}{at.slots}
	if strict {
		take = append(take, at.alone)
	}
	for _, c := range take {
		select {
		case c <- struct{}{}:
			held = append(held, c)
		case <-ctx.Done():
			leave()
			return nil, context.Cause(ctx)
		}
	}
	if err := at.rate.Wait(ctx); err != nil {
		leave()
		return nil, err
	}
	select { // last: who waits for a server keeps nobody from another
	case g.all <- struct{}{}:
		held = append(held, g.all)
	case <-ctx.Done():
		leave()
		return nil, context.Cause(ctx)
	}
	return leave, nil
}

// TurnedAway notes that a server has said that it is too much.
func (g *Guests) TurnedAway(server string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if at := g.of[server]; at != nil {
		at.strict = time.Now().Add(StrictTime)
		at.rate.SetLimit(strictRate)
		at.rate.SetBurst(1)
	}
}
