package work

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"
	"sync/atomic"
	"time"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/walk"
	"meatus/core/words"
)

// Open opens the tree at a place.
func (t Tools) Open(ctx context.Context, p cargo.Place) (ends.End, error) {
	if p.Session == "" {
		here, err := ends.OpenHere(p.Path)
		if err != nil {
			return nil, err
		}
		return here, nil
	}
	r, err := t.Workspace().Planner().Plan(p.Session)
	if err != nil {
		return nil, err
	}
	there, err := ends.OpenThere(ctx, ends.Options{Session: p.Session, Super: p.Super, Lanes: r.Target().Links, Walk: func(ctx context.Context, lane int, again bool) (*walk.Passage, error) {
		way := r
		if lane > 0 {
			way = r.AtEnd(func(last *route.Hop) { last.Lane = lane })
		}
		if again {
			return t.Walker.Await(ctx, way, walk.WaitLimit)
		}
		return t.Walker.Walk(ctx, way)
	}, Lent: t.lent}, p.Path)
	if err != nil {
		return nil, err
	}
	return there, nil
}

// lent begins a command that keys are lent to.
func (t Tools) lent(ctx context.Context, p *walk.Passage, command string) (*remote.Program, error) {
	if t.Programs == nil {
		return nil, errors.New("nothing is lent here")
	}
	return t.Programs.Start(ctx, p, command, nil)
}

// Between is two trees that something is moved between. Source and Target are the names of one
// file that is moved; "" where the trees are.
type Between struct {
	From, To       ends.End
	Source, Target string
	Names          []string // of several files that are moved by one plan, under their names
}

