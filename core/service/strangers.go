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

// Bounds of connections of which it is not known yet who they are of: all together, and of one address (of one network of
// 64 bits, of IPv6). Whoever is turned away comes again in a moment.
const (
	maxStrangers = 512
	maxFromOne   = 64
)

// strangers counts connections of which it is not known yet who they are of. It is a listener that closes those of which
// there are too many.
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

// origin is what the connections of one address are counted under.
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

// Accept waits for a connection of which there are not too many.
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

// stranger is a connection until it is known who it is of.
type stranger struct {
	net.Conn
	leave func()
}

// Close ends the connection.
func (s *stranger) Close() error {
	s.leave()
	return s.Conn.Close()
}

// strangerKey is under which a request's context has its connection.
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

// known notes that it is known who a request is of.
func known(r *http.Request) {
	if s, ok := r.Context().Value(strangerKey{}).(*stranger); ok {
		s.leave()
	}
}
