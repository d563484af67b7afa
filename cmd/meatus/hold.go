package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/workspace"
)

// holdOptions are the flags of "meatus hold".
type holdOptions struct {
	asJSON, beyond, lazy, takeOver bool
	ready, metrics                 string
	drain, idle                    time.Duration
	rate, loginFD                  int
	identities                     []string
	password                       []byte
}

func holdCommand(open opener) *cobra.Command {
	var o holdOptions
	c := &cobra.Command{
		Use:   "hold NAME...",
		Short: "keep the tunnels of sessions up until interrupted",
		Long: `hold opens the tunnels of the named sessions and keeps them up: a way that is lost
is walked again, while the doors stay open. What happens is told line by line. When
every door is open and every way is there it says so: with the line "ready", in the
file that --ready names, and to the service manager that NOTIFY_SOCKET names. On an
interrupt the doors close, and flows have --drain to come to their end.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			return o.run(cmd, w, args)
		},
	}
	c.Flags().BoolVar(&o.asJSON, "json", false, "tell what happens as lines of JSON")
	c.Flags().BoolVar(&o.beyond, "beyond", false, "open doors that listen to other machines, too: whoever reaches this machine can use them")
	c.Flags().BoolVar(&o.lazy, "on-knock", false, "walk the ways only when somebody knocks")
	c.Flags().BoolVar(&o.takeOver, "take-over", false, "have another Meatus close the doors that it holds")
	c.Flags().StringVar(&o.ready, "ready", "", "a file that is written when everything is up")
	c.Flags().StringVar(&o.metrics, "metrics", "", "serve metrics in the open text format at this loopback address, under /metrics")
	c.Flags().DurationVar(&o.drain, "drain", 5*time.Second, "how long flows have to come to their end")
	c.Flags().DurationVar(&o.idle, "idle", 0, "end flows through which nothing passed for so long; 0 for never")
	c.Flags().IntVar(&o.rate, "rate", 0, "bytes a second at most, for each tunnel and direction; 0 for as many as pass")
	c.Flags().IntVar(&o.loginFD, "login-fd", -1, "read the password of roaming doors that ask for a login from this file descriptor")
	c.Flags().StringArrayVar(&o.identities, "yes-identity", nil, "accept a first visit that shows exactly this SHA256: fingerprint (repeatable)")
	return c
}

// way is a session to hold.
type heldSession struct {
	route route.Route
	specs []book.Tunnel
}

func (o holdOptions) run(cmd *cobra.Command, w *workspace.Workspace, names []string) error {
	ctx := cmd.Context()
	var sessions []heldSession
	for _, name := range names {
		r, err := w.Planner().Plan(name)
		if err != nil {
			return &statusError{statusWrongUse, err}
		}
		if len(r.Target().Tunnels) == 0 {
			return &statusError{statusWrongUse, fmt.Errorf("%s has no tunnels; write them as tunnels = [{ bring = \"127.0.0.1:15432\", reach = \"HOST:5432\" }]", name)}
		}
		for _, t := range r.Target().Tunnels {
			if t.Beyond() && !o.beyond {
				_, at := t.Kind()
				return &statusError{statusWrongUse, fmt.Errorf("%s: its door %s listens to other machines; --beyond opens it knowingly", name, at)}
			}
		}
		for _, t := range r.Target().Tunnels {
			if t.Login == "" || o.password != nil {
				continue
			}
			if o.password, err = secret(cmd, o.loginFD, fmt.Sprintf("Password of the login %s at the roaming doors", t.Login), false); err != nil {
				return err
			}
			defer clear(o.password)
		}
		sessions = append(sessions, heldSession{r, r.Target().Tunnels})
	}
	walker, err := newWalker(ctx, w, o.identities)
	if err != nil {
		return err
	}
	defer walker.Close()
	kept, _, stopTrail := keepTrailOf(w.Dir, walker)
	defer stopTrail()
	said := &saying{out: cmd.OutOrStdout(), asJSON: o.asJSON}
	failed := make(chan error, len(names))
	changed := make(chan struct{}, 1) // a door or a way is there
	set := tunnel.NewSet(walker, func(e event.Event) {
		walker.Events.Tell(e)
		said.event(e)
		switch e := e.(type) {
		case tunnel.Came, tunnel.Opened:
			select {
			case changed <- struct{}{}:
			default:
			}
		case tunnel.Lost:
			if e.Err != nil && !o.onKnock(sessions, e.Session) {
				select {
				case failed <- e.Err:
				default:
				}
			}
		}
	})
	defer keepSeries(walker, set, kept)()
	stop, err := set.Show(w.Dir, "hold")
	if err != nil {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: other programs cannot see these tunnels: "+err.Error())
	} else {
		defer stop()
	}
	defer set.CloseAll(o.drain)
	if o.metrics != "" {
		stop, err := serveMetrics(o.metrics, metrics{walker, set})
		if err != nil {
			return err
		}
		defer stop()
	}
	for _, s := range sessions {
		if err := o.open(set, w, s); err != nil {
			return &statusError{statusShut, err}
		}
	}
	for ready := false; ; {
		if !ready && o.allUp(set, sessions) {
			ready = true
			o.tellReady(cmd, said)
		}
		select {
		case <-changed:
		case <-ctx.Done():
			notify("STOPPING=1")
			return nil
		case err := <-failed:
			if ctx.Err() != nil {
				return nil
			}
			return err
		}
	}
}

// allUp tells whether every door is open, and every way there that is walked before
// somebody knocks.
func (o holdOptions) allUp(set *tunnel.Set, sessions []heldSession) bool {
	open := map[string]int{}
	for _, l := range set.Lines() {
		if lazy := o.onKnock(sessions, l.Session); l.Open && (l.Up || lazy) || lazy && l.Kind == "lend" {
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

// onKnock tells whether a session's way is walked only when somebody knocks.
func (o holdOptions) onKnock(sessions []heldSession, name string) bool {
	for _, s := range sessions {
		if s.route.Session == name {
			return o.lazy || s.route.Target().OnKnock
		}
	}
	return o.lazy
}

// open opens a session's tunnels, and takes doors over that another Meatus holds
// where that is wanted.
func (o holdOptions) open(set *tunnel.Set, w *workspace.Workspace, s heldSession) error {
	options := tunnel.Options{Idle: o.idle, Rate: o.rate, Password: string(o.password)}
	lazy := o.lazy || s.route.Target().OnKnock
	err := set.Open(s.route, s.specs, options, lazy)
	if err == nil {
		return nil
	}
	programs, _ := tunnel.Programs(w.Dir)
	taken := false
	for _, p := range programs {
		for _, l := range p.Lines {
			for _, spec := range s.specs {
				if _, at := spec.Kind(); at != l.Door || l.Kind == "lend" {
					continue
				}
				if !o.takeOver {
					return fmt.Errorf("%w; the Meatus with process %d (%s) holds %s for %s: --take-over has it close that", err, p.PID, p.What, l.Door, l.Session)
				}
				if terr := tunnel.TakeOver(p, l.Door); terr != nil {
					return errors.Join(err, terr)
				}
				taken = true
			}
		}
	}
	if taken {
		return set.Open(s.route, s.specs, options, lazy)
	}
	return err
}

// tellReady says that everything is up.
func (o holdOptions) tellReady(cmd *cobra.Command, said *saying) {
	if o.ready != "" {
		if err := os.WriteFile(o.ready, fmt.Appendf(nil, "%d\n", os.Getpid()), 0o600); err != nil {
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
		}
	}
	notify("READY=1")
	said.say(map[string]any{"event": "ready"}, "ready")
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

// saying tells what happens, one line at a time.
type saying struct {
	out    io.Writer
	asJSON bool
	line   sync.Mutex
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

func (s *saying) event(e event.Event) {
	switch e := e.(type) {
	case tunnel.Opened:
		s.say(map[string]any{"event": "open", "session": e.Session, "tunnel": e.What, "door": e.Address}, fmt.Sprintf("%s: %s, the door is %s", e.Session, e.What, e.Address))
	case tunnel.Came:
		text := e.Session + ": the way is there"
		if e.Again > 0 {
			text = e.Session + ": the way is there again"
		}
		s.say(map[string]any{"event": "up", "session": e.Session, "again": e.Again}, text)
	case tunnel.Lost:
		fields, text := map[string]any{"event": "lost", "session": e.Session}, e.Session+": the way is lost, and walked again"
		if e.Err != nil {
			fields["error"], text = e.Err.Error(), e.Session+": "+e.Err.Error()
		}
		s.say(fields, text)
	case tunnel.Ended:
		f := e.Flow
		s.say(map[string]any{"event": "flow", "session": e.Session, "from": f.From, "program": f.Program, "to": f.To, "in": f.In, "out": f.Out, "seconds": f.Took.Seconds(), "how": f.How, "complete": f.Complete},
			fmt.Sprintf("%s: %s to %s, %d bytes in, %d out, %s: %s", e.Session, f.From, f.To, f.In, f.Out, f.Took.Round(time.Millisecond), f.How))
	case tunnel.Stuck:
		s.say(map[string]any{"event": "stuck", "session": e.Session, "tunnel": e.What, "error": e.Err.Error()}, fmt.Sprintf("%s: %s: %v", e.Session, e.What, e.Err))
	case tunnel.Rested:
		s.say(map[string]any{"event": "rested", "session": e.Session, "tunnel": e.What, "seconds": e.After.Seconds()}, fmt.Sprintf("%s: %s closes: nothing ran through it for %s", e.Session, e.What, e.After))
	case tunnel.Widened:
		s.say(map[string]any{"event": "wider", "session": e.Session, "hop": e.Hop, "links": e.Links}, fmt.Sprintf("%s: %s allows no more channels on a link: %d links now", e.Session, e.Hop, e.Links))
	case tunnel.Proven:
		fields := map[string]any{"event": "proven", "session": e.Session, "tunnel": e.What, "verdict": e.Proof.Verdict.String(), "seen": e.Proof.Say}
		text := fmt.Sprintf("%s: %s: %s, %s", e.Session, e.What, e.Proof.Verdict, e.Proof.Say)
		if e.Proof.Rule != "" {
			fields["rule"], text = e.Proof.Rule, text+"; to hand on: "+e.Proof.Rule
		}
		s.say(fields, text)
	case tunnel.Shut:
		s.say(map[string]any{"event": "shut", "session": e.Session, "tunnel": e.What}, fmt.Sprintf("%s: %s is closed", e.Session, e.What))
	}
}

func tunnelsCommand(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "tunnels",
		Short: "the tunnels that run, of every Meatus of this workspace",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open()
			if err != nil {
				return err
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
	return c
}