// Between opens two places for something to be moved from the one to the other. A file, or a
// folder where the target is one to be put into, keeps its name; the target's folder has to be
// there. The caller closes it.
func (t Tools) Between(ctx context.Context, from, to cargo.Place) (*Between, error) {
	b := &Between{}
	var err error
	if b.From, err = t.Open(ctx, from); err != nil {
		return nil, err
	}
	what, err := b.From.Lstat(ctx, "")
	if err != nil {
		b.Close()
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	base := cargo.Base(b.From)
	if what.Kind != ends.Folder {
		b.Source, b.Target = base, base
		if b.From, err = reroot(b.From, path.Dir(b.From.Root())); err != nil {
			return nil, err
		}
	} else if to.Into() {
		to = to.Under(base)
	}
	if b.To, err = t.Open(ctx, to); err != nil {
		b.Close()
		return nil, err
	}
	return b, b.aim(ctx, to)
}

// BetweenFiles opens both trees to move several files of one folder in one plan. ok is false if the paths name several
// folders, or a folder itself.
func (t Tools) BetweenFiles(ctx context.Context, from []cargo.Place, to cargo.Place) (b *Between, ok bool, err error) {
	folder := from[0]
	folder.Path = path.Dir(from[0].Path)
	var names []string
	for _, f := range from {
		name := path.Base(f.Path)
		if f.Session != folder.Session || f.Super != folder.Super || path.Dir(f.Path) != folder.Path || f.Into() || name == "." || name == ".." || name == "-" {
			return nil, false, nil
		}
		names = append(names, name)
	}
	b = &Between{Names: names}
	if b.From, err = t.Open(ctx, folder); err != nil {
		return nil, false, nil // each says by itself what is wrong
	}
	for _, name := range names {
		if what, err := b.From.Lstat(ctx, name); err != nil || what.Kind == ends.Folder {
			b.Close()
			return nil, false, nil
		}
	}
	if b.To, err = t.Open(ctx, to); err != nil {
		b.Close()
		return nil, false, err
	}
	if there, err := b.To.Stat(ctx, ""); err != nil || there.Kind != ends.Folder {
		b.Close()
		return nil, false, fmt.Errorf("there is no folder %s", to)
	}
	return b, true, nil
}

// ForOne opens the place of one file that is to be made of something else.
func (t Tools) ForOne(ctx context.Context, to cargo.Place) (*Between, error) {
	end, err := t.Open(ctx, to)
	if err != nil {
		return nil, err
	}
	b := &Between{To: end, Source: "-", Target: cargo.Base(end)}
	if there, err := end.Stat(ctx, ""); err == nil && there.Kind == ends.Folder {
		b.Close()
		return nil, fmt.Errorf("%s is a folder, and no file", to)
	}
	b.To, err = reroot(end, path.Dir(end.Root()))
	return b, err
}

// aim finds out what one file is to be called, and in which folder.
func (b *Between) aim(ctx context.Context, to cargo.Place) error {
	if b.Source == "" {
		return nil
	}
	there, err := b.To.Stat(ctx, "")
	if err == nil && there.Kind == ends.Folder {
		return nil
	}
	if to.Into() {
		b.Close()
		return fmt.Errorf("there is no folder %s", to)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		b.Close()
		return fmt.Errorf("%s: %w", to, err)
	}
	b.Target = cargo.Base(b.To)
	b.To, err = reroot(b.To, path.Dir(b.To.Root()))
	return err
}

// reroot is the end with another root. Where it fails the end is closed.
func reroot(e ends.End, root string) (ends.End, error) {
	if there, far := e.(*ends.There); far {
		if err := there.Reroot(root); err != nil {
			e.Close()
			return nil, err
		}
		return there, nil
	}
	e.Close()
	here, err := ends.OpenHere(root)
	if err != nil {
		return nil, err
	}
	return here, nil
}

// Plan makes the plan.
func (b *Between) Plan(ctx context.Context, rules cargo.Rules, each func(cargo.Listed)) (*cargo.Plan, error) {
	if len(b.Names) > 0 {
		return cargo.NewFilesPlan(ctx, b.From, b.To, b.Names, rules)
	}
	if b.Source != "" {
		return cargo.NewFilePlan(ctx, b.From, b.To, b.Source, b.Target, rules)
	}
	return cargo.NewPlan(ctx, b.From, b.To, rules, each)
}

// Close gives both trees up.
func (b *Between) Close() {
	for _, e := range []ends.End{b.From, b.To} {
		if e != nil {
			e.Close()
		}
	}
}

// Carry carries a plan of cargo out. Where it has no trees it opens them.
type Carry struct {
	Tools
	Plan    *cargo.Plan
	Options cargo.Options // its Tell is the job's own
	Trees   *Between      // the caller's, where set
	// Resume says that a record is there, which is gone on with; else one is begun.
	Resume bool

	Report  cargo.Report // what came of it, once it has run
	running atomic.Pointer[cargo.Carry]
}

// Title says what the job is.
func (j *Carry) Title() Title {
	t := Title{What: "cargo", Of: cargo.Say(j.Plan.From.String()) + " to " + cargo.Say(j.Plan.To.String()), Session: j.Plan.To.Session, Record: "moved"}
	if t.Session == "" {
		t.Session = j.Plan.From.Session
	}
	return t
}

// Progress is how far it is; ok is false before it has begun.
func (j *Carry) Progress() (p cargo.Progress, ok bool) {
	c := j.running.Load()
	if c == nil {
		return p, false
	}
	return c.Progress(), true
}

// Pause has it pause, or go on.
func (j *Carry) Pause(on bool) {
	if c := j.running.Load(); c != nil {
		c.Pause(on)
	}
}

// ErrBusy says that another program moves something to the same place.
var ErrBusy = errors.New("something is being moved there by another program, or by this one: it has to end first")

// Run does it.
func (j *Carry) Run(ctx context.Context, tell func(Step)) error {
	if !j.Plan.Acts() { // there is nothing to write down, either
		if j.Plan.Sum().Problems == 0 {
			tell(Step{Verdict: gate.Open, Say: "all is there"})
		}
		return nil
	}
	dir := cargo.Dir(j.Workspace().Dir)
	cargo.Prune(dir, time.Now())
	unlock, ok, err := cargo.Lock(dir, j.Plan.To)
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("%s: %w", j.Plan.To, ErrBusy)
	}
	defer unlock()
	trees := j.Trees
	if trees == nil {
		if trees, err = j.Tools.trees(ctx, j.Plan); err != nil {
			return err
		}
		defer trees.Close()
	}
	o := j.Options
	open := func() (*cargo.Record, error) { return cargo.NewRecord(dir, j.Plan) }
	if j.Resume {
		open = func() (*cargo.Record, error) { return cargo.OpenRecord(dir, j.Plan.ID) }
	}
	if o.Record, err = open(); err != nil {
		return err
	}
	defer o.Record.Close()
	o.Tell = func(e cargo.Event) { tell(EventStep(e)) }
	c := cargo.NewCarry(j.Plan, trees.From, trees.To, o)
	j.running.Store(c)
	j.Report, err = c.Run(ctx)
	p := c.Progress()
	tell(Step{Verdict: gate.Open, Say: Moved(j.Report, p)})
	if j.Resume { // what had arrived before took no time now
		p.Took = 0
	}
	if kept := cargo.RememberRate(j.Workspace().Dir, j.Title().Session, p.BytesDone, p.Took); kept != nil {
		tell(Step{Verdict: gate.Ajar, Say: "how fast it was is not remembered", Err: kept})
	}
	switch {
	case err != nil:
		return err
	case j.Report.Failed > 0:
		return fmt.Errorf("%w: %s", ErrSome, words.Count(j.Report.Failed, "name"))
	}
	return nil
}

// ErrSome says that some of a plan could not be done.
var ErrSome = errors.New("some are not there")

