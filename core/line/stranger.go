package line

import (
	"errors"
	"net"
	"sync/atomic"

	"github.com/libp2p/go-yamux/v5"
)

// Guard bounds what a connection may take up of memory before it is known who it is: one stream, whose window does not
// grow. It is the memory manager of a connection's streams.
type Guard struct {
	known   atomic.Bool
	streams atomic.Int32
}

// Known lifts the bounds.
func (g *Guard) Known() { g.known.Store(true) }

// errStranger ends the connection of whoever is not known and wants more.
var errStranger = errors.New("nobody is known yet: one stream is all there is until then")

// firstPriority is that with which a stream's first window is reserved.
const firstPriority = 255

// span is the memory of one stream.
type span struct{ g *Guard }

func (g *Guard) span() (yamux.MemoryManager, error) {
	if n := g.streams.Add(1); n > 1 && !g.known.Load() {
		return nil, errStranger
	}
	return span{g}, nil
}

// ReserveMemory lets a stream begin, and its window grow once it is known who it is of.
func (s span) ReserveMemory(_ int, priority uint8) error {
	if priority < firstPriority && !s.g.known.Load() {
		return errStranger
	}
	return nil
}

// ReleaseMemory gives memory back.
func (span) ReleaseMemory(int) {}

// Done ends the stream.
func (span) Done() {}

// MuxGuarded is [Mux] for the side that was dialled, with a guard.
func MuxGuarded(conn net.Conn, g *Guard) (*yamux.Session, error) {
	return yamux.Server(listening{conn}, muxConfig(false, PingEvery), g.span)
}
