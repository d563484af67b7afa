package lab

import (
	"errors"
	"io"
	"maps"
	"math/rand/v2"
	"net"
	"slices"
	"sync"
	"time"
)

// buffer is one direction of a line: bytes on their way, each batch with the
// time it may arrive.
type buffer struct {
	mu      sync.Mutex
	change  *sync.Cond
	batches []batch
	held    int // bytes in batches
	closed  bool
	last    time.Time // when the last batch may arrive
	stuck   int       // bytes of a write that waits for room, or for a thaw
	faults  *Faults
}

type batch struct {
	data []byte
	due  time.Time
}

const maxHeld = 256 << 10

func newBuffer(f *Faults) *buffer {
	b := &buffer{faults: f}
	b.change = sync.NewCond(&b.mu)
	f.watch(b, true)
	return b
}

// wake makes everyone who waits look again. It must not be called with the
// buffer's lock held.
func (b *buffer) wake() {
	b.mu.Lock()
	b.change.Broadcast()
	b.mu.Unlock()
}

func (b *buffer) write(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for written := 0; ; {
		for !b.closed && (b.held >= maxHeld || b.faults.frozen()) {
			b.stuck = len(p) - written
			b.change.Wait()
			b.stuck = 0
		}
		if b.closed {
			return written, io.ErrClosedPipe
		}
		n := min(len(p)-written, maxHeld-b.held)
		b.last = b.faults.due(b.last, n)
		b.batches = append(b.batches, batch{append([]byte(nil), p[written:written+n]...), b.last})
		b.held += n
		written += n
		b.change.Broadcast()
		if written == len(p) {
			return written, nil
		}
	}
}

func (b *buffer) read(p []byte) (int, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for {
		switch {
		case b.faults.frozen() && !b.closed:
			b.change.Wait()
		case len(b.batches) > 0:
			first := &b.batches[0]
			if rest := time.Until(first.due); rest > 0 && !b.closed {
				timer := time.AfterFunc(rest, b.wake)
				b.change.Wait()
				timer.Stop()
				continue
			}
			n := copy(p, first.data)
			first.data = first.data[n:]
			b.held -= n
			if len(first.data) == 0 {
				b.batches = b.batches[1:]
			}
			b.change.Broadcast()
			return n, nil
		case b.closed:
			return 0, io.EOF
		default:
			b.change.Wait()
		}
	}
}

func (b *buffer) close() {
	b.mu.Lock()
	b.closed = true
	b.change.Broadcast()
	b.mu.Unlock()
	b.faults.watch(b, false)
}

// end is one end of a line inside the process.
type end struct {
	in, out     *buffer
	local, away net.Addr
}

// newLine joins two ends. Both directions suffer the faults.
func newLine(f *Faults, from, to net.Addr) (net.Conn, net.Conn) {
	a, b := newBuffer(f), newBuffer(f)
	return &end{a, b, from, to}, &end{b, a, to, from}
}

func (e *end) Read(p []byte) (int, error)  { return e.in.read(p) }
func (e *end) Write(p []byte) (int, error) { return e.out.write(p) }
func (e *end) Close() error                { e.in.close(); e.out.close(); return nil }
func (e *end) CloseWrite() error           { e.out.close(); return nil }
func (e *end) LocalAddr() net.Addr         { return e.local }
func (e *end) RemoteAddr() net.Addr        { return e.away }

var errNoDeadline = errors.New("a line inside the lab has no deadlines")

func (e *end) SetDeadline(time.Time) error      { return errNoDeadline }
func (e *end) SetReadDeadline(time.Time) error  { return errNoDeadline }
func (e *end) SetWriteDeadline(time.Time) error { return errNoDeadline }

// bridge puts a line with faults in front of a real connection.
func bridge(conn net.Conn, f *Faults) net.Conn {
	near, far := newLine(f, conn.LocalAddr(), conn.RemoteAddr())
	go func() { io.Copy(far, conn); far.Close(); conn.Close() }()
	go func() { io.Copy(conn, far); far.Close(); conn.Close() }()
	return near
}

