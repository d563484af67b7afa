package main

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

	"meatus/core/atomicfile"
	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/retry"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/core/workspace"
)

// holdOptions are the flags of "meatus hold".
type holdOptions struct {
	asJSON, beyond, lazy, takeOver bool
	ready, metrics                 string
	bring, lend, roam              []string // tunnels in place of the session's own
	drain, idle                    time.Duration
	rate, loginFD                  int
	identities                     *identities
	password                       []byte
}

func holdCommand(open opener) *cobra.Command {
	var o holdOptions
	c := &cobra.Command{
		Use:   "hold NAME...",
		Short: "keep the tunnels of sessions up until interrupted",
		Long: `Open the tunnels of the named sessions and keep them open. Lost connections are
re-established; local ports stay open. Events are printed line by line. "ready" is
printed once all ports listen, all connections are up and every service behind a forward
answers, and is reported by the file of --ready and to the service manager (NOTIFY_SOCKET);
services that do not answer within ten seconds are named before it. With several sessions,
failed ones are reported and retried while the others stay connected. An interrupt closes
the ports, and open flows have the time of --drain to finish.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.kept()
			if err != nil {
				return err
			}
			return o.run(cmd, open, w, args)
		},
	}
	c.Flags().BoolVar(&o.asJSON, "json", false, "print events as JSON lines")
	c.Flags().BoolVar(&o.beyond, "beyond", false, "also open ports that listen to other machines: anyone who reaches this machine can use them")
	c.Flags().BoolVar(&o.lazy, "on-knock", false, "connect only when a local port is used")
	c.Flags().BoolVar(&o.takeOver, "take-over", false, "take over ports held by another Meatus")
	c.Flags().StringArrayVar(&o.bring, "bring", nil, "a tunnel for this run, in place of the session's own: '15432 from db.internal:5432' (repeatable)")
	c.Flags().StringArrayVar(&o.lend, "lend", nil, "a `TUNNEL` in the same way, with the door over there: '9000 from 127.0.0.1:3000' (repeatable)")
	c.Flags().StringArrayVar(&o.roam, "roam", nil, "the same, leading wherever a program asks: '1080 only *.internal' (repeatable)")
	c.Flags().StringVar(&o.ready, "ready", "", "write this file when everything is up")
	c.Flags().StringVar(&o.metrics, "metrics", "", "serve metrics in the open text format at this loopback address, under /metrics")
	c.Flags().DurationVar(&o.drain, "drain", 5*time.Second, "time for open flows to finish after an interrupt")
	c.Flags().DurationVar(&o.idle, "idle", 0, "end flows idle for this time; 0 for never")
	c.Flags().IntVar(&o.rate, "rate", 0, "limit in bytes a second, for each tunnel and direction; 0 for none")
	c.Flags().IntVar(&o.loginFD, "login-fd", -1, "read the password of SOCKS proxies with a login from this file descriptor")
	o.identities = yesIdentity(c)
	return c
}

// heldSession is a session whose tunnels are held.
type heldSession struct {
	route route.Route
	specs []book.Tunnel
}

// sessions are those that are named, which must have tunnels that may be opened.
func (o holdOptions) sessions(w *workspace.Workspace, names []string) ([]heldSession, error) {
	written, err := o.written()
	if err != nil {
		return nil, &statusError{statusWrongUse, err}
	}
	if len(written) > 0 && len(names) > 1 {
		return nil, &statusError{statusWrongUse, errors.New("name one session for tunnels that are written on the command line")}
	}
	var all []heldSession
	for _, name := range names {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return nil, &statusError{statusWrongUse, err}
		}
		specs := r.Target().Tunnels
		if len(written) > 0 {
			specs = written
		}
		if len(specs) == 0 {
			return nil, &statusError{statusWrongUse, fmt.Errorf("%s has no tunnels; write them as tunnels = [{ bring = \"127.0.0.1:15432\", reach = \"HOST:5432\" }], or for one run as --bring '15432 from HOST:5432'", name)}
		}
		for _, t := range specs {
			if t.Beyond() && !o.beyond {
				_, at := t.Kind()
				return nil, &statusError{statusWrongUse, fmt.Errorf("%s: its door %s listens to other machines; --beyond opens it knowingly", name, at)}
			}
		}
		all = append(all, heldSession{r, specs})
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
func (o *holdOptions) askPassword(cmd *cobra.Command, sessions []heldSession) (err error) {
	for _, s := range sessions {
		for _, t := range s.specs {
			if t.Login == "" || o.password != nil {
				continue
			}
			if o.password, err = askSecret(cmd, o.loginFD, fmt.Sprintf("Password of the login %s at the roaming doors", t.Login), false); err != nil {
				return err
			}
		}
	}
	return nil
}

func (o holdOptions) run(cmd *cobra.Command, open opener, w *workspace.Workspace, names []string) error {
	ctx := cmd.Context()
	sessions, err := o.sessions(w, names)
	if err != nil {
		return err
	}
	if err := o.askPassword(cmd, sessions); err != nil {
		return err
	}
	defer clear(o.password)
	said := &saying{out: cmd.OutOrStdout(), asJSON: o.asJSON, many: len(names) > 1}
	failed := make(chan failedWay, 4*len(names))
	e, err := open.engine(cmd, w, o.identities, engine.Options{Name: "hold", Drain: o.drain}, func(e event.Event) {
		said.event(e)
		if e, lost := e.(tunnel.Lost); lost && e.Err != nil && !o.onKnock(sessions, e.Session) {
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
			return &statusError{statusShut, err}
		}
	}
	tries := &retries{set: e.Tunnels, said: said, of: map[string]int{}, shut: map[string]error{}, timers: map[string]*time.Timer{}}
	defer tries.stop()
	up := &readiness{options: o, set: e.Tunnels, sessions: sessions}
	prove := time.NewTicker(proveEvery)
	defer prove.Stop()
	for {
		select {
		case <-prove.C:
			if now, not := up.reached(); now {
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
			if err := tries.failed(f, len(sessions)); err != nil {
				return err
			}
		}
	}
}

// readiness decides when everything that is held is ready: once, and for good.
type readiness struct {
	options  holdOptions
	set      *tunnel.Set
	sessions []heldSession
	since    time.Time // all listeners and connections are up since then, or zero
	told     bool
}

// reached reports, a single time, that all listeners and connections are up, and that the services behind forwards answer or
// have had proveTime to. It returns those that do not.
func (r *readiness) reached() (now bool, notAnswering []string) {
	switch {
	case r.told:
		return false, nil
	case !r.options.allUp(r.set, r.sessions):
		r.since = time.Time{}
		return false, nil
	case r.since.IsZero():
		r.since = time.Now()
	}
	waits, not := r.options.proven(r.set, r.sessions)
	r.told = !waits || time.Since(r.since) > proveTime
	return r.told, not
}

// The interval between checks of the services behind forwards, and how long they may take to answer before ready is told
// without them.
const (
	proveEvery = 200 * time.Millisecond
	proveTime  = 10 * time.Second
)

// failedWay is a session's failed connection.
type failedWay struct {
	session string
	err     error
}

// retries reconnects failed sessions after increasing pauses, and leaves the others connected.
type retries struct {
	set    *tunnel.Set
	said   *saying
	of     map[string]int // tries, by session
	shut   map[string]error
	timers map[string]*time.Timer // the next try, by session
}

// The first and the longest pause between two tries. The first is a variable for tests.
var firstRetry = 2 * time.Second

const lastRetry = 2 * time.Minute

// failed schedules the next try of a failed session. It returns the error with which the command ends: the error of a
// single session, unless its server is only busy, or the last one's when no session can connect by a retry.
func (r *retries) failed(f failedWay, sessions int) error {
	var failure *gate.Failure
	passes := errors.As(f.err, &failure) && walk.MayPass(failure)
	if sessions == 1 && !(passes && failure.Cause == gate.Busy) {
		return f.err
	}
	if !passes {
		r.shut[f.session] = f.err
		r.said.say(map[string]any{"event": "not_held", "session": f.session, "why": f.err.Error()}, f.session+" is not held: "+f.err.Error())
		if len(r.shut) == sessions {
			return f.err
		}
		return nil
	}
	r.of[f.session]++
	pause := retry.After(r.of[f.session], firstRetry, lastRetry)
	r.said.say(map[string]any{"event": "again", "session": f.session, "why": f.err.Error(), "in": pause.Round(time.Second).String()},
		fmt.Sprintf("%s is tried again in %s: %v", f.session, pause.Round(time.Second), f.err))
	r.timers[f.session] = time.AfterFunc(pause, func() { r.set.Walk(f.session) })
	return nil
}

func (r *retries) stop() {
	for _, t := range r.timers {
		t.Stop()
	}
}

// proven reports whether services behind forwards are still being tried, and which do not answer.
func (o holdOptions) proven(set *tunnel.Set, sessions []heldSession) (waits bool, not []string) {
	waiting := o.waiting(sessions)
	for _, t := range set.All() {
		if t.Spec.Bring == "" || waiting[t.Session] {
			continue
		}
		switch p := t.Proven(); p.Verdict {
		case gate.Open:
		case gate.Untried:
			waits = true
			not = append(not, t.Session+": "+t.Spec.Reach+" was not tried yet")
		default:
			not = append(not, t.Session+": "+t.Spec.Reach+": "+p.Say)
		}
	}
	return waits, not
}

// allUp tells whether every listener is open, and every way there that is walked before
// somebody connects.
func (o holdOptions) allUp(set *tunnel.Set, sessions []heldSession) bool {
	open, waiting := map[string]int{}, o.waiting(sessions)
	for _, l := range set.Lines() {
		if lazy := waiting[l.Session]; l.Open && (l.Up || lazy) || lazy && l.Kind == "lend" {
			open[l.Session]++
		}
	}
	for _, s := range sessions {
		if open[s.route.Session] < len(s.specs) {
			return false
		}
	}
	return true
}

// waiting are the sessions whose way is walked only when somebody connects.
func (o holdOptions) waiting(sessions []heldSession) map[string]bool {
	all := map[string]bool{}
	for _, s := range sessions {
		all[s.route.Session] = o.lazy || s.route.Target().OnKnock
	}
	return all
}

// onKnock tells whether a session's way is walked only when somebody connects.
func (o holdOptions) onKnock(sessions []heldSession, name string) bool {
	for _, s := range sessions {
		if s.route.Session == name {
			return o.lazy || s.route.Target().OnKnock
		}
	}
	return o.lazy
}

// open opens a session's tunnels, and takes addresses over that another Meatus listens
// at where that is wanted.
func (o holdOptions) open(ctx context.Context, e *running, s heldSession) error {
	job := &work.OpenTunnels{
		Tools: e.Tools(), Route: s.route, Specs: s.specs, OnKnock: o.lazy || s.route.Target().OnKnock, TakeOver: o.takeOver,
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
func (o holdOptions) tellReady(cmd *cobra.Command, said *saying, not []string) {
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
		if !o.asJSON {
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

func tunnelsCommand(open opener) *cobra.Command {
	var asJSON bool
	var flows string
	c := &cobra.Command{
		Use:   "tunnels",
		Short: "the tunnels that run, of every Meatus of this workspace",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if flows != "" {
				seen, err := tunnel.See(w.Dir)
				if err != nil {
					return err
				}
				if err := tunnel.WriteFlows(cmd.OutOrStdout(), tunnel.Export(seen), flows); err != nil {
					return &statusError{statusWrongUse, err}
				}
				return nil
			}
			programs, err := tunnel.Programs(w.Dir)
			if err != nil {
				return err
			}
			if asJSON {
				if programs == nil {
					programs = []tunnel.Program{}
				}
				return printJSON(cmd.OutOrStdout(), programs)
			}
			for _, p := range programs {
				for _, l := range p.Lines {
					state := "up"
					switch {
					case l.Error != "":
						state = l.Error
					case !l.Up && !l.Lost.IsZero():
						state = "lost for " + time.Since(l.Lost).Round(time.Second).String()
					case !l.Up:
						state = "waits for a knock"
					}
					if l.Proof != "" && l.Answers != "open" {
						state += ", " + l.Proof
					}
					if l.Beyond {
						state += ", OPEN TO OTHER MACHINES"
					}
					fmt.Fprintf(cmd.OutOrStdout(), "%-14s %-6s %s  %d flows, %d live, %d bytes in, %d out  %s (process %d, %s)\n", l.Session, l.Kind, l.Drawn(), l.Flows, l.Live, l.In, l.Out, state, p.PID, p.What)
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of programs")
	c.Flags().StringVar(&flows, "flows", "", "the live flows through them instead, as csv or json")
	return c
}
