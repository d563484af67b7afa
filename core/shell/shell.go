// Package shell joins a shell at the far side to a terminal screen: what it
// prints becomes frames, what is typed goes to it.
//
// It promises that nothing here blocks the caller but [Shell.With], for as long as
// its question takes: typing is queued, sizes and views are wishes, frames are
// taken when there are new ones, at most one in [FrameTime]. A flood from the far side is read as fast as it can be drawn into
// the screen, and never faster than the protocol's window allows.
//
// A shell costs four goroutines and its screen.
package shell

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/contain"
	"meatus/core/gate"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/term"
	"meatus/core/walk"
)

// FrameTime is the least time between two frames.
const FrameTime = 16 * time.Millisecond

// maxTyped bounds what is held of typing that the far side does not read, in
// bytes.
const maxTyped = 1 << 20

// epoch is what moments are counted from, whatever becomes of the wall clock.
var epoch = time.Now()

// Shell is one live shell: a screen, and the program at the far side that writes
// on it. Where the way is lost and the route says so, another program takes its
// place on the same screen. It is safe to use from many goroutines.
type Shell struct {
	Started  time.Time
	route    route.Route
	walker   Returner
	programs *remote.Programs
	ctx      context.Context // ends with Close
	cancel   context.CancelFunc

	frame     atomic.Pointer[term.Frame]
	lastByte  atomic.Int64  // when the far side last printed, in nanoseconds since epoch
	changed   chan struct{} // a frame is there, or the end
	ended     chan struct{}
	ending    remote.Ending // valid once ended is closed
	asks      chan func(*term.Screen)
	log       atomic.Pointer[log]
	fault     atomic.Pointer[error] // a panic in a part of the shell
	expecting atomic.Bool           // something was typed, and nothing came since

	mu      sync.Mutex
	program *remote.Program // the one that runs, nil while the way is lost
	passage *walk.Passage
	lost    time.Time // since when the way is lost, zero while it is not
	typed   []byte
	closed  bool
	want    wish
	told    wish          // the size the program knows
	typing  chan struct{} // typed has something
	wishes  chan struct{} // want has changed
}

// Returner walks a route again whose way was lost. A [walk.Walker] is one.
type Returner interface {
	Return(ctx context.Context, r route.Route, limit time.Duration) (*walk.Passage, error)
}

// wish is what the caller wants to see.
type wish struct{ cols, rows, back int }

// Open starts a login shell at the end of a passage, which it then owns, in the
// manner the route's target asks for, among programs. by walks again where the way is lost; nil
// where it is not to.
func Open(ctx context.Context, p *walk.Passage, programs *remote.Programs, by Returner, cols, rows int) (*Shell, error) {
	r := p.Route()
	program, err := programs.Start(ctx, p, "", terminal(r, cols, rows))
	if err != nil {
		p.Close()
		return nil, err
	}
	s := &Shell{
		route: r, programs: programs, walker: by, Started: time.Now(), program: program, passage: p,
		changed: make(chan struct{}, 1), ended: make(chan struct{}), asks: make(chan func(*term.Screen)),
		typing: make(chan struct{}, 1), wishes: make(chan struct{}, 1),
		want: wish{cols: cols, rows: rows}, told: wish{cols: cols, rows: rows},
	}
	s.ctx, s.cancel = context.WithCancel(context.Background())
	s.lastByte.Store(int64(time.Since(epoch)))
	screen := term.New(cols, rows, term.DefaultHistory)
	s.frame.Store(screen.Frame(0, nil))
	out := make(chan []byte, 4)
	go s.live(program, out)
	go s.draw(screen, out)
	go contain.Run(s.part(), s.write, s.hangUp)
	return s, nil
}

// terminal is what the far side is told about the terminal.
func terminal(r route.Route, cols, rows int) *remote.Terminal {
	m := r.Target().Manner
	t := &remote.Terminal{Name: m.Term, Cols: cols, Rows: rows, Env: m.Env}
	if m.Backspace == "bs" {
		t.Erase = 0x08
	}
	return t
}

// Route is the way to the shell.
func (s *Shell) Route() route.Route {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.route
}

