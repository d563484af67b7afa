// Package files has the commands that move files, compare them, edit them over there, and undo what was done.
package files

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/cargo"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
)

// cargoFlags are the flags of the commands that move files.
type cargoFlags struct {
	rules      cargo.Rules
	links      string
	over       string
	proof      string
	order      string
	rate       string
	keep       time.Duration
	noKeep     bool
	dry        bool
	save       string
	asJSON     bool
	quiet      bool
	super      bool
	watch      bool
	direct     bool
	identities *prompt.Identities
}

// usualCargo are the flags of the commands that take only some of them.
var usualCargo = cargoFlags{links: "keep", over: "older", proof: "cheap", order: "path"}

func (f *cargoFlags) on(c *command.Command) {
	c.JSON = "print the plan, the progress and the result as lines of JSON"
	c.Status = "5 if some files were not copied, 6 if none was"
	flags := c.Flags()
	flags.StringArrayVar(&f.rules.Exclude, "exclude", nil, "skip paths that match a pattern, as *.log, cache/ or data/**/*.tmp (repeatable)")
	flags.StringArrayVar(&f.rules.Include, "include", nil, "copy only files that match a pattern (repeatable)")
	flags.BoolVar(&f.rules.Content, "checksum", false, "compare files by content instead of size and time")
	flags.BoolVar(&f.rules.Owner, "owner", false, "copy owners and all permission bits")
	flags.StringVar(&f.links, "links", "keep", "symbolic links: keep, follow or leave out; links that lead out of the folder are never copied")
	flags.StringVar(&f.over, "over", "older", "files to replace: older, all (newer ones, too) or none")
	flags.StringVar(&f.proof, "proof", "cheap", "files to verify by content: cheap (those with a digest on both sides), all (read back) or none")
	flags.StringVar(&f.order, "order", "path", "the order of files: path, small, large or new first")
	flags.BoolVar(&f.direct, "direct", false, "copy between two remote machines directly, with a key that the first one's session lends")
	flags.BoolVar(&f.rules.Keys, "with-keys", false, "also copy private keys (default: list them and ask)")
	flags.StringVar(&f.rate, "rate", "", "the highest rate per second, as 500kB or 2MB")
	flags.DurationVar(&f.keep, "keep", cargo.DefaultKeep, "how long replaced and removed files are kept for undo")
	flags.BoolVar(&f.noKeep, "no-keep", false, "do not keep replaced and removed files: the transfer cannot be undone")
	flags.BoolVar(&f.dry, "dry-run", false, "print the plan and copy nothing")
	flags.StringVar(&f.save, "save-plan", "", "write the plan to this file and copy nothing; meatus cargo run runs it")
	flags.BoolVar(&f.quiet, "quiet", false, "print errors only")
	flags.BoolVar(&f.super, "sudo", false, "read and write as root on the machine, by sudo without a password")
	c.Value("exclude", "PATTERN", nil)
	c.Value("include", "PATTERN", nil)
	c.Value("links", "HOW", command.Words("keep", "follow", "leave"))
	c.Value("over", "HOW", command.Words("older", "all", "none"))
	c.Value("proof", "HOW", command.Words("cheap", "all", "none"))
	c.Value("order", "HOW", command.Words("path", "small", "large", "new"))
	c.Value("save-plan", "FILE", nil)
	f.identities = prompt.YesIdentity(c)
}

// read takes the flags into rules and options.
func (f *cargoFlags) read() (o cargo.Options, err error) {
	f.rules.Links, f.rules.Over = cargo.Links(f.links), cargo.Over(f.over)
	if err := f.rules.Check(); err != nil {
		return o, err
	}
	proofs := map[string]cargo.Proof{"cheap": cargo.ProveCheap, "all": cargo.ProveAll, "none": cargo.ProveNought}
	orders := map[string]cargo.Order{"path": cargo.ByPath, "small": cargo.SmallFirst, "large": cargo.LargeFirst, "new": cargo.NewFirst}
	var ok bool
	if o.Proof, ok = proofs[f.proof]; !ok {
		return o, fmt.Errorf("contents are compared cheap, all or none, not %q", f.proof)
	}
	if o.Order, ok = orders[f.order]; !ok {
		return o, fmt.Errorf("first goes what is first by path, small, large or new, not %q", f.order)
	}
	if f.rate != "" {
		if o.Rate, err = words.ParseBytes(strings.TrimSuffix(f.rate, "/s")); err != nil {
			return o, err
		}
	}
	if o.Direct = f.direct; o.Direct && o.Rate > 0 {
		return o, errors.New("what goes directly takes another line, which --rate cannot slow down: leave out one of the two")
	}
	if o.Keep = f.keep; f.noKeep {
		o.Keep = -1
	}
	return o, nil
}

