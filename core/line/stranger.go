package line

import (
	"errors"
	"net"
	"sync/atomic"

	"github.com/libp2p/go-yamux/v5"
)

// Guard limits the memory of a connection before its peer is authenticated: to one stream with a fixed window. It is the
// memory manager of the connection's streams.
type Guard struct {
	known   atomic.Bool
	streams atomic.Int32
}

// Known lifts the limits after authentication.
func (g *Guard) Known() { g.known.Store(true) }

// errStranger ends an unauthenticated connection that exceeds the limits.
var errStranger = errors.New("nobody is known yet: one stream is all there is until then")

// firstPriority is the priority with which yamux reserves a stream's first window.
const firstPriority = 255

// span is the memory of one stream.
type span struct{ g *Guard }

func (g *Guard) span() (yamux.MemoryManager, error) {
	if n := g.streams.Add(1); n > 1 && !g.known.Load() {
		return nil, errStranger
	}
	return span{g}, nil
}

// ReserveMemory allows a stream's first window, and any larger one after authentication.
func (s span) ReserveMemory(_ int, priority uint8) error {
	if priority < firstPriority && !s.g.known.Load() {
		return errStranger
	}
	return nil
}

// ReleaseMemory does nothing: only streams are counted.
func (span) ReleaseMemory(int) {}

// Done does nothing: only streams are counted.
func (span) Done() {}

// MuxGuarded is [Mux] for the accepting side, with a guard.
func MuxGuarded(conn net.Conn, g *Guard) (*yamux.Session, error) {
	return yamux.Server(listening{conn}, muxConfig(false, PingEvery), g.span)
}