// Faults are what is wrong with a host at the moment. The zero value is a host
// in good health.
type Faults struct {
	mu       sync.Mutex
	late     time.Duration
	limit    int     // bytes a second, 0 for no limit
	loss     float64 // of batches, which are sent again a while later
	ice      bool
	closed   bool // the port
	forbid   bool // onward connections
	impostor bool // no SSH server
	buffers  map[*buffer]bool
}

func (f *Faults) set(change func()) {
	f.mu.Lock()
	change()
	buffers := slices.Collect(maps.Keys(f.buffers))
	f.mu.Unlock()
	for _, b := range buffers {
		b.wake()
	}
}

// watch has a buffer woken whenever a fault changes, or no longer.
func (f *Faults) watch(b *buffer, on bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.buffers == nil {
		f.buffers = map[*buffer]bool{}
	}
	if on {
		f.buffers[b] = true
	} else {
		delete(f.buffers, b)
	}
}

// Held is how many bytes to and from the host are on their way, or lie on the ice.
func (f *Faults) Held() int {
	f.mu.Lock()
	buffers := slices.Collect(maps.Keys(f.buffers))
	f.mu.Unlock()
	n := 0
	for _, b := range buffers {
		b.mu.Lock()
		n += b.held + b.stuck
		b.mu.Unlock()
	}
	return n
}

// Delay makes every byte to and from the host late by d.
func (f *Faults) Delay(d time.Duration) { f.set(func() { f.late = d }) }

// Limit lets at most so many bytes a second through each line to and from the host, 0
// for as many as pass.
func (f *Faults) Limit(bytes int) { f.set(func() { f.limit = bytes }) }

// Lose loses a share of what is sent, from 0 to 1. As on a real line it is sent again
// and comes later, with everything behind it.
func (f *Faults) Lose(share float64) { f.set(func() { f.loss = share }) }

// sentAgain is after how long a lost batch is sent again.
const sentAgain = 200 * time.Millisecond

// due is when n bytes may arrive that are sent now, behind those that arrive at last.
func (f *Faults) due(last time.Time, n int) time.Time {
	f.mu.Lock()
	defer f.mu.Unlock()
	at := time.Now().Add(f.late)
	if f.loss > 0 && rand.Float64() < f.loss {
		at = at.Add(sentAgain)
	}
	if at.Before(last) {
		at = last
	}
	if f.limit > 0 {
		at = at.Add(time.Duration(float64(n) / float64(f.limit) * float64(time.Second)))
	}
	return at
}

// Freeze holds everything to and from the host until it is thawed.
func (f *Faults) Freeze(on bool) { f.set(func() { f.ice = on }) }

// ClosePort makes the host refuse new connections.
func (f *Faults) ClosePort(on bool) { f.set(func() { f.closed = on }) }

// ForbidOnward makes the host refuse to open connections onward.
func (f *Faults) ForbidOnward(on bool) { f.set(func() { f.forbid = on }) }

// Impostor makes something answer that is no SSH server.
func (f *Faults) Impostor(on bool) { f.set(func() { f.impostor = on }) }

// Heal takes every fault away.
func (f *Faults) Heal() {
	f.set(func() {
		f.late, f.limit, f.loss, f.ice, f.closed, f.forbid, f.impostor = 0, 0, 0, false, false, false, false
	})
}

func (f *Faults) frozen() bool     { f.mu.Lock(); defer f.mu.Unlock(); return f.ice }
func (f *Faults) portClosed() bool { f.mu.Lock(); defer f.mu.Unlock(); return f.closed }
func (f *Faults) onwardShut() bool { f.mu.Lock(); defer f.mu.Unlock(); return f.forbid }
func (f *Faults) notSSH() bool     { f.mu.Lock(); defer f.mu.Unlock(); return f.impostor }
