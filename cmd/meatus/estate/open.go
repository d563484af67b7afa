package estate

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/work"
	"meatus/core/workspace"
)

// grantedJSON is a rule that stands for a time, as "meatus estate allow --json" promises it.
type grantedJSON struct {
	Session string      `json:"session"`
	Source  string      `json:"source"`
	Group   string      `json:"group"`
	Rule    estate.Rule `json:"rule"`
	Say     string      `json:"say"`
	Until   time.Time   `json:"until,omitzero"`
	Failed  string      `json:"failed,omitempty"`
}

func openPort(open live.Opener) *command.Command {
	var from string
	var during time.Duration
	var yes bool
	c := &command.Command{
		Use:      "allow [SESSION]",
		Summary:  "open a missing firewall rule for a limited time",
		Examples: []string{"meatus estate allow sluice --for 1h", "meatus estate allow", "meatus estate allow quay --for 20m --from 198.51.100.7 --yes"},
		JSON:     "print each step as a line of JSON",
		Details: `Add the firewall rule that is missing for a session's port, or for the service of its local
forward: for this machine's public address only. The command runs for the time of --for and
then removes the rule; ^C removes it earlier. The rule is recorded before it is added: if
this command is killed, the next Meatus that runs removes it.

Without SESSION, list the rules that are open for a limited time.`,
		Args: cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			if len(args) == 0 {
				return listGranted(cmd, open)
			}
			if during <= 0 || during > estate.MostGranted {
				return command.Fail(command.WrongUse, fmt.Errorf("--for is up to %s, as 1h", estate.MostGranted))
			}
			w, err := readFrom(cmd, open, from)
			if err != nil {
				return err
			}
			l, err := w.LacksOn(args[0])
			if errors.Is(err, workspace.ErrNotSeen) {
				return fmt.Errorf("%w; give it with --from", err)
			}
			if err != nil {
				return err
			}
			source, ok := w.Source(l.Source)
			if !ok || !(&estate.Source{EstateSource: source}).Acts() {
				return fmt.Errorf("%w; ask the owner of the rules:\n%s", estate.ErrNoActs, lines(l.Lines))
			}
			for _, line := range l.Lines {
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: until %s: %s\n", work.Clock(time.Now().Add(during)), line)
			}
			if err := prompt.Sure(cmd, "open "+l.Of, yes); err != nil {
				return err
			}
			e, err := open.Engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.LetIn{Tools: e.Tools(), Source: source, Edits: l.Edits, For: during, Session: args[0], Of: l.Of, Read: again(cmd, open, l.Source)}
			if err := e.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) }); err != nil {
				return err
			}
			fmt.Fprintln(cmd.ErrOrStderr(), "meatus: ^C removes the rule now")
			defer again(cmd, open, l.Source)()
			stand := &work.Standing{Tools: e.Tools(), Grants: job.Grants, Failed: func(err error, again time.Duration) {
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: %v; next try in %s\n", err, again.Round(time.Second))
			}}
			return stand.Run(cmd.Context(), func(s work.Step) { live.Step(cmd, s) })
		},
	}
	c.Flags().DurationVar(&during, "for", time.Hour, "the time until the rule is removed")
	c.Flags().StringVar(&from, "from", "", "the public address of this machine, if it differs from its own")
	c.Flags().BoolVar(&yes, "yes", false, "do not ask")
	c.Value("from", "ADDRESS", nil)
	return c
}

// readFrom reads the estates anew, and is the workspace as it is then, seen outside as an address where one is said.
func readFrom(cmd *command.Call, open live.Opener, from string) (*workspace.Workspace, error) {
	here := netip.Addr{}
	if from != "" {
		var err error
		if here, err = netip.ParseAddr(from); err != nil {
			return nil, command.Fail(command.WrongUse, fmt.Errorf("--from: %w", err))
		}
	}
	if _, err := estates(cmd, open, "", false); err != nil {
		return nil, err
	}
	w, err := open.Workspace()
	if err == nil && here.IsValid() {
		w.Here = here
	}
	return w, err
}

