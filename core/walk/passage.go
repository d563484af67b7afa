package walk

import (
	"context"
	"net"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/route"
	"meatus/core/step"
)

// Passage is a route that was passed: the way to its machine, for as long as it
// is not closed. It is safe to use from many goroutines.
type Passage struct {
	walker *Walker
	route  route.Route
	id     link.ID

	mu     sync.Mutex // guards what follows
	link   *link.Link
	shared bool // the link was there before, and may be dead unnoticed
	closed bool
	beside []*Passage // over links of their own, where the server opens one channel for each login
}

// Route is the way the passage goes.
func (p *Passage) Route() route.Route { return p.route }

// Link tells of the link to the target.
func (p *Passage) Link() link.State { return p.current().State() }

// HostKey is the key by which the target proved that it is what is vouched for. Where it showed a
// certificate it is the key in that.
func (p *Passage) HostKey() ssh.PublicKey { return p.current().HostKey() }

// Done is closed when the link to the target has ended.
func (p *Passage) Done() <-chan struct{} { return p.current().Done() }

func (p *Passage) current() *link.Link {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.link
}

// Close gives the way up. What still runs through it is cut when the link ends. It may
// be called twice.
func (p *Passage) Close() {
	p.mu.Lock()
	l, was, beside := p.link, p.closed, p.beside
	p.closed, p.beside = true, nil
	p.mu.Unlock()
	if !was {
		l.Release()
	}
	for _, b := range beside {
		b.Close()
	}
}

// live does something over the link of a passage, and once more over a new one where the passage shared a link that turns
// out to be dead. choose names the link, after that.
func live[T any](ctx context.Context, p *Passage, choose func(context.Context) (*link.Link, error), do func(*link.Link) (T, error)) (it T, err error) {
	err = again(func(second bool) (shared bool, _ error) {
		if second && !p.renew(ctx) {
			return false, err
		}
		p.mu.Lock()
		shared = p.shared
		p.mu.Unlock()
		var l *link.Link
		if l, err = choose(ctx); err == nil {
			it, err = do(l)
		}
		return shared, err
	})
	return it, err
}

// Over has something opened over the link of a passage, as [link.Over] does. A passage that shared a link which turns out to
// be dead walks anew and tries again: open may be called over the new link while its call over the dead one has not returned.
func Over[T any](ctx context.Context, p *Passage, what string, open func(*link.Link) (T, error), late func(T)) (T, error) {
	return live(ctx, p, p.linkFor, func(l *link.Link) (T, error) { return link.Over(ctx, l, what, open, late) })
}

// Dial connects to an address as the machine at the passage's end sees it, as [link.Link.Dial] does.
func (p *Passage) Dial(ctx context.Context, network, address string) (link.Stream, error) {
	the := func(context.Context) (*link.Link, error) { return p.current(), nil }
	return live(ctx, p, the, func(l *link.Link) (link.Stream, error) { return l.Dial(ctx, network, address) })
}

// Listen has the machine at the passage's end listen, as [link.Link.Listen] does.
func (p *Passage) Listen(ctx context.Context, network, address string) (net.Listener, error) {
	return p.current().Listen(ctx, network, address)
}

// Ending waits a little for the passage's link to end, and tells whether it did.
func (p *Passage) Ending(limit time.Duration) bool { return p.current().Ending(limit) }

// linkFor is the link that a channel of a session goes over: the passage's, or a further one where the server opens one
// such channel for each login, and that one is taken.
func (p *Passage) linkFor(ctx context.Context) (*link.Link, error) {
	l := p.current()
	if l.TakeChannel() {
		return l, nil
	}
	lane := firstOwnLane + int(p.walker.ownLanes.Add(1)) // a link that nobody else uses
	b, err := p.walker.Walk(ctx, p.route.AtEnd(func(last *route.Hop) { last.Lane = lane }))
	if err != nil {
		return nil, err
	}
	p.mu.Lock()
	closed := p.closed
	if !closed {
		p.beside = append(p.beside, b)
	}
	p.mu.Unlock()
	if closed {
		b.Close()
	}
	own := b.current()
	own.TakeChannel()
	return own, nil
}

// firstOwnLane is above every lane that a session can have.
const firstOwnLane = 1000

// renew walks the route anew where the passage shared a link that turned out to
// be dead. It tells whether there is a new one.
func (p *Passage) renew(ctx context.Context) bool {
	p.mu.Lock()
	dead := p.link
	p.shared = false
	p.mu.Unlock()
	if ctx.Err() != nil {
		return false
	}
	anew, err := p.walker.Walk(ctx, p.route)
	if err != nil {
		return false
	}
	p.mu.Lock()
	closed := p.closed
	if !closed {
		p.link = anew.link
	}
	p.mu.Unlock()
	if closed { // meanwhile: it has given up the link it had, and gets no other
		anew.Close()
		return false
	}
	dead.Release()
	return true
}

// Again connects by the same route once more, over links that are still up, to check the result of an action after the
// connection was lost. The caller closes the passage.
func (p *Passage) Again(ctx context.Context) (*Passage, error) { return p.walker.Walk(ctx, p.route) }

// Trying tells that a channel of the passage is about to be opened.
func (p *Passage) Trying() {
	p.walker.tell(Trying{p.id, p.route.Session, len(p.route.Hops) - 1, gate.Channel, ""})
}

// Opened tells that the passage's walk has come to its end: to a channel, or to a
// failure where err is not nil.
func (p *Passage) Opened(what string, err error) {
	last := len(p.route.Hops) - 1
	if err != nil {
		p.walker.tell(Ended{Walk: p.id, Session: p.route.Session, Hop: last, Err: err})
		return
	}
	p.walker.tell(Passed{p.id, p.route.Session, last, gate.Gate{Kind: gate.Channel, Verdict: gate.Open, Seen: what}})
}

// Tell tells an event to whoever follows what the walker does.
func (p *Passage) Tell(e event.Event) { p.walker.tell(e) }

// Place is the end of the passage.
func (p *Passage) Place() step.Place {
	target := p.route.Target()
	return step.Place{Session: p.route.Session, Hop: target.Name, Index: len(p.route.Hops) - 1, Address: target.Address(), User: target.User}
}

// Probe asks the links of the passage for a sign of life now: where one is frozen, that is
// seen in seconds.
func (p *Passage) Probe() { p.current().Probe() }

// Failure is why the passage's link ended, nil where it did not or was closed here.
func (p *Passage) Failure() *gate.Failure { return p.current().Failure() }

// Lives asks the far side whether the passage's link is up.
func (p *Passage) Lives() bool {
	l := p.current()
	l.Settle()
	return l.Context().Err() == nil
}
