package main

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/engine"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
)

func cargoCommand(open opener) *cobra.Command {
	c := &cobra.Command{
		Use:   "cargo",
		Short: "what was moved: gone on with, undone, cleared up",
		Args:  cobra.NoArgs,
	}
	c.AddCommand(cargoList(open), cargoCarry(open), cargoResume(open), cargoUndo(open), cargoForget(open), cargoHand())
	return c
}

// cargoHand is what one machine runs for [cargo.Options] Direct of another.
func cargoHand() *cobra.Command {
	return &cobra.Command{
		Use:   "hand ADDRESS LOGIN HOST-KEY COMMAND",
		Short: "give standard input to a command of another machine, with a lent key",
		Long: `Give standard input to a command of the machine at ADDRESS, as HOST:PORT, which has to
show HOST-KEY. The agent that SSH_AUTH_SOCK names logs in, and nothing else of this
account does. It is what "meatus send --direct" runs at the machine that lends a key.`,
		Args: cobra.ExactArgs(4),
		RunE: func(cmd *cobra.Command, args []string) error {
			var dialer net.Dialer
			conn, err := dialer.DialContext(cmd.Context(), "unix", os.Getenv("SSH_AUTH_SOCK"))
			if err != nil {
				return fmt.Errorf("no key is lent here: %w", err)
			}
			return ends.HandOver(cmd.Context(), cmd.InOrStdin(), ends.Handover{Address: args[0], User: args[1], HostKey: args[2], Command: args[3]}, conn)
		},
	}
}

// recordJSON is a record as it is printed.
type recordJSON struct {
	Plan   string `json:"plan"`
	Began  string `json:"began"`
	From   string `json:"from"`
	To     string `json:"to"`
	Done   int    `json:"done"`
	Of     int    `json:"of"`
	State  string `json:"state"`
	Moves  int64  `json:"moves"`
	Folder string `json:"aside"`
}

func recordOf(r *cargo.Record) recordJSON {
	s := r.Plan.Sum()
	of := 0
	for item := range r.Plan.Items() {
		if item.Act != cargo.Leave {
			of++
		}
	}
	return recordJSON{r.Plan.ID, r.Began.Format("2006-01-02T15:04:05Z"), r.Plan.From.String(), r.Plan.To.String(), r.Done(), of, r.State(), s.Moves, r.Folder}
}

func cargoList(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "list",
		Short: "what was moved, the latest first, and what can still be done about it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			records, errs := cargo.Records(cargo.Dir(w.Dir))
			for _, err := range errs {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
			}
			list := make([]recordJSON, len(records))
			for i, r := range records {
				list[i] = recordOf(r)
			}
			if asJSON {
				return printJSON(cmd.OutOrStdout(), list)
			}
			out := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for i, r := range list {
				fmt.Fprintf(out, "%s\t%s\t%s\t%d of %d\t%s → %s\n", r.Plan, records[i].Began.Local().Format("2 Jan 15:04"), r.State, r.Done, r.Of, cargo.Say(r.From), cargo.Say(r.To))
			}
			if len(list) == 0 {
				fmt.Fprintln(cmd.OutOrStdout(), "nothing was moved")
			}
			return out.Flush()
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print a list of objects")
	return c
}

func cargoCarry(open opener) *cobra.Command {
	var f cargoFlags
	c := &cobra.Command{
		Use:   "carry FILE",
		Short: "carry out a plan that was saved with --save-plan; what has changed since is left, and told",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			plan := &cargo.Plan{}
			if err := json.Unmarshal(text, plan); err != nil {
				return &statusError{statusWrongUse, fmt.Errorf("%s: %w", args[0], err)}
			}
			plan.Rules.Keys = f.rules.Keys // the flag alone decides, not the saved plan
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				return m.carry(cmd, &work.Carry{Tools: m.Tools(), Plan: plan, Options: m.options})
			})
		},
	}
	f.on(c)
	return c
}

