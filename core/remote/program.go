package remote

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/ring"
	"meatus/core/step"
	"meatus/core/walk"
	"meatus/core/window"
)

// Terminal is what a shell is told about the terminal it has.
type Terminal struct {
	Name       string // the value of TERM, "xterm-256color" where empty
	Cols, Rows int
	Env        []string // "NAME=VALUE", which a server may or may not take
	Erase      byte     // what the backspace key sends, DEL where 0
}

// Program is one shell or command at the far side.
type Program struct {
	link    *link.Link
	session *ssh.Session
	In      io.WriteCloser // what it reads
	Out     io.Reader      // what it writes
	Err     io.Reader      // what it writes to standard error, empty with a terminal
	Refused []string       // names of the environment that the server did not take
	// NoWindows says why programs there may not draw here although the session wants
	// it: an [ErrNotPassedOn], or why there is no display. It is nil where they may.
	NoWindows error
	Lend      *ring.Lend // what is lent to it, or nil

	programs *Programs     // that know of it, nil where none do
	windows  *window.Grant // its grant to draw here, or nil
	of       string        // the session
	what     string
	began    time.Time
	id       link.ID

	closed    chan struct{} // by [Program.Close]
	closeOnce sync.Once

	headMu sync.Mutex
	head   []byte // the beginning of what it printed

	printed, given atomic.Uint64 // bytes
	last           atomic.Int64  // when something passed, in Unix nanoseconds, 0 before
}

// Start runs command at the end of a passage, or the login shell where it is "". With a
// terminal both outputs come through Out. It fails with a [gate.Failure] at the
// channel gate. The caller reads both outputs and calls Wait.
//
// Where the session lends keys, those with a passphrase are unlocked first, by asking.
// Where it wants windows and there is no display here, or the server passes none on, the
// program runs without, and NoWindows says so.
func (s *Programs) Start(ctx context.Context, p *walk.Passage, command string, terminal *Terminal) (*Program, error) {
	p.Trying()
	lend, err := s.lend(ctx, p)
	if err != nil {
		p.Opened("", err)
		return nil, err
	}
	start := &start{ctx: ctx, programs: s, passage: p, command: command, terminal: terminal, lend: lend}
	var none error
	if p.Route().Target().Windows {
		start.display, none = s.display()
	}
	g, err := start.run()
	if err != nil {
		return nil, err
	}
	if none != nil {
		g.NoWindows = none
	}
	s.began(g)
	return g, nil
}

// start is what a program is started with. Where the link turns out to be dead, it is tried again over another, while
// the try over the dead link may not have come back: each makes a Program of its own.
type start struct {
	ctx      context.Context
	programs *Programs // or nil
	passage  *walk.Passage
	command  string
	terminal *Terminal
	display  *window.Display // or nil

	mu    sync.Mutex
	tried bool
	ended bool       // nothing is tried any more
	lend  *ring.Lend // what the latest try lends, or nil
}

func (s *start) what() string {
	if s.command != "" {
		return "command"
	}
	return "shell"
}

// run starts the program, and tells of it.
func (s *start) run() (*Program, error) {
	g, err := walk.Over(s.ctx, s.passage, s.what(), s.over, (*Program).Close)
	if err != nil {
		s.giveUp()
		s.passage.Opened("", err)
		return nil, err
	}
	g.began = time.Now()
	s.passage.Opened(g.what, nil)
	s.passage.Tell(Began{g.of, g.link.Hop().Name, g.what})
	return g, nil
}

// over starts the program over a link.
func (s *start) over(l *link.Link) (*Program, error) {
	lend, err := s.lends()
	if err != nil {
		return nil, err
	}
	g := &Program{programs: s.programs, what: s.what(), of: s.passage.Route().Session}
	return g, g.open(l, s.passage.Place(), s.command, s.terminal, lend, s.display)
}

// lends returns what the next try lends. What was lent over a link that was dead has ended: another lend is made.
func (s *start) lends() (*ring.Lend, error) {
	s.mu.Lock()
	last, again := s.lend, s.tried
	s.tried = true
	s.mu.Unlock()
	if last == nil || !again {
		return last, nil
	}
	last.End()
	next, err := s.programs.lend(s.ctx, s.passage)
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.lend = next; s.ended && next != nil {
		next.End()
	}
	return next, nil
}

// giveUp ends what the tries lent, also of one that has not come back.
func (s *start) giveUp() {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended = true; s.lend != nil {
		s.lend.End()
	}
}

// open opens the channel, offers what is lent and lets it draw, and begins the program.
func (g *Program) open(l *link.Link, place step.Place, command string, terminal *Terminal, lend *ring.Lend, display *window.Display) error {
	session, err := l.Session()
	if err != nil {
		return err
	}
	g.link, g.session = l, session
	if lend != nil {
		if err := g.offer(lend); err != nil {
			session.Close()
			return err
		}
	}
	if display != nil {
		g.showWindows(display, place)
	}
	if err := g.begin(command, terminal); err != nil {
		g.takeBack()
		session.Close()
		return l.OfChannel(err)
	}
	return nil
}

