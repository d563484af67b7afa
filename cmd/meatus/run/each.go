package run

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/posix"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

type eachOptions struct {
	atOnce     int
	within     time.Duration
	marked     bool
	identities *prompt.Identities
}

func each(open live.Opener) *command.Command {
	var o eachOptions
	c := &command.Command{
		Use:      "each NAME... -- CMD...",
		Summary:  "run a command on many machines and compare the output",
		Examples: []string{"meatus each reef -- uptime", "meatus each gauge-1 gauge-2 --at-once 2 -- df -h /"},
		Status:   "253 if the command could not be run on a machine, else the highest status of the command",
		Passes:   true,
		Complete: command.SessionsAndSites,
		JSON:     "print an array with the result of each",
		Details: `A NAME is a session or a site, which stands for all its sessions.

Machines with the same output are listed together, the largest group first. In the other
groups, lines missing in the largest group are marked +. Lines of the largest group only are
marked -, and standard error !. The command gets no input and no lent keys. Sessions
marked careful have to be named themselves.`,
		Args: cobra.ArbitraryArgs,
		Run: func(cmd *command.Call, args []string) error {
			at := cmd.ArgsLenAtDash()
			if at < 0 || at == len(args) || at == 0 && !o.marked {
				return command.Fail(command.WrongUse, errors.New("name sessions or sites, then -- and the command; see meatus each --help"))
			}
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			return o.run(cmd, open, w, args[:at], posix.Command(args[at:]))
		},
	}
	c.Flags().IntVar(&o.atOnce, "at-once", 8, "the number of machines at a time")
	c.Flags().DurationVar(&o.within, "within", time.Minute, "the time limit for each machine, with connecting")
	c.Flags().BoolVar(&o.marked, "marked", false, "also run on the marked sessions")
	o.identities = prompt.YesIdentity(c)
	return c
}

func (o eachOptions) run(cmd *command.Call, open live.Opener, w *workspace.Workspace, names []string, line string) error {
	routes, err := w.RoutesOf(names, o.marked)
	if err != nil {
		return err
	}
	var sessions []string
	for _, r := range routes {
		sessions = append(sessions, r.Session)
	}
	if err := live.NamedItself(w, sessions, names); err != nil {
		return err
	}
	e, err := open.Engine(cmd, w, o.identities, engine.Options{Linger: live.Linger}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.Each{Tools: e.Tools(), Routes: routes, Command: line, AtOnce: o.atOnce, Within: o.within}
	if err := e.Do(cmd, job, func(work.Step) {}); err != nil {
		return err
	}
	if err := cmd.Answer(resultsJSON(job.Results), alikeText(work.Gather(job.Results))); err != nil {
		return err
	}
	return eachStatus(job.Results)
}

// eachStatus sums the exit statuses up.
func eachStatus(results []work.Result) error {
	highest, failed := 0, 0
	for _, r := range results {
		switch {
		case r.Failed != nil:
			failed++
		case r.Signal != "":
			highest = max(highest, 128+signalNumber(r.Signal))
		default:
			highest = max(highest, r.Status)
		}
	}
	if failed > 0 {
		return command.Fail(command.Blocked, fmt.Errorf("it could not be run at %d of %d", failed, len(results)))
	}
	if highest > 0 {
		return command.Ended(highest, nil)
	}
	return nil
}

// alikeText is what came of a command, for machines with the same result together.
func alikeText(all []work.Alike) string {
	var out strings.Builder
	for i, alike := range all {
		if i > 0 {
			fmt.Fprintln(&out)
		}
		who := strings.Join(alike.Sessions, ", ")
		if n := len(alike.Sessions); n > 1 {
			who = fmt.Sprintf("%d machines: %s", n, who)
		}
		fmt.Fprintf(&out, "── %s ── %s\n", who, sanitize.Line(alike.Ended(), 300))
		for _, l := range alike.Lines {
			fmt.Fprintf(&out, "%c %s\n", l.Mark, l.Text)
		}
		if alike.Cut {
			fmt.Fprintln(&out, "… there was more; run it there alone")
		}
	}
	return out.String()
}

// resultJSON is what came of a command at one machine, as "meatus each --json" prints it.
type resultJSON struct {
	Session string  `json:"session"`
	Status  int     `json:"status"`
	Signal  string  `json:"signal,omitempty"`
	Out     string  `json:"out"`
	Err     string  `json:"err"`
	Cut     bool    `json:"cut"`
	Seconds float64 `json:"seconds"`
	Error   string  `json:"error,omitempty"`
}

func resultsJSON(results []work.Result) []resultJSON {
	list := []resultJSON{}
	for _, r := range results {
		one := resultJSON{r.Session, r.Status, r.Signal, string(r.Out), string(r.Err), r.Cut, r.Took.Seconds(), ""}
		if r.Failed != nil {
			one.Status, one.Error = -1, r.Ended()
		}
		list = append(list, one)
	}
	return list
}
