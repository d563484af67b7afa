package walk

import (
	"context"
	"errors"
	"fmt"
	"net"
	"strconv"
	"sync"
	"time"

	"meatus/core/dial"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/step"
)

// attempt is one walk under way.
type attempt struct {
	w     *Walker
	id    link.ID
	route route.Route
	quiet bool // nobody is to be asked for it alone

	mu     sync.Mutex
	hop    int          // where it is
	at     gate.Kind    // what it is at
	reused bool         // a link was shared which was there before: it may have died without anybody noticing
	report *gate.Report // where set, what is heard goes there and not to inboxes
}

// ear hears of a link for an attempt: of its hop, counted on its own route.
type ear struct {
	a   *attempt
	hop int
}

func (e ear) Hear(delta int, g gate.Gate, trying bool) { e.a.hear(e.hop+delta, g, trying) }

func (e ear) Quiet() bool { return e.a.quiet }

// hear passes on what a link tells.
func (a *attempt) hear(hop int, g gate.Gate, trying bool) {
	a.mu.Lock()
	a.hop, a.at = hop, g.Kind
	report := a.report
	if report != nil && !trying {
		report.Set(hop, g)
	}
	a.mu.Unlock()
	switch {
	case report != nil:
	case trying:
		a.w.tell(Trying{a.id, a.route.Session, hop, g.Kind, g.Seen})
	default:
		a.w.tell(Passed{a.id, a.route.Session, hop, g})
	}
}

// come notes at which hop it is.
func (a *attempt) come(hop int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.hop = hop
}

// where is the hop at which it is.
func (a *attempt) where() int {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.hop
}

func (a *attempt) shared() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.reused
}

// run passes every hop and returns the last one's link with a use of it.
func (a *attempt) run(ctx context.Context) (*link.Link, error) {
	if err := a.keysFirst(); err != nil {
		return nil, err
	}
	return a.upTo(ctx, len(a.route.Hops))
}

// upTo passes so many hops and returns the last one's link with a use of it, nil for none.
func (a *attempt) upTo(ctx context.Context, hops int) (*link.Link, error) {
	var below *link.Link
	for i := range hops {
		a.come(i)
		l, err := a.pass(ctx, i, below)
		if below != nil {
			below.Release()
		}
		if err != nil {
			return nil, err
		}
		below = l
	}
	return below, nil
}

// keysFirst finds a hop whose keys cannot be used before any packet leaves.
func (a *attempt) keysFirst() error {
	for i, h := range a.route.Hops {
		if a.w.links.Live(a.route.Link(i)) != nil {
			continue
		}
		judged := []gate.Gate{route.KeyGate(h, route.KeySheets{})}
		if h.Gateway != nil {
			judged[0] = route.GatewayKey(h, route.KeySheets{})
		}
		if h.ProxyFile != "" {
			judged = append(judged, route.ProxyGate(h))
		}
		for _, g := range judged {
			if g.Verdict == gate.Shut {
				a.come(i)
				return &gate.Failure{Hop: h.Name, Gate: g.Kind, Cause: gate.KeyUnusable, Seen: g.Seen, Why: g.Reason, Remedy: g.Remedy}
			}
		}
	}
	return nil
}

// pass gets the link of hop i, made new where there is none, and waits for it.
// The caller owns one use of the link it returns.
func (a *attempt) pass(ctx context.Context, i int, below *link.Link) (*link.Link, error) {
	hearing := ear{a, i}
	l, reused := a.w.links.Join(a.route.Link(i), a.route.Hops[i], below, hearing, func(l *link.Link) (*link.Transport, error) {
		return a.w.establish(a.w.step(a.route, i, l), l)
	})
	if l == nil {
		return nil, &gate.Failure{Hop: a.route.Hops[i].Name, Gate: gate.Address, Cause: gate.Cancelled, Why: "the program is ending"}
	}
	if reused {
		a.mu.Lock()
		a.reused = true
		a.mu.Unlock()
	}
	defer l.Leave(hearing)
	select {
	case <-l.Ready():
	case <-ctx.Done():
		l.Release()
		return nil, a.cancelled(ctx)
	}
	if l.Err() == nil {
		return l, nil
	}
	l.Release()
	var failure *gate.Failure
	if errors.As(l.Err(), &failure) {
		for n, h := range a.route.Hops {
			if h.Name == failure.Hop {
				a.come(n)
			}
		}
	}
	return nil, l.Err()
}

