// Package dial makes the connection that a first hop's transport runs over: straight to an address, through a proxy, or
// to a gateway. It keeps the proxies' logins and identity providers' tokens of this program, and limits how many
// connections to a server are made at once that are not logged in ([Guests]).
package dial

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"sync"
	"syscall"
	"time"

	"meatus/core/gate"
	"meatus/core/step"
)

// Network opens connections from this machine. [net.Dialer] is one; the lab and tests give others.
type Network interface {
	DialContext(ctx context.Context, network, address string) (net.Conn, error)
}

// Resolver finds the addresses of the first hop. [net.Resolver] is one.
type Resolver interface {
	LookupHost(ctx context.Context, host string) (addrs []string, err error)
}

// Dialer connects to first hops. It is safe to use from many goroutines.
type Dialer struct {
	Network  Network
	Resolver Resolver
	Roots    *x509.CertPool // whom certificates are signed by; the system's where nil
	Guests   Guests

	mu      sync.Mutex
	proxies map[string]proxyLogin // that were right the last time, by the proxy
	devices devices
}

// Reached is a connection to a hop.
type Reached struct {
	net.Conn
	Knock   string        // what was connected to
	Opened  time.Duration // how long that took: a round trip
	Gateway *Gateway      // that it is made over, where the hop is a gateway
}

// Reach connects to the first hop of a route. It fails with a [gate.Failure].
func (d *Dialer) Reach(s *step.Step, p *step.Patience) (*Reached, error) {
	r := &reach{Step: s, d: d, Reached: Reached{Knock: s.Hop.Knock()}}
	var err error
	if s.Hop.Gateway != nil {
		r.Conn, err = r.toGateway(p)
	} else {
		r.Conn, err = r.one(p)
	}
	if err != nil {
		return nil, err
	}
	return &r.Reached, nil
}

// reach is one connection that is being made.
type reach struct {
	*step.Step
	Reached
	d *Dialer
}

// one opens the connection to what it knocks at, through the proxy where there is one.
func (r *reach) one(p *step.Patience) (net.Conn, error) {
	if r.Hop.Proxy.Scheme != "" {
		return r.byProxy(p)
	}
	r.Trying(gate.Address)
	host, port, err := net.SplitHostPort(r.Knock)
	if err != nil {
		return nil, r.Fail(gate.Address, gate.NoAddress, r.Knock, "not a valid address", "correct the session's dial", err)
	}
	addrs := []string{host}
	if net.ParseIP(host) == nil {
		if addrs, err = r.d.Resolver.LookupHost(p.Ctx, host); err != nil || len(addrs) == 0 {
			if p.RanOut() {
				return nil, r.Fail(gate.Address, gate.NoAddress, host, fmt.Sprintf("the name server did not answer within %s for %s", r.Limit, host), "check this machine's name server", err)
			}
			return nil, r.Fail(gate.Address, gate.NoAddress, host, fmt.Sprintf("the name %s does not resolve on this machine", host), "check the spelling, or use the address; names of a private network need a bastion (via)", err)
		}
	}
	seen := host
	if r.Hop.Gateway == nil {
		seen = r.Hop.Host
	}
	if r.Hop.Dial != "" {
		seen += ", dialled at " + r.Hop.Dial
	} else if addrs[0] != host {
		seen += " is " + addrs[0]
	}
	r.FoundAt(seen)

	r.Trying(gate.Port)
	p.Renew()
	var conn net.Conn
	for _, addr := range addrs {
		began := time.Now()
		if conn, err = r.d.Network.DialContext(p.Ctx, "tcp", net.JoinHostPort(addr, port)); err == nil {
			r.Opened = time.Since(began)
			return conn, nil
		}
	}
	return nil, r.failure(p, net.JoinHostPort(addrs[len(addrs)-1], port), err)
}

// failure words why the first hop could not be connected to.
func (r *reach) failure(p *step.Patience, addr string, err error) *gate.Failure {
	var timeout net.Error
	switch {
	case p.RanOut(), errors.Is(err, syscall.ETIMEDOUT), errors.As(err, &timeout) && timeout.Timeout():
		return r.Fail(gate.Port, gate.NoAnswer, "no answer from "+addr,
			fmt.Sprintf("no answer at %s within %s", addr, r.Limit),
			"check whether the machine is up, its address unchanged, and the port open for this machine's address", err)
	case errors.Is(err, syscall.ECONNREFUSED):
		return r.Fail(gate.Port, gate.Refused, addr+" refused",
			fmt.Sprintf("%s refused the connection: nothing listens on that port", addr),
			"check the port; if the machine has just started, give it a moment", err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return r.Fail(gate.Address, gate.Unreachable, addr+" unreachable",
			fmt.Sprintf("there is no network route from here to %s", addr),
			"check this machine's network; a private address needs a bastion (via)", err)
	}
	return r.Fail(gate.Port, gate.Unexpected, addr, "connecting failed: "+step.Words(err), "check this machine's network", err)
}
