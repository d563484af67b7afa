package line

import (
	"bytes"
	"errors"
	"net"
	"os"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/libp2p/go-yamux/v5"
)

// slow is a connection each of whose writes waits until it is let on.
type slow struct {
	net.Conn
	let chan error // one for each write; the write fails with it
	end chan struct{}

	mu       sync.Mutex
	writes   [][]byte
	deadline time.Time
	closed   int
}

func newSlow() *slow { return &slow{let: make(chan error), end: make(chan struct{})} }

func (s *slow) Write(p []byte) (int, error) {
	s.mu.Lock()
	late := time.Until(s.deadline)
	if s.deadline.IsZero() {
		late = time.Hour
	}
	s.mu.Unlock()
	select {
	case err := <-s.let:
		if err != nil {
			return 0, err
		}
	case <-time.After(late):
		return 0, os.ErrDeadlineExceeded
	case <-s.end:
		return 0, os.ErrDeadlineExceeded
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.writes = append(s.writes, bytes.Clone(p))
	return len(p), nil
}

func (s *slow) SetWriteDeadline(t time.Time) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.deadline = t
	time.AfterFunc(time.Until(t), func() { close(s.end) })
	return nil
}

func (s *slow) Close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed++
	return nil
}

func (s *slow) all() (n int, text []byte, closed int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.writes), bytes.Join(s.writes, nil), s.closed
}

func TestSmallWritesGoTogetherInTheirOrder(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSlow()
		b := batch(s)
		first := make(chan error)
		go func() { _, err := b.Write([]byte("a")); first <- err }()
		synctest.Wait() // it is under way
		want := []byte("a")
		for i := range 1000 {
			piece := bytes.Repeat([]byte{byte('b' + i%20)}, 10)
			if n, err := b.Write(piece); n != 10 || err != nil {
				t.Fatal(n, err)
			}
			want = append(want, piece...)
		}
		s.let <- nil
		if err := <-first; err != nil {
			t.Fatal(err)
		}
		s.let <- nil
		synctest.Wait()
		if n, text, _ := s.all(); n != 2 || !bytes.Equal(text, want) {
			t.Errorf("%d writes of %d bytes, not 2 of %d", n, len(text), len(want))
		}
		// Nothing is under way any more: a message goes at once.
		done := make(chan error)
		go func() { _, err := b.Write([]byte("z")); done <- err }()
		s.let <- nil
		if err := <-done; err != nil {
			t.Error(err)
		}
	})
}

func TestWhoWritesMoreThanGoesOutWaits(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSlow()
		b := batch(s)
		want := bytes.Repeat([]byte("0123456789abcdef"), (5*maxBatch+999)/16)
		done := make(chan error, 1)
		go func() {
			n, err := b.Write(want)
			if n != len(want) && err == nil {
				err = errors.New("short")
			}
			done <- err
		}()
		synctest.Wait()
		select {
		case err := <-done:
			t.Fatalf("all of it is taken though nothing goes out: %v", err)
		default:
		}
		for {
			synctest.Wait()
			if _, text, _ := s.all(); len(text) == len(want) {
				break
			}
			s.let <- nil
		}
		if err := <-done; err != nil {
			t.Error(err)
		}
		n, text, _ := s.all()
		if !bytes.Equal(text, want) {
			t.Error("what came out is not what went in")
		}
		for _, w := range s.writes {
			if len(w) > maxBatch {
				t.Errorf("%d bytes in one of %d writes", len(w), n)
			}
		}
	})
}

func TestAFailedWriteIsToldByALaterOne(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSlow()
		b := batch(s)
		large := make([]byte, atOnce)
		if _, err := b.Write(large); err != nil { // goes by itself
			t.Fatal(err)
		}
		broken := errors.New("the line is cut")
		s.let <- broken
		synctest.Wait()
		for range 2 {
			if n, err := b.Write([]byte("x")); n != 0 || !errors.Is(err, broken) {
				t.Errorf("%d, %v", n, err)
			}
		}
		if b.Close(); s.closed != 1 {
			t.Errorf("closed %d times", s.closed)
		}
	})
}

func TestClosingWritesWhatWaitsForASecondAtMost(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s := newSlow()
		b := batch(s)
		go b.Write([]byte("a"))
		synctest.Wait()
		b.Write([]byte("b"))
		b.Close()
		if _, _, closed := s.all(); closed != 0 {
			t.Fatal("it is closed before what waits is written")
		}
		if _, err := b.Write([]byte("c")); !errors.Is(err, net.ErrClosed) {
			t.Errorf("after its end: %v", err)
		}
		s.let <- nil
		s.let <- nil
		synctest.Wait()
		if _, text, closed := s.all(); string(text) != "ab" || closed != 1 {
			t.Errorf("%q came out, closed %d times", text, closed)
		}
	})
	synctest.Test(t, func(t *testing.T) { // nothing goes out any more
		s := newSlow()
		b := batch(s)
		go b.Write([]byte("a"))
		synctest.Wait()
		b.Write([]byte("b"))
		b.Close()
		time.Sleep(closeTime - time.Nanosecond)
		synctest.Wait()
		if _, _, closed := s.all(); closed != 0 {
			t.Error("it is closed too early")
		}
		time.Sleep(time.Nanosecond)
		synctest.Wait()
		if _, _, closed := s.all(); closed != 1 {
			t.Errorf("closed %d times after a second", closed)
		}
	})
}

func TestAStrangerHasOneStreamWithAFixedWindow(t *testing.T) {
	near, far := net.Pipe()
	var g Guard
	served, err := MuxGuarded(far, &g)
	if err != nil {
		t.Fatal(err)
	}
	defer served.Close()
	dialled, err := yamux.Client(near, muxConfig(true, PingEvery), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer dialled.Close()
	open := func() (*yamux.Stream, error) {
		s, err := dialled.OpenStream(t.Context())
		if err == nil {
			_, err = s.Write([]byte("hello"))
		}
		return s, err
	}
	if _, err := open(); err != nil {
		t.Fatal(err)
	}
	if _, err := served.AcceptStream(); err != nil {
		t.Fatal(err)
	}
	open()
	if s, err := served.AcceptStream(); err == nil {
		t.Errorf("a stranger has a second stream: %v", s)
	}
	// Whoever is known has as many as are wanted.
	near, far = net.Pipe()
	var known Guard
	known.Known()
	second, err := MuxGuarded(far, &known)
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	if dialled, err = yamux.Client(near, muxConfig(true, PingEvery), nil); err != nil {
		t.Fatal(err)
	}
	defer dialled.Close()
	for range 3 {
		if _, err := open(); err != nil {
			t.Fatal(err)
		}
		if _, err := second.AcceptStream(); err != nil {
			t.Fatal(err)
		}
	}
	if err := (span{&known}).ReserveMemory(1<<20, 1); err != nil {
		t.Error(err)
	}
	if err := (span{&Guard{}}).ReserveMemory(1<<20, 1); !errors.Is(err, errStranger) {
		t.Errorf("a stranger's window grows: %v", err)
	}
}
