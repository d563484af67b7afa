// Package run has the commands that run something on machines.
package run

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"
	"golang.org/x/term"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// runOptions are the flags of "meatus run".
type runOptions struct {
	trace, terminal bool
	identities      *prompt.Identities
	lend            []string // key files that the far side may use
	lendTo          []string
	lendUses        int
	lendFor         time.Duration
	lendAt          string // the hop's session
	reason          string // for a lease
	unasked         bool
	yes             bool // connect to a machine that no session names
	windows         bool
}

// Commands are "meatus run" and "each".
func Commands(open live.Opener) []*command.Command {
	return []*command.Command{one(open), each(open)}
}

func one(open live.Opener) *command.Command {
	var o runOptions
	c := &command.Command{
		Use:      "run NAME|INSTANCE [-- CMD...]",
		Summary:  "run a command on a machine, or open a shell",
		Examples: []string{"meatus run gauge-1", "meatus run gauge-1 -- uptime", "meatus run -t gauge-1 -- top", "meatus run i-0a12 -- uptime", "meatus run quay --lend keys/gauge.pem --lend-to gauge-1 -- ls"},
		Status:   "the status of the command, or 128 plus the number of the signal that ended it",
		Passes:   true,
		Complete: command.First(1, command.SessionsAndInstances, nil),
		Details: `Standard input, output, error and the exit status are those of the command. One CMD argument is a
command line for the remote shell; several are quoted, each as one word. Questions are asked
on the controlling terminal; without a terminal the command fails where a question is needed.

INSTANCE is a name, an id or a query that matches one instance of an estate, or a machine that
has joined a gateway. The route to it is printed, and used after a yes.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			if at := cmd.ArgsLenAtDash(); at != 1 && !(at < 0 && len(args) == 1) {
				return command.Fail(command.WrongUse, errors.New("name one session, and put -- before the command; see meatus run --help"))
			}
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			name := args[0]
			if w.Book.Session(name) == nil {
				if w, name, err = o.propose(cmd, open, w, name); err != nil {
					return err
				}
			}
			return runOn(cmd, open, w, name, posix.Command(args[1:]), o)
		},
	}
	c.Flags().BoolVar(&o.trace, "trace", false, "print each step of the connection on standard error")
	c.Flags().BoolVarP(&o.terminal, "terminal", "t", false, "run the command in a terminal")
	c.Flags().StringArrayVar(&o.lend, "lend", nil, "forward a key to the machine for this run, by agent forwarding; each use is confirmed on the terminal (repeatable)")
	c.Flags().StringSliceVar(&o.lendTo, "lend-to", nil, "allow the lent keys for these hosts or sessions only, by pattern (repeatable)")
	c.Flags().IntVar(&o.lendUses, "lend-uses", 0, "the number of uses of the lent keys; 0 for any")
	c.Flags().DurationVar(&o.lendFor, "lend-for", 0, "the time the keys are lent; 0 until the command ends")
	c.Flags().StringVar(&o.reason, "reason", "", "the reason for a certificate, if the policy requires one (default $MEATUS_REASON)")
	c.Flags().StringVar(&o.lendAt, "at", "", "run on this bastion of the route instead of the last machine")
	c.Flags().BoolVar(&o.unasked, "lend-unasked", false, "do not confirm uses of lent keys: anyone with control of the machine can use them")
	c.Flags().BoolVar(&o.yes, "yes", false, "connect to an instance without a session without asking")
	c.Flags().BoolVar(&o.windows, "windows", false, "allow programs of this run to use the local X display: they see all its windows and keys")
	c.Value("lend", "KEY", command.Keys)
	c.Value("lend-to", "HOSTS", command.Sessions)
	c.Value("at", "SESSION", command.Sessions)
	o.identities = prompt.YesIdentity(c)
	return c
}

func runOn(cmd *command.Call, open live.Opener, w *workspace.Workspace, name, line string, o runOptions) error {
	ctx := cmd.Context()
	r, err := w.Planner().Plan(name)
	if err != nil {
		return err
	}
	if target := r.Target(); o.terminal && (target.Careful || target.Note != "") {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+target.Warning())
	}
	if o.windows {
		if _, err := engine.Display(); err != nil {
			return command.Fail(command.Blocked, fmt.Errorf("windows of %s are wanted here: %w", name, err))
		}
	}
	if r, err = o.onRoute(w, r); err != nil {
		return command.Fail(command.WrongUse, err)
	}
	var trace func(event.Event)
	if o.trace {
		trace = traceTo(cmd.ErrOrStderr(), r)
	}
	e, err := open.Engine(cmd, w, o.identities, engine.Options{}, func(e event.Event) {
		if trace != nil {
			trace(e)
		}
		if waits, ok := e.(walk.Trying); ok && waits.Say != "" {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+waits.Session+" "+waits.Say)
		}
		if ended, ok := e.(remote.Finished); ok && ended.Ending.Turned != nil {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+turned(ended.Ending.Turned))
		}
		if ends, ok := e.(link.LeaseEnds); ok {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+ends.Say())
		}
		if other, ok := e.(walk.Diverted); ok {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+other.Record().Line())
		}
		if use, ok := e.(remote.Lent); ok && use.Refuse != nil && !errors.Is(use.Refuse, step.ErrDeclined) {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+use.Say())
		}
	})
	if err != nil {
		return err
	}
	defer e.Close()
	if o.reason != "" {
		e.Leases.Reason = o.reason
	}
	passage, err := e.Walker.Walk(ctx, r)
	if err != nil {
		return live.Interrupted(ctx, err)
	}
	defer passage.Close()
	var terminal *remote.Terminal
	if o.terminal {
		terminal = &remote.Terminal{Name: os.Getenv("TERM"), Cols: 80, Rows: 24}
		if cols, rows, err := term.GetSize(int(os.Stdin.Fd())); err == nil {
			terminal.Cols, terminal.Rows = cols, rows
		}
	}
	program, err := e.Programs.Start(ctx, passage, line, terminal)
	if err != nil {
		return live.Interrupted(ctx, err)
	}
	if err := program.NoWindows; err != nil {
		if o.windows {
			program.Close()
			return command.Fail(command.Blocked, fmt.Errorf("%s: without windows: %w", r.Target().Name, err))
		}
		fmt.Fprintf(os.Stderr, "meatus: without windows: %v\n", err)
	}
	if o.terminal {
		if term.IsTerminal(int(os.Stdin.Fd())) {
			defer e.GiveTerminal()()
		}
		restore := rawTerminal(program)
		defer restore()
	}
	return passOn(cmd, program)
}

// turned says that a machine wants another login, and how the session gets it.
func turned(f *gate.Failure) string {
	var other *remote.TurnedAway
	if errors.As(f, &other) && other.Login != "" {
		return fmt.Sprintf("%s: %s; to change it: meatus session set %s user=%s", f.Hop, f.Why, other.Hop, other.Login)
	}
	return f.Error()
}

// onRoute ends the route at the hop that is wanted and lends what is wanted there.
func (o runOptions) onRoute(w *workspace.Workspace, r route.Route) (route.Route, error) {
	if o.lendAt != "" {
		at := slices.IndexFunc(r.Hops, func(h route.Hop) bool { return h.Name == o.lendAt })
		if at < 0 {
			return r, fmt.Errorf("the way to %s does not go through %s", r.Session, o.lendAt)
		}
		r = r.UpTo(at)
	}
	var lends []string
	terms := map[string]route.Terms{}
	for _, name := range o.lend {
		path, err := filepath.Abs(name)
		if err != nil {
			return r, err
		}
		lends = append(lends, path)
		terms[path] = w.Planner().TermsOf(path)
	}
	return r.AtEnd(func(last *route.Hop) {
		last.Windows = last.Windows || o.windows
		if len(lends) == 0 {
			return
		}
		last.Agent, last.Lends, last.Terms = "ask", lends, terms
		if o.unasked {
			last.Agent = "lend"
		}
		last.LendUses, last.LendFor = o.lendUses, o.lendFor
		last.LendsSaid, last.LendsTo = o.lendTo, w.Planner().Hosts(o.lendTo)
	}), nil
}

// passOn joins the program to the command's input and outputs until it ends. Reading
// the input is not waited for: it may never end.
func passOn(cmd *command.Call, program *remote.Program) error {
	ctx := cmd.Context()
	stop := context.AfterFunc(ctx, func() { program.Close() })
	defer stop()
	go func() {
		io.Copy(program.In, cmd.InOrStdin())
		program.In.Close()
	}()
	var outputs errgroup.Group
	outputs.Go(func() error { _, err := io.Copy(cmd.OutOrStdout(), program.Out); return err })
	outputs.Go(func() error { _, err := io.Copy(cmd.ErrOrStderr(), program.Err); return err })
	if err := outputs.Wait(); err != nil {
		program.Close()
		return fmt.Errorf("passing on the output: %w", err)
	}
	ending := program.Wait()
	switch {
	case ctx.Err() != nil:
		return command.Fail(command.Interrupted, errors.New("stopped"))
	case ending.Err != nil:
		return ending.Err
	case ending.Signal != "":
		return command.Ended(128+signalNumber(ending.Signal), fmt.Errorf("the command was ended by signal %s", ending.Signal))
	case ending.Status != 0:
		return command.Ended(ending.Status, nil)
	}
	return nil
}

// signalNumber is the number of a signal by its name in RFC 4254 section 6.10.
func signalNumber(name string) int {
	numbers := map[string]syscall.Signal{
		"ABRT": syscall.SIGABRT, "ALRM": syscall.SIGALRM, "FPE": syscall.SIGFPE, "HUP": syscall.SIGHUP,
		"ILL": syscall.SIGILL, "INT": syscall.SIGINT, "KILL": syscall.SIGKILL, "PIPE": syscall.SIGPIPE,
		"QUIT": syscall.SIGQUIT, "SEGV": syscall.SIGSEGV, "TERM": syscall.SIGTERM, "USR1": syscall.SIGUSR1, "USR2": syscall.SIGUSR2,
	}
	return int(numbers[name])
}

// rawTerminal gives the far side our terminal, until restored.
func rawTerminal(program *remote.Program) (restore func()) {
	fd := int(os.Stdin.Fd())
	before, err := term.MakeRaw(fd)
	if err != nil {
		return func() {}
	}
	resized := make(chan os.Signal, 1)
	signal.Notify(resized, syscall.SIGWINCH)
	go func() {
		for range resized {
			if cols, rows, err := term.GetSize(fd); err == nil {
				program.Resize(cols, rows)
			}
		}
	}()
	return func() {
		signal.Stop(resized)
		close(resized)
		term.Restore(fd, before)
	}
}

// traceTo tells a walk's gates as lines.
func traceTo(out io.Writer, r route.Route) func(event.Event) {
	start := time.Now()
	say := func(hop string, what any, verdict, seen string) {
		fmt.Fprintf(out, "%7.3fs  %-12s  %-8v  %-11s  %s\n", time.Since(start).Seconds(), hop, what, verdict, seen)
	}
	return func(e event.Event) {
		switch e := e.(type) {
		case walk.Turned:
			r = e.Route
		case walk.Passed:
			name := r.Hops[e.Hop].Name
			if e.Session != r.Session { // the way to an issuer of a lease
				name = e.Session
			}
			say(name, e.Gate.Kind, e.Gate.Verdict.Plain(), e.Gate.Seen)
		case walk.Ended:
			var f *gate.Failure
			if errors.As(e.Err, &f) {
				say(f.Hop, f.Gate, gate.Shut.Plain(), f.Seen)
			}
		case link.Up:
			say(e.Link.Hop, "link", "up", e.Link.Cipher)
		case link.Down:
			say(e.Link.Hop, "link", "down", fmt.Sprintf("%d bytes in, %d out", e.Link.In, e.Link.Out))
		}
	}
}
