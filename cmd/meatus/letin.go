package main

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/work"
	"meatus/core/workspace"
)

// grantedJSON is a rule that stands for a time, as "meatus estate open --json" promises it.
type grantedJSON struct {
	Session string      `json:"session"`
	Source  string      `json:"source"`
	Group   string      `json:"group"`
	Rule    estate.Rule `json:"rule"`
	Say     string      `json:"say"`
	Until   time.Time   `json:"until,omitzero"`
	Failed  string      `json:"failed,omitempty"`
}

func estateOpen(open opener) *cobra.Command {
	var from string
	var during time.Duration
	var yes, asJSON bool
	c := &cobra.Command{
		Use:   "open [SESSION]",
		Short: "let a session in at its port for a while, by the one rule it lacks; without a session, what is let in",
		Long: `Adds the rule that a session lacks to get to its port, or to the service that its tunnel
brings: for the one address that is seen there, for as long as --for says, and stays until
then. Afterwards, or with ^C, the rule is taken back. It is written down before it is asked
for: where this command is killed, the next Meatus that runs takes it back.

Without SESSION the rules are listed that stand for a time.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) == 0 {
				return listGranted(cmd, open, asJSON)
			}
			if during <= 0 || during > estate.MostGranted {
				return &statusError{statusWrongUse, fmt.Errorf("--for is up to %s, as 1h", estate.MostGranted)}
			}
			w, err := readFrom(cmd, open, from)
			if err != nil {
				return err
			}
			l, err := lacks(w, args[0])
			if err != nil {
				return err
			}
			source, ok := w.Source(l.Source)
			if !ok || !(&estate.Source{EstateSource: source}).Acts() {
				return fmt.Errorf("%w; ask whoever owns the rules:\n%s", estate.ErrNoActs, lines(l.Lines))
			}
			for _, line := range l.Lines {
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: until %s: %s\n", work.Clock(time.Now().Add(during)), line)
			}
			if err := sure(cmd, "open "+l.Of, yes); err != nil {
				return err
			}
			e, err := open.engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.LetIn{Tools: e.Tools(), Source: source, Edits: l.Edits, For: during, Session: args[0], Of: l.Of, Read: again(cmd, open, l.Source)}
			if err := e.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), asJSON, s) }); err != nil {
				return err
			}
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: ^C takes it back before")
			defer again(cmd, open, l.Source)()
			return e.standUntil(cmd, job.Grants, asJSON)
		},
	}
	c.Flags().DurationVar(&during, "for", time.Hour, "for how long")
	c.Flags().StringVar(&from, "from", "", "as which address this machine is seen outside, where that is another than its own")
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	c.Flags().BoolVar(&asJSON, "json", false, "print each step as a line of JSON")
	return c
}

// readFrom reads the estates anew, and is the workspace as it is then, seen outside as an address where one is said.
func readFrom(cmd *cobra.Command, open opener, from string) (*workspace.Workspace, error) {
	here := netip.Addr{}
	if from != "" {
		var err error
		if here, err = netip.ParseAddr(from); err != nil {
			return nil, &statusError{statusWrongUse, fmt.Errorf("--from: %w", err)}
		}
	}
	if _, err := estates(cmd, open, "", false); err != nil {
		return nil, err
	}
	w, err := open.workspace()
	if err == nil && here.IsValid() {
		w.Here = here
	}
	return w, err
}

// again reads a source anew, all where it is "", also where the command was told to end.
func again(cmd *cobra.Command, open opener, source string) func() {
	return func() {
		w, err := open.workspace()
		if err != nil {
			return
		}
		for _, s := range w.Book.Estates {
			if source == "" || s.Name == source {
				_, _ = (&estate.Source{Dir: w.Dir, EstateSource: s}).Renew(context.WithoutCancel(cmd.Context()), time.Now()) // it is told when it is read next
			}
		}
	}
}

// lacks is what a session lacks: at its first hop that is shut by rules, else at a service of its tunnels.
func lacks(w *workspace.Workspace, session string) (l workspace.LetIn, err error) {
	r, err := w.Planner().Plan(session)
	if err != nil {
		return l, err
	}
	var asked []workspace.Asked
	for i := range r.Hops {
		if a, ok := w.AskHop(r, i); ok {
			asked = append(asked, a)
		}
	}
	for _, t := range r.Target().Tunnels {
		if kind, _ := t.Kind(); kind == "bring" {
			if a, ok := w.AskFar(r, t.Reach); ok {
				asked = append(asked, a)
			}
		}
	}
	for _, a := range asked {
		if a.Answer.Open {
			continue
		}
		if l, ok := w.Lacks(a); ok {
			return l, nil
		}
		if a.Here && !a.From.Address.IsValid() {
			return l, errors.New("as which address this machine is seen outside is not known; say it with --from")
		}
		return l, fmt.Errorf("rules alone do not open it:\n%s", a.Answer)
	}
	if len(asked) == 0 {
		return l, fmt.Errorf("no estate tells of the rules on the way to %s", session)
	}
	return l, fmt.Errorf("no rule keeps %s shut: there is nothing to open", session)
}

func lines(all []string) string {
	text := ""
	for _, line := range all {
		text += "  " + line + "\n"
	}
	return text
}

// standUntil waits until the time of rules is over, or somebody ends it, and takes them back; where the source does
// not do it, again and again.
func (e *running) standUntil(cmd *cobra.Command, grants []estate.Grant, asJSON bool) error {
	ctx := cmd.Context()
	began := time.Now()
	for again := time.Second; ; {
		standing, err := estate.Granted(e.Workspace().Dir)
		if err != nil {
			return err
		}
		left := slices.DeleteFunc(standing, func(g estate.Grant) bool {
			return !slices.ContainsFunc(grants, func(is estate.Grant) bool { return is.Mark == g.Mark })
		})
		if len(left) == 0 {
			return nil
		}
		now := time.Now()
		over := ctx.Err() != nil || slices.ContainsFunc(left, func(g estate.Grant) bool { return g.Due(now) || time.Since(began) >= g.Until.Sub(g.Began) })
		if !over {
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
			continue
		}
		err = (&work.TakeBack{Tools: e.Tools(), Grants: left, Read: func() {}}).Run(context.WithoutCancel(ctx), func(s work.Step) { sayStep(cmd.OutOrStdout(), asJSON, s) })
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return fmt.Errorf("%w; it is written down, and the next Meatus that runs tries again", err)
		}
		fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %v; it is tried again in %s\n", err, again)
		select {
		case <-ctx.Done():
		case <-time.After(again):
		}
		again = min(again*2, time.Minute)
	}
}

// listGranted lists the rules that stand for a time.
func listGranted(cmd *cobra.Command, open opener, asJSON bool) error {
	w, err := open.workspace()
	if err != nil {
		return err
	}
	standing, err := estate.Granted(w.Dir)
	if err != nil {
		return err
	}
	all := []grantedJSON{}
	for _, g := range standing {
		all = append(all, grantedJSON{g.Session, g.Source, g.Called, g.Rule, g.Sentence(), g.Until, g.Failed})
	}
	if asJSON {
		return printJSON(cmd.OutOrStdout(), all)
	}
	t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
	for _, g := range all {
		until := "until " + work.Clock(g.Until)
		if g.Failed != "" {
			until += ", could not be taken back: " + g.Failed
		}
		fmt.Fprintf(t, "%s\t%s\t%s\t%s\n", g.Session, g.Say, until, g.Source)
	}
	return t.Flush()
}

func estateClose(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "close [SESSION]",
		Short: "take the rules back now that stand for a time: those of a session, or all",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			standing, err := estate.Granted(w.Dir)
			if err != nil {
				return err
			}
			if len(args) > 0 {
				standing = slices.DeleteFunc(standing, func(g estate.Grant) bool { return g.Session != args[0] })
			}
			if len(standing) == 0 {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: no such rule stands")
				return nil
			}
			e, err := open.engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			return e.do(cmd, &work.TakeBack{Tools: e.Tools(), Grants: standing, Read: again(cmd, open, "")}, func(s work.Step) { sayStep(cmd.OutOrStdout(), asJSON, s) })
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print each step as a line of JSON")
	return c
}

// whatIfJSON is what a change of rules does, as "meatus estate whatif --json" promises it.
type whatIfJSON struct {
	Source  string   `json:"source"`
	Changes []string `json:"changes"`
	Opens   []string `json:"opens"` // sessions
	Shuts   []string `json:"shuts"`
	Exposes []string `json:"exposes"` // what everybody gets to now
	Says    []string `json:"says"`    // everything, in words
}

func estateWhatIf(open opener) *cobra.Command {
	var f estateFlags
	var from string
	var apply, undo, yes bool
	c := f.of(&cobra.Command{
		Use:   "whatif FILE",
		Short: "what a change of rules would do to sessions, tunnels, ways and exposure; nothing is changed without --apply",
		Long: `What a change of rules would do. FILE has a change in each line:

  add to shore: lets in tcp 443 from 198.51.100.7
  drop from shore: lets in tcp 22 from everybody

as "meatus estate reach" tells rules; what stands behind # is a comment. With --apply the
change is made, after a look and a yes, and written down before, so that --undo takes the
last one back.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if undo {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.ExactArgs(1)(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := readFrom(cmd, open, from)
			if err != nil {
				return err
			}
			source, err := oneSource(w, f.source)
			if err != nil {
				return err
			}
			edits, err := whatEdits(w, source.Name, undo, args)
			if err != nil {
				return err
			}
			effects, err := w.WhatIf(source.Name, edits, nil, visitsOf(w))
			if err != nil {
				return err
			}
			if err := sayEffects(cmd, w.Judge(source.Name), source.Name, edits, effects, f.asJSON); err != nil || !apply && !undo {
				return err
			}
			if err := sure(cmd, "change the rules of estate "+source.Name, yes); err != nil {
				return err
			}
			e, err := open.engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Apply{Tools: e.Tools(), Source: source, Undo: undo, Read: again(cmd, open, source.Name)}
			if !undo {
				job.Edits = edits
			}
			return e.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), f.asJSON, s) })
		},
	})
	c.Flags().StringVar(&from, "from", "", "as which address this machine is seen outside, where that is another than its own")
	c.Flags().BoolVar(&apply, "apply", false, "make the change, after a look and a yes")
	c.Flags().BoolVar(&undo, "undo", false, "take the last change back that was made from here")
	c.Flags().BoolVar(&yes, "yes", false, "do it without asking")
	return c
}

