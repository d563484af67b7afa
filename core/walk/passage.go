package walk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/window"
)

// Passage is a route that was passed: the way to its machine, for as long as it
// is not closed. It is safe to use from many goroutines.
type Passage struct {
	walker *Walker
	route  route.Route
	id     ID

	// Guarded by the walker's lock.
	link   *Link
	reused bool // the link was there before, and may be dead unnoticed
	closed bool
}

// Route is the way the passage goes.
func (p *Passage) Route() route.Route { return p.route }

// Bare is the same way for what is to have no lent key and no display, whatever the
// session says. It is not closed by itself.
func (p *Passage) Bare() *Passage {
	r := p.route
	r.Hops = slices.Clone(r.Hops)
	last := &r.Hops[len(r.Hops)-1]
	last.Agent, last.Lends, last.Windows = "off", nil, false
	return &Passage{walker: p.walker, route: r, id: p.id, link: p.current()}
}

// Link tells of the link to the target.
func (p *Passage) Link() LinkState {
	p.walker.mu.Lock()
	defer p.walker.mu.Unlock()
	return p.link.stateLocked()
}

// Done is closed when the link to the target has ended.
func (p *Passage) Done() <-chan struct{} { return p.current().ctx.Done() }

func (p *Passage) current() *Link {
	p.walker.mu.Lock()
	defer p.walker.mu.Unlock()
	return p.link
}

// Close gives the way up. What still runs through it is cut when the link ends. It may
// be called twice.
func (p *Passage) Close() {
	p.walker.mu.Lock()
	link, was := p.link, p.closed
	p.closed = true
	p.walker.mu.Unlock()
	if !was {
		link.release()
	}
}

// renew walks the route anew where the passage shared a link that turned out to
// be dead. It tells whether there is a new one.
func (p *Passage) renew(ctx context.Context) bool {
	p.walker.mu.Lock()
	dead, reused := p.link, p.reused
	p.reused = false
	p.walker.mu.Unlock()
	if !reused || ctx.Err() != nil {
		return false
	}
	again, err := p.walker.Walk(ctx, p.route)
	if err != nil {
		return false
	}
	p.walker.mu.Lock()
	closed := p.closed
	if !closed {
		p.link = again.link
	}
	p.walker.mu.Unlock()
	if closed { // meanwhile: it has given up the link it had, and gets no other
		again.Close()
		return false
	}
	dead.release()
	return true
}

// Terminal is what a shell is told about the terminal it has.
type Terminal struct {
	Name       string // the value of TERM, "xterm-256color" where empty
	Cols, Rows int
	Env        []string // "NAME=VALUE", which a server may or may not take
	Erase      byte     // what the backspace key sends, DEL where 0
}

// Program is one shell or command at the far side.
type Program struct {
	link    *Link
	session *ssh.Session
	In      io.WriteCloser // what it reads
	Out     io.Reader      // what it writes
	Err     io.Reader      // what it writes to standard error, empty with a terminal
	Refused []string       // names of the environment that the server did not take
	// NoWindows says why programs there may not draw here although the session wants
	// it: an [ErrNotPassedOn], or why there is no display. It is nil where they may.
	NoWindows error
	Lend      *ring.Lend // what is lent to it, or nil

	windows *window.Leave // its leave to draw here, or nil

	of    string // the session
	what  string
	began time.Time
	load  load
	id    ID
}

// Start runs command at the far side, or the login shell where it is "". With a
// terminal both outputs come through Out. It fails with a [gate.Failure] at the
// channel gate. The caller reads both outputs and calls Wait.
//
// Where the session wants windows and there is no display here, or the server passes
// none on, the program runs without, and NoWindows says so.
func (p *Passage) Start(ctx context.Context, command string, terminal *Terminal) (*Program, error) {
	return p.start(ctx, command, terminal, p.route.Target().Windows)
}

