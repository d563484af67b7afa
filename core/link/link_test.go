package link

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/dial"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

// far is a server at the other end of a pipe.
type far struct {
	t      *testing.T
	silent atomic.Bool // it answers nothing any more
	made   int
	ends   []ssh.Conn
}

func signer(t *testing.T) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// make makes a transport to it.
func (f *far) make(l *Link) (*Transport, error) {
	f.made++
	l.Hear(0, gate.Gate{Kind: gate.Port}, true)
	near, there := buffered()
	config := &ssh.ServerConfig{NoClientAuth: true}
	config.AddHostKey(signer(f.t))
	arrived := make(chan ssh.Conn, 1)
	go func() {
		conn, channels, requests, err := ssh.NewServerConn(there, config)
		if err != nil {
			return
		}
		arrived <- conn
		go func() {
			for r := range requests {
				if r.WantReply && !f.silent.Load() {
					r.Reply(false, nil)
				}
			}
		}()
		for c := range channels {
			c.Reject(ssh.Prohibited, "none")
		}
	}()
	conn := dial.NewConn(near, false)
	in, channels, requests, err := ssh.NewClientConn(conn, "far", &ssh.ClientConfig{HostKeyCallback: ssh.InsecureIgnoreHostKey()})
	if err != nil {
		return nil, err
	}
	f.ends = append(f.ends, <-arrived)
	l.Hear(0, gate.Gate{Kind: gate.Port, Verdict: gate.Open}, false)
	return &Transport{Conn: conn, SSH: in, Channels: channels, Requests: requests}, nil
}

// buffered is a connection in memory whose writes do not wait for the other side.
func buffered() (net.Conn, net.Conn) {
	a, b := net.Pipe()
	return newBuffer(a), newBuffer(b)
}

type buffer struct {
	net.Conn
	todo chan []byte
	gone chan struct{}
	once sync.Once
}

func newBuffer(c net.Conn) *buffer {
	b := &buffer{Conn: c, todo: make(chan []byte, 256), gone: make(chan struct{})}
	go func() {
		for {
			select {
			case p := <-b.todo:
				c.Write(p)
			case <-b.gone:
				return
			}
		}
	}()
	return b
}

func (b *buffer) Write(p []byte) (int, error) {
	select {
	case b.todo <- append([]byte(nil), p...):
		return len(p), nil
	case <-b.gone:
		return 0, net.ErrClosed
	}
}

func (b *buffer) Close() error {
	b.once.Do(func() { close(b.gone) })
	return b.Conn.Close()
}

// listener hears of a link, and looks at the pool meanwhile: nothing is told under its lock.
type listener struct {
	p     *Pool
	heard []string
	quiet bool
}

func (l *listener) Hear(_ int, g gate.Gate, trying bool) {
	l.p.States()
	l.p.NewID()
	l.heard = append(l.heard, fmt.Sprint(g.Kind, trying))
}

func (l *listener) Quiet() bool { return l.quiet }

func hop(keepalive time.Duration) (route.LinkKey, route.Hop) {
	h := route.Hop{Name: "far", Destination: route.Destination{Host: "far.lantern.example", Port: 22}, Credentials: route.Credentials{User: "keeper"}, Limits: route.Limits{Keepalive: keepalive}}
	return h.AsRoute().End(), h
}

// joined is a link that is up.
func joined(t *testing.T, p *Pool, f *far, keepalive time.Duration) (*Link, bool) {
	t.Helper()
	key, h := hop(keepalive)
	ear := &listener{p: p}
	l, reused := p.Join(key, h, nil, ear, f.make)
	<-l.Ready()
	if l.Err() != nil {
		t.Fatal(l.Err())
	}
	l.Leave(ear)
	return l, reused
}

func TestALinkIsSharedAndOutlivesItsLastUser(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		p := NewPool(time.Minute, &event.Stream{}, nil)
		defer p.Close()
		l, reused := joined(t, p, f, 0)
		again, shared := joined(t, p, f, 0)
		if again != l || reused || !shared || f.made != 1 || l.State().Users != 2 {
			t.Fatalf("made %d times, %d users, reused %v and %v", f.made, l.State().Users, reused, shared)
		}
		l.Release()
		again.Release()
		time.Sleep(time.Minute - time.Nanosecond)
		synctest.Wait()
		if p.Live(l.Key()) != l {
			t.Fatal("it ended before its last minute was over")
		}
		// Whoever comes in its last minute keeps it.
		if late, shared := joined(t, p, f, 0); late != l || !shared {
			t.Fatal("whoever comes in its last minute has another link")
		}
		time.Sleep(time.Hour)
		if p.Live(l.Key()) != l {
			t.Fatal("it ended though it has a user")
		}
		l.Release()
		time.Sleep(time.Minute)
		synctest.Wait()
		if p.Live(l.Key()) != nil || l.Failure() != nil || !errors.Is(context.Cause(l.Context()), errUnused) {
			t.Errorf("after its last minute: %v", context.Cause(l.Context()))
		}
		if next, shared := joined(t, p, f, 0); next == l || shared || next.State().Again != 0 {
			t.Errorf("the next is the same, or counts as a return: %+v", next.State())
		}
	})
}