// withMover does something with what moves files.
func withMover(cmd *cobra.Command, open opener, f *cargoFlags, do func(*mover) (done int, err error)) error {
	collectEarly()
	options, err := f.read()
	if err != nil {
		return &statusError{statusWrongUse, err}
	}
	w, err := open.workspace()
	if err != nil {
		return err
	}
	e, err := open.engine(cmd, w, f.identities, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	done, err := do(&mover{running: e, ws: w, f: f, options: options, out: cmd.OutOrStdout(), errs: cmd.ErrOrStderr()})
	return cargoStatus(cmd.Context(), err, done)
}

// recordFor is the record that is meant: the latest that fits where no plan is named.
func recordFor(dir string, args []string, fits func(*cargo.Record) bool, none string) (*cargo.Record, error) {
	if len(args) > 0 {
		r, err := cargo.ReadRecord(dir, args[0])
		if err != nil {
			return nil, &statusError{statusWrongUse, fmt.Errorf("there is no plan %s; meatus cargo list has those there are: %w", sanitize.Line(args[0], 60), err)}
		}
		if !fits(r) {
			return nil, &statusError{statusWrongUse, fmt.Errorf("%s is %s: %s", args[0], r.State(), none)}
		}
		return r, nil
	}
	records, _ := cargo.Records(dir)
	for _, r := range records {
		if fits(r) {
			return r, nil
		}
	}
	return nil, &statusError{statusWrongUse, errors.New(none)}
}

func cargoResume(open opener) *cobra.Command {
	var f cargoFlags
	c := &cobra.Command{
		Use:   "resume [PLAN]",
		Short: "go on with what was begun and not ended, from what has arrived",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				r, err := recordFor(cargo.Dir(m.ws.Dir), args, func(r *cargo.Record) bool { return !r.Over && !r.Undone }, "nothing waits to be gone on with")
				if err != nil {
					return 0, err
				}
				r.Plan.Rules.Keys = r.Plan.Rules.Keys || f.rules.Keys
				return m.carry(cmd, &work.Carry{Tools: m.Tools(), Plan: r.Plan, Options: m.options, Resume: true})
			})
		},
	}
	f.on(c)
	return c
}