func (p *Passage) start(ctx context.Context, command string, terminal *Terminal, windows bool) (*Program, error) {
	last := len(p.route.Hops) - 1
	what := "shell"
	if command != "" {
		what = "command"
	}
	p.walker.tell(Trying{p.id, p.route.Session, last, gate.Channel})
	type started struct {
		program *Program
		err     error
	}
	lend, err := p.lend(ctx)
	if err != nil {
		p.walker.tell(Ended{Walk: p.id, Session: p.route.Session, Hop: last, Err: err})
		return nil, err
	}
	done := make(chan started, 1)
	link := p.current()
	var display *window.Display
	var none error
	if windows {
		display, none = p.walker.display()
	}
	go func() {
		program, err := start(link, p.route.Session, command, terminal, lend, display)
		done <- started{program, err}
	}()
	var s started
	select {
	case s = <-done:
	case <-link.ctx.Done(): // see Link.open
		s.err = io.EOF
	case <-ctx.Done():
		p.walker.wg.Go(func() {
			select {
			case s := <-done:
				if s.program != nil {
					s.program.Close()
				}
			case <-link.ctx.Done():
			}
		})
		s.err = ctx.Err()
	}
	if s.err != nil {
		f := p.refused(what, s.err, ctx)
		if isDead(f) && p.renew(ctx) {
			return p.start(ctx, command, terminal, windows)
		}
		p.walker.tell(Ended{Walk: p.id, Session: p.route.Session, Hop: last, Err: f})
		return nil, f
	}
	p.walker.tell(Passed{p.id, p.route.Session, last, gate.Gate{Kind: gate.Channel, Verdict: gate.Open, Seen: what}})
	if none != nil {
		s.program.NoWindows = none
	}
	s.program.of, s.program.what, s.program.began = p.route.Session, what, time.Now()
	p.walker.runs(s.program)
	p.walker.tell(Began{p.route.Session, p.route.Target().Name, what})
	return s.program, nil
}

func (p *Passage) refused(what string, err error, ctx context.Context) *gate.Failure {
	link := p.current()
	if f := link.failure(); f != nil {
		return f
	}
	if f := link.refusedToLend(err); f != nil {
		return f
	}
	var refusal *ssh.OpenChannelError
	switch {
	case ctx.Err() != nil:
		return link.fail(gate.Channel, gate.Cancelled, "stopped", "the walk was stopped here", "", err)
	case errors.Is(err, io.EOF):
		f := link.hungUp(err)
		link.cancel(f)
		return f
	case errors.As(err, &refusal):
		err = errors.New(refusal.Message)
	}
	return link.fail(gate.Channel, gate.ChannelRefused, "no "+what,
		fmt.Sprintf("%s lets %s in, but opens no %s: %s", link.hop.Name, link.hop.User, what, remoteWords(err)),
		"the account may be for tunnels only, or the machine has no room for more; ask whoever runs it", err)
}

func start(link *Link, session, command string, terminal *Terminal, lend *ring.Lend, display *window.Display) (*Program, error) {
	channel, err := link.client.NewSession()
	var refusal *ssh.OpenChannelError
	if err != nil && !errors.As(err, &refusal) {
		return nil, io.EOF // only the end of the link goes without an answer
	}
	if err != nil {
		return nil, err
	}
	program := &Program{link: link, session: channel}
	if lend != nil {
		if err := program.offer(lend, session); err != nil {
			channel.Close()
			return nil, err
		}
	}
	if display != nil {
		program.showWindows(display, Place{Session: session, Hop: link.hop.Name, Address: link.hop.Address(), User: link.hop.User})
	}
	if err := program.begin(command, terminal); err != nil {
		program.takeBack()
		channel.Close()
		return nil, err
	}
	return program, nil
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
	g.In, g.Out, g.Err = loadedIn{g.In, &g.load}, loadedOut{g.Out, &g.load}, loadedOut{g.Err, &g.load}
	if command != "" {
		return g.session.Start(command)
	}
	return g.session.Shell()
}

// Resize tells the far side that the terminal has another size.
func (g *Program) Resize(cols, rows int) error { return g.session.WindowChange(rows, cols) }

// Close ends the program's channel. It does not wait: on a line that is frozen
// the word goes out when the line thaws or the link ends.
func (g *Program) Close() {
	g.link.w.over(g)
	g.takeBack()
	go g.session.Close()
}

// Ending is how a program at the far side ended.
type Ending struct {
	Status int    // its exit status, -1 where it gave none
	Signal string // the signal that ended it, without "SIG", or ""
	Err    error  // why it ended without telling: a [gate.Failure], or nil
}

// Wait waits for the program's end. Both outputs must have been read to their
// end before.
func (g *Program) Wait() Ending {
	e := g.wait()
	g.link.w.over(g)
	g.takeBack()
	g.link.w.tell(Finished{g.of, g.link.hop.Name, g.what, time.Since(g.began), e})
	return e
}

func (g *Program) wait() Ending {
	err := g.session.Wait()
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
		if _, _, err := g.link.client.SendRequest("ended@meatus.invalid", true, nil); err != nil {
			<-g.link.ctx.Done()
		}
		if f := g.link.failure(); f != nil {
			return Ending{Status: -1, Err: f}
		}
		err = errors.New("it was ended without a word")
	}
	return Ending{Status: -1, Err: &gate.Failure{
		Hop: g.link.hop.Name, Gate: gate.Channel, Cause: gate.ServerClosed, Seen: "closed by the server",
		Why:    fmt.Sprintf("%s closed the session: %s", g.link.hop.Name, remoteWords(err)),
		Remedy: gate.Remedy{Say: "walk the route again"}, Err: err,
	}}
}
