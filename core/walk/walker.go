package walk

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/contain"
	"meatus/core/custody"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/vouch"
)

// Dialer opens the connection to the first hop. [net.Dialer] is one; the lab
// and tests give others.
type Dialer interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Resolver finds the addresses of the first hop. [net.Resolver] is one.
type Resolver interface {
	LookupHost(ctx context.Context, host string) (addrs []string, err error)
}

// Config is what a [Walker] works with. Vouched and Asker are needed; the rest
// has working zero values.
type Config struct {
	Vouched  *vouch.Record
	Asker    Asker
	Dialer   Dialer           // the network where nil
	Resolver Resolver         // the system's where nil
	Patience time.Duration    // how long a gate may take without a person; 15 s where 0
	Linger   time.Duration    // how long a link outlives its last user; 60 s where 0
	Logins   route.Logins     // how logins got in before, may be nil
	Keys     custody.Provider // where logins get their keys; the files that sessions name where nil
	Leases   Leases           // where logins for a while come from; none are where nil
	Events   *event.Stream    // told of everything; one of its own where nil
	Roots    *x509.CertPool   // whom proxies' certificates are signed by; the system's where nil
	Serve    Serve            // who answers what far sides open
	Follow   Follow           // tells where a route's instances are now; they stay where they were where nil
	Rules    func() Rules     // what the rules of estates let through, as it is known now; may be nil
}

// Rules judges what the rules of estates let through, and says of a failure what they leave as its cause.
type Rules interface {
	route.Rules
	Explain(r route.Route, f *gate.Failure) *gate.Failure
}

// Follow is a route with its hops that are bound to instances at the addresses that those have now.
type Follow func(route.Route) route.Route

// Serve says who answers the channels that a far side opens, by the name of their kind.
// Each is called once for each link, in a goroutine of its own that the walker waits for,
// and answers every opening until no more come, which is when the link ends. Kinds that
// are not in it are refused.
type Serve map[string]func(link *Link, opened <-chan ssh.NewChannel)

// Walker passes routes and owns every link that comes of it.
type Walker struct {
	Config
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup // every goroutine of every link

	mu       sync.Mutex // guards what follows, and the users of every link
	links    map[route.LinkKey]*Link
	nextID   ID
	closed   bool
	ups      map[route.LinkKey]int // how often a link came up
	guests   guests
	brief    map[route.LinkKey]brief
	proxies  map[string]proxyLogin // that were right the last time, by the proxy
	devices  devices
	silent   map[string]bool // what servers call themselves that end links by their answer to a keepalive
	ownLanes atomic.Int64    // links that one channel alone uses
}

// New returns a walker without links.
func New(c Config) *Walker {
	if c.Dialer == nil {
		c.Dialer = &net.Dialer{}
	}
	if c.Resolver == nil {
		c.Resolver = net.DefaultResolver
	}
	if c.Patience == 0 {
		c.Patience = 15 * time.Second
	}
	if c.Linger == 0 {
		c.Linger = time.Minute
	}
	if c.Keys == nil {
		c.Keys = custody.New(nil)
	}
	if c.Events == nil {
		c.Events = &event.Stream{}
	}
	w := &Walker{Config: c, links: map[route.LinkKey]*Link{}, ups: map[route.LinkKey]int{}, silent: map[string]bool{}, brief: map[route.LinkKey]brief{}, proxies: map[string]proxyLogin{}}
	w.ctx, w.cancel = context.WithCancel(context.Background())
	contain.Go(&w.wg, "the beat of the links", w.beat, nil)
	return w
}

// Close ends every link and walk, and waits until nothing of them is left.
func (w *Walker) Close() {
	w.mu.Lock()
	w.closed = true
	links := make([]*Link, 0, len(w.links))
	for _, l := range w.links {
		links = append(links, l)
	}
	w.mu.Unlock()
	w.cancel()
	for _, l := range links {
		l.close()
	}
	w.wg.Wait()
}

func (w *Walker) tell(e event.Event) { w.Events.Tell(e) }

// NewID is a number that no link, walk or program of this walker has.
func (w *Walker) NewID() ID { return w.newID() }

// Links tells of every live link, the oldest first.
func (w *Walker) Links() []LinkState {
	w.mu.Lock()
	defer w.mu.Unlock()
	var states []LinkState
	for _, l := range w.links {
		if l.up {
			s := l.stateLocked()
			if l.below == nil {
				s.Packets.In, s.Packets.Out, s.Packets.Resent = packets(l.conn.Conn)
			}
			states = append(states, s)
		}
	}
	slices.SortFunc(states, func(a, b LinkState) int { return int(a.ID - b.ID) })
	return states
}

// Probe asks every live link for a sign of life now, which takes its round trip.
func (w *Walker) Probe() {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, l := range w.links {
		if l.up {
			l.probe()
		}
	}
}

// EndLink ends a link, and with it everything that goes through it. It tells whether
// there was such a one.
func (w *Walker) EndLink(id ID) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, l := range w.links {
		if l.id == id {
			l.close()
			return true
		}
	}
	return false
}

// beat tells of the links once a second, while they change.
func (w *Walker) beat() {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	var last []LinkState
	for {
		select {
		case <-tick.C:
		case <-w.ctx.Done():
			return
		}
		if now := w.Links(); !slices.Equal(now, last) {
			last = now
			w.tell(Pulse{now})
		}
	}
}

// attempt is one walk under way.
type attempt struct {
	w     *Walker
	id    ID
	route route.Route
	hop   int       // where it is
	at    gate.Kind // what it is at
	// reused says that a link was shared which was there before: it may have
	// died without anybody noticing.
	reused bool
	quiet  bool         // nobody is to be asked for it alone
	report *gate.Report // where set, what is heard goes there and not to inboxes
}

