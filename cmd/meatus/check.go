package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"meatus/core/contain"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/needs"
	"meatus/core/route"
	"meatus/core/walk"
	"meatus/core/workspace"
)

func checkCommand(open opener) *cobra.Command {
	var asJSON, touch, summary bool
	var far string
	var depth walk.Depth
	var identities *identities
	c := &cobra.Command{
		Use:   "check [NAME...]",
		Short: "judge the gates of sessions as far as you say; status 3 where one is shut",
		Args:  cobra.ArbitraryArgs,
		RunE: func(cmd *cobra.Command, names []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if touch {
				far = walk.Identity.String()
			}
			at := slices.Index(walk.DepthWords[:], far)
			if at < 0 {
				return &statusError{statusWrongUse, fmt.Errorf("%q is no depth; there are %s", far, strings.Join(walk.DepthWords[:], ", "))}
			}
			depth = walk.Depth(at)
			e, err := open.engine(cmd, w, identities, engine.Options{Linger: checkLinger}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			w = e.Workspace()
			each := len(names) > 0
			for _, name := range names {
				if w.Book.Session(name) == nil {
					return fmt.Errorf("%w %q", route.ErrNoSession, name)
				}
			}
			if !each {
				names = w.Book.Names()
			}
			for _, p := range w.Book.Problems {
				fmt.Fprintln(cmd.ErrOrStderr(), p.Error())
			}
			if summary {
				return summarize(cmd, e, names, depth, asJSON)
			}
			print := newPrinter(cmd.OutOrStdout(), asJSON, each, names)
			if depth > walk.Here {
				err = touchAll(cmd.Context(), e, names, depth, print)
			} else {
				err = checkHere(w, names, print)
			}
			if err := errors.Join(err, print.end()); err != nil {
				return err
			}
			if print.shut || len(w.Book.Problems) > 0 {
				return &statusError{status: statusShut}
			}
			return nil
		},
	}
	c.Flags().StringVar(&far, "as-far-as", "here", "here (no packet leaves), knock (does it answer, with what), identity (its host key) or login (would it take the keys, asked with nothing signed); hops before a machine are logged in to")
	c.Flags().BoolVar(&touch, "touch", false, "the same as --as-far-as identity")
	identities = yesIdentity(c)
	c.Flags().BoolVar(&asJSON, "json", false, "print an array of reports, or with --summary of what needs you")
	c.Flags().BoolVar(&summary, "summary", false, "print what needs you alone, the gravest first, as it stands above the board of Routes")
	return c
}

// summarize prints what needs a person: the causes of all sessions, each once, with what key files
// and the trail tell besides. It fails with status 3 where a session is shut.
func summarize(cmd *cobra.Command, e *running, names []string, depth walk.Depth, asJSON bool) error {
	w := e.Workspace()
	known := w.Knowledge()
	var causes needs.Causes
	var routes []route.Route
	for _, name := range names {
		r, report := w.Check(name, known)
		if depth == walk.Here || report.Broken != "" {
			causes.Add(report, false)
			continue
		}
		routes = append(routes, r)
	}
	if len(routes) > 0 {
		var mu sync.Mutex
		e.Walker.TouchAll(cmd.Context(), routes, walk.Look{Depth: depth}, func(_ int, report gate.Report) {
			mu.Lock()
			defer mu.Unlock()
			causes.Add(report, true)
		})
	}
	seen, err := needs.ReadSeen(w)
	if err != nil {
		return err
	}
	s := needs.Sources{Causes: causes.All(), Keys: w.Keys(), Seen: seen, Now: time.Now()}
	if s.Grants, err = estate.Granted(w.Dir); err != nil {
		return err
	}
	if e.Trail != nil && !seen.At.IsZero() {
		if s.Recap, err = e.Trail.Recap(cmd.Context(), seen.At, s.Now, nil); err != nil {
			return err
		}
	}
	all := needs.Of(s)
	if asJSON {
		err = printJSON(cmd.OutOrStdout(), append([]needs.Need{}, all...))
	} else {
		err = printNeeds(cmd.OutOrStdout(), all)
	}
	if err == nil && causes.Shut() {
		err = &statusError{status: statusShut}
	}
	return err
}

func printNeeds(out io.Writer, all []needs.Need) error {
	if len(all) == 0 {
		_, err := fmt.Fprintln(out, "nothing needs you")
		return err
	}
	wide := 0
	for _, n := range all {
		wide = max(wide, utf8.RuneCountInString(n.Of))
	}
	for _, n := range all {
		line := fmt.Sprintf("%-*s  ", wide, n.Of)
		if n.New {
			line += "new: "
		}
		line += n.Say
		if n.Sessions > 1 {
			line += fmt.Sprintf(" (%d sessions)", n.Sessions)
		}
		if n.Remedy != "" {
			line += "; " + n.Remedy
		}
		if _, err := fmt.Fprintln(out, line); err != nil {
			return err
		}
	}
	return nil
}

// atOnce is how many sessions one goroutine judges in a row.
const atOnce = 256

// checkHere prints what this machine alone can know of sessions, in their order. Several goroutines judge, some
// batches ahead of what is printed.
func checkHere(w *workspace.Workspace, names []string, print *printer) error {
	workers := runtime.GOMAXPROCS(0)
	type batch struct {
		names []string
		done  chan []printable
	}
	todo, printed := make(chan batch), make(chan batch, 2*workers)
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		defer close(todo)
		defer close(printed)
		for len(names) > 0 {
			n := min(atOnce, len(names))
			b := batch{names[:n], make(chan []printable, 1)}
			names = names[n:]
			for _, to := range []chan batch{printed, todo} {
				select {
				case to <- b:
				case <-ended:
					return
				}
			}
		}
	}()
	for range workers {
		go func() {
			known := w.Knowledge() // what it has read of key files is of one goroutine
			for b := range todo {
				list := make([]printable, len(b.names))
				for i, name := range b.names {
					var report gate.Report
					if err := contain.Do("judging "+name, func() error { _, report = w.Check(name, known); return nil }); err != nil {
						report = gate.Report{Session: name, Broken: err.Error()}
					}
					list[i] = print.prepare(report)
				}
				b.done <- list
			}
		}()
	}
	for b := range printed {
		for _, one := range <-b.done {
			if err := print.put(one); err != nil {
				return err
			}
		}
	}
	return nil
}