// oneSource is the source of a name, or the only one.
func oneSource(w *workspace.Workspace, name string) (book.EstateSource, error) {
	if name == "" && len(w.Book.Estates) == 1 {
		return w.Book.Estates[0], nil
	}
	if s, ok := w.Source(name); ok {
		return s, nil
	}
	if len(w.Book.Estates) == 0 {
		return book.EstateSource{}, fmt.Errorf("%s names no estate", w.SessionsPath())
	}
	return book.EstateSource{}, &statusError{statusWrongUse, fmt.Errorf("there are several estates; pass --source %s, or another", w.Book.Estates[0].Name)}
}

// whatEdits are the edits of a change file, "-" for standard input, or those that take the last change back.
func whatEdits(w *workspace.Workspace, source string, undo bool, args []string) ([]reach.Edit, error) {
	i := slices.IndexFunc(w.Estates, func(k estate.Kept) bool { return k.Source == source })
	if i < 0 || w.Estates[i].Read.IsZero() {
		return nil, fmt.Errorf("nothing is known of estate %s", source)
	}
	if undo {
		a, err := work.LastApplied(w.Dir, source)
		return a.Opposite(), err
	}
	path := args[0]
	if path == "-" {
		path = os.Stdin.Name()
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	edits, err := reach.ReadEdits(string(text), &w.Estates[i].Snapshot)
	if err == nil && len(edits) == 0 {
		err = errors.New("it has no change in it")
	}
	if err != nil {
		return nil, &statusError{statusWrongUse, fmt.Errorf("%s: %w", args[0], err)}
	}
	return edits, nil
}

// sayEffects prints what a change does.
func sayEffects(cmd *cobra.Command, j *reach.Judge, source string, edits []reach.Edit, e reach.Effects, asJSON bool) error {
	says := e.Say()
	if !asJSON {
		for _, edit := range edits {
			fmt.Fprintf(cmd.OutOrStdout(), "%s\n", j.Line(edit))
		}
		if len(says) == 0 {
			says = []string{"nothing that is known here opens or shuts"}
		}
		for _, say := range says {
			fmt.Fprintf(cmd.OutOrStdout(), "  %s\n", say)
		}
		return nil
	}
	out := whatIfJSON{Source: source, Changes: []string{}, Opens: []string{}, Shuts: []string{}, Exposes: []string{}, Says: append([]string{}, says...)}
	for _, edit := range edits {
		out.Changes = append(out.Changes, j.Line(edit))
	}
	for _, t := range e.Turned {
		if t.Open {
			out.Opens = append(out.Opens, t.Session)
		} else {
			out.Shuts = append(out.Shuts, t.Session)
		}
	}
	for _, s := range e.Shifts {
		if s.Everybody > 0 {
			out.Exposes = append(out.Exposes, s.String())
		}
	}
	return printJSON(cmd.OutOrStdout(), out)
}