func cargoUndo(open opener) *cobra.Command {
	f := usualCargo
	c := &cobra.Command{
		Use:   "undo [PLAN]",
		Short: "bring back what was replaced or removed, and take away what was made",
		Long: `undo takes back what the latest move did, or that of PLAN: what was replaced or
removed comes back from where it was put aside, what was made is put aside. What
has changed since is left, and told.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				r, err := recordFor(cargo.Dir(m.ws.Dir), args, func(r *cargo.Record) bool { return !r.Undone }, "nothing is left to undo")
				if err != nil {
					return 0, err
				}
				job := &work.UndoCargo{Tools: m.Tools(), Plan: r.Plan}
				err = m.do(cmd, job, m.step)
				return job.Report.Done.Names, err
			})
		},
	}
	f.identities = yesIdentity(c)
	c.Flags().BoolVar(&f.asJSON, "json", false, "print each step as a line of JSON")
	return c
}

func cargoForget(open opener) *cobra.Command {
	f := usualCargo
	c := &cobra.Command{
		Use:   "forget [PLAN]",
		Short: "clear up what was begun and is not to be gone on with",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				r, err := recordFor(cargo.Dir(m.ws.Dir), args, func(r *cargo.Record) bool { return !r.Over }, "nothing is begun that has not ended")
				if err != nil {
					return 0, err
				}
				return 1, m.do(cmd, &work.ForgetCargo{Tools: m.Tools(), Plan: r.Plan}, m.step)
			})
		},
	}
	f.identities = yesIdentity(c)
	return c
}

func checkFilesCommand(open opener) *cobra.Command {
	f := usualCargo
	var write, check string
	c := &cobra.Command{
		Use:   "check-files FROM [TO]",
		Short: "compare two folders by content and move nothing; or write and check a list of digests",
		Long: `check-files compares FROM with TO by the SHA-256 digests of their files and moves
nothing. With --write FILE it writes the digests of FROM in the usual two columns
instead, with --against FILE it checks FROM by such a list; - is standard output
and input.

Status 0: they are the same; 5: they differ; 6: they cannot be compared.`,
		Args: cobra.RangeArgs(1, 2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 2) == (write != "" || check != "") || write != "" && check != "" {
				return &statusError{statusWrongUse, errors.New("name two folders, or one and --write or --against")}
			}
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				if len(args) == 2 {
					return m.compare(cmd.Context(), args[0], args[1])
				}
				return m.manifest(cmd, args[0], write, check)
			})
		},
	}
	f.identities = yesIdentity(c)
	flags := c.Flags()
	flags.StringVar(&write, "write", "", "write the digests of FROM to a file")
	flags.StringVar(&check, "against", "", "check FROM by a list of digests")
	flags.StringArrayVar(&f.rules.Exclude, "exclude", nil, "leave out what fits a pattern (repeatable)")
	flags.StringArrayVar(&f.rules.Include, "include", nil, "take only files that fit a pattern (repeatable)")
	flags.BoolVar(&f.super, "sudo", false, "read over there with the superuser's right, where sudo asks for no password")
	flags.BoolVar(&f.asJSON, "json", false, "print the differences as the plan that would mend them")
	return c
}

// compare compares two trees by content.
func (m *mover) compare(ctx context.Context, from, to string) (int, error) {
	a, b, err := places(m.ws, []string{from}, to, m.f.super)
	if err != nil {
		return 0, &statusError{statusWrongUse, err}
	}
	b.Path = strings.TrimSuffix(b.Path, "/")
	if b.Path == "" {
		b.Path = "."
	}
	trees, err := m.Tools().Between(ctx, a[0], b)
	if err != nil {
		return 0, err
	}
	defer trees.Close()
	m.f.rules.Content, m.f.rules.Delete, m.f.rules.Over = true, true, cargo.OverAll
	plan, err := trees.Plan(ctx, m.f.rules, m.looked())
	m.clear()
	if err != nil {
		return 0, err
	}
	if m.f.asJSON {
		err = printJSON(m.out, plan)
	} else {
		for _, d := range plan.Differences() {
			fmt.Fprintln(m.out, d)
		}
		fmt.Fprintf(m.out, "%s the same\n", words.Count(plan.Same, "name"))
	}
	if err == nil && len(plan.Batches) > 0 {
		return 1, fmt.Errorf("they differ")
	}
	return 1, err
}

// manifest writes a list of digests, or checks a tree by one.
func (m *mover) manifest(cmd *cobra.Command, at, write, check string) (int, error) {
	ctx := cmd.Context()
	place, err := cargo.ParsePlace(at, func(name string) bool { return m.ws.Book.Session(name) != nil })
	if err != nil {
		return 0, &statusError{statusWrongUse, err}
	}
	place.Super = m.f.super && place.Session != ""
	end, err := m.Tools().Open(ctx, place)
	if err != nil {
		return 0, err
	}
	defer end.Close()
	if write != "" {
		var text strings.Builder
		n, problems, err := cargo.WriteManifest(ctx, end, m.f.rules, &text)
		if err != nil {
			return 0, err
		}
		if write == "-" {
			_, err = io.WriteString(m.out, text.String())
		} else {
			err = os.WriteFile(write, []byte(text.String()), 0o644)
		}
		return n, errors.Join(err, m.wrong(problems, "could not be read"))
	}
	in := cmd.InOrStdin()
	if check != "-" {
		file, err := os.Open(check)
		if err != nil {
			return 0, &statusError{statusWrongUse, err}
		}
		defer file.Close()
		in = file
	}
	right, wrong, err := cargo.CheckManifest(ctx, end, m.f.rules, in)
	if err != nil {
		return 0, err
	}
	fmt.Fprintf(m.out, "%s as the list has it\n", words.Count(right, "file"))
	return 1, m.wrong(wrong, "not as the list has it")
}

// wrong tells files that are not as they should be.
func (m *mover) wrong(all []cargo.Failure, what string) error {
	for _, f := range all {
		fmt.Fprintf(m.out, "%s: %s\n", cargo.Say(f.Path), sanitize.Line(f.Err.Error(), 300))
	}
	if len(all) == 0 {
		return nil
	}
	return fmt.Errorf("%s %s", words.Count(len(all), "file"), what)
}