// Commands are "meatus send", "fetch", "mirror", "check-files", "edit" and "cargo".
func Commands(open live.Opener) []*command.Command {
	return []*command.Command{send(open), fetch(open), mirrorFolder(open), checkFiles(open), edit(open), records(open)}
}

func send(open live.Opener) *command.Command {
	var f cargoFlags
	c := &command.Command{
		Use:      "send PATH... SESSION:PATH",
		Summary:  "copy files and folders to a machine, and verify them",
		Examples: []string{"meatus send levels.csv tables/ tide-db:/srv/tide/", "meatus send --direct quay:charts reef:charts", "meatus send - archive:dumps/tide.sql < tide.sql"},
		Complete: command.Places,
		Files:    true,
		Details: `Copy files and folders of this machine, or of another session, to a session's machine. A target
that ends with / is a folder to copy into; otherwise it is the new name. PATH - is standard
input.

Each file is uploaded under a temporary name, verified by its SHA-256 digest, and renamed.
Replaced files are kept on the machine for a week: meatus cargo undo restores them. Files that
are newer on the machine are not replaced, and listed.`,
		Args: cobra.MinimumNArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			return moveAll(cmd, open, args[:len(args)-1], args[len(args)-1], &f, false)
		},
	}
	f.on(c)
	return c
}