// trees opens the trees of a plan.
func (t Tools) trees(ctx context.Context, p *cargo.Plan) (*Between, error) {
	b := &Between{}
	var err error
	if b.From, err = t.Open(ctx, p.From); err == nil {
		b.To, err = t.Open(ctx, p.To)
	}
	if err != nil {
		b.Close()
		return nil, err
	}
	return b, nil
}

// EventStep is what happened to a name, as a step.
func EventStep(e cargo.Event) Step {
	s := Step{Verdict: gate.Ajar, Where: cargo.Say(e.Path), Say: e.Say}
	switch {
	case e.Err != nil:
		s.Verdict, s.Say, s.Err = gate.Shut, "not moved", e.Err
	case e.Path == "":
		s.Where = ""
	}
	return s
}

// Moved says what came of a carry.
func Moved(r cargo.Report, p cargo.Progress) string {
	say := words.Count(r.Done.Names, "name") + " done"
	if r.Done.Bytes > 0 {
		say += ", " + words.Bytes(float64(r.Done.Bytes)) + " moved"
		if p.Took > 0 {
			say += fmt.Sprintf(" at %s/s", words.Bytes(float64(r.Done.Bytes)/p.Took.Seconds()))
		}
	}
	if r.Proven > 0 {
		say += ", " + words.Count(r.Proven, "file") + " proven by digest"
	}
	if r.Unproven > 0 {
		say += ", " + words.Count(r.Unproven, "file") + " by size alone"
		if r.Sampled > 0 {
			say += fmt.Sprintf(" (%d sampled)", r.Sampled)
		}
	}
	if r.Failed > 0 {
		say += ", " + words.Count(r.Failed, "name") + " not"
	}
	return say
}

// UndoCargo takes back what a carry did.
type UndoCargo struct {
	Tools
	Plan   *cargo.Plan
	Report cargo.Report
}

// Title says what the job is.
func (j *UndoCargo) Title() Title {
	t := (&Carry{Plan: j.Plan}).Title()
	t.What = "undo cargo"
	return t
}

// Run does it.
func (j *UndoCargo) Run(ctx context.Context, tell func(Step)) error {
	return j.withRecord(ctx, j.Plan, func(trees *Between, r *cargo.Record) (err error) {
		j.Report, err = cargo.Undo(ctx, r, trees.From, trees.To, func(e cargo.Event) { tell(EventStep(e)) })
		if err == nil && j.Report.Failed > 0 {
			err = fmt.Errorf("%w: %s stayed", ErrSome, words.Count(j.Report.Failed, "name"))
		}
		tell(Step{Verdict: gate.Open, Say: words.Count(j.Report.Done.Names, "name") + " as they were before"})
		return err
	})
}

// withRecord does something with the record of a plan, that nobody else may use meanwhile.
func (t Tools) withRecord(ctx context.Context, p *cargo.Plan, do func(*Between, *cargo.Record) error) error {
	dir := cargo.Dir(t.Workspace().Dir)
	unlock, ok, err := cargo.Lock(dir, p.To)
	if err != nil {
		return err
	}
	if !ok {
		return fmt.Errorf("%s: %w", p.To, ErrBusy)
	}
	defer unlock()
	r, err := cargo.OpenRecord(dir, p.ID)
	if err != nil {
		return err
	}
	defer r.Close()
	trees, err := t.trees(ctx, p)
	if err != nil {
		return err
	}
	defer trees.Close()
	return do(trees, r)
}

// ForgetCargo clears up what a carry had begun.
type ForgetCargo struct {
	Tools
	Plan *cargo.Plan
}

// Title says what the job is.
func (j *ForgetCargo) Title() Title {
	t := (&Carry{Plan: j.Plan}).Title()
	t.What = "clear up cargo"
	return t
}

// Run does it.
func (j *ForgetCargo) Run(ctx context.Context, tell func(Step)) error {
	return j.withRecord(ctx, j.Plan, func(trees *Between, r *cargo.Record) error {
		if err := cargo.Clean(ctx, r, trees.From, trees.To); err != nil {
			return err
		}
		if r.Done() == 0 {
			r.Close()
			if err := r.Forget(); err != nil {
				return err
			}
		} else {
			r.End()
		}
		tell(Step{Verdict: gate.Open, Say: "what was begun is cleared up; what was done stays, and can be undone"})
		return nil
	})
}

// Moving is a carry that is under way.
type Moving struct {
	ID ID
	Of string
	cargo.Progress
}

// Cargo are the carries that are under way, the oldest first.
func (l *List) Cargo() []Moving {
	var all []Moving
	for _, s := range l.All() {
		c, is := s.Job.(*Carry)
		if !is || s.Over() {
			continue
		}
		p, _ := c.Progress()
		all = append(all, Moving{s.ID, s.Title.Of, p})
	}
	return all
}
