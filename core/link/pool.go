// Package link shares transports: one [Link] for each hop and way to it, used by everything that goes through it. A link closes
// some time after its last user is gone, asks its machine for signs of life, and ends what goes through it when it ends.
//
// A link costs three goroutines besides those of the protocol library, and a packet at each interval of its keepalive.
package link

import (
	"context"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/contain"
	"meatus/core/dial"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

// Serve says who answers the channels that a far side opens, by the name of their kind. Each is called once for each link,
// in a goroutine of its own that the pool waits for, and answers every opening until no more come, which is when the link
// ends. Kinds that are not in it are refused.
type Serve map[string]func(link *Link, opened <-chan ssh.NewChannel)

// Pool shares links: one for each [route.LinkKey]. It is safe to use from many goroutines.
type Pool struct {
	Linger time.Duration // how long a link outlives its last user
	Events *event.Stream // told of every link that comes, goes or freezes
	Serve  Serve

	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup // every goroutine of every link

	// Guards what follows, and the users of every link. Under it nothing is told, waited for, read or written.
	mu     sync.Mutex
	links  map[route.LinkKey]*Link
	lastID ID
	closed bool
	ups    map[route.LinkKey]int // how often a link came up
	brief  map[route.LinkKey]brief
	silent map[string]bool // what servers call themselves that end links by their answer to a keepalive
}

// NewPool returns a pool without links.
func NewPool(linger time.Duration, events *event.Stream, serve Serve) *Pool {
	p := &Pool{Linger: linger, Events: events, Serve: serve, links: map[route.LinkKey]*Link{}, ups: map[route.LinkKey]int{}, silent: map[string]bool{}, brief: map[route.LinkKey]brief{}}
	p.ctx, p.cancel = context.WithCancel(context.Background())
	contain.Go(&p.wg, "the beat of the links", p.beat, nil)
	return p
}

// Close ends every link, and waits until nothing of them is left.
func (p *Pool) Close() {
	p.mu.Lock()
	p.closed = true
	links := make([]*Link, 0, len(p.links))
	for _, l := range p.links {
		links = append(links, l)
	}
	p.mu.Unlock()
	p.cancel()
	for _, l := range links {
		l.close()
	}
	p.wg.Wait()
}

// NewID is a number that no link, walk or program has.
func (p *Pool) NewID() ID {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lastID++
	return p.lastID
}

// Join returns the link of a key with one use more, which the caller releases, and tells whether it was up already. Where
// there is none it is made: over below, which stays in use as long as the link lives. The ear is told of the gates on the
// way until it is taken out by [Link.Leave]. Join does not wait: [Link.Ready] is closed when the link is up, or has failed.
// It returns nil where the pool is closed.
func (p *Pool) Join(key route.LinkKey, hop route.Hop, below *Link, ear Ear, made Make) (l *Link, reused bool) {
	p.mu.Lock()
	if p.closed {
		p.mu.Unlock()
		return nil, false
	}
	l = p.links[key]
	if l != nil && l.ctx.Err() != nil {
		l = nil // it is ending
	}
	reused = l != nil && l.up
	if l != nil {
		l.users++
		if l.linger != nil {
			l.linger.Stop()
			l.linger = nil
		}
		p.mu.Unlock()
		l.ears.join(ear)
		return l, reused
	}
	l = p.newLocked(key, hop, below, made)
	l.ears.all = []Ear{ear}
	p.wg.Go(l.run)
	p.mu.Unlock()
	return l, false
}

func (p *Pool) newLocked(key route.LinkKey, hop route.Hop, below *Link, made Make) *Link {
	p.lastID++
	l := &Link{pool: p, id: p.lastID, hop: hop, key: key, below: below, make: made, users: 1, ready: make(chan struct{}), probes: make(chan struct{}, 1)}
	l.ctx, l.cancel = context.WithCancelCause(p.ctx)
	p.links[key] = l
	if below != nil {
		below.users++
	}
	return l
}

// Leave ends what an ear is told.
func (l *Link) Leave(ear Ear) { l.ears.leave(ear) }

// Ready is closed when the link is up, or has failed.
func (l *Link) Ready() <-chan struct{} { return l.ready }

// Err is why the link failed to come up, nil where it did come up. It may be asked once the link is ready.
func (l *Link) Err() error { return l.err }

// Context ends when the link is to end. Its cause may be a [gate.Failure].
func (l *Link) Context() context.Context { return l.ctx }

// Below is the link that this one runs inside, nil for that of a first hop.
func (l *Link) Below() *Link { return l.below }

// Key names the way to the link's machine.
func (l *Link) Key() route.LinkKey { return l.key }

// HostKey is the key by which the machine proved that it is what is vouched for. Where it showed a certificate it is the key
// in that.
func (l *Link) HostKey() ssh.PublicKey { return l.hostKey }

// Live is the link of a key that is up, nil for none. It is not kept from ending.
func (p *Pool) Live(key route.LinkKey) *Link {
	p.mu.Lock()
	defer p.mu.Unlock()
	if l := p.links[key]; l != nil && l.up {
		return l
	}
	return nil
}

// live are all links that are up.
func (p *Pool) live() (all []*Link) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.links {
		if l.up {
			all = append(all, l)
		}
	}
	return all
}

// State is what is known of the link now.
func (l *Link) State() State {
	l.pool.mu.Lock()
	defer l.pool.mu.Unlock()
	return l.stateLocked()
}

// States tells of every live link, the oldest first.
func (p *Pool) States() []State {
	var states []State
	for _, l := range p.live() {
		s := l.State()
		if l.below == nil {
			s.Packets.In, s.Packets.Out, s.Packets.Resent = dial.Packets(l.conn.Conn)
		}
		states = append(states, s)
	}
	slices.SortFunc(states, func(a, b State) int { return int(a.ID - b.ID) })
	return states
}

// Probe asks every live link for a sign of life now, which takes its round trip.
func (p *Pool) Probe() {
	for _, l := range p.live() {
		l.Probe()
	}
}

// End ends a link, and with it everything that goes through it. It tells whether
// there was such a one.
func (p *Pool) End(id ID) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, l := range p.links {
		if l.id == id {
			l.close()
			return true
		}
	}
	return false
}

// beat tells of the links once a second, while they change.
func (p *Pool) beat() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var last []State
	for {
		select {
		case <-tick.C:
		case <-p.ctx.Done():
			return
		}
		if now := p.States(); !slices.Equal(now, last) {
			last = now
			p.Events.Tell(Pulse{now})
		}
	}
}

// steadyTime is how long a link has to live for its end to be no sign of another end soon.
const steadyTime = 20 * time.Second

// brief is how often links of a way have ended soon after they came up, one after the
// other.
type brief struct {
	times int
	why   *gate.Failure
}

// lived notes how long a link has lived that was not closed here.
func (p *Pool) lived(l *Link, long time.Duration, why *gate.Failure) {
	p.mu.Lock()
	defer p.mu.Unlock()
	b := p.brief[l.key]
	if b.times++; long >= steadyTime {
		b.times = 0
	}
	if b.why = why; b.times == 0 {
		delete(p.brief, l.key)
		return
	}
	p.brief[l.key] = b
}

// Briefly is how often links of any of some ways have ended soon after they came up, and why last.
func (p *Pool) Briefly(ways []route.LinkKey) (times int, why *gate.Failure) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, key := range ways {
		if b := p.brief[key]; b.times > times {
			times, why = b.times, b.why
		}
	}
	return times, why
}