// Frame is what the shell shows now.
func (s *Shell) Frame() *term.Frame { return s.frame.Load() }

// Changed is signalled when there is a new frame, or when the shell has ended.
func (s *Shell) Changed() <-chan struct{} { return s.changed }

// Ended is closed when the shell has ended; Ending then says how.
func (s *Shell) Ended() <-chan struct{} { return s.ended }

// Ending says how the shell ended. It waits for that.
func (s *Shell) Ending() remote.Ending {
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

// Refused names what of the session's environment the server did not take.
func (s *Shell) Refused() []string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.program == nil {
		return nil
	}
	return s.program.Refused
}

// NoWindows says why programs of the far side may not draw here although the session
// wants it, nil where they may.
func (s *Shell) NoWindows() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.program == nil {
		return nil
	}
	return s.program.NoWindows
}

// Lent names what is lent to the far side, nothing where nothing is, and why it
// has stopped being lent, if it has.
func (s *Shell) Lent() (keys []ring.Entry, ended error) {
	s.mu.Lock()
	program := s.program
	s.mu.Unlock()
	if program == nil || program.Lend == nil {
		return nil, nil
	}
	return program.Lend.Lent(), program.Lend.Ended()
}

// Windows is how many programs of the far side draw here now, and whether they may.
func (s *Shell) Windows() (now int, may bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.program == nil {
		return 0, false
	}
	return s.program.Windows()
}

// Lost tells since when the way is lost and walked again; ok is false while it is
// there.
func (s *Shell) Lost() (since time.Time, ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.lost, !s.lost.IsZero()
}

// Idle is how long the far side has printed nothing.
func (s *Shell) Idle() time.Duration { return time.Since(s.LastByte()) }

// LastByte is when the far side last printed.
func (s *Shell) LastByte() time.Time { return epoch.Add(time.Duration(s.lastByte.Load())) }

// LastLine is the last line the shell shows that is not empty, cleaned.
func (s *Shell) LastLine() string {
	f := s.Frame()
	for i := f.Rows - 1; i >= 0; i-- {
		if text := strings.TrimSpace(f.Line(i)); text != "" {
			return sanitize.Line(text, 200)
		}
	}
	return ""
}

// Type sends bytes to the far side. It tells whether there was room for them;
// while the way is lost there is none, since what was meant for the old shell is
// not for the new one.
func (s *Shell) Type(p []byte) bool {
	s.mu.Lock()
	room := !s.closed && s.lost.IsZero() && len(s.typed)+len(p) <= maxTyped
	if room {
		s.typed = append(s.typed, p...)
	}
	s.mu.Unlock()
	signal(s.typing)
	return room
}

// Held is how much was typed that the line has not taken yet, in bytes.
func (s *Shell) Held() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.typed)
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

// With lets ask look at the screen, also at one whose shell has ended. It waits
// until that is done, and does nothing where the shell was closed.
func (s *Shell) With(ask func(*term.Screen)) {
	done := make(chan struct{})
	select {
	case s.asks <- func(screen *term.Screen) { defer close(done); ask(screen) }:
		<-done
	case <-s.ctx.Done():
	}
}

// Close ends the shell and gives its passage and its screen up.
func (s *Shell) Close() {
	s.cancel()
	s.mu.Lock()
	s.closed = true
	program, passage := s.program, s.passage
	s.mu.Unlock()
	signal(s.typing)
	if program != nil {
		program.Close()
	}
	if passage != nil {
		passage.Close()
	}
	s.StopLog()
}

// part names the shell where something of it panics.
func (s *Shell) part() string { return "the shell of " + s.Route().Session }

// hangUp ends the program at the far side because of a panic here.
func (s *Shell) hangUp(why error) {
	s.fault.CompareAndSwap(nil, &why)
	s.mu.Lock()
	program := s.program
	s.mu.Unlock()
	if program != nil {
		program.Close()
	}
}