func fetch(open live.Opener) *command.Command {
	var f cargoFlags
	c := &command.Command{
		Use:      "fetch SESSION:PATH... [PATH]",
		Summary:  "copy files and folders from a machine, and verify them",
		Examples: []string{"meatus fetch archive:/srv/archive/1998 .", "meatus fetch tide-db:dump.sql - > tide.sql"},
		Complete: command.Places,
		Files:    true,
		Details: `Copy files and folders of a session's machine to PATH, or to the current folder. PATH - is
standard output, for one file. Files are verified and kept as meatus send does.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			to := "./"
			if last := args[len(args)-1]; len(args) > 1 && !strings.Contains(last, ":") {
				args, to = args[:len(args)-1], last
			}
			return moveAll(cmd, open, args, to, &f, false)
		},
	}
	f.on(c)
	return c
}

func mirrorFolder(open live.Opener) *command.Command {
	var f cargoFlags
	c := &command.Command{
		Use:      "mirror FROM TO",
		Summary:  "make a folder the same as another, here or remote",
		Examples: []string{"meatus mirror site survey-web:/srv/www --delete --dry-run", "meatus mirror site survey-web:/srv/www --watch"},
		Complete: command.Places,
		Files:    true,
		Details: `Make the folder TO the same as FROM. Each is a local path or SESSION:PATH; both can be remote.
With --delete, files that exist in TO only are removed, and kept for undo.`,
		Args: cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			return moveAll(cmd, open, args[:1], args[1], &f, true)
		},
	}
	f.on(c)
	c.Flags().BoolVar(&f.rules.Delete, "delete", false, "also remove files that exist in TO only")
	c.Flags().BoolVar(&f.watch, "watch", false, "keep running and copy each change of FROM, a local folder, within a second")
	return c
}

// mover moves things for one command.
type mover struct {
	*live.Engine
	ws      *workspace.Workspace
	f       *cargoFlags
	options cargo.Options
	out     io.Writer
	errs    io.Writer
}

// moveAll moves sources to a target, one after the other.
func moveAll(cmd *command.Call, open live.Opener, sources []string, target string, f *cargoFlags, mirror bool) error {
	return withMover(cmd, open, f, func(m *mover) (done int, all error) {
		from, to, err := places(m.ws, sources, target, f.super)
		if err != nil {
			return 0, command.Fail(command.WrongUse, err)
		}
		if mirror {
			from[0].Path, to.Path = itself(from[0].Path), itself(to.Path)
		}
		if len(from) > 1 && !f.watch {
			if n, ok, err := m.moveFiles(cmd, from, to); ok || err != nil {
				return n, err
			}
		}
		for _, one := range from {
			n, err := m.move(cmd, one, to, mirror)
			done += n
			if err != nil && len(from) > 1 && cmd.Context().Err() == nil {
				fmt.Fprintln(m.errs, "meatus: "+sanitize.Text(err.Error(), 2000))
			}
			all = errors.Join(all, err)
		}
		return done, all
	})
}

// itself is a path that means the folder, and not what is put into it.
func itself(path string) string {
	if path == "" {
		return "."
	}
	return cmp.Or(strings.TrimSuffix(path, "/"), "/")
}

// places reads where things are moved from and to.
func places(w *workspace.Workspace, sources []string, target string, super bool) (from []cargo.Place, to cargo.Place, err error) {
	known := func(name string) bool { return w.Book.Session(name) != nil }
	place := func(text string) (cargo.Place, error) {
		p, err := cargo.ParsePlace(text, known)
		p.Super = super && p.Session != ""
		return p, err
	}
	far := false
	for _, s := range sources {
		p, err := place(s)
		if err != nil {
			return nil, to, err
		}
		far = far || p.Session != ""
		from = append(from, p)
	}
	if to, err = place(target); err != nil {
		return nil, to, err
	}
	if !far && to.Session == "" {
		return nil, to, errors.New("both are on this machine: one is written SESSION:PATH")
	}
	if len(from) > 1 && !to.Into() {
		to.Path += "/" // several things go into a folder
	}
	return from, to, nil
}

// cargoStatus is the status that moving ends with.
func cargoStatus(ctx context.Context, err error, done int) error {
	switch {
	case err == nil:
		return nil
	case ctx.Err() != nil:
		return live.Interrupted(ctx, err)
	case done > 0:
		return command.Fail(command.Some, err)
	case command.Status(err) != command.Failed:
		return err
	}
	return command.Fail(command.Nothing, err)
}

// moveFiles moves several files of one folder in one plan, and returns the number moved. ok is false if the paths name
// several folders, or a folder itself.
func (m *mover) moveFiles(cmd *command.Call, from []cargo.Place, to cargo.Place) (done int, ok bool, err error) {
	trees, ok, err := m.Tools().BetweenFiles(cmd.Context(), from, to)
	if err != nil || !ok {
		return 0, ok, err
	}
	defer trees.Close()
	plan, err := trees.Plan(cmd.Context(), m.f.rules, nil)
	if err != nil {
		return 0, true, err
	}
	done, err = m.settle(cmd, trees, plan)
	return done, true, err
}

// settle saves, prints or executes a plan, as the flags say.
func (m *mover) settle(cmd *command.Call, trees *work.Between, plan *cargo.Plan) (int, error) {
	if m.f.save != "" {
		return plan.Sum().By[cargo.Leave].Names, m.savePlan(plan)
	}
	if err := m.show(plan); err != nil {
		return 1, err
	}
	if err := m.askKeys(cmd.Context(), trees, plan); err != nil {
		return 0, err
	}
	if m.f.dry {
		return 1, nil
	}
	return m.carry(cmd, &work.Carry{Tools: m.Tools(), Plan: plan, Options: m.options, Trees: trees})
}

// mostKeysNamed is how many private keys are named before a plan is executed.
const mostKeysNamed = 20

// askKeys names the private keys that a plan sends from this machine, and asks whether they are to go.
func (m *mover) askKeys(ctx context.Context, trees *work.Between, plan *cargo.Plan) error {
	if plan.Rules.Keys {
		return nil
	}
	keys, err := cargo.PrivateKeys(ctx, plan, trees.From, trees.To)
	if err != nil || len(keys) == 0 {
		return err
	}
	for i, name := range keys {
		if m.f.asJSON {
			m.line(map[string]any{"event": "private key", "path": name})
		} else if i < mostKeysNamed {
			fmt.Fprintln(m.errs, cargo.Say(name)+": a private key, which would leave this machine")
		}
	}
	if more := len(keys) - mostKeysNamed; more > 0 && !m.f.asJSON {
		fmt.Fprintln(m.errs, words.Count(more, "more private key"))
	}
	if m.f.dry {
		return nil
	}
	refused := command.Fail(command.WrongUse, fmt.Errorf("nothing was moved: %s would leave this machine; --with-keys sends private keys, --exclude leaves them out", words.Count(len(keys), "private key")))
	if !m.terminal() {
		return refused
	}
	answer, err := prompt.Ask(ctx, "Send "+words.Choose(len(keys), "it", "them")+" all the same? yes or no: ", "there is nobody to ask")
	if err != nil || answer != "yes" {
		return errors.Join(refused, err)
	}
	plan.Rules.Keys = true // also where it is gone on with later
	return nil
}

// move moves one thing, and returns how many names were done.
func (m *mover) move(cmd *command.Call, from, to cargo.Place, mirror bool) (int, error) {
	ctx := cmd.Context()
	if m.f.watch {
		return m.watch(cmd, from, to)
	}
	if from.Path == "-" && from.Session == "" || to.Path == "-" && to.Session == "" {
		return m.pour(cmd, from, to)
	}
	trees, err := m.Tools().Between(ctx, from, to)
	if err != nil {
		return 0, err
	}
	defer trees.Close()
	if mirror && trees.Source != "" {
		return 0, command.Fail(command.WrongUse, fmt.Errorf("%s is no folder: meatus send or fetch moves a file", from))
	}
	plan, err := trees.Plan(ctx, m.f.rules, m.looked())
	m.clear()
	if err != nil {
		return 0, err
	}
	return m.settle(cmd, trees, plan)
}

// carry carries a plan out and tells how far it is.
func (m *mover) carry(cmd *command.Call, job *work.Carry) (int, error) {
	quit := m.follow(job)
	err := m.Do(cmd, job, func(s work.Step) {
		m.clear()
		m.step(s)
	})
	quit()
	left := job.Plan.Sum().Problems
	if err == nil && left > 0 {
		err = fmt.Errorf("%w: %s left", work.ErrSome, words.Count(left, "name"))
	}
	if m.f.asJSON {
		m.line(map[string]any{"event": "end", "done": job.Report.Done, "failed": job.Report.Failed, "left": left, "proven": job.Report.Proven, "plan": job.Plan.ID})
	}
	return job.Report.Done.Names + job.Plan.Same, err
}

// step tells one step of a carry.
func (m *mover) step(s work.Step) {
	if m.f.asJSON {
		l := map[string]any{"event": "step", "say": s.Say}
		if s.Where != "" {
			l["path"] = s.Where
		}
		if s.Err != nil {
			l["error"] = s.Err.Error()
		}
		m.line(l)
		return
	}
	if m.f.quiet && s.Err == nil {
		return
	}
	out := m.errs
	if s.Err == nil && s.Where == "" {
		out = m.out
	}
	if s.Err != nil {
		s.Say += ": " + sanitize.Line(s.Err.Error(), 500)
	}
	if s.Where != "" {
		s.Say = s.Where + ": " + s.Say
	}
	fmt.Fprintln(out, s.Say)
}

func (m *mover) line(v any) {
	command.Line(m.out, v)
}

// terminal tells whether progress is for a person.
func (m *mover) terminal() bool {
	f, ok := m.errs.(*os.File)
	return ok && !m.f.asJSON && !m.f.quiet && term.IsTerminal(int(f.Fd()))
}

// clear takes the line of progress away.
func (m *mover) clear() {
	if m.terminal() {
		fmt.Fprint(m.errs, "\r\x1b[K")
	}
}

// looked tells a person how many names were found, while a plan is made.
func (m *mover) looked() func(cargo.Listed) {
	if !m.terminal() {
		return nil
	}
	last := time.Now()
	return func(l cargo.Listed) {
		if time.Since(last) > 100*time.Millisecond {
			last = time.Now()
			fmt.Fprintf(m.errs, "\r\x1b[K%s looked at", words.Count(l.Known, "name"))
		}
	}
}

// follow tells how far a job is until quit is called.
func (m *mover) follow(job *work.Carry) (quit func()) {
	every := 200 * time.Millisecond
	if m.f.asJSON {
		every = time.Second
	} else if !m.terminal() {
		return func() {}
	}
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tick := time.NewTicker(every)
		defer tick.Stop()
		for {
			select {
			case <-stop:
				m.clear()
				return
			case <-tick.C:
				if p, ok := job.Progress(); ok && !p.Over {
					m.progress(p)
				}
			}
		}
	}()
	return func() {
		close(stop)
		<-done
	}
}

func (m *mover) progress(p cargo.Progress) {
	if m.f.asJSON {
		m.line(map[string]any{"event": "progress", "names": p.NamesDone, "of_names": p.Names, "bytes": p.BytesDone, "of_bytes": p.Bytes, "rate": int64(p.Rate), "waiting": p.Waiting})
		return
	}
	const width = 24
	full := int(p.Share() * width)
	say := fmt.Sprintf("%s%s %3.0f %%  %s of %s  %s/s", strings.Repeat("━", full), strings.Repeat("┄", width-full), p.Share()*100,
		words.Bytes(float64(p.BytesDone)), words.Bytes(float64(p.Bytes)), words.Bytes(p.Rate))
	if p.Left > 0 {
		say += "  " + p.Left.Round(time.Second).String() + " left"
	}
	if p.Waiting {
		say += "  the line is lost"
	}
	fmt.Fprint(m.errs, "\r\x1b[K"+say)
}

// savePlan writes a plan to a file.
func (m *mover) savePlan(p *cargo.Plan) error {
	text, err := json.MarshalIndent(p, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(m.f.save, append(text, '\n'), 0o600)
}

// maxShown is how many lines of a plan are printed.
const maxShown = 2000

// show prints a plan: all of it where nothing else is wanted, what it comes to else.
func (m *mover) show(p *cargo.Plan) error {
	if m.f.asJSON {
		if m.f.dry {
			return command.JSON(m.out, p)
		}
		s := p.Sum()
		m.line(map[string]any{"event": "plan", "plan": p.ID, "make": s.By[cargo.Make], "replace": s.By[cargo.Replace], "settle": s.By[cargo.Settle], "remove": s.By[cargo.Remove], "left": s.Problems, "same": p.Same})
	} else if m.f.dry {
		m.list(p)
	}
	if m.f.asJSON || m.f.quiet {
		return nil
	}
	for _, s := range p.Says() {
		fmt.Fprintln(m.out, s)
	}
	if !m.f.dry {
		m.leaves(p)
	}
	return nil
}

// list prints what a plan does, name by name.
func (m *mover) list(p *cargo.Plan) {
	shown := 0
	for path, items := range p.Folders() {
		for i := range items {
			if shown++; shown > maxShown {
				fmt.Fprintln(m.out, "… and more; --json has all of it")
				return
			}
			fmt.Fprintln(m.out, items[i].Line(path))
		}
	}
}

// leaves tells what is left alone, and why.
func (m *mover) leaves(p *cargo.Plan) {
	shown := 0
	for path, items := range p.Folders() {
		for i := range items {
			if items[i].Act != cargo.Leave {
				continue
			}
			if shown++; shown > 20 {
				fmt.Fprintln(m.errs, "… and more; --dry-run has all of them")
				return
			}
			fmt.Fprintln(m.errs, items[i].Line(path))
		}
	}
}

// pour moves standard input to a file, or a file to standard output.
func (m *mover) pour(cmd *command.Call, from, to cargo.Place) (int, error) {
	ctx := cmd.Context()
	if m.f.watch {
		return m.watch(cmd, from, to)
	}
	if from.Path == "-" && to.Path == "-" {
		return 0, command.Fail(command.WrongUse, errors.New("from standard input to standard output nothing need be moved"))
	}
	if to.Path == "-" {
		end, err := m.Tools().Open(ctx, from)
		if err != nil {
			return 0, err
		}
		defer end.Close()
		_, err = cargo.Drain(ctx, end, "", m.out, m.options)
		return 0, err
	}
	if to.Into() {
		return 0, command.Fail(command.WrongUse, fmt.Errorf("standard input has no name: %s needs one", to))
	}
	trees, err := m.Tools().ForOne(ctx, to)
	if err != nil {
		return 0, err
	}
	defer trees.Close()
	n, err := cargo.Pour(ctx, cmd.InOrStdin(), trees.To, trees.Target, m.options)
	if err == nil && !m.f.quiet {
		fmt.Fprintf(m.errs, "%s in %s\n", words.Bytes(float64(n)), to)
	}
	return 1, err
}
