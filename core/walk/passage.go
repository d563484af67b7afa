package walk

import (
	"context"

	"golang.org/x/crypto/ssh"

	"meatus/core/route"
)

// Passage is a route that was passed: the way to its machine, for as long as it
// is not closed. It is safe to use from many goroutines.
type Passage struct {
	walker *Walker
	route  route.Route
	id     ID

	// Guarded by the walker's lock.
	link   *Link
	reused bool // the link was there before, and may be dead unnoticed
	closed bool
	beside []*Passage // over links of their own, where the server opens one channel for each login
}

// Route is the way the passage goes.
func (p *Passage) Route() route.Route { return p.route }

// Link tells of the link to the target.
func (p *Passage) Link() LinkState {
	p.walker.mu.Lock()
	defer p.walker.mu.Unlock()
	return p.link.stateLocked()
}

// HostKey is the key by which the target proved that it is what is vouched for. Where it showed a
// certificate it is the key in that.
func (p *Passage) HostKey() ssh.PublicKey { return p.current().hostKey }

// plainKey is a key without its certificate.
func plainKey(key ssh.PublicKey) ssh.PublicKey {
	if cert, ok := key.(*ssh.Certificate); ok {
		return cert.Key
	}
	return key
}

// Done is closed when the link to the target has ended.
func (p *Passage) Done() <-chan struct{} { return p.current().ctx.Done() }

func (p *Passage) current() *Link {
	p.walker.mu.Lock()
	defer p.walker.mu.Unlock()
	return p.link
}

// Close gives the way up. What still runs through it is cut when the link ends. It may
// be called twice.
func (p *Passage) Close() {
	p.walker.mu.Lock()
	link, was, beside := p.link, p.closed, p.beside
	p.closed, p.beside = true, nil
	p.walker.mu.Unlock()
	if !was {
		link.release()
	}
	for _, b := range beside {
		b.Close()
	}
}

// linkFor is the link that a channel of a session goes over: the passage's, or a further one where the server opens one
// such channel for each login, and that one is taken.
func (p *Passage) linkFor(ctx context.Context) (*Link, error) {
	link := p.current()
	if !link.isOf(oneChannel) || link.taken.CompareAndSwap(false, true) {
		return link, nil
	}
	lane := firstOwnLane + int(p.walker.ownLanes.Add(1)) // a link that nobody else uses
	b, err := p.walker.Walk(ctx, p.route.AtEnd(func(last *route.Hop) { last.Lane = lane }))
	if err != nil {
		return nil, err
	}
	p.walker.mu.Lock()
	closed := p.closed
	if !closed {
		p.beside = append(p.beside, b)
	}
	p.walker.mu.Unlock()
	if closed {
		b.Close()
	}
	own := b.current()
	own.taken.Store(true)
	return own, nil
}

// firstOwnLane is above every lane that a session can have.
const firstOwnLane = 1000

// renew walks the route anew where the passage shared a link that turned out to
// be dead. It tells whether there is a new one.
func (p *Passage) renew(ctx context.Context) bool {
	p.walker.mu.Lock()
	dead, reused := p.link, p.reused
	p.reused = false
	p.walker.mu.Unlock()
	if !reused || ctx.Err() != nil {
		return false
	}
	again, err := p.walker.Walk(ctx, p.route)
	if err != nil {
		return false
	}
	p.walker.mu.Lock()
	closed := p.closed
	if !closed {
		p.link = again.link
	}
	p.walker.mu.Unlock()
	if closed { // meanwhile: it has given up the link it had, and gets no other
		again.Close()
		return false
	}
	dead.release()
	return true
}

// Again connects by the same route once more, over links that are still up, to check the result of an action after the
// connection was lost. The caller closes the passage.
func (p *Passage) Again(ctx context.Context) (*Passage, error) { return p.walker.Walk(ctx, p.route) }
