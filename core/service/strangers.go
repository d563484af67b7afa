package service

import (
	"context"
	"crypto/tls"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
)

// Limits of unauthenticated connections: in all, and of one IPv4 address or IPv6 /64 network. A refused client may retry at
// once.
const (
	maxStrangers = 512
	maxFromOne   = 64
)

// strangers is a listener that counts unauthenticated connections, and closes new ones beyond the limits.
type strangers struct {
	net.Listener
	refused atomic.Int64

	mu  sync.Mutex
	all int
	of  map[netip.Prefix]int
}

func newStrangers(l net.Listener) *strangers {
	return &strangers{Listener: l, of: map[netip.Prefix]int{}}
}

// origin returns the network under which an address is counted.
func origin(at net.Addr) netip.Prefix {
	a, err := netip.ParseAddrPort(at.String())
	if err != nil {
		return netip.Prefix{}
	}
	addr, bits := a.Addr().Unmap().WithZone(""), 32
	if addr.Is6() {
		bits = 64
	}
	p, _ := addr.Prefix(bits)
	return p
}

// Accept returns the next connection within the limits.
func (s *strangers) Accept() (net.Conn, error) {
	for {
		conn, err := s.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from := origin(conn.RemoteAddr())
		s.mu.Lock()
		full := s.all >= maxStrangers || s.of[from] >= maxFromOne
		if !full {
			s.all++
			s.of[from]++
		}
		s.mu.Unlock()
		if !full {
			return &stranger{Conn: conn, leave: sync.OnceFunc(func() { s.leave(from) })}, nil
		}
		s.refused.Add(1)
		conn.Close()
	}
}

func (s *strangers) leave(from netip.Prefix) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.all--
	if s.of[from]--; s.of[from] <= 0 {
		delete(s.of, from)
	}
}

// stranger is an unauthenticated connection.
type stranger struct {
	net.Conn
	leave func()
}

// Close ends and uncounts the connection.
func (s *stranger) Close() error {
	s.leave()
	return s.Conn.Close()
}

// strangerKey is the context key of a request's connection.
type strangerKey struct{}

func withStranger(ctx context.Context, c net.Conn) context.Context {
	if secure, ok := c.(*tls.Conn); ok {
		c = secure.NetConn()
	}
	if s, ok := c.(*stranger); ok {
		return context.WithValue(ctx, strangerKey{}, s)
	}
	return ctx
}

// known uncounts a request's connection after authentication.
func known(r *http.Request) {
	if s, ok := r.Context().Value(strangerKey{}).(*stranger); ok {
		s.leave()
	}
}