func (w *Walker) newID() ID {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.nextID++
	return w.nextID
}

// Walk passes the route and returns the passage to its machine. It fails with a
// [gate.Failure]. The caller closes the passage.
func (w *Walker) Walk(ctx context.Context, r route.Route) (*Passage, error) {
	a := &attempt{w: w, id: w.newID(), at: gate.Address}
	began := time.Now()
	var link *Link
	taken, err := w.ways(ctx, r, func(way route.Route) (err error) {
		a.route, a.reused = way, false
		link, err = a.run(ctx)
		if a.reused && isDead(err) {
			a.reused = false
			link, err = a.run(ctx)
		}
		return err
	})
	if err != nil {
		err = w.explain(a.route, err)
		w.tell(Ended{a.id, r.Session, a.hop, err, time.Since(began)})
		return nil, err
	}
	w.tell(Ended{a.id, r.Session, len(taken.Hops) - 1, nil, time.Since(began)})
	return &Passage{walker: w, link: link, route: taken, id: a.id, reused: a.reused}, nil
}

// explain is an error with what the rules of an estate leave as its cause.
func (w *Walker) explain(r route.Route, err error) error {
	var f *gate.Failure
	if w.Rules != nil && errors.As(err, &f) {
		return w.Rules().Explain(r, f)
	}
	return err
}

// knowledge is what the walker's own checks draw on.
func (w *Walker) knowledge() route.Knowledge {
	k := route.Knowledge{Vouched: w.Vouched, Logins: w.Logins}
	if w.Rules != nil {
		k.Rules = w.Rules()
	}
	return k
}

// isDead tells whether a walk failed because a link was gone.
func isDead(err error) bool {
	var f *gate.Failure
	return errors.As(err, &f) && (f.Cause == gate.ServerClosed || f.Cause == gate.LinkLost)
}

func (a *attempt) run(ctx context.Context) (*Link, error) {
	if err := a.keysFirst(); err != nil {
		return nil, err
	}
	var below *Link
	for i := range a.route.Hops {
		a.hop = i
		link, err := a.pass(ctx, i, below)
		if below != nil {
			below.release()
		}
		if err != nil {
			return nil, err
		}
		below = link
	}
	return below, nil
}

// keysFirst finds a hop whose keys cannot be used before any packet leaves.
func (a *attempt) keysFirst() error {
	for i, h := range a.route.Hops {
		if a.w.alive(a.route.Link(i)) {
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
				a.hop = i
				return &gate.Failure{Hop: h.Name, Gate: g.Kind, Cause: gate.KeyUnusable, Seen: g.Seen, Why: g.Reason, Remedy: g.Remedy}
			}
		}
	}
	return nil
}

// alive tells whether there is a live link to share.
func (w *Walker) alive(key route.LinkKey) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	l := w.links[key]
	return l != nil && l.up
}

// pass gets the link of hop i, made new where there is none, and waits for it.
// The caller owns one use of the link it returns.
func (a *attempt) pass(ctx context.Context, i int, below *Link) (*Link, error) {
	link, err := a.w.join(a, i, below)
	if err != nil {
		return nil, err
	}
	defer link.unwatch(a)
	select {
	case <-link.ready:
	case <-ctx.Done():
		link.release()
		return nil, a.cancelled(ctx)
	}
	if link.err == nil {
		return link, nil
	}
	link.release()
	var failure *gate.Failure
	if errors.As(link.err, &failure) {
		for n, h := range a.route.Hops {
			if h.Name == failure.Hop {
				a.hop = n
			}
		}
	}
	return nil, link.err
}

func (a *attempt) cancelled(ctx context.Context) error {
	a.w.mu.Lock()
	hop, at := a.hop, a.at
	a.w.mu.Unlock()
	return &gate.Failure{
		Hop: a.route.Hops[hop].Name, Gate: at, Cause: gate.Cancelled,
		Seen: "stopped", Why: "the walk was stopped here", Err: ctx.Err(),
	}
}

// join returns the link for hop i with one use more, making it where needed.
func (w *Walker) join(a *attempt, i int, below *Link) (*Link, error) {
	key := a.route.Link(i)
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.closed {
		return nil, &gate.Failure{Hop: a.route.Hops[i].Name, Gate: gate.Address, Cause: gate.Cancelled, Why: "the program is ending"}
	}
	l := w.links[key]
	if l != nil && l.ctx.Err() != nil {
		l = nil // it is ending
	}
	a.reused = a.reused || l != nil && l.up
	if l == nil {
		w.nextID++
		l = &Link{w: w, id: w.nextID, hop: a.route.Hops[i], key: key, route: a.route, index: i, below: below, ready: make(chan struct{}), probes: make(chan struct{}, 1)}
		l.ctx, l.cancel = context.WithCancelCause(w.ctx)
		w.links[key] = l
		if below != nil {
			below.users++
		}
		w.wg.Go(l.run)
	}
	l.users++
	if l.linger != nil {
		l.linger.Stop()
		l.linger = nil
	}
	l.watchers = append(l.watchers, watcher{a, i})
	for _, e := range l.told {
		a.hearLocked(i+e.delta, e.gate, e.trying)
	}
	return l, nil
}

// hearLocked passes on what a link tells.
func (a *attempt) hearLocked(hop int, g gate.Gate, trying bool) {
	a.hop, a.at = hop, g.Kind
	if a.report != nil {
		if !trying {
			a.report.Set(hop, g)
		}
		return
	}
	if trying {
		a.w.tell(Trying{a.id, a.route.Session, hop, g.Kind, g.Seen})
	} else {
		a.w.tell(Passed{a.id, a.route.Session, hop, g})
	}
}
