package gateway

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/service"
	"meatus/core/store"
)

// counters are what is told as metrics.
type counters struct {
	streams, joins atomic.Int64
	in, out        atomic.Int64 // bytes from machines, and to them
}

// stream is one that runs, from a person to a machine. For another gateway's person the other one decides and
// records, and nothing but machine is set here.
type stream struct {
	s        *Server
	id       string
	person   string
	by, from string
	machine  store.Machine
	to       string
	rule     string
	began    time.Time
	in, out  atomic.Int64
	told     [2]int64 // bytes that the store knows of, of the person and of the machine; for the goroutine that counts

	mu     sync.Mutex
	cut    func() // ends it, nil before it passes anything
	why    error
	reason line.Cut // as the person's program is told
}

// name is what the policy knows it by: the machine, or one of its further destinations as "NAME.MACHINE".
func (st *stream) name() string {
	if st.to != "" {
		return st.to + "." + st.machine.Name
	}
	return st.machine.Name
}

// asked is what the policy is asked of. A further destination has no tags: it is meant by its name alone.
func (st *stream) asked() policy.Machine {
	if st.to != "" {
		return policy.Machine{Name: st.name()}
	}
	return machineOf(st.machine)
}

// machineOf is a machine as the policy is asked of it.
func machineOf(m store.Machine) policy.Machine {
	return policy.Machine{Name: m.Name, Tags: m.Tags, Instance: m.Instance}
}

// decide asks a policy whether the stream may be. What denies a machine denies its further destinations.
func (st *stream) decide(p *policy.Policy) policy.Decision {
	q := policy.Question{Machine: st.asked(), From: service.Address(st.from), At: time.Now()}
	d := p.Decide(st.person, q)
	if st.to != "" && d.Allowed {
		q.Machine = machineOf(st.machine)
		if own := p.Decide(st.person, q); own.Rule != nil && own.Rule.Deny {
			return own
		}
	}
	return d
}

// bounded is the machine as limits see it: a further destination under its own name, with the tags of its machine.
func (st *stream) bounded() policy.Machine {
	m := machineOf(st.machine)
	m.Name = st.name()
	return m
}

func (st *stream) done(what string) record.Done {
	return record.Done{What: what, Person: st.person, By: st.by, From: st.from, Machine: st.machine.Name, To: st.to, Stream: st.id, Rule: st.rule}
}

// end ends the stream, and notes why.
func (st *stream) end(why error, reason line.Cut) {
	st.mu.Lock()
	if st.why == nil {
		st.why, st.reason = why, reason
	}
	cut := st.cut
	st.mu.Unlock()
	if cut != nil {
		go cut()
	}
}

// ended returns why the stream was ended, or nil while it is open.
func (st *stream) ended() error {
	st.mu.Lock()
	defer st.mu.Unlock()
	return st.why
}

// admit counts a stream, and says why there are too many, "" where there are not.
func (s *Server) admit(ctx context.Context, st *stream, p *policy.Policy) string {
	person, machine := p.LimitsOf(st.person), p.LimitsAt(st.bounded())
	for _, l := range []struct {
		who   string
		daily int64
	}{{st.person, person.Daily}, {"machine " + st.machine.Name, machine.Daily}} {
		if l.daily == 0 {
			continue
		}
		sum, err := s.Store.Move(ctx, l.who, 0)
		if err != nil {
			return "the gateway's store does not answer"
		}
		if sum >= l.daily {
			return fmt.Sprintf("what may be moved in a day for %s is used up, until midnight UTC", l.who)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	byPerson, byMachine := 0, 0
	for other := range s.streams {
		if other.person == st.person {
			byPerson++
		}
		if other.machine.Name == st.machine.Name {
			byMachine++
		}
	}
	switch {
	case person.Streams > 0 && byPerson >= person.Streams:
		return fmt.Sprintf("%s has %d streams through this gateway already, and may have no more", st.person, byPerson)
	case machine.Streams > 0 && byMachine >= machine.Streams:
		return fmt.Sprintf("%s has %d streams through this gateway already, and may have no more", st.machine.Name, byMachine)
	}
	s.streams[st] = true
	s.counted.streams.Add(1)
	return ""
}

func (s *Server) release(st *stream) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.streams, st)
}

