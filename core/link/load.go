package link

import (
	"meatus/core/dial"
	"sync"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"
)

// load is what a link carries for those above it: the payload of its channels, and
// how many there are. Counting costs an addition for each piece that passes.
type load struct {
	in, out  atomic.Uint64
	channels atomic.Int64
	last     atomic.Int64 // when payload last passed, in nanoseconds since [dial.Epoch]
}

func (l *load) took(n int) {
	if n > 0 {
		l.in.Add(uint64(n))
		l.last.Store(int64(time.Since(dial.Epoch)))
	}
}

func (l *load) gave(n int) {
	if n > 0 {
		l.out.Add(uint64(n))
		l.last.Store(int64(time.Since(dial.Epoch)))
	}
}

// loadedConn is a connection whose channels are counted.
type loadedConn struct {
	ssh.Conn
	load *load
}

func (c loadedConn) OpenChannel(name string, data []byte) (ssh.Channel, <-chan *ssh.Request, error) {
	channel, requests, err := c.Conn.OpenChannel(name, data)
	if err != nil {
		return nil, nil, err
	}
	return c.load.watch(channel), requests, nil
}

// opened counts the channels that the far side opens, too.
func (l *load) opened(from <-chan ssh.NewChannel) <-chan ssh.NewChannel {
	to := make(chan ssh.NewChannel)
	go func() {
		defer close(to)
		for c := range from {
			to <- loadedNew{c, l}
		}
	}()
	return to
}

type loadedNew struct {
	ssh.NewChannel
	load *load
}

func (n loadedNew) Accept() (ssh.Channel, <-chan *ssh.Request, error) {
	channel, requests, err := n.NewChannel.Accept()
	if err != nil {
		return nil, nil, err
	}
	return n.load.watch(channel), requests, nil
}

func (l *load) watch(c ssh.Channel) ssh.Channel {
	l.channels.Add(1)
	return &loadedChannel{Channel: c, load: l}
}

// loadedChannel is a channel whose payload is counted.
type loadedChannel struct {
	ssh.Channel
	load   *load
	closed sync.Once
}

func (c *loadedChannel) Read(p []byte) (int, error) {
	n, err := c.Channel.Read(p)
	c.load.took(n)
	if err != nil {
		c.over()
	}
	return n, err
}

func (c *loadedChannel) Write(p []byte) (int, error) {
	n, err := c.Channel.Write(p)
	c.load.gave(n)
	return n, err
}

func (c *loadedChannel) Close() error {
	c.over()
	return c.Channel.Close()
}

// over takes the channel out of the count: it is closed, or nothing more comes.
func (c *loadedChannel) over() { c.closed.Do(func() { c.load.channels.Add(-1) }) }

// loadedStream is a stream of a gateway's whose payload is counted.
type loadedStream struct {
	*yamux.Stream
	load   *load
	closed sync.Once
}

func (s *loadedStream) Read(p []byte) (int, error) {
	n, err := s.Stream.Read(p)
	s.load.took(n)
	return n, err
}

func (s *loadedStream) Write(p []byte) (int, error) {
	n, err := s.Stream.Write(p)
	s.load.gave(n)
	return n, err
}

func (s *loadedStream) Close() error {
	s.closed.Do(func() { s.load.channels.Add(-1) })
	return s.Stream.Reset() // both directions at once, as a connection is closed
}

// trips are a link's round trips, smoothed as RFC 6298 section 2 does.
type trips struct {
	now, smoothed, spread, best, worst atomic.Int64
}

func (t *trips) add(took time.Duration) {
	n := int64(took)
	t.now.Store(n)
	if t.worst.Load() == 0 {
		t.smoothed.Store(n)
		t.spread.Store(n / 2)
	} else {
		off := t.smoothed.Load() - n
		t.spread.Add((max(off, -off) - t.spread.Load()) / 4)
		t.smoothed.Add(-off / 8)
	}
	t.worst.Store(max(t.worst.Load(), n))
	if best := t.best.Load(); best == 0 || n < best {
		t.best.Store(n)
	}
}
