package line

import (
	"bufio"
	"net"
	"net/http"
	"sync"
	"time"
)

// maxBatch is how many bytes are written together at most.
const maxBatch = 128 << 10

// closeTime is how long what waits may take to be written when a connection is closed.
const closeTime = time.Second

// batched is a connection whose small writes go together while one is under way: each would be a record of TLS
// and a call of the system by itself.
type batched struct {
	net.Conn

	mu      sync.Mutex
	room    *sync.Cond // signalled when something was taken to be written
	waiting *[]byte    // nil for nothing
	busy    bool       // somebody writes
	closed  bool
	err     error
}

func batch(conn net.Conn) *batched {
	b := &batched{Conn: conn}
	b.room = sync.NewCond(&b.mu)
	return b
}

var batches = sync.Pool{New: func() any { b := make([]byte, 0, maxBatch); return &b }}

// Write takes bytes to be written. What goes wrong then is told by a later one.
func (b *batched) Write(p []byte) (n int, err error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.busy && !b.closed && b.err == nil && len(p) < atOnce {
		return b.writeNow(p)
	}
	for n < len(p) {
		for b.waiting != nil && len(*b.waiting) == maxBatch && b.err == nil {
			b.room.Wait()
		}
		if b.err == nil && b.closed {
			b.err = net.ErrClosed
		}
		if b.err != nil {
			return n, b.err
		}
		if b.waiting == nil {
			b.waiting = batches.Get().(*[]byte)
		}
		piece := p[n:min(len(p), n+maxBatch-len(*b.waiting))]
		*b.waiting = append(*b.waiting, piece...)
		n += len(piece)
		if !b.busy {
			b.busy = true
			go b.write()
		}
	}
	return n, nil
}

// atOnce is below how many bytes a write is worth no goroutine, where nothing is under way: it is a message of its own.
const atOnce = 4 << 10

// writeNow writes a few bytes at once, and what came meanwhile behind them.
func (b *batched) writeNow(p []byte) (int, error) {
	b.busy = true
	b.mu.Unlock()
	n, err := b.Conn.Write(p)
	b.mu.Lock()
	if b.err = err; err != nil || b.waiting == nil {
		b.rest()
		return n, err
	}
	go b.write()
	return n, nil
}

// rest notes that nobody writes any more.
func (b *batched) rest() {
	b.busy = false
	b.room.Broadcast()
	if b.closed {
		b.Conn.Close()
	}
}

// write writes until nothing waits.
func (b *batched) write() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for b.waiting != nil && b.err == nil {
		now := b.waiting
		b.waiting = nil
		b.room.Broadcast()
		b.mu.Unlock()
		_, err := b.Conn.Write(*now)
		*now = (*now)[:0]
		batches.Put(now)
		b.mu.Lock()
		b.err = err
	}
	b.rest()
}

// Close ends the connection, when what waits was written or after a second.
func (b *batched) Close() error {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed = true; b.busy {
		return b.Conn.SetWriteDeadline(time.Now().Add(closeTime))
	}
	return b.Conn.Close()
}

// frameBuffer is how much of a frame is gathered before it is written, in bytes: larger ones are written as they are.
const frameBuffer = 1 << 10

// batchedWriter has the connection that a request is taken over with batched.
type batchedWriter struct{ http.ResponseWriter }

func (w batchedWriter) Hijack() (net.Conn, *bufio.ReadWriter, error) {
	conn, both, err := http.NewResponseController(w.ResponseWriter).Hijack()
	if err != nil {
		return nil, nil, err
	}
	b := batch(conn)
	return b, bufio.NewReadWriter(both.Reader, bufio.NewWriterSize(b, frameBuffer)), nil
}