func (g *Program) begin(command string, terminal *Terminal) (err error) {
	if terminal != nil {
		name := terminal.Name
		if name == "" {
			name = "xterm-256color"
		}
		erase := uint32(terminal.Erase)
		if erase == 0 {
			erase = 0x7f
		}
		for _, v := range terminal.Env {
			name, value, _ := strings.Cut(v, "=")
			if g.session.Setenv(name, value) != nil {
				g.Refused = append(g.Refused, name)
			}
		}
		modes := ssh.TerminalModes{ssh.ECHO: 1, ssh.VERASE: erase, ssh.TTY_OP_ISPEED: 38400, ssh.TTY_OP_OSPEED: 38400, ssh.IUTF8: 1}
		if err = g.session.RequestPty(name, terminal.Rows, terminal.Cols, modes); err != nil {
			return err
		}
	}
	if g.In, err = g.session.StdinPipe(); err != nil {
		return err
	}
	if g.Out, err = g.session.StdoutPipe(); err != nil {
		return err
	}
	if g.Err, err = g.session.StderrPipe(); err != nil {
		return err
	}
	g.closed = make(chan struct{})
	g.In, g.Out, g.Err = countedIn{g.In, g}, countedOut{cuttable(g.Out, g.closed), g}, countedOut{cuttable(g.Err, g.closed), g}
	if command != "" {
		return g.session.Start(command)
	}
	return g.session.Shell()
}

// Resize tells the far side that the terminal has another size.
func (g *Program) Resize(cols, rows int) error { return g.session.WindowChange(rows, cols) }

// Close ends the program's channel, and with it both outputs. It does not wait: on a line
// that is frozen the word goes out when the line thaws or the link ends.
func (g *Program) Close() {
	g.over()
	g.closeOnce.Do(func() {
		if g.closed != nil {
			close(g.closed)
		}
		go g.session.Close()
	})
}

// cuttable is what a far side sends, to be read until that ends or cut is closed: a server
// that does not answer the closing of a channel would be read from for ever. What waits for
// it then is gone when the link is.
func cuttable(from io.Reader, cut <-chan struct{}) io.Reader {
	out, in := io.Pipe()
	done := make(chan struct{})
	go func() {
		defer close(done)
		_, err := io.Copy(in, from)
		in.CloseWithError(err)
	}()
	go func() {
		select {
		case <-cut:
			in.CloseWithError(io.EOF)
		case <-done:
		}
	}()
	return out
}

// over takes the program out of those that run, and back what it was lent.
func (g *Program) over() {
	if g.programs != nil {
		g.programs.ended(g)
	}
	g.takeBack()
}

// Ending is how a program at the far side ended.
type Ending struct {
	Status int    // its exit status, -1 where it gave none
	Signal string // the signal that ended it, without "SIG", or ""
	Err    error  // why it ended without telling: a [gate.Failure], or nil
	// Turned is set where the machine let the login in only to say that it wants another one ([TurnedAway]).
	Turned *gate.Failure
}

// Wait waits for the program's end. Both outputs must have been read to their
// end before.
func (g *Program) Wait() Ending {
	e := g.wait()
	e.Turned = g.turned(e)
	g.over()
	g.link.Tell(Finished{g.of, g.link.Hop().Name, g.what, time.Since(g.began), e})
	return e
}

// closeTime is how long a server is waited for that is to close a channel which we closed.
const closeTime = 2 * time.Second

func (g *Program) wait() Ending {
	done := make(chan error, 1)
	go func() { done <- g.session.Wait() }()
	var err error
	select {
	case err = <-done:
	case <-g.closed:
		select {
		case err = <-done:
		case <-time.After(closeTime):
			err = errors.New("the server does not confirm the closing of a channel")
		}
	}
	var exit *ssh.ExitError
	var missing *ssh.ExitMissingError
	switch {
	case err == nil:
		return Ending{}
	case errors.As(err, &exit):
		return Ending{Status: exit.ExitStatus(), Signal: exit.Signal()}
	case errors.As(err, &missing):
		// Where the channel ended because the link did, the link knows why,
		// though perhaps a moment later.
		g.link.Settle()
		if g.link.LosesStatus() && g.given.Load() > 0 {
			return Ending{Status: -1, Err: g.link.Refuse(gate.ServerClosed, "no exit status", fmt.Sprintf("%s ended the connection, as its server does when a program ends before it has read its input: the exit status is not known", g.link.Hop().Name),
				"let the program read all its input, as in { COMMAND; cat >/dev/null; }, or give it none", err)}
		}
		if f := g.link.Failure(); f != nil {
			return Ending{Status: -1, Err: f}
		}
		err = errors.New("it ended without a status")
	}
	f := g.link.Refuse(gate.ServerClosed, "closed by the server", fmt.Sprintf("%s closed the session: %s", g.link.Hop().Name, step.Words(err)), "connect again", err)
	return Ending{Status: -1, Err: f}
}

func (g *Program) state() State {
	s := State{ID: g.id, Session: g.of, Hop: g.link.Hop().Name, What: g.what, Link: g.link.ID(), Began: g.began, In: g.printed.Load(), Out: g.given.Load()}
	s.Windows, _ = g.Windows()
	if last := g.last.Load(); last != 0 {
		s.Last = time.Unix(0, last)
	}
	return s
}

func (g *Program) passed(count *atomic.Uint64, n int) {
	if n > 0 {
		count.Add(uint64(n))
		g.last.Store(time.Now().UnixNano())
	}
}

// countedIn and countedOut count what a program is given and prints.
type countedIn struct {
	io.WriteCloser
	program *Program
}

func (w countedIn) Write(p []byte) (int, error) {
	n, err := w.WriteCloser.Write(p)
	w.program.passed(&w.program.given, n)
	return n, err
}

type countedOut struct {
	io.Reader
	program *Program
}

func (r countedOut) Read(p []byte) (int, error) {
	n, err := r.Reader.Read(p)
	r.program.keepHead(p[:n])
	r.program.passed(&r.program.printed, n)
	return n, err
}