func signal(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// live reads what one program after another prints, until the last has ended.
func (s *Shell) live(program *remote.Program, out chan<- []byte) {
	defer close(out)
	defer func() {
		if err := contain.Caught(s.part(), recover()); err != nil {
			s.hangUp(err)
		}
		if err := s.fault.Load(); err != nil {
			s.ending.Err = *err
		}
	}()
	for {
		arrived := make(chan struct{})
		go s.arrive(arrived)
		s.read(program, out, arrived)
		s.ending = program.Wait()
		var f *gate.Failure
		limit := s.Route().Target().Manner.Reconnect
		if s.walker == nil || limit <= 0 || s.fault.Load() != nil || s.ctx.Err() != nil || !errors.As(s.ending.Err, &f) || !walk.MayPass(f) {
			return
		}
		if program = s.again(limit, out); program == nil {
			return
		}
	}
}

// read passes on what a program prints, and finds its end. arrived is closed at
// the first byte.
func (s *Shell) read(program *remote.Program, out chan<- []byte, arrived chan struct{}) {
	go io.Copy(io.Discard, program.Err)
	first := true
	for {
		buf := make([]byte, 32<<10)
		n, err := program.Out.Read(buf)
		if n > 0 {
			s.lastByte.Store(int64(time.Since(epoch)))
			if l := s.log.Load(); l != nil {
				l.write(buf[:n])
			}
			select {
			case out <- buf[:n]:
			case <-s.ctx.Done():
			}
		}
		if first && n > 0 || err != nil {
			if first {
				close(arrived)
			}
			first = false
		}
		if err != nil {
			return
		}
	}
}

// promptTime is how long a shell is waited for to print something before what is
// to be typed on arrival is typed all the same.
const promptTime = 2 * time.Second

// arrive types what the route wants typed on arrival, once the shell has said
// something.
func (s *Shell) arrive(arrived <-chan struct{}) {
	m := s.Route().Target().Manner
	if m.Folder == "" && m.Arrive == "" {
		return
	}
	select {
	case <-arrived:
	case <-time.After(promptTime):
	case <-s.ctx.Done():
		return
	}
	if m.Folder != "" {
		s.Type([]byte("cd " + posix.Word(m.Folder) + "\r"))
	}
	if m.Arrive != "" {
		s.Type([]byte(m.Arrive + "\r"))
	}
}

// again walks the route again and starts another program on the same screen. It
// returns nil where that could not be done; the shell has then ended as it was
// lost.
func (s *Shell) again(limit time.Duration, out chan<- []byte) *remote.Program {
	s.mu.Lock()
	s.lost, s.typed = time.Now(), nil
	since, old := s.lost, s.passage
	s.program, s.passage = nil, nil
	s.mu.Unlock()
	old.Close()
	signal(s.changed)
	passage, err := s.walker.Return(s.ctx, s.Route(), limit)
	var program *remote.Program
	if err == nil {
		s.mu.Lock()
		want := s.want
		s.route = passage.Route()
		s.mu.Unlock()
		if program, err = s.programs.Start(s.ctx, passage, "", terminal(passage.Route(), want.cols, want.rows)); err != nil {
			passage.Close()
		}
		s.mu.Lock()
		s.told = want
		s.mu.Unlock()
	}
	if err != nil {
		var f *gate.Failure
		if s.ctx.Err() == nil && errors.As(err, &f) && f.Cause != gate.Cancelled {
			s.ending.Err = f
		}
		s.mu.Lock()
		s.lost = time.Time{}
		s.mu.Unlock()
		return nil
	}
	s.mu.Lock()
	s.program, s.passage, s.lost = program, passage, time.Time{}
	closed := s.closed
	s.mu.Unlock()
	if closed {
		program.Close()
		passage.Close()
		go io.Copy(io.Discard, program.Err)
		io.Copy(io.Discard, program.Out)
		s.ending = program.Wait() // so that its end is told, as its beginning was
		return nil
	}
	// The screen is left as it was, out of any full-screen program, and a line says
	// where the new shell begins.
	select {
	case out <- fmt.Appendf(nil, "\x1b[?1049l\x1b[!p\x1b[?1000;1002;1003;1006;2004l\x1b[?25h\x1b[m\r\n\x1b[2m── the way was lost from %s to %s: this is a new shell ──\x1b[m\r\n", since.Format("15:04:05"), time.Now().Format("15:04:05")):
	case <-s.ctx.Done():
	}
	return program
}

// draw owns the screen: output, wishes and questions come in, frames go out. It
// stays with the screen after the shell has ended, until it is closed.
func (s *Shell) draw(screen *term.Screen, out <-chan []byte) {
	var have wish
	have.cols, have.rows = screen.Size()
	frameDue := time.NewTimer(time.Hour)
	frameDue.Stop()
	pending := false
	var last time.Time
	// A panic of the screen ends the shell, with an empty screen in its place.
	safely := func(f func()) {
		if err := contain.Do(s.part(), func() error { f(); return nil }); err != nil {
			s.hangUp(err)
			screen = term.New(have.cols, have.rows, 0)
			fmt.Fprintf(screen, "── %s ──", sanitize.Line(err.Error(), 400))
		}
	}
	publish := func() {
		safely(func() { s.frame.Store(screen.Frame(have.back, s.frame.Load())) })
		last, pending = time.Now(), false
		signal(s.changed)
	}
	for {
		select {
		case <-s.ctx.Done():
			if out != nil {
				for range out { // until live is done
				}
				close(s.ended)
			}
			signal(s.changed)
			return
		case p, ok := <-out:
			if !ok {
				out = nil
				s.giveUp()
				publish()
				close(s.ended)
				continue
			}
			safely(func() { screen.Write(p) })
			if reply := screen.Replies(); len(reply) > 0 {
				s.Type(reply)
			}
		case <-s.wishes:
			s.mu.Lock()
			want := s.want
			s.mu.Unlock()
			if want.cols != have.cols || want.rows != have.rows {
				safely(func() { screen.Resize(want.cols, want.rows) })
				signal(s.typing) // the far side is told by write
			}
			have = want
		case ask := <-s.asks:
			safely(func() { ask(screen) })
			continue
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

// giveUp gives program and passage up; the screen stays.
func (s *Shell) giveUp() {
	s.mu.Lock()
	program, passage := s.program, s.passage
	s.closed = true
	s.mu.Unlock()
	signal(s.typing)
	if program != nil {
		program.Close()
	}
	if passage != nil {
		passage.Close()
	}
	s.StopLog()
}

// write tells the far side the size and sends what is typed, in order. It may
// block for as long as the line does, and nothing else does with it.
func (s *Shell) write() {
	for {
		select {
		case <-s.typing:
		case <-s.ctx.Done():
			return
		}
		s.mu.Lock()
		p, want, told, closed, program := s.typed, s.want, s.told, s.closed, s.program
		s.mu.Unlock()
		if closed {
			return
		}
		if program == nil {
			continue // the way is lost
		}
		if want.cols != told.cols || want.rows != told.rows {
			if program.Resize(want.cols, want.rows) == nil {
				s.mu.Lock()
				s.told = want
				s.mu.Unlock()
			}
		}
		if len(p) > 0 {
			_, err := program.In.Write(p)
			s.expect()
			s.mu.Lock()
			if err == nil && s.program == program && len(s.typed) >= len(p) {
				s.typed = s.typed[len(p):]
			}
			more := len(s.typed) > 0
			s.mu.Unlock()
			if more {
				signal(s.typing)
			}
		}
	}
}

// unanswered is how long what was typed may go without a byte from there before the link is
// asked for a sign of life, and how often that is done. Most programs echo what is typed; one
// that does not costs a few keepalives.
const (
	unanswered = 3 * time.Second
	questions  = 5
)

// expect has the link asked for a sign of life where nothing answers what was typed now.
func (s *Shell) expect() {
	typed := time.Since(epoch)
	if s.expecting.CompareAndSwap(false, true) {
		go contain.Run(s.part(), func() { s.wonder(typed) }, nil)
	}
}

// wonder asks the link for signs of life until something comes.
func (s *Shell) wonder(typed time.Duration) {
	defer s.expecting.Store(false)
	for range questions {
		select {
		case <-time.After(unanswered):
		case <-s.ended:
			return
		}
		s.mu.Lock()
		passage := s.passage
		s.mu.Unlock()
		if passage == nil || time.Duration(s.lastByte.Load()) >= typed {
			return
		}
		passage.Probe()
	}
}
