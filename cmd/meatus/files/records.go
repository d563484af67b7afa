package files

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/engine"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
)

func records(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "cargo",
		Summary:  "list, resume, undo and clean up file transfers",
		Examples: []string{"meatus cargo list", "meatus cargo undo"},
		Commands: []*command.Command{list(open), carry(open), resume(open), undo(open), forget(open), hand()},
	}
}

// hand is what one machine runs for [cargo.Options] Direct of another.
func hand() *command.Command {
	return &command.Command{
		Use:      "hand ADDRESS LOGIN HOST-KEY COMMAND",
		Summary:  "run a remote command with a forwarded key",
		Examples: []string{"meatus cargo hand reef:22 keeper \"$(cat reef.pub)\" 'tar -xf -' < charts.tar"},
		Details: `Log in to ADDRESS, as HOST:PORT, with the agent of SSH_AUTH_SOCK only; the server must have
HOST-KEY. "meatus send --direct" runs this command on the first of the two machines.`,
		Args: cobra.ExactArgs(4),
		Run: func(cmd *command.Call, args []string) error {
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

func list(open live.Opener) *command.Command {
	c := &command.Command{
		Use:      "list",
		Summary:  "list file transfers, newest first",
		Examples: []string{"meatus cargo list --json"},
		JSON:     "print a list of objects",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			w, err := open.Workspace()
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
			out := &command.Table{}
			for i, r := range list {
				out.Row(r.Plan, records[i].Began.Local().Format("2 Jan 15:04"), r.State, fmt.Sprintf("%d of %d", r.Done, r.Of), fmt.Sprintf("%s → %s", cargo.Say(r.From), cargo.Say(r.To)))
			}
			if len(list) == 0 && !cmd.JSON {
				fmt.Fprintln(cmd.OutOrStdout(), "nothing was moved")
			}
			return cmd.AnswerTable(list, out)
		},
	}
	return c
}

func carry(open live.Opener) *command.Command {
	var f cargoFlags
	c := &command.Command{
		Use:      "run FILE",
		Summary:  "run a transfer plan saved with --save-plan",
		Examples: []string{"meatus cargo run tables.plan"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			text, err := os.ReadFile(args[0])
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			plan := &cargo.Plan{}
			if err := json.Unmarshal(text, plan); err != nil {
				return command.Fail(command.WrongUse, fmt.Errorf("%s: %w", args[0], err))
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
func withMover(cmd *command.Call, open live.Opener, f *cargoFlags, do func(*mover) (done int, err error)) error {
	live.CollectEarly()
	f.asJSON = cmd.JSON
	options, err := f.read()
	if err != nil {
		return command.Fail(command.WrongUse, err)
	}
	w, err := open.Workspace()
	if err != nil {
		return err
	}
	e, err := open.Engine(cmd, w, f.identities, engine.Options{}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	done, err := do(&mover{Engine: e, ws: w, f: f, options: options, out: cmd.OutOrStdout(), errs: cmd.ErrOrStderr()})
	return cargoStatus(cmd.Context(), err, done)
}

// recordFor is the record that is meant: the latest that fits where no plan is named.
func recordFor(dir string, args []string, fits func(*cargo.Record) bool, none string) (*cargo.Record, error) {
	if len(args) > 0 {
		r, err := cargo.ReadRecord(dir, args[0])
		if err != nil {
			return nil, command.Fail(command.WrongUse, fmt.Errorf("there is no plan %s; meatus cargo list has those there are: %w", sanitize.Line(args[0], 60), err))
		}
		if !fits(r) {
			return nil, command.Fail(command.WrongUse, fmt.Errorf("%s is %s: %s", args[0], r.State(), none))
		}
		return r, nil
	}
	records, _ := cargo.Records(dir)
	for _, r := range records {
		if fits(r) {
			return r, nil
		}
	}
	return nil, command.Fail(command.WrongUse, errors.New(none))
}

func resume(open live.Opener) *command.Command {
	var f cargoFlags
	c := &command.Command{
		Use:      "resume [PLAN]",
		Summary:  "continue an interrupted file transfer",
		Examples: []string{"meatus cargo resume"},
		Args:     cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
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

func undo(open live.Opener) *command.Command {
	f := usualCargo
	c := &command.Command{
		Use:      "undo [PLAN]",
		Summary:  "undo a file transfer: restore what it replaced or removed",
		Examples: []string{"meatus cargo undo", "meatus cargo undo 3rmr6itycya6"},
		JSON:     "print each step as a line of JSON",
		Details: `Undo the latest transfer, or PLAN: replaced and removed files are restored, new files are
removed. Files that changed since the transfer are left alone and listed.`,
		Args: cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				r, err := recordFor(cargo.Dir(m.ws.Dir), args, func(r *cargo.Record) bool { return !r.Undone }, "nothing is left to undo")
				if err != nil {
					return 0, err
				}
				job := &work.UndoCargo{Tools: m.Tools(), Plan: r.Plan}
				err = m.Do(cmd, job, m.step)
				return job.Report.Done.Names, err
			})
		},
	}
	f.identities = prompt.YesIdentity(c)
	return c
}

func forget(open live.Opener) *command.Command {
	f := usualCargo
	c := &command.Command{
		Use:      "forget [PLAN]",
		Summary:  "give up an interrupted transfer and delete its partial files",
		Examples: []string{"meatus cargo forget 3rmr6itycya6"},
		Args:     cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				r, err := recordFor(cargo.Dir(m.ws.Dir), args, func(r *cargo.Record) bool { return !r.Over }, "nothing is begun that has not ended")
				if err != nil {
					return 0, err
				}
				return 1, m.Do(cmd, &work.ForgetCargo{Tools: m.Tools(), Plan: r.Plan}, m.step)
			})
		},
	}
	f.identities = prompt.YesIdentity(c)
	return c
}

func checkFiles(open live.Opener) *command.Command {
	f := usualCargo
	var write, check string
	c := &command.Command{
		Use:      "check-files FROM [TO]",
		Status:   "5 if they differ, 6 if they cannot be compared",
		Summary:  "compare two folders, or check files against digests",
		Examples: []string{"meatus check-files tables archive:tables", "meatus check-files archive:/srv/archive --write archive.sha256"},
		Complete: command.Places,
		JSON:     "print the differences as the plan that would make them equal",
		Files:    true,
		Details: `Compare FROM with TO by the SHA-256 digests of their files. With --write FILE, write the
digests of FROM in two columns instead; with --against FILE, check FROM against such a list.`,
		Args: cobra.RangeArgs(1, 2),
		Run: func(cmd *command.Call, args []string) error {
			if (len(args) == 2) == (write != "" || check != "") || write != "" && check != "" {
				return command.Fail(command.WrongUse, errors.New("name two folders, or one and --write or --against"))
			}
			return withMover(cmd, open, &f, func(m *mover) (int, error) {
				if len(args) == 2 {
					return m.compare(cmd.Context(), args[0], args[1])
				}
				return m.manifest(cmd, args[0], write, check)
			})
		},
	}
	f.identities = prompt.YesIdentity(c)
	flags := c.Flags()
	flags.StringVar(&write, "write", "", "write the digests of FROM to this file; - is standard output")
	flags.StringVar(&check, "against", "", "check FROM against this list of digests; - is standard input")
	flags.StringArrayVar(&f.rules.Exclude, "exclude", nil, "skip paths that match a pattern (repeatable)")
	flags.StringArrayVar(&f.rules.Include, "include", nil, "copy only files that match a pattern (repeatable)")
	flags.BoolVar(&f.super, "sudo", false, "read as root on the machine, by sudo without a password")
	c.Value("write", "FILE", nil)
	c.Value("against", "FILE", nil)
	c.Value("exclude", "PATTERN", nil)
	c.Value("include", "PATTERN", nil)
	return c
}

// compare compares two trees by content.
func (m *mover) compare(ctx context.Context, from, to string) (int, error) {
	a, b, err := places(m.ws, []string{from}, to, m.f.super)
	if err != nil {
		return 0, command.Fail(command.WrongUse, err)
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
		err = command.JSON(m.out, plan)
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
func (m *mover) manifest(cmd *command.Call, at, write, check string) (int, error) {
	ctx := cmd.Context()
	place, err := cargo.ParsePlace(at, func(name string) bool { return m.ws.Book.Session(name) != nil })
	if err != nil {
		return 0, command.Fail(command.WrongUse, err)
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
			return 0, command.Fail(command.WrongUse, err)
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