func TestALinkWithoutASignOfLifeIsGivenUp(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		events := &event.Stream{}
		p := NewPool(time.Minute, events, nil)
		defer p.Close()
		var froze, thawed atomic.Int64
		events.Attach(func(e event.Event) {
			p.States() // nothing is told under the pool's lock
			switch e.(type) {
			case Froze:
				froze.Add(1)
			case Thawed:
				thawed.Add(1)
			}
		})
		const every = 30 * time.Second
		l, _ := joined(t, p, f, every)
		time.Sleep(10 * every)
		synctest.Wait()
		if l.Failure() != nil || l.State().Frozen {
			t.Fatalf("it answers: %v, frozen %v", l.Failure(), l.State().Frozen)
		}
		f.silent.Store(true)
		time.Sleep(every + time.Second) // asked, and no answer is due yet
		synctest.Wait()
		if l.State().Frozen {
			t.Error("frozen before an answer was due")
		}
		time.Sleep(every)
		synctest.Wait()
		if !l.State().Frozen {
			t.Error("a missed sign of life is not told")
		}
		go f.ends[0].SendRequest("hello", false, nil) // a byte comes: it lives
		synctest.Wait()
		p.Probe()
		synctest.Wait()
		if l.State().Frozen {
			t.Error("frozen though a byte came")
		}
		time.Sleep((missedLimit-1)*every - 2*time.Second) // the question was never answered
		synctest.Wait()
		if l.Failure() != nil {
			t.Fatalf("given up before %d answers were missed: %v", missedLimit, l.Failure())
		}
		time.Sleep(2 * time.Second)
		synctest.Wait()
		if fail := l.Failure(); fail == nil || fail.Cause != gate.LinkLost || p.Live(l.Key()) != nil {
			t.Errorf("it is not given up: %v", fail)
		}
		if froze.Load() != 1 || thawed.Load() != 1 {
			t.Errorf("told %d times that it is frozen and %d times that it is not", froze.Load(), thawed.Load())
		}
	})
}

func TestAServerThatEndsLinksSoonIsCounted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		p := NewPool(time.Minute, &event.Stream{}, nil)
		defer p.Close()
		key, _ := hop(0)
		ended := func(after time.Duration) {
			l, _ := joined(t, p, f, 0)
			time.Sleep(after)
			f.ends[len(f.ends)-1].Close()
			<-l.Done()
			l.Release()
			synctest.Wait()
		}
		for n := 1; n <= 3; n++ {
			ended(time.Second)
			if times, why := p.Briefly([]route.LinkKey{key}); times != n || why == nil || why.Cause != gate.ServerClosed {
				t.Fatalf("after %d: %d times, %v", n, times, why)
			}
		}
		ended(steadyTime)
		if times, _ := p.Briefly([]route.LinkKey{key}); times != 0 {
			t.Errorf("after one that lived: %d times", times)
		}
	})
}

func TestALinkThatFailsIsMadeAnew(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		p := NewPool(time.Minute, &event.Stream{}, nil)
		defer p.Close()
		key, h := hop(0)
		no := &gate.Failure{Hop: "far", Gate: gate.Port, Cause: gate.Refused}
		wait := make(chan struct{})
		ear, late := &listener{p: p}, &listener{p: p, quiet: true}
		first, _ := p.Join(key, h, nil, ear, func(l *Link) (*Transport, error) {
			l.Hear(0, gate.Gate{Kind: gate.Port}, true)
			<-wait
			return nil, no
		})
		synctest.Wait()
		second, shared := p.Join(key, h, nil, late, f.make)
		if second != first || shared || len(late.heard) != 1 || first.Quiet() {
			t.Fatalf("heard %v, shared %v, quiet %v", late.heard, shared, first.Quiet())
		}
		first.Leave(ear)
		if !first.Quiet() {
			t.Error("somebody may be asked, though the walk that is left may ask nobody")
		}
		close(wait)
		<-first.Ready()
		if !errors.Is(first.Err(), no) || p.Live(key) != nil {
			t.Errorf("%v", first.Err())
		}
		first.Release()
		first.Release()
		if l, shared := joined(t, p, f, 0); l == first || shared {
			t.Error("the failed link is given out again")
		}
		// A fault in what makes it is a failure of that link alone.
		_, other := hop(0)
		other.User = "warden"
		broken, _ := p.Join(other.AsRoute().End(), other, nil, ear, func(*Link) (*Transport, error) { panic("a fault") })
		<-broken.Ready()
		var fault *gate.Failure
		if !errors.As(broken.Err(), &fault) || fault.Cause != gate.Unexpected {
			t.Errorf("%v", broken.Err())
		}
		broken.Release()
	})
}

func TestAClosedPoolGivesNoLink(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		f := &far{t: t}
		p := NewPool(time.Minute, &event.Stream{}, nil)
		l, _ := joined(t, p, f, time.Second)
		p.Close()
		if l.Context().Err() == nil || len(p.States()) != 0 {
			t.Error("the link lives on")
		}
		key, h := hop(0)
		if l, _ := p.Join(key, h, nil, &listener{p: p}, f.make); l != nil {
			t.Error("a closed pool gives a link")
		}
	})
}
