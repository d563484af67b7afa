package check

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/mend"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/walk"
	"meatus/core/words"
)

// problemJSON is a problem as "meatus mend --json" promises it.
type problemJSON struct {
	Session  string       `json:"session"`
	Hop      string       `json:"hop"`
	Gate     string       `json:"gate"`
	Verdict  gate.Verdict `json:"verdict"`
	Reason   string       `json:"reason"`
	Remedies []remedyJSON `json:"remedies"`
}

// remedyJSON is one remedy of a problem.
type remedyJSON struct {
	Say     string   `json:"say"`
	Why     string   `json:"why,omitempty"`
	Changes []string `json:"changes"`
	Mends   bool     `json:"mends"`             // meatus mend does it
	Command string   `json:"command,omitempty"` // the command that does it instead
}

// mendedJSON is what "meatus mend --json" prints of a remedy that was done.
type mendedJSON struct {
	Session string       `json:"session"`
	Remedy  string       `json:"remedy"`
	Done    string       `json:"done"`
	Verdict gate.Verdict `json:"verdict"` // of the session after it
	Failed  string       `json:"failed,omitempty"`
}

// Mend is "meatus mend".
func Mend(open live.Opener) *command.Command {
	var kind, remedy string
	var listed, yes bool
	var identities *prompt.Identities
	var depth func() (walk.Depth, error)
	c := &command.Command{
		Use:      "mend [NAME]",
		Summary:  "list remedies for blocked sessions, and apply one",
		Examples: []string{"meatus mend", "meatus mend tide-db --depth login", "meatus mend gauge-2 --gate key --yes", "meatus mend gauge-2 --remedy 'log in as keeper' --yes"},
		Status:   "3 if the problem has no remedy that this command applies",
		JSON:     "print an array of problems with their remedies, or an object with the result",
		Complete: command.First(1, command.Sessions, nil),
		Details: `List what blocks sessions, with the remedies for each problem and the changes that each makes. On
a terminal, choose one by its number. With --yes the first remedy that this command applies is
applied without a question, to one session; --gate and --remedy choose another.

Remedies that take time or change firewall rules have a command of their own, which is printed.`,
		Args: cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			at, err := depth()
			if err != nil {
				return err
			}
			if kind != "" && !slices.ContainsFunc(gate.Kinds[:], func(k gate.Kind) bool { return k.String() == kind }) {
				return command.Fail(command.WrongUse, fmt.Errorf("unknown gate %q; the gates are %s", sanitize.Line(kind, 40), strings.Join(gates(), ", ")))
			}
			if yes && len(args) == 0 {
				return command.Fail(command.WrongUse, errors.New("name the session to mend with --yes"))
			}
			all, broken, err := problems(cmd, open, identities, args, at)
			if err != nil {
				return err
			}
			if kind != "" {
				all = slices.DeleteFunc(all, func(p mend.Problem) bool { return p.Gate.Kind.String() != kind })
			}
			if remedy != "" {
				all = only(all, remedy)
			}
			if listed || len(all) == 0 || cmd.JSON && !yes {
				text := listing(all, nil)
				if len(all) == 0 && len(broken) == 0 {
					text = "no problems found\n"
				}
				if err := cmd.Answer(told(all), text); err != nil {
					return err
				}
				return unsaid(cmd, broken, remedy, len(all))
			}
			choice, err := choose(cmd, all, yes)
			if err != nil || choice == nil {
				return err
			}
			return apply(cmd, open, *choice)
		},
	}
	f := c.Flags()
	f.StringVar(&kind, "gate", "", "only problems of this gate, as key or login")
	f.StringVar(&remedy, "remedy", "", "only the remedy with this text")
	f.BoolVar(&listed, "list", false, "only list problems and remedies")
	f.BoolVar(&yes, "yes", false, "apply the first remedy without asking")
	depth = depthFlag(c)
	c.Value("gate", "GATE", command.Words(gates()...))
	identities = prompt.YesIdentity(c)
	return c
}

func gates() []string {
	var names []string
	for _, k := range gate.Kinds {
		names = append(names, k.String())
	}
	return names
}

// problems checks sessions, all of them without names, and finds their problems. A problem that several sessions have at one
// hop is listed once. Broken are the sessions that cannot be checked, with why.
func problems(cmd *command.Call, open live.Opener, identities *prompt.Identities, names []string, depth walk.Depth) (all []mend.Problem, broken []string, err error) {
	w, err := open.Workspace()
	if err != nil {
		return nil, nil, err
	}
	for _, name := range names {
		if w.Book.Session(name) == nil {
			return nil, nil, fmt.Errorf("%w %q", route.ErrNoSession, sanitize.Line(name, 60))
		}
	}
	if len(names) == 0 {
		names = w.Book.Names()
	}
	e, err := open.Engine(cmd, w, identities, engine.Options{Linger: live.Linger}, nil)
	if err != nil {
		return nil, nil, err
	}
	defer e.Close()
	seen := map[string]bool{}
	for _, found := range e.Touch(cmd.Context(), names, depth) {
		if found.Report.Broken != "" {
			broken = append(broken, found.Report.Session+": "+found.Report.Broken)
		}
		for _, p := range mend.Problems(e.Workspace(), found) {
			if at := p.Hop + "\n" + p.Gate.Kind.String() + "\n" + p.Gate.Reason; !seen[at] {
				seen[at] = true
				all = append(all, p)
			}
		}
	}
	return all, broken, live.Interrupted(cmd.Context(), nil)
}

