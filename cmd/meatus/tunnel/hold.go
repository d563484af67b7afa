// Package tunnel has the commands for port forwards.
package tunnel

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/atomicfile"
	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/hold"
	"meatus/core/tunnel"
	"meatus/core/work"
	"meatus/core/workspace"
)

// holdOptions are the flags of "meatus hold".
type holdOptions struct {
	beyond, lazy, takeOver bool
	ready, metrics         string
	bring, lend, roam      []string // tunnels in place of the session's own
	drain, idle            time.Duration
	rate, loginFD          int
	identities             *prompt.Identities
	password               []byte
}

func holdCommand(open live.Opener) *command.Command {
	var o holdOptions
	c := &command.Command{
		Use:      "hold NAME...",
		Summary:  "keep the port forwards of sessions open until interrupted",
		Examples: []string{"meatus hold tables", "meatus hold tables --json --ready /run/user/1000/tables.ready", "meatus hold quay --bring '15432 from tide-db.internal:5432'"},
		Status:   "3 if a port or a connection cannot be opened",
		Complete: command.Sessions,
		JSON:     "print events as JSON lines",
		Details: `Open the port forwards of the named sessions and keep them open. Lost connections are
re-established; local ports stay open. Events are printed line by line. "ready" is
printed once all ports listen, all connections are up and all forwarded services answer.
It is also reported by the file of --ready and to the service manager (NOTIFY_SOCKET).
Services that do not answer within ten seconds are named before it. With several sessions,
failed ones are reported and retried while the others stay connected. An interrupt closes
the ports, and open flows have the time of --drain to finish.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Kept()
			if err != nil {
				return err
			}
			return o.run(cmd, open, w, args)
		},
	}
	c.Flags().BoolVar(&o.beyond, "beyond", false, "also open ports on addresses that other machines reach: anyone there can use them")
	c.Flags().BoolVar(&o.lazy, "on-knock", false, "connect when a local port is first used")
	c.Flags().BoolVar(&o.takeOver, "take-over", false, "take over ports held by another Meatus")
	c.Flags().StringArrayVar(&o.bring, "bring", nil, "a local forward instead of the session's forwards: '15432 from db.internal:5432' (repeatable)")
	c.Flags().StringArrayVar(&o.lend, "lend", nil, "a remote forward: '9000 from 127.0.0.1:3000' (repeatable)")
	c.Flags().StringArrayVar(&o.roam, "roam", nil, "a SOCKS5 proxy: '1080 only *.internal' (repeatable)")
	c.Flags().StringVar(&o.ready, "ready", "", "write this file when all forwards are ready")
	c.Flags().StringVar(&o.metrics, "metrics", "", "serve Prometheus metrics at this loopback address, under /metrics")
	c.Flags().DurationVar(&o.drain, "drain", 5*time.Second, "time for open flows to finish after an interrupt")
	c.Flags().DurationVar(&o.idle, "idle", 0, "end flows idle for this time; 0 for never")
	c.Flags().IntVar(&o.rate, "rate", 0, "limit in bytes a second, for each tunnel and direction; 0 for none")
	c.Flags().IntVar(&o.loginFD, "login-fd", -1, "read the password of SOCKS proxies with a login from this file descriptor")
	for _, flag := range []string{"bring", "lend", "roam"} {
		c.Value(flag, "TUNNEL", nil)
	}
	c.Value("ready", "FILE", nil)
	c.Value("metrics", "ADDRESS", nil)
	o.identities = prompt.YesIdentity(c)
	return c
}

// sessions are those that are named, which must have tunnels that may be opened.
func (o holdOptions) sessions(w *workspace.Workspace, names []string) ([]hold.Session, error) {
	written, err := o.written()
	if err != nil {
		return nil, command.Fail(command.WrongUse, err)
	}
	if len(written) > 0 && len(names) > 1 {
		return nil, command.Fail(command.WrongUse, errors.New("name one session for tunnels that are written on the command line"))
	}
	var all []hold.Session
	for _, name := range names {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return nil, command.Fail(command.WrongUse, err)
		}
		specs := r.Target().Tunnels
		if len(written) > 0 {
			specs = written
		}
		if len(specs) == 0 {
			return nil, command.Fail(command.WrongUse, fmt.Errorf("%s has no tunnels; write them as tunnels = [{ bring = \"127.0.0.1:15432\", reach = \"HOST:5432\" }], or for one run as --bring '15432 from HOST:5432'", name))
		}
		for _, t := range specs {
			if t.Beyond() && !o.beyond {
				_, at := t.Kind()
				return nil, command.Fail(command.WrongUse, fmt.Errorf("%s: its door %s listens for other machines; --beyond opens it knowingly", name, at))
			}
		}
		all = append(all, hold.Session{Route: r, Specs: specs, OnKnock: o.lazy || r.Target().OnKnock})
	}
	return all, nil
}

// written are the tunnels of the command line.
func (o holdOptions) written() ([]book.Tunnel, error) {
	var all []book.Tunnel
	for _, kind := range []struct {
		word  string
		lines []string
	}{{"bring", o.bring}, {"lend", o.lend}, {"roam", o.roam}} {
		for _, line := range kind.lines {
			tunnels, err := book.ParseTunnels(kind.word + " " + line)
			if err != nil {
				return nil, fmt.Errorf("--%s %q: %w", kind.word, line, err)
			}
			all = append(all, tunnels...)
		}
	}
	return all, nil
}

// askPassword asks for the password of roaming listeners that have a login, once.
func (o *holdOptions) askPassword(cmd *command.Call, sessions []hold.Session) (err error) {
	for _, s := range sessions {
		for _, t := range s.Specs {
			if t.Login == "" || o.password != nil {
				continue
			}
			if o.password, err = prompt.Secret(cmd, o.loginFD, fmt.Sprintf("Password of the login %s at the roaming doors", t.Login), false); err != nil {
				return err
			}
		}
	}
	return nil
}

func (o holdOptions) run(cmd *command.Call, open live.Opener, w *workspace.Workspace, names []string) error {
	ctx := cmd.Context()
	sessions, err := o.sessions(w, names)
	if err != nil {
		return err
	}
	if err := o.askPassword(cmd, sessions); err != nil {
		return err
	}
	defer clear(o.password)
	said := &saying{out: cmd.OutOrStdout(), asJSON: cmd.JSON, many: len(names) > 1}
	lazy := map[string]bool{}
	for _, s := range sessions {
		lazy[s.Route.Session] = s.OnKnock
	}
	failed := make(chan failedWay, 4*len(names))
	e, err := open.Engine(cmd, w, o.identities, engine.Options{Name: "hold", Drain: o.drain}, func(e event.Event) {
		said.event(e)
		if e, lost := e.(tunnel.Lost); lost && e.Err != nil && !lazy[e.Session] {
			select {
			case failed <- failedWay{e.Session, e.Err}:
			default:
			}
		}
	})
	if err != nil {
		return err
	}
	defer said.flush()
	defer e.Close()
	if o.metrics != "" {
		stop, err := serveMetrics(o.metrics, e.Engine)
		if err != nil {
			return err
		}
		defer stop()
	}
	for _, s := range sessions {
		if err := o.open(ctx, e, s); err != nil {
			return command.Fail(command.Blocked, err)
		}
	}
	tries := said.retries(e.Tunnels, len(sessions))
	defer tries.Stop()
	up := &hold.Readiness{Sessions: sessions, Lines: e.Tunnels.Lines}
	prove := time.NewTicker(proveEvery)
	defer prove.Stop()
	for {
		select {
		case <-prove.C:
			if now, not := up.Reached(); now {
				prove.Stop()
				o.tellReady(cmd, said, not)
			}
		case <-ctx.Done():
			notify("STOPPING=1")
			return nil
		case f := <-failed:
			if ctx.Err() != nil {
				return nil
			}
			if err := tries.Failed(f.session, f.err); err != nil {
				return err
			}
		}
	}
}

// proveEvery is the interval between checks of the services behind forwards.
const proveEvery = 200 * time.Millisecond

// failedWay is a session's failed connection.
type failedWay struct {
	session string
	err     error
}

// retries tells of tries and makes them.
func (s *saying) retries(set *tunnel.Set, sessions int) *hold.Retries {
	return &hold.Retries{
		Sessions: sessions,
		Walk:     set.Walk,
		Again: func(session string, why error, pause time.Duration) {
			in := pause.Round(time.Second)
			s.say(map[string]any{"event": "again", "session": session, "why": why.Error(), "in": in.String()}, fmt.Sprintf("%s is tried again in %s: %v", session, in, why))
		},
		Never: func(session string, why error) {
			s.say(map[string]any{"event": "not_held", "session": session, "why": why.Error()}, session+" is not held: "+why.Error())
		},
	}
}

// open opens a session's tunnels, and takes addresses over that another Meatus listens
// at where that is wanted.
func (o holdOptions) open(ctx context.Context, e *live.Engine, s hold.Session) error {
	job := &work.OpenTunnels{
		Tools: e.Tools(), Route: s.Route, Specs: s.Specs, OnKnock: s.OnKnock, TakeOver: o.takeOver,
		Options: tunnel.Options{Idle: o.idle, Rate: o.rate, Password: string(o.password)},
	}
	err := job.Run(ctx, func(work.Step) {})
	var held *work.HeldElsewhere
	if errors.As(err, &held) {
		return fmt.Errorf("%w: --take-over has it close that", err)
	}
	return err
}

// tellReady reports that everything is up, and names the services behind forwards that do not answer.
func (o holdOptions) tellReady(cmd *command.Call, said *saying, not []string) {
	if o.ready != "" {
		if err := atomicfile.Put(o.ready, fmt.Appendf(nil, "%d\n", os.Getpid())); err != nil {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
		}
	}
	notify("READY=1")
	said.flush()
	ready := map[string]any{"event": "ready"}
	if len(not) > 0 {
		ready["not_answering"] = not
		if !cmd.JSON {
			said.say(nil, "no answer: "+strings.Join(not[:min(len(not), maxTold)], "; ")+more(len(not)-maxTold))
		}
	}
	said.say(ready, "ready")
}

// maxTold limits the unanswering services named in a line.
const maxTold = 5

// more is the end of a shortened list: the number of items left out.
func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf("; and %d more", n)
}

// notify tells the service manager, where there is one (sd_notify: a datagram to the
// socket that NOTIFY_SOCKET names).
func notify(state string) {
	socket := os.Getenv("NOTIFY_SOCKET")
	if socket == "" {
		return
	}
	if strings.HasPrefix(socket, "@") {
		socket = "\x00" + socket[1:]
	}
	if conn, err := net.Dial("unixgram", socket); err == nil {
		io.WriteString(conn, state)
		conn.Close()
	}
}

// saying tells what happens, one line at a time. For a person it tells what many sessions
// had at once in one.
type saying struct {
	out    io.Writer
	asJSON bool
	many   bool // sessions are held

	line    sync.Mutex
	waiting []event.Same // told in a moment, with what comes by then
	timer   *time.Timer
}

// gathering is how long a line is waited with for more sessions that it is true of.
const gathering = 200 * time.Millisecond

// gather tells a record with others that say the same.
func (s *saying) gather(r event.Record) {
	s.line.Lock()
	defer s.line.Unlock()
	s.waiting = event.Take(s.waiting, r, time.Now())
	if s.timer == nil {
		s.timer = time.AfterFunc(gathering, s.flush)
	}
}

// flush tells what is waited with.
func (s *saying) flush() {
	s.line.Lock()
	defer s.line.Unlock()
	for _, same := range s.waiting {
		fmt.Fprintln(s.out, same.Line())
	}
	if s.waiting = nil; s.timer != nil {
		s.timer.Stop()
		s.timer = nil
	}
}

func (s *saying) say(fields map[string]any, text string) {
	s.line.Lock()
	defer s.line.Unlock()
	if s.asJSON {
		fields["at"] = time.Now().UTC().Format(time.RFC3339Nano)
		line, _ := json.Marshal(fields)
		text = string(line)
	}
	fmt.Fprintln(s.out, text)
}

// event tells what happens to tunnels, in the words and fields that every event has.
func (s *saying) event(e event.Event) {
	switch e.(type) {
	case tunnel.Opened, tunnel.Came, tunnel.Lost, tunnel.Ended, tunnel.Stuck, tunnel.Rested, tunnel.Widened, tunnel.Proven, tunnel.Shut:
		r := e.(event.Recorded).Record()
		if s.many && !s.asJSON {
			s.gather(r)
			return
		}
		fields := map[string]any{"event": r.Name, "session": r.Session}
		maps.Copy(fields, r.Fields)
		s.say(fields, r.Line())
	}
}