// checkLinger is how long a bastion's link waits for the next machine behind it.
const checkLinger = time.Minute

// touchAll prints what is found by looking at sessions' machines, in their order.
func touchAll(ctx context.Context, e *running, names []string, depth walk.Depth, print *printer) error {
	w := e.Workspace()
	known := w.Knowledge()
	reports := make([]gate.Report, len(names))
	var routes []route.Route
	var at []int
	for i, name := range names {
		r, report := w.Check(name, known)
		if reports[i] = report; report.Broken == "" {
			routes, at = append(routes, r), append(at, i)
		}
	}
	e.Walker.TouchAll(ctx, routes, walk.Look{Depth: depth}, func(i int, report gate.Report) { reports[at[i]] = report })
	for _, report := range reports {
		if err := print.report(report); err != nil {
			return err
		}
	}
	return nil
}

// printer prints reports as they come, so that none has to be kept: as JSON each in a
// line, or over several where they were asked for by name.
type printer struct {
	out    *bufio.Writer
	asJSON bool
	all    bool // every gate, and not the worst alone
	width  int  // of the names
	n      int
	shut   bool
	causes needs.Causes

	unlooked int // sessions that nothing is known of
}

func newPrinter(out io.Writer, asJSON, all bool, names []string) *printer {
	p := &printer{out: bufio.NewWriter(out), asJSON: asJSON, all: all, width: 4}
	for _, name := range names {
		p.width = max(p.width, utf8.RuneCountInString(name))
	}
	return p
}

// printable is a report with its text where it is printed as JSON.
type printable struct {
	gate.Report
	text []byte
	err  error
}

// prepare makes a report ready to be printed. It may be called by several goroutines.
func (p *printer) prepare(r gate.Report) printable {
	one := printable{Report: r}
	if !p.asJSON {
		return one
	}
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	if p.all {
		text.WriteString("  ")
		encoder.SetIndent("  ", "  ")
	}
	one.err = encoder.Encode(r.Printed())
	one.text = bytes.TrimRight(text.Bytes(), "\n")
	return one
}

func (p *printer) report(r gate.Report) error { return p.put(p.prepare(r)) }

// put prints a report that is ready.
func (p *printer) put(one printable) error {
	p.shut = p.shut || one.Verdict() == gate.Shut
	p.n++
	if !p.asJSON {
		return p.line(one.Report)
	}
	between := ",\n"
	if p.n == 1 {
		between = "[\n"
	}
	if _, err := p.out.WriteString(between); err != nil || one.err != nil {
		return errors.Join(err, one.err)
	}
	_, err := p.out.Write(one.text)
	return err
}

// end ends the array, and writes what is held back.
func (p *printer) end() error {
	if p.asJSON {
		end := "\n]\n"
		if p.n == 0 {
			end = "[]\n"
		}
		p.out.WriteString(end)
		return p.out.Flush()
	}
	var more []string
	for _, cause := range p.causes.Shared() {
		more = append(more, cause.Say())
	}
	if p.unlooked > 0 {
		more = append(more, "what was not looked at: --as-far-as knock sees whether it answers, identity compares its host key, login asks about the keys")
	}
	for i, line := range more {
		if i == 0 {
			fmt.Fprintln(p.out)
		}
		fmt.Fprintln(p.out, line)
	}
	return p.out.Flush()
}

// known is what is known of a session that nothing is wrong with.
func known(r gate.Report) string {
	if seen := r.Answers(); seen != "" {
		return seen
	}
	if len(r.Hops) > 0 {
		for _, g := range r.Hops[len(r.Hops)-1].Gates {
			if g.Kind == gate.Login && strings.Contains(g.Seen, "got in") {
				return g.Seen
			}
		}
	}
	return notLooked
}

const notLooked = "not looked at"

// line prints a report's verdict and its worst gate in a line, and with all every gate. What
// keeps many sessions shut is told in full for the first, and once more at the end.
func (p *printer) line(r gate.Report) error {
	say := r.Broken
	worst, at := r.Worst()
	if at >= 0 && worst.Verdict >= gate.Ajar {
		say = fmt.Sprintf("%s: %s: %s", r.Hops[at].Name, worst.Kind, worst.Reason)
		if !worst.Remedy.IsZero() {
			say += "; " + worst.Remedy.Say
		}
	}
	if say == "" {
		if say = known(r); say == notLooked {
			p.unlooked++
		}
	}
	if cause := p.causes.Add(r, false); cause != nil && cause.Sessions > 1 {
		say = fmt.Sprintf("%s: %s: as %s", r.Hops[at].Name, worst.Kind, cause.First)
	}
	if _, err := fmt.Fprintf(p.out, "%-*s  %-7s  %s\n", p.width, r.Session, r.Word(), say); err != nil || !p.all {
		return err
	}
	for i, h := range r.Hops {
		fmt.Fprintf(p.out, "  %d %s  %s\n", i+1, h.Name, h.Where())
		for _, g := range h.Gates {
			fmt.Fprintf(p.out, "    %-8s  %-7s  %s\n", g.Kind, g.Verdict, g.Seen)
		}
	}
	return nil
}
