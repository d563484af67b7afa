// Package check has the command that checks sessions.
package check

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/mend"
	"meatus/core/needs"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// Command is "meatus check".
func Command(open live.Opener) *command.Command {
	var summary bool
	var depth walk.Depth
	var asked func() (walk.Depth, error)
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "check [NAME...]",
		Summary:  "check whether sessions can connect, and what blocks them",
		Examples: []string{"meatus check", "meatus check tide-db --depth identity", "meatus check --summary", "meatus check --json"},
		Status:   "3 if a session is blocked, or the sessions file has a mistake",
		JSON:     "print an array of reports, or with --summary of problems",
		Complete: command.Sessions,
		Args:     cobra.ArbitraryArgs,
		Run: func(cmd *command.Call, names []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if depth, err = asked(); err != nil {
				return err
			}
			e, err := open.Engine(cmd, w, identities, engine.Options{Linger: live.Linger}, nil)
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
				return summarize(cmd, e, names, depth)
			}
			print := newPrinter(cmd.OutOrStdout(), cmd.JSON, each, names)
			if depth > walk.Here || each {
				for _, t := range e.Touch(cmd.Context(), names, depth) {
					err = errors.Join(err, print.found(w, t))
				}
			} else {
				err = workspace.CheckAll(w, names, print.prepare, print.put)
			}
			if err := errors.Join(err, print.end()); err != nil {
				return err
			}
			if print.shut || len(w.Book.Problems) > 0 {
				return command.Exit(command.Blocked)
			}
			return nil
		},
	}
	asked = depthFlag(c)
	identities = prompt.YesIdentity(c)
	c.Flags().BoolVar(&summary, "summary", false, "print problems only, the most severe first, each cause once")
	return c
}

// depthFlag adds the flag of how far a check goes.
func depthFlag(c *command.Command) func() (walk.Depth, error) {
	var far string
	c.Flags().StringVar(&far, "depth", "here", "the depth: here (no connection), knock (the port answers), identity (the host key) or login (the keys are accepted; nothing is signed); bastions on the route are logged in to")
	c.Value("depth", "DEPTH", command.Words(walk.DepthWords[:]...))
	return func() (walk.Depth, error) {
		at := slices.Index(walk.DepthWords[:], far)
		if at < 0 {
			return 0, command.Fail(command.WrongUse, fmt.Errorf("unknown depth %q; the depths are %s", sanitize.Line(far, 40), strings.Join(walk.DepthWords[:], ", ")))
		}
		return walk.Depth(at), nil
	}
}

// summarize prints the open problems. Its exit status is that of a blocked route if a session is blocked.
func summarize(cmd *command.Call, e *live.Engine, names []string, depth walk.Depth) error {
	all, shut, err := e.Needs(cmd.Context(), names, depth)
	if err != nil {
		return err
	}
	if err := cmd.Answer(append([]needs.Need{}, all...), needsText(all)); err != nil {
		return err
	}
	if shut {
		return command.Exit(command.Blocked)
	}
	return nil
}

// needsText lists the open problems, one a line.
func needsText(all []needs.Need) string {
	if len(all) == 0 {
		return "nothing needs you\n"
	}
	table := &command.Table{}
	for _, n := range all {
		line := n.Say
		if n.New {
			line = "new: " + line
		}
		if n.Sessions > 1 {
			line += fmt.Sprintf(" (%d sessions)", n.Sessions)
		}
		if n.Remedy != "" {
			line += "; " + n.Remedy
		}
		table.Row(n.Of, line)
	}
	return table.String()
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

// checkedJSON is a report of a session that was asked for by name, as "meatus check NAME --json" promises it.
type checkedJSON struct {
	gate.Printed
	Problems []problemJSON `json:"problems"`
}

// prepare makes a report ready to be printed. It may be called by several goroutines.
func (p *printer) prepare(r gate.Report) printable {
	if !p.asJSON {
		return printable{Report: r}
	}
	return p.written(r, r.Printed())
}

// written is a report with its text as JSON, of the value that is printed for it.
func (p *printer) written(r gate.Report, v any) printable {
	one := printable{Report: r}
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetEscapeHTML(false)
	if p.all {
		text.WriteString("  ")
		encoder.SetIndent("  ", "  ")
	}
	one.err = encoder.Encode(v)
	one.text = bytes.TrimRight(text.Bytes(), "\n")
	return one
}

// found prints a checked session, as JSON with its problems and their remedies.
func (p *printer) found(w *workspace.Workspace, t walk.Touched) error {
	if !p.asJSON || !p.all {
		return p.put(p.prepare(t.Report))
	}
	return p.put(p.written(t.Report, checkedJSON{t.Report.Printed(), told(mend.Problems(w, t))}))
}

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

// end closes the array and writes the buffered rest.
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
		more = append(more, "gates not checked: --depth knock tests the port, identity compares the host key, login tests the keys")
	}
	for i, line := range more {
		if i == 0 {
			fmt.Fprintln(p.out)
		}
		fmt.Fprintln(p.out, line)
	}
	return p.out.Flush()
}

// known describes the last results of a session without problems.
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
	if _, err := fmt.Fprintf(p.out, "%-*s  %-11s  %s\n", p.width, r.Session, r.Word(), say); err != nil || !p.all {
		return err
	}
	for i, h := range r.Hops {
		fmt.Fprintf(p.out, "  %d %s  %s\n", i+1, h.Name, h.Where())
		for _, g := range h.Gates {
			fmt.Fprintf(p.out, "    %-8s  %-11s  %s\n", g.Kind, g.Verdict.Plain(), g.Seen)
		}
	}
	return nil
}
