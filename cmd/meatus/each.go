package main

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

type eachOptions struct {
	atOnce     int
	within     time.Duration
	marked     bool
	asJSON     bool
	identities *identities
}

func eachCommand(open opener) *cobra.Command {
	var o eachOptions
	c := &cobra.Command{
		Use:   "each NAME... -- CMD...",
		Short: "run a command at many machines, and see where what comes of it differs",
		Long: `each runs one command at the machines of several sessions, some at a time. A NAME is a
session or a site, which stands for all of its sessions.

Machines at which the very same came of it are told together, those of the most machines
first. At the others, lines that most did not print are marked +, lines that only they
printed -, and what stands on standard error !. The command is lent nothing and gets no
input. A session that is marked careful has to be named by itself.`,
		Args: cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			at := cmd.ArgsLenAtDash()
			if at < 0 || at == len(args) || at == 0 && !o.marked {
				return &statusError{statusWrongUse, errors.New("name sessions or sites, then -- and the command; see meatus each --help")}
			}
			w, err := open.workspace()
			if err != nil {
				return err
			}
			return o.run(cmd, open, w, args[:at], commandLine(args[at:]))
		},
	}
	c.Flags().IntVar(&o.atOnce, "at-once", 8, "at how many machines at a time")
	c.Flags().DurationVar(&o.within, "within", time.Minute, "how long it may take at one machine, the walk included")
	c.Flags().BoolVar(&o.marked, "marked", false, "at the marked sessions, too")
	c.Flags().BoolVar(&o.asJSON, "json", false, "print an array with what came of it at each")
	o.identities = yesIdentity(c)
	return c
}

// routes are those of the named sessions and of the sites' sessions, each once.
func (o eachOptions) routes(w *workspace.Workspace, names []string) ([]route.Route, error) {
	if o.marked {
		marks, err := w.Marks()
		if err != nil {
			return nil, err
		}
		for _, name := range w.Book.Names() {
			if marks[name] {
				names = append(names, name)
			}
		}
	}
	var all []string
	for _, name := range names {
		switch {
		case w.Book.Session(name) != nil:
			all = append(all, name)
		case slices.Contains(w.Book.Sites(), name):
			all = append(all, w.Book.Members(book.Table{Layer: book.InSite, Name: name})...)
		default:
			return nil, fmt.Errorf("%w and no site %q", route.ErrNoSession, name)
		}
	}
	var routes []route.Route
	seen := map[string]bool{}
	for _, name := range all {
		if seen[name] {
			continue
		}
		seen[name] = true
		r, err := w.Planner().Plan(name)
		if err != nil {
			return nil, err
		}
		routes = append(routes, r)
	}
	return routes, nil
}

func (o eachOptions) run(cmd *cobra.Command, open opener, w *workspace.Workspace, names []string, command string) error {
	routes, err := o.routes(w, names)
	if err != nil {
		return err
	}
	var sessions []string
	for _, r := range routes {
		sessions = append(sessions, r.Session)
	}
	if err := namedItself(w, sessions, names); err != nil {
		return err
	}
	e, err := open.engine(cmd, w, o.identities, engine.Options{Linger: checkLinger}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	job := &work.Each{Tools: e.Tools(), Routes: routes, Command: command, AtOnce: o.atOnce, Within: o.within}
	if err := e.do(cmd, job, func(work.Step) {}); err != nil {
		return err
	}
	if o.asJSON {
		err = eachJSON(cmd.OutOrStdout(), job.Results)
	} else {
		eachText(cmd.OutOrStdout(), work.Gather(job.Results))
	}
	if err != nil {
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
		return &statusError{statusShut, fmt.Errorf("it could not be run at %d of %d", failed, len(results))}
	}
	if highest > 0 {
		return &statusError{status: highest}
	}
	return nil
}

func eachText(out io.Writer, all []work.Alike) {
	for i, alike := range all {
		if i > 0 {
			fmt.Fprintln(out)
		}
		who := strings.Join(alike.Sessions, ", ")
		if n := len(alike.Sessions); n > 1 {
			who = fmt.Sprintf("%d machines: %s", n, who)
		}
		fmt.Fprintf(out, "── %s ── %s\n", who, sanitize.Line(alike.Ended(), 300))
		for _, l := range alike.Lines {
			fmt.Fprintf(out, "%c %s\n", l.Mark, l.Text)
		}
		if alike.Cut {
			fmt.Fprintln(out, "… there was more; run it there alone")
		}
	}
}

func eachJSON(out io.Writer, results []work.Result) error {
	type result struct {
		Session string  `json:"session"`
		Status  int     `json:"status"`
		Signal  string  `json:"signal,omitempty"`
		Out     string  `json:"out"`
		Err     string  `json:"err"`
		Cut     bool    `json:"cut"`
		Seconds float64 `json:"seconds"`
		Error   string  `json:"error,omitempty"`
	}
	list := []result{}
	for _, r := range results {
		one := result{r.Session, r.Status, r.Signal, string(r.Out), string(r.Err), r.Cut, r.Took.Seconds(), ""}
		if r.Failed != nil {
			one.Status, one.Error = -1, r.Ended()
		}
		list = append(list, one)
	}
	return printJSON(out, list)
}
