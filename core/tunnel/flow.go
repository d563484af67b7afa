package tunnel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"meatus/core/link"
	"meatus/core/localaddr"
)

const bufferSize = 32 << 10

// smallSize is that of the buffer of a direction in which little passes.
const smallSize = 1 << 10

var buffers = sync.Pool{New: func() any { return new([bufferSize]byte) }}

// Flow is one connection through a tunnel, as it can be shown.
type Flow struct {
	ID       int64
	From     string // the address it came from
	Program  string // the program here that it belongs to, "" where not known
	To       string // where it leads
	Began    time.Time
	Last     time.Time // when the last byte passed
	In, Out  uint64    // bytes from the far side and to it
	Took     time.Duration
	How      string // how it ended, "" while it lives
	Complete bool   // both directions came to their own end
}

type flow struct {
	id      int64
	from    string
	program atomic.Pointer[string]
	to      atomic.Pointer[string]
	began   time.Time
	last    atomic.Int64 // nanoseconds since began
	in, out atomic.Uint64
	ctx     context.Context
	cancel  context.CancelCauseFunc
	cut     func() bool // tells whether the way is gone that the flow goes by
}

func (f *flow) state() Flow {
	s := Flow{ID: f.id, From: f.from, Began: f.began, Last: f.began.Add(time.Duration(f.last.Load())), In: f.in.Load(), Out: f.out.Load()}
	if to := f.to.Load(); to != nil {
		s.To = *to
	}
	if p := f.program.Load(); p != nil {
		s.Program = *p
	}
	return s
}

// begin takes a new connection into the list.
func (t *Tunnel) begin(conn net.Conn) *flow {
	f := &flow{id: t.nextID.Add(1), began: time.Now()}
	if a := conn.RemoteAddr(); a != nil {
		f.from = a.String()
	}
	f.ctx, f.cancel = context.WithCancelCause(t.ctx)
	t.total.Add(1)
	t.mu.Lock()
	t.flows[f.id] = f
	t.mu.Unlock()
	if a, ok := conn.RemoteAddr().(*net.TCPAddr); ok && t.Spec.Lend == "" && a.IP.IsLoopback() {
		time.AfterFunc(nameAfter, func() { f.name(a.Port, nameTries) })
	}
	return f
}

// nameAfter is how old a flow has to be before its program is looked for, which
// takes a look at every program here.
const nameAfter = 300 * time.Millisecond

// nameTries is how often a flow comes back whose turn it was not.
const nameTries = 20

// naming is held by the one flow whose program is looked for.
var naming sync.Mutex

// name finds the program that a flow belongs to.
func (f *flow) name(port, tries int) {
	if f.ctx.Err() != nil || tries == 0 {
		return
	}
	if !naming.TryLock() {
		time.AfterFunc(nameAfter, func() { f.name(port, tries-1) })
		return
	}
	defer naming.Unlock()
	if name := localaddr.User(port); name != "" {
		f.program.Store(&name)
	}
}

// finish takes a flow out and tells how it ended.
func (t *Tunnel) finish(f *flow, err error) {
	f.cancel(nil)
	t.used.Store(int64(time.Since(t.since)))
	t.mu.Lock()
	delete(t.flows, f.id)
	t.mu.Unlock()
	s := f.state()
	s.Took, s.Complete, s.How = time.Since(f.began), err == nil, "both sides were done"
	if err != nil {
		s.How = err.Error()
	}
	t.o.Tell(Ended{Session: t.Session, Flow: s})
}

// join passes on both directions until both have ended. near is here, far over
// there. What does not come to its own end is broken off.
func (t *Tunnel) join(f *flow, near, far link.Stream) error {
	stop := context.AfterFunc(f.ctx, func() {
		breakOff(near)
		far.Close()
	})
	defer stop()
	if t.o.Idle > 0 {
		idle := time.NewTicker(max(t.o.Idle/4, 10*time.Millisecond))
		defer idle.Stop()
		done := make(chan struct{})
		defer close(done)
		go func() {
			for {
				select {
				case <-idle.C:
					if time.Since(f.began)-time.Duration(f.last.Load()) > t.o.Idle {
						f.cancel(fmt.Errorf("nothing passed for %s", t.o.Idle))
					}
				case <-done:
					return
				}
			}
		}()
	}
	errs := make(chan error, 2)
	way := func(to, from link.Stream, count, all *atomic.Uint64, limit *rate.Limiter) {
		err := t.pass(f, to, from, count, all, limit)
		errs <- err
		if err != nil { // the other direction cannot go on alone
			breakOff(near)
			far.Close()
		}
	}
	go way(far, near, &f.out, &t.out, t.limits[1])
	way(near, far, &f.in, &t.in, t.limits[0])
	err := <-errs
	if second := <-errs; err == nil {
		err = second
	}
	if f.ctx.Err() != nil {
		err = context.Cause(f.ctx)
	}
	if err != nil {
		breakOff(near)
	}
	near.Close()
	far.Close()
	return err
}

// pass copies one direction to its end, and tells the other side of it.
func (t *Tunnel) pass(f *flow, to, from link.Stream, count, all *atomic.Uint64, limit *rate.Limiter) error {
	// What waits for its next bytes waits with a small buffer, and what has many to pass
	// gets a large one. Where the rate is limited all have large ones: each gets a buffer's
	// worth in its turn, and has to get the same.
	small := make([]byte, smallSize)
	if limit != nil {
		small = make([]byte, bufferSize)
	}
	buf, large := small, (*[bufferSize]byte)(nil)
	defer func() {
		if large != nil {
			buffers.Put(large)
		}
	}()
	for {
		n, err := from.Read(buf)
		if n > 0 {
			if limit != nil {
				if lerr := limit.WaitN(f.ctx, n); lerr != nil {
					return lerr
				}
			}
			count.Add(uint64(n))
			all.Add(uint64(n))
			f.last.Store(int64(time.Since(f.began)))
			if _, werr := to.Write(buf[:n]); werr != nil {
				return werr
			}
		}
		switch {
		case large == nil && n == smallSize && len(small) == smallSize:
			large = buffers.Get().(*[bufferSize]byte)
			buf = large[:]
		case large != nil && n < smallSize:
			buffers.Put(large)
			buf, large = small, nil
		}
		if errors.Is(err, io.EOF) {
			// A channel whose link was cut reads as ended, too.
			if f.cut != nil && f.cut() {
				return errCut
			}
			to.CloseWrite()
			return nil
		}
		if err != nil {
			return err
		}
	}
}

var errCut = errors.New("the connection was lost")

// breakOff closes a connection so that the program at its end does not take what
// came for all there was.
func breakOff(c io.Closer) {
	if tcp, ok := c.(*net.TCPConn); ok {
		tcp.SetLinger(0)
	}
	c.Close()
}

// Who is the program, or where it is not known the address, that a flow comes from.
func (f Flow) Who() string {
	if f.Program != "" {
		return f.Program
	}
	return f.From
}
