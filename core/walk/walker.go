package walk

import (
	"context"
	"crypto/x509"
	"errors"
	"net"
	"sync/atomic"
	"time"

	"meatus/core/custody"
	"meatus/core/dial"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/vouch"
)

// Config is what a [Walker] works with. Vouched and Asker are needed; the rest
// has working zero values.
type Config struct {
	Vouched  *vouch.Record
	Asker    step.Asker
	Network  dial.Network     // this machine's where nil
	Resolver dial.Resolver    // where nil the network's own, else the system's
	Patience time.Duration    // how long a gate may take without a person; 15 s where 0
	Linger   time.Duration    // how long a link outlives its last user; 60 s where 0
	Logins   route.Logins     // how logins got in before, may be nil
	Keys     custody.Provider // where logins get their keys; the files that sessions name where nil
	Leases   login.Leases     // where logins for a while come from; none are where nil
	Events   *event.Stream    // told of everything; one of its own where nil
	Roots    *x509.CertPool   // whom proxies' certificates are signed by; the system's where nil
	Serve    link.Serve       // who answers what far sides open
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

// Walker passes routes and owns every link that comes of it.
type Walker struct {
	Events   *event.Stream // told of everything
	config   Config
	links    *link.Pool
	dialer   *dial.Dialer
	logins   *login.Config
	ownLanes atomic.Int64 // links that one channel alone uses
}

// New returns a walker without links.
func New(c Config) *Walker {
	if c.Network == nil {
		c.Network = &net.Dialer{}
	}
	if c.Resolver == nil {
		c.Resolver = net.DefaultResolver
		if own, ok := c.Network.(dial.Resolver); ok {
			c.Resolver = own
		}
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
	w := &Walker{Events: c.Events, config: c, links: link.NewPool(c.Linger, c.Events, c.Serve), dialer: &dial.Dialer{Network: c.Network, Resolver: c.Resolver, Roots: c.Roots}}
	w.logins = &login.Config{Vouched: c.Vouched, Keys: c.Keys, Logins: c.Logins, Leases: c.Leases, Guests: &w.dialer.Guests}
	return w
}

// Close ends every link and walk, and waits until nothing of them is left.
func (w *Walker) Close() { w.links.Close() }

func (w *Walker) tell(e event.Event) { w.Events.Tell(e) }

// NewID is a number that no link, walk or program of this walker has.
func (w *Walker) NewID() link.ID { return w.links.NewID() }

// Links tells of every live link, the oldest first.
func (w *Walker) Links() []link.State { return w.links.States() }

// Probe asks every live link for a sign of life now, which takes its round trip.
func (w *Walker) Probe() { w.links.Probe() }

// EndLink ends a link, and with it everything that goes through it. It tells whether
// there was such a one.
func (w *Walker) EndLink(id link.ID) bool { return w.links.End(id) }

// ForgetTokens forgets the tokens of identity providers. The next login at a service that wants one asks anew.
func (w *Walker) ForgetTokens() { w.dialer.ForgetTokens() }

// Walk passes the route and returns the passage to its machine. It fails with a
// [gate.Failure]. The caller closes the passage.
func (w *Walker) Walk(ctx context.Context, r route.Route) (*Passage, error) {
	id, began := w.NewID(), time.Now()
	var a *attempt
	var end *link.Link
	taken, err := w.ways(ctx, r, func(way route.Route) error {
		return again(func(bool) (shared bool, err error) {
			a = &attempt{w: w, id: id, route: way, at: gate.Address}
			end, err = a.run(ctx)
			return a.shared(), err
		})
	})
	if err != nil {
		err = w.explain(a.route, err)
		w.tell(Ended{id, r.Session, a.where(), err, time.Since(began)})
		return nil, err
	}
	w.tell(Ended{id, r.Session, len(taken.Hops) - 1, nil, time.Since(began)})
	return &Passage{walker: w, link: end, route: taken, id: id, shared: a.shared()}, nil
}

// explain is an error with what the rules of an estate leave as its cause.
func (w *Walker) explain(r route.Route, err error) error {
	var f *gate.Failure
	if w.config.Rules != nil && errors.As(err, &f) {
		return w.config.Rules().Explain(r, f)
	}
	return err
}

// knowledge is what the walker's own checks draw on.
func (w *Walker) knowledge() route.Knowledge {
	k := route.Knowledge{Vouched: w.config.Vouched, Logins: w.config.Logins}
	if w.config.Rules != nil {
		k.Rules = w.config.Rules()
	}
	return k
}
