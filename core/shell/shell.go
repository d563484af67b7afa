// Package shell joins a shell at the far side to a terminal screen: what it
// prints becomes frames, what is typed goes to it.
//
// It promises that nothing here blocks the caller: typing is queued, sizes and
// views are wishes, frames are taken when there are new ones, at most one in
// [FrameTime]. A flood from the far side is read as fast as it can be drawn into
// the screen, and never faster than the protocol's window allows.
//
// A shell costs four goroutines and its screen.
package shell

import (
	"context"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/plain"
	"meatus/core/term"
	"meatus/core/walk"
)

// FrameTime is the least time between two frames.
const FrameTime = 16 * time.Millisecond

// maxTyped bounds what is held of typing that the far side does not read, in
// bytes.
const maxTyped = 1 << 20

// Shell is one live shell. It is safe to use from many goroutines.
type Shell struct {
	Passage *walk.Passage
	Started time.Time
	program *walk.Program

	frame    atomic.Pointer[term.Frame]
	lastByte atomic.Int64  // when the far side last printed, in Unix nanoseconds
	changed  chan struct{} // a frame is there, or the end
	ended    chan struct{}
	ending   walk.Ending // valid once ended is closed

	mu     sync.Mutex
	typed  []byte
	closed bool
	want   wish
	typing chan struct{} // typed has something
	wishes chan struct{} // want has changed
}

// wish is what the caller wants to see.
type wish struct{ cols, rows, back int }

// Open starts a login shell at the end of a passage, which it then owns.
func Open(ctx context.Context, p *walk.Passage, terminal string, cols, rows int) (*Shell, error) {
	program, err := p.Start(ctx, "", &walk.Terminal{Name: terminal, Cols: cols, Rows: rows})
	if err != nil {
		p.Close()
		return nil, err
	}
	s := &Shell{
		Passage: p, Started: time.Now(), program: program,
		changed: make(chan struct{}, 1), ended: make(chan struct{}),
		typing: make(chan struct{}, 1), wishes: make(chan struct{}, 1),
		want: wish{cols: cols, rows: rows},
	}
	s.lastByte.Store(time.Now().UnixNano())
	screen := term.New(cols, rows, term.DefaultHistory)
	s.frame.Store(screen.Frame(0, nil))
	out := make(chan []byte, 4)
	go s.read(out)
	go s.draw(screen, out)
	go s.write(s.want)
	return s, nil
}

// Frame is what the shell shows now.
func (s *Shell) Frame() *term.Frame { return s.frame.Load() }

// Changed is signalled when there is a new frame, or when the shell has ended.
func (s *Shell) Changed() <-chan struct{} { return s.changed }

// Ended is closed when the shell has ended; Ending then says how.
func (s *Shell) Ended() <-chan struct{} { return s.ended }

// Ending says how the shell ended. It waits for that.
func (s *Shell) Ending() walk.Ending {
	<-s.ended
	return s.ending
}

// Live tells whether the shell has not ended.
func (s *Shell) Live() bool {
	select {
	case <-s.ended:
		return false
	default:
		return true
	}
}

// Idle is how long the far side has printed nothing.
func (s *Shell) Idle() time.Duration { return time.Since(time.Unix(0, s.lastByte.Load())) }

// LastLine is the last line the shell shows that is not empty, cleaned.
func (s *Shell) LastLine() string {
	f := s.Frame()
	for i := f.Rows - 1; i >= 0; i-- {
		if text := strings.TrimSpace(f.Line(i)); text != "" {
			return plain.Line(text, 200)
		}
	}
	return ""
}

// Type sends bytes to the far side. It tells whether there was room for them.
func (s *Shell) Type(p []byte) bool {
	s.mu.Lock()
	room := !s.closed && len(s.typed)+len(p) <= maxTyped
	if room {
		s.typed = append(s.typed, p...)
	}
	s.mu.Unlock()
	signal(s.typing)
	return room
}

// Resize wishes for another size.
func (s *Shell) Resize(cols, rows int) {
	s.wish(func(w *wish) { w.cols, w.rows = cols, rows })
}

// Look wishes for a view that begins back lines above the screen.
func (s *Shell) Look(back int) {
	s.wish(func(w *wish) { w.back = max(back, 0) })
}

func (s *Shell) wish(change func(*wish)) {
	s.mu.Lock()
	change(&s.want)
	s.mu.Unlock()
	signal(s.wishes)
}

// Close ends the shell and gives its passage up.
func (s *Shell) Close() {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	signal(s.typing)
	s.program.Close()
	s.Passage.Close()
}

func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// read passes on what the far side prints, and finds its end.
func (s *Shell) read(out chan<- []byte) {
	defer close(out)
	go io.Copy(io.Discard, s.program.Err)
	for {
		buf := make([]byte, 32<<10)
		n, err := s.program.Out.Read(buf)
		if n > 0 {
			s.lastByte.Store(time.Now().UnixNano())
			out <- buf[:n]
		}
		if err != nil {
			return
		}
	}
}

// draw owns the screen: output and wishes come in, frames go out.
func (s *Shell) draw(screen *term.Screen, out <-chan []byte) {
	var have wish
	have.cols, have.rows = screen.Size()
	frameDue := time.NewTimer(time.Hour)
	frameDue.Stop()
	pending := false
	var last time.Time
	publish := func() {
		s.frame.Store(screen.Frame(have.back, s.frame.Load()))
		last, pending = time.Now(), false
		signal(s.changed)
	}
	for {
		select {
		case p, ok := <-out:
			if !ok {
				publish()
				s.end()
				return
			}
			screen.Write(p)
			if reply := screen.Replies(); len(reply) > 0 {
				s.Type(reply)
			}
		case <-s.wishes:
			s.mu.Lock()
			want := s.want
			s.mu.Unlock()
			if want.cols != have.cols || want.rows != have.rows {
				screen.Resize(want.cols, want.rows)
				signal(s.typing) // the far side is told by write
			}
			have = want
		case <-frameDue.C:
			publish()
			continue
		}
		if since := time.Since(last); since >= FrameTime {
			publish()
		} else if !pending {
			pending = true
			frameDue.Reset(FrameTime - since)
		}
	}
}

func (s *Shell) end() {
	s.ending = s.program.Wait()
	s.Close()
	close(s.ended)
	signal(s.changed)
}

// write tells the far side the size and sends what is typed, in order. It may
// block for as long as the line does, and nothing else does with it.
func (s *Shell) write(told wish) {
	for range s.typing {
		s.mu.Lock()
		p, want, closed := s.typed, s.want, s.closed
		s.typed = nil
		s.mu.Unlock()
		if closed {
			return
		}
		if want.cols != told.cols || want.rows != told.rows {
			told = want
			if err := s.program.Resize(want.cols, want.rows); err != nil {
				return
			}
		}
		if len(p) > 0 {
			if _, err := s.program.In.Write(p); err != nil {
				return
			}
		}
	}
}