// close notes that a stream has ended.
func (s *Server) close(st *stream, err error) {
	s.release(st)
	st.mu.Lock()
	err = cmp.Or(st.why, err)
	st.mu.Unlock()
	s.moved(context.Background(), st)
	d := st.done("closed")
	d.In, d.Out, d.Seconds, d.Rule = st.in.Load(), st.out.Load(), time.Since(st.began).Round(time.Millisecond).Seconds(), ""
	if err != nil {
		d.Why = err.Error()
	}
	s.note(context.Background(), d)
}

// moved tells the store what a stream has moved since it was last told, and whether that is more than may be.
func (s *Server) moved(ctx context.Context, st *stream) (over bool) {
	now := st.in.Load() + st.out.Load()
	if st.person == "" {
		return false
	}
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	p := s.Policy.Get()
	limits := []int64{p.LimitsOf(st.person).Daily, p.LimitsAt(st.bounded()).Daily}
	for i, who := range []string{st.person, "machine " + st.machine.Name} {
		bytes := now - st.told[i]
		if limits[i] == 0 || bytes == 0 {
			continue
		}
		sum, err := s.Store.Move(ctx, who, bytes)
		if err != nil {
			continue // it is told the next time
		}
		st.told[i] = now
		over = over || sum > limits[i]
	}
	return over
}

// countEvery is how often the store is told what a stream moves.
const countEvery = 5 * time.Second

// pass passes bytes between a person and a machine until both directions have ended or one has failed, and notes
// the end.
func (s *Server) pass(st *stream, near, far line.Stream) {
	st.mu.Lock()
	st.cut = func() {
		st.mu.Lock()
		reason := st.reason
		st.mu.Unlock()
		abortFor(near, reason)
		abort(far)
	}
	why := st.why
	st.mu.Unlock()
	if why != nil || s.Context().Err() != nil {
		st.cut()
	}
	stop := context.AfterFunc(s.Context(), func() { st.end(errEnding, line.CutEnding) })
	defer stop()
	over := make(chan struct{})
	var counting sync.WaitGroup
	counting.Go(func() {
		tick := time.NewTicker(countEvery)
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case <-tick.C:
				if s.moved(s.Context(), st) {
					st.end(errors.New(line.CutByLimit.String()), line.CutByLimit)
				}
			}
		}
	})
	err := relay(near, far, &st.in, &st.out, &s.counted.in, &s.counted.out)
	close(over)
	counting.Wait()
	s.close(st, err)
}

// abortFor is abort that tells the far side why.
func abortFor(stream line.Stream, reason line.Cut) {
	if r, ok := stream.(interface{ ResetWithError(uint32) error }); ok && reason != line.CutUnsaid {
		r.ResetWithError(uint32(reason))
		return
	}
	abort(stream)
}

// abort ends a stream in both directions at once.
func abort(stream line.Stream) {
	if r, ok := stream.(interface{ Reset() error }); ok {
		r.Reset()
		return
	}
	stream.Close()
}

// pieces are what relays read into.
var pieces = sync.Pool{New: func() any { b := make([]byte, 32<<10); return &b }}

// relay passes bytes both ways. A direction that ends is ended at the other side; one that fails ends both. It
// counts what comes from far, and what goes there.
func relay(near, far line.Stream, in, out *atomic.Int64, also ...*atomic.Int64) error {
	one := func(to, from line.Stream, counts ...*atomic.Int64) error {
		piece := pieces.Get().(*[]byte)
		defer pieces.Put(piece)
		for {
			n, err := from.Read(*piece)
			if n > 0 {
				for _, c := range counts {
					c.Add(int64(n))
				}
				if _, werr := to.Write((*piece)[:n]); werr != nil {
					return werr
				}
			}
			if err == io.EOF {
				return to.CloseWrite()
			}
			if err != nil {
				return err
			}
		}
	}
	ended := make(chan error, 2)
	go func() { ended <- one(near, far, append(also[:min(1, len(also)):min(1, len(also))], in)...) }()
	go func() { ended <- one(far, near, append(also[min(1, len(also)):len(also):len(also)], out)...) }()
	err := <-ended
	if err != nil {
		abort(near)
		abort(far)
	}
	if second := <-ended; err == nil {
		err = second
	}
	near.Close()
	far.Close()
	var reset *yamux.StreamError
	if errors.As(err, &reset) || errors.Is(err, io.EOF) || errors.Is(err, net.ErrClosed) || errors.Is(err, yamux.ErrStreamClosed) {
		err = nil // one of the two has closed it, as connections are
	}
	return err
}