// only keeps the problems with a remedy of that text, and of those that remedy.
func only(all []mend.Problem, remedy string) []mend.Problem {
	var left []mend.Problem
	for _, p := range all {
		p.Ways = slices.DeleteFunc(slices.Clone(p.Ways), func(w mend.Way) bool { return w.Say != remedy })
		if len(p.Ways) > 0 {
			left = append(left, p)
		}
	}
	return left
}

// unsaid tells of sessions that cannot be checked, and fails where a remedy was named that there is not.
func unsaid(cmd *command.Call, broken []string, remedy string, found int) error {
	for _, b := range broken {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+sanitize.Line(b, 400)+"; correct the sessions file")
	}
	switch {
	case remedy != "" && found == 0:
		return command.Fail(command.Blocked, fmt.Errorf("there is no remedy %q now", sanitize.Line(remedy, 200)))
	case len(broken) > 0:
		return command.Exit(command.Blocked)
	}
	return nil
}

// told are problems as JSON.
func told(all []mend.Problem) []problemJSON {
	list := []problemJSON{}
	for _, p := range all {
		one := problemJSON{p.Session, p.Hop, p.Gate.Kind.String(), p.Gate.Verdict, p.Gate.Reason, []remedyJSON{}}
		for _, w := range p.Ways {
			one.Remedies = append(one.Remedies, remedyJSON{w.Say, w.Why, append([]string{}, w.Preview...), w.Done(), p.Command(w)})
		}
		list = append(list, one)
	}
	return list
}

// chosen is a remedy with its problem.
type chosen struct {
	mend.Problem
	mend.Way
}

// listing prints problems with their remedies. Number, which may be nil, is called for each remedy that can be applied, and
// gives the number to show before it.
func listing(all []mend.Problem, number func(chosen) int) string {
	var b strings.Builder
	for _, p := range all {
		line := func(before, text string) { b.WriteString(before + sanitize.Line(text, 400) + "\n") }
		line("", fmt.Sprintf("%s: %s, gate %s: %s", p.Session, p.Gate.Verdict.Plain(), at(p), p.Gate.Reason))
		for _, w := range p.Ways {
			mark := "   - "
			if w.Done() && number != nil {
				mark = fmt.Sprintf("%4d ", number(chosen{p, w}))
			}
			say := w.Say
			if w.Why != "" {
				say += " (" + w.Why + ")"
			}
			line(mark, say)
			for _, change := range w.Preview {
				line("       ", change)
			}
			if command := p.Command(w); command != "" {
				line("       run: ", command)
			}
		}
		if len(p.Ways) == 0 && p.Gate.Remedy.Say != "" {
			line("   - ", p.Gate.Remedy.Say)
		}
	}
	return b.String()
}

// at names the gate of a problem, with its hop where that is not the session's own machine.
func at(p mend.Problem) string {
	if p.Hop == p.Session {
		return p.Gate.Kind.String()
	}
	return p.Gate.Kind.String() + " of " + p.Hop
}

// choose chooses a remedy: the first that is applied here with yes, else the one that a person names by its number.
func choose(cmd *command.Call, all []mend.Problem, yes bool) (*chosen, error) {
	var can []chosen
	text := listing(all, func(c chosen) int { can = append(can, c); return len(can) })
	if len(can) == 0 {
		fmt.Fprint(cmd.ErrOrStderr(), text)
		return nil, command.Fail(command.Blocked, errors.New("none of these remedies is applied by meatus mend"))
	}
	if yes {
		return &can[0], nil
	}
	fmt.Fprint(cmd.OutOrStdout(), text)
	answer, err := prompt.Ask(cmd.Context(), "Number of the remedy to apply, enter for none: ", "there is nobody to ask which remedy to apply; choose with --list, then pass --yes with --gate or --remedy")
	if err != nil || answer == "" {
		return nil, err
	}
	n, err := strconv.Atoi(strings.TrimSpace(answer))
	if err != nil || n < 1 || n > len(can) {
		return nil, command.Fail(command.WrongUse, fmt.Errorf("%q is not a number from 1 to %d; nothing was changed", sanitize.Line(answer, 20), len(can)))
	}
	return &can[n-1], nil
}

// apply applies a remedy, and tells how the session is afterwards.
func apply(cmd *command.Call, open live.Opener, c chosen) error {
	w, err := open.Workspace()
	if err != nil {
		return err
	}
	way, ok := c.Problem.Again(w, c.Way) // a person may have taken their time
	if !ok {
		return command.Fail(command.Blocked, fmt.Errorf("%s: %s or its files changed meanwhile; nothing was changed", c.Way.Say, c.Hop))
	}
	did, failed := way.Do()
	if did.Say == "" && failed != nil {
		return command.Fail(command.Blocked, fmt.Errorf("%s: %w", c.Way.Say, failed))
	}
	if w, err = open.Workspace(); err != nil {
		return err
	}
	entry := trail.Entry{Kind: trail.Mend, Session: c.Session, Say: did.Say}
	if failed != nil {
		entry.Failed = failed.Error()
	}
	live.Record(cmd, w, entry)
	now, report := w.Check(c.Session, w.Knowledge())
	out := mendedJSON{Session: c.Session, Remedy: c.Way.Say, Done: did.Say, Verdict: report.Verdict()}
	text := sanitize.Line(did.Say, 400) + "\n"
	if failed != nil {
		out.Failed = failed.Error()
		text += "meatus: " + sanitize.Line(failed.Error(), 400) + "\n"
	}
	if left := mend.Problems(w, walk.Touched{Report: report, Route: now}); len(left) > 0 {
		text += fmt.Sprintf("%s left: %s\n", words.Count(len(left), "problem"), left[0].Gate.Reason)
	}
	if err := cmd.Answer(out, text); err != nil {
		return err
	}
	if failed != nil {
		return command.Exit(command.Failed)
	}
	return nil
}