func (a *attempt) cancelled(ctx context.Context) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	return &gate.Failure{
		Hop: a.route.Hops[a.hop].Name, Gate: a.at, Cause: gate.Cancelled,
		Seen: "stopped", Why: "connecting was stopped here", Err: ctx.Err(),
	}
}

// step is hop i of a route, whose link is made.
func (w *Walker) step(r route.Route, i int, l *link.Link) *step.Step {
	return &step.Step{Route: r, Index: i, Hop: r.Hops[i], Asker: w.config.Asker, Events: w.Events, Limit: w.config.Patience, Hear: l.Hear, Quiet: l.Quiet, Ctx: l.Context(), Go: l.Go}
}

// establish connects, shakes hands and logs in. It fails with a [gate.Failure].
func (w *Walker) establish(s *step.Step, l *link.Link) (*link.Transport, error) {
	leased, err := w.logins.Obtain(s) // first: a second person who decides holds nobody else's turn
	if err != nil {
		return nil, s.OrCancelled(err, gate.Lease)
	}
	at, p, done, err := w.connect(s, l.Below())
	if err != nil {
		return nil, err
	}
	defer done()
	p.Renew()
	in, err := w.logins.In(s, p, at.At, leased)
	if err != nil {
		at.Conn.Close()
		return nil, err
	}
	l.EndWith(in.Lease)
	return &link.Transport{Conn: at.Conn, Gateway: at.Gateway, SSH: in.Conn, Channels: in.Channels, Requests: in.Requests, Cipher: in.Cipher, HostKey: in.HostKey, Opened: at.opened}, nil
}

// reached is a server that is connected to.
type reached struct {
	login.At
	opened time.Duration // how long its connection took to be opened: a round trip
	took   time.Duration // and with all that came before
}

// connect connects to a hop's server, when it is our turn there: over the link below, or from here. The caller calls done
// once it is logged in, or has ended.
func (w *Walker) connect(s *step.Step, below *link.Link) (at reached, p *step.Patience, done func(), err error) {
	at.Server = s.Hop.At().String() + " " + s.Hop.Knock()
	if below != nil {
		at.Server = below.Key().String() + at.Server
	}
	leave, err := w.dialer.Guests.Enter(s.Ctx, at.Server)
	if err != nil {
		return at, nil, nil, s.OrCancelled(err, gate.Port)
	}
	p = s.Begin()
	done = func() {
		p.End()
		leave()
	}
	began := time.Now()
	var raw *dial.Reached
	if below != nil {
		raw, err = w.onward(s, p, below)
	} else {
		raw, err = w.dialer.Reach(s, p)
	}
	if err != nil {
		done()
		return at, nil, nil, s.OrCancelled(err, gate.Port)
	}
	at.Conn, at.Gateway, at.opened, at.took = dial.NewConn(raw.Conn, true), raw.Gateway, raw.Opened, time.Since(began)
	return at, p, done, nil
}

// onward opens the connection from the hop below, which resolves the name.
func (w *Walker) onward(s *step.Step, p *step.Patience, below *link.Link) (*dial.Reached, error) {
	s.Hear(-1, gate.Gate{Kind: gate.Channel}, true)
	began := time.Now()
	to := s.Hop.Knock()
	if below.Hop().Gateway != nil && s.Hop.Instance != nil { // a gateway knows it by its id, whatever its address
		to = net.JoinHostPort(s.Hop.Instance.ID, strconv.Itoa(s.Hop.Port))
	}
	conn, err := below.Open(p.Ctx, "tcp", to)
	if err != nil {
		return nil, below.OnwardFailure(s, p, err)
	}
	reached := &dial.Reached{Conn: conn, Knock: s.Hop.Knock(), Opened: time.Since(began)}
	s.Hear(-1, gate.Gate{Kind: gate.Channel, Verdict: gate.Open, Seen: "onward to " + s.Hop.Name}, false)
	s.FoundAt(fmt.Sprintf("%s, seen from %s", s.Hop.Host, below.Hop().Name))
	s.Trying(gate.Port)
	return reached, nil
}