// again reads a source anew, all where it is "", also where the command was told to end.
func again(cmd *command.Call, open live.Opener, source string) func() {
	return func() {
		w, err := open.Workspace()
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

func lines(all []string) string {
	text := ""
	for _, line := range all {
		text += "  " + line + "\n"
	}
	return text
}

// listGranted lists the rules that stand for a time.
func listGranted(cmd *command.Call, open live.Opener) error {
	w, err := open.Workspace()
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
	table := &command.Table{}
	for _, g := range all {
		until := "until " + work.Clock(g.Until)
		if g.Failed != "" {
			until += ", could not be removed: " + g.Failed
		}
		table.Row(g.Session, g.Say, until, g.Source)
	}
	return cmd.AnswerTable(all, table)
}

func closePort(open live.Opener) *command.Command {
	c := &command.Command{
		Use:      "disallow [SESSION]",
		Summary:  "remove firewall rules that were added for a limited time",
		Examples: []string{"meatus estate disallow sluice", "meatus estate disallow"},
		JSON:     "print each step as a line of JSON",
		Args:     cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: there is no such rule")
				return nil
			}
			e, err := open.Engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			return e.Do(cmd, &work.TakeBack{Tools: e.Tools(), Grants: standing, Read: again(cmd, open, "")}, func(s work.Step) { live.Step(cmd, s) })
		},
	}
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

func whatIf(open live.Opener) *command.Command {
	var f estateFlags
	var from string
	var undo, yes bool
	c := f.of(&command.Command{
		Use:      "whatif FILE",
		Summary:  "preview a change of firewall rules, or make it",
		Examples: []string{"meatus estate whatif tidy.rules", "meatus estate whatif tidy.rules --yes", "meatus estate whatif --undo --yes"},
		Details: `List the sessions, forwards and routes that a change of firewall rules opens or blocks, and the
ports it exposes. FILE has one change a line, # begins a comment:

  add to shore: lets in tcp 443 from 198.51.100.7
  drop from shore: lets in tcp 22 from everybody

--yes makes the change. --undo previews the reverse of the last change, with --yes it is made.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if undo {
				return cobra.NoArgs(cmd, args)
			}
			return cobra.ExactArgs(1)(cmd, args)
		},
		Run: func(cmd *command.Call, args []string) error {
			w, err := readFrom(cmd, open, from)
			if err != nil {
				return err
			}
			source, err := OneSource(w, f.source)
			if err != nil {
				return err
			}
			edits, err := whatEdits(cmd, w, source.Name, undo, args)
			if err != nil {
				return err
			}
			effects, err := w.WhatIf(source.Name, edits, nil, live.Visits(w))
			if err != nil {
				return err
			}
			if err := answerEffects(cmd, w.Judge(source.Name), source.Name, edits, effects); err != nil || !yes {
				return err
			}
			e, err := open.Engine(cmd, w, nil, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Apply{Tools: e.Tools(), Source: source, Undo: undo, Read: again(cmd, open, source.Name)}
			if !undo {
				job.Edits = edits
			}
			return e.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) })
		},
	})
	c.Flags().StringVar(&from, "from", "", "the public address of this machine, if it differs from its own")
	c.Flags().BoolVar(&undo, "undo", false, "revert the last change made from this workspace")
	c.Flags().BoolVar(&yes, "yes", false, "make the change")
	c.Value("from", "ADDRESS", nil)
	return c
}

// OneSource is the estate of a name, or the only one.
func OneSource(w *workspace.Workspace, name string) (book.EstateSource, error) {
	e, err := w.TheSource(name)
	return e, chooseSource(err)
}

// maxChange is the size limit of a change file, in bytes.
const maxChange = 1 << 20

// whatEdits are the edits of a change file, "-" for standard input, or those that take the last change back.
func whatEdits(cmd *command.Call, w *workspace.Workspace, source string, undo bool, args []string) ([]reach.Edit, error) {
	i := slices.IndexFunc(w.Estates, func(k estate.Kept) bool { return k.Source == source })
	if i < 0 || w.Estates[i].Read.IsZero() {
		return nil, fmt.Errorf("nothing is known of estate %s", source)
	}
	if undo {
		a, err := work.LastApplied(w.Dir, source)
		return a.Opposite(), err
	}
	in, err := cmd.Open(args[0])
	if err != nil {
		return nil, err
	}
	defer in.Close()
	text, err := bounded.Read(in, maxChange)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", args[0], err)
	}
	edits, err := reach.ReadEdits(string(text), &w.Estates[i].Snapshot)
	if err == nil && len(edits) == 0 {
		err = errors.New("it has no change in it")
	}
	if err != nil {
		return nil, command.Fail(command.WrongUse, fmt.Errorf("%s: %w", args[0], err))
	}
	return edits, nil
}

// answerEffects prints what a change does.
func answerEffects(cmd *command.Call, j *reach.Judge, source string, edits []reach.Edit, e reach.Effects) error {
	says, text := e.Say(), ""
	out := whatIfJSON{Source: source, Changes: []string{}, Opens: []string{}, Shuts: []string{}, Exposes: []string{}, Says: append([]string{}, says...)}
	for _, edit := range edits {
		out.Changes = append(out.Changes, j.Line(edit))
		text += j.Line(edit) + "\n"
	}
	if len(says) == 0 {
		says = []string{"no known session, forward or route is opened or blocked"}
	}
	for _, say := range says {
		text += "  " + say + "\n"
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
	return cmd.Answer(out, text)
}
