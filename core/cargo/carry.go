package cargo

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sync/semaphore"
	"golang.org/x/time/rate"

	"meatus/core/cargo/ends"
	"meatus/core/sanitize"
)

// Proof says when contents are compared by their digests after they were written.
type Proof string

// When.
const (
	ProveCheap  Proof = ""     // where neither end has to send what it has over a line again
	ProveAll    Proof = "all"  // also where that costs reading everything back
	ProveNought Proof = "none" // sizes alone are looked at
)

// Options say how a plan is carried out.
type Options struct {
	Proof Proof
	Rate  int           // bytes a second, 0 for as many as go
	Keep  time.Duration // for replaced and removed files over there; [DefaultKeep] where 0, none are kept below 0
	Order Order
	// Direct has the one far machine hand files to the other by itself, with a key that its session lends.
	Direct bool
	// Record is written as it goes on, and read where it goes on with what was begun; nil for
	// none.
	Record *Record
	Tell   func(Event) // told of what happens, from many goroutines; may be nil
}

// DefaultKeep is how long what was replaced or removed is kept.
const DefaultKeep = 7 * 24 * time.Hour

// Order says what goes first.
type Order string

// The orders.
const (
	ByPath     Order = ""
	SmallFirst Order = "small"
	LargeFirst Order = "large"
	NewFirst   Order = "new"
)

// Event is something that happened to one name, or to the line where Path is "".
type Event struct {
	Path    string
	Err     error  // why it was not done
	Say     string // what else is worth telling
	Waiting bool   // the line is lost, and is waited for
}

// Failure is a name that was not done, and why.
type Failure struct {
	Path string
	Err  error
}

// maxFailures is how many are kept to be told.
const maxFailures = 1000

// Report is what came of a carry.
type Report struct {
	Done     Tally // names that are as the plan wanted them, and the bytes that were moved
	Failed   int
	Failures []Failure // the first of them
	Proven   int       // files whose content was compared
	Unproven int       // files of which the size alone was looked at
	Sampled  int       // of them, files of which parts were read back and compared
}

// Bounds of what is under way.
const (
	filesAtOnce = 64
	onTheWay    = 64 << 20 // bytes
)

// Carry carries one plan out. It is safe to use from many goroutines; Run is called once.
type Carry struct {
	plan     *Plan
	from, to ends.End
	options  Options
	budget   *semaphore.Weighted
	limit    *rate.Limiter
	paused   pause
	progress progress
	aside    asides
	again    bool // it was begun before, and cut off

	mu       sync.Mutex
	report   Report
	tries    map[ends.End]int // how often a line came back with nothing moved since
	steps    atomic.Int64     // of anything that went well
	doubt    atomic.Bool      // a file differed that the size alone was looked at of: contents are compared from then on
	cut      atomic.Bool      // a line was lost
	odd      atomic.Bool      // the far side ends its channel at a name that is not UTF-8
	made     map[string]bool  // folders that were made here and now, so that nothing else is in them
	own      map[string]*Item // as [owned] tells
	window   []Batch          // what is looked at
	gathers  bool             // suspects wait for the end of a step
	suspects []suspect
	packed   map[string]bool     // paths of it that went in a stream
	stages   int                 // folders that streams were unpacked in
	paced    map[string]pace     // by what, how fast streams were
	ready    map[string]*fetched // by path: came in a stream, and are to be written
	buffers  sync.Pool
}

// NewCarry returns what carries a plan out between two trees, which have to be the plan's.
func NewCarry(p *Plan, from, to ends.End, o Options) *Carry {
	c := &Carry{plan: p, from: from, to: to, options: o, budget: semaphore.NewWeighted(onTheWay), tries: map[ends.End]int{}, made: map[string]bool{}, packed: map[string]bool{}, paced: map[string]pace{}, own: owned(p), window: p.Batches}
	c.paused.init()
	c.limit = o.limiter()
	if c.options.Keep == 0 {
		c.options.Keep = DefaultKeep
	}
	c.aside.init(c)
	c.progress.init(p)
	return c
}

// Run carries the plan out. The error is why it ended early; what could not be done of single
// names is in the report.
func (c *Carry) Run(ctx context.Context) (Report, error) {
	if err := c.room(ctx); err != nil {
		return c.report, err
	}
	c.again = c.options.Record.hasBegun()
	c.options.Record.write(line{Do: lineBegan, When: time.Now().UTC(), In: c.aside.folder})
	c.countDone()
	c.progress.start()
	defer c.progress.stop()
	if err := c.aside.expire(ctx); err != nil {
		return c.sum(), err
	}
	windows := c.windows()
	for _, steps := range [][]func(context.Context) error{{c.streams, c.folders, c.hands, c.fetches, c.files}, {c.removals}} {
		for _, c.window = range windows {
			clear(c.packed)
			for _, step := range steps {
				if err := step(ctx); err != nil {
					return c.sum(), err
				}
			}
		}
	}
	for _, c.window = range slices.Backward(windows) { // what is in a folder comes behind it
		if err := c.finish(ctx); err != nil {
			return c.sum(), err
		}
	}
	if c.again { // an attempt before may have left a stream's folder that this one did not use
		if err := c.insist(ctx, func() error { return c.clearStreams(ctx) }); err != nil {
			return c.sum(), err
		}
	}
	if r := c.sum(); r.Failed == 0 {
		c.options.Record.write(line{Do: lineOver})
	}
	return c.sum(), cmp.Or(c.options.Record.Flush(), c.options.Record.Err())
}

// windowItems is how many items are looked at together, so that a plan of any size costs little memory.
var windowItems = 30000

// owned are the items of folders that have a batch of their own, by path. A folder is made in the same window as
// what goes into it.
func owned(p *Plan) map[string]*Item {
	all := map[string]*Item{}
	for path, items := range p.Folders() {
		for _, i := range items {
			if (i.New.Kind != ends.Folder && (i.Old == nil || i.Old.Kind != ends.Folder)) || i.Name == "" {
				continue
			}
			at := ends.Join(path, i.Name)
			if _, more := slices.BinarySearchFunc(p.Batches, at, func(b Batch, at string) int { return strings.Compare(b.Path, at) }); more {
				all[at] = &i
			}
		}
	}
	return all
}

// windows are the plan's folders, as many together as are looked at at once. Where an order is wished that
// is all of them.
func (c *Carry) windows() [][]Batch {
	rest := c.plan.Batches
	if c.options.Order != ByPath {
		return [][]Batch{rest}
	}
	var all [][]Batch
	for len(rest) > 0 {
		n, items := 0, 0
		for n < len(rest) && (n == 0 || items+rest[n].Len() <= windowItems) {
			items += rest[n].Len()
			n++
		}
		all = append(all, rest[:n])
		rest = rest[n:]
	}
	return all
}

// countDone counts what was done before this program took the carry up.
func (c *Carry) countDone() {
	if c.options.Record.Done() == 0 {
		return
	}
	for path, items := range c.plan.Folders() {
		for i := range items {
			if item := &items[i]; item.Act != Leave && c.options.Record.isDone(ends.Join(path, item.Name)) {
				c.progress.skip(item)
				c.count(item)
			}
		}
	}
}

// sum is the report so far.
func (c *Carry) sum() Report {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.report
}

// ErrNoRoom says that a tree has less room than is to be written.
var ErrNoRoom = errors.New("there is not enough room")

// room checks the free space of both ends against the bytes still to be written; bytes that an earlier try wrote need none.
func (c *Carry) room(ctx context.Context) error {
	need := c.plan.Sum().Need
	if c.options.Record.hasBegun() {
		for path, items := range c.plan.Folders() {
			for i := range items {
				item := &items[i]
				if item.Act != Make && item.Act != Replace {
					continue
				}
				side := map[bool]int{true: 1}[item.Back]
				name := ends.Join(path, item.Name)
				if at, _ := c.options.Record.arrived(name); c.options.Record.isDone(name) {
					need[side] -= item.New.Size
				} else {
					need[side] -= min(at, item.New.Size)
				}
			}
		}
	}
	for i, end := range []ends.End{c.to, c.from} {
		free, known := end.Room(ctx)
		if known && need[i] > 0 && uint64(need[i]) > free {
			return fmt.Errorf("%s at %s: %w: %d bytes come, and %d are free; what transfers that came to no end have left there is told by meatus cargo list, and cleared by meatus cargo forget", end.Root(), end.Name(), ErrNoRoom, need[i], free)
		}
	}
	return nil
}

// source and target are the ends that an item goes from and to.
func (c *Carry) source(i *Item) ends.End {
	if i.Back {
		return c.to
	}
	return c.from
}

func (c *Carry) target(i *Item) ends.End {
	if i.Back {
		return c.from
	}
	return c.to
}

// job is one item under way.
type job struct {
	*Item
	folder string
	part   string // its name while it is written
	at     int64  // how much of it has arrived
	begun  bool   // something was written there
	fresh  bool   // the file began empty, so null bytes need not be written: they become holes
	sum    ends.Sum
	summed bool         // sum is the digest of what was read
	again  bool         // it was moved a second time
	moved  atomic.Int64 // bytes that arrived, in all tries
}

func (j *job) path() string { return ends.Join(j.folder, j.Name) }

func (j *job) sourcePath() string {
	if j.Source != "" {
		return ends.Join(j.folder, j.Source)
	}
	return j.path()
}

// jobs are the window's items that choose accepts and that are not done yet, in the order that was asked for.
func (c *Carry) jobs(choose func(*Item) bool) []*job {
	var all []*job
	for _, b := range c.window {
		above, _ := ends.Split(b.Path)
		items := b.Items()
		own := c.own[b.Path]
		if own != nil {
			items = slices.Insert(items, 0, *own)
		}
		for i := range items {
			item := &items[i]
			if !choose(item) {
				continue
			}
			in := b.Path
			if own != nil && i == 0 {
				in = above
			}
			path := ends.Join(in, item.Name)
			if item.Name != "" && path != b.Path && c.own[path] != nil {
				continue // it is done with the batch of what is in it
			}
			if c.options.Record.isDone(path) {
				continue
			}
			if c.packed[sideOf(item)+path] {
				continue
			}
			j := &job{Item: item, folder: in, part: ends.Join(in, c.partName(path))}
			j.at, j.begun = c.options.Record.arrived(path)
			all = append(all, j)
		}
	}
	return c.ordered(all)
}

func (c *Carry) ordered(all []*job) []*job {
	by := map[Order]func(a, b *job) int{
		SmallFirst: func(a, b *job) int { return int(max(min(a.New.Size-b.New.Size, 1), -1)) },
		LargeFirst: func(a, b *job) int { return int(max(min(b.New.Size-a.New.Size, 1), -1)) },
		NewFirst:   func(a, b *job) int { return int(max(min(b.New.Time-a.New.Time, 1), -1)) },
	}[c.options.Order]
	if by != nil {
		slices.SortStableFunc(all, by)
	}
	return all
}

// partName is the name that a file has while it is written: it is the same when it is gone on
// with, and another for other content.
func (c *Carry) partName(path string) string {
	digest := sha256.Sum256([]byte(c.plan.ID + "\x00" + path))
	return fmt.Sprintf("%s%x", partPrefix, digest[:10])
}

// each does something with jobs, some at once. One that fails is told, and the others go on;
// the error is why all end. A job during which the line was lost again and again waits until the others are done, and goes
// by itself then: the far side may end the channel at its name.
func (c *Carry) each(ctx context.Context, jobs []*job, do func(context.Context, *job) error) error {
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(filesAtOnce)
	for _, j := range jobs {
		if within.Err() != nil {
			break
		}
		g.Go(func() error {
			later, err := c.one(within, j, do, false)
			if later {
				c.mu.Lock()
				defer c.mu.Unlock()
				c.suspects = append(c.suspects, suspect{j, do})
			}
			return err
		})
	}
	if err := cmp.Or(context.Cause(ctx), g.Wait()); err != nil || c.gathers {
		return err
	}
	return c.alone(ctx)
}

// suspect is a job that is to be done by itself.
type suspect struct {
	job *job
	do  func(context.Context, *job) error
}

// alone does the jobs that are to be done by themselves, one after the other. Nothing else may be under way.
func (c *Carry) alone(ctx context.Context) error {
	for {
		c.mu.Lock()
		if len(c.suspects) == 0 {
			c.mu.Unlock()
			return nil
		}
		next := c.suspects[0]
		c.suspects = c.suspects[1:]
		c.mu.Unlock()
		if _, err := c.one(ctx, next.job, next.do, true); err != nil {
			return err
		}
	}
}

// one does something with one job, again when a line that was lost is back. later is true where it is to be done alone.
func (c *Carry) one(ctx context.Context, j *job, do func(context.Context, *job) error, alone bool) (later bool, err error) {
	if err := c.paused.wait(ctx); err != nil {
		return false, err
	}
	if !alone && c.odd.Load() && !utf8.ValidString(j.path()) {
		return true, nil
	}
	losses, moved := 0, j.moved.Load()
	err = c.insist(ctx, func() error {
		err := do(ctx, j)
		if now := j.moved.Load(); now > moved { // the name is not what the line is lost by
			losses, moved = 0, now
		}
		end := c.lostEnd(err)
		if end == nil || ctx.Err() != nil {
			return err
		}
		losses++
		switch {
		case !alone && losses >= suspectAfter:
			later = true
		case alone && losses >= endedAlone && isLinked(end):
			c.odd.CompareAndSwap(false, !utf8.ValidString(j.path()))
			c.steps.Add(1) // why it was lost is known
			return &endsChannelError{end.Name()}
		}
		return err
	}, func() bool { return later })
	var gone *goneError
	switch {
	case ctx.Err() != nil:
		return false, ctx.Err()
	case errors.As(err, &gone):
		return false, err
	case later && err != nil:
		return true, nil
	case err != nil:
		c.fail(j, err)
		if j.begun { // what finally failed leaves nothing beside its place
			tries := 0
			err := c.insist(ctx, func() error { tries++; return c.drop(ctx, j) }, func() bool { return tries >= maxTries })
			if errors.As(err, &gone) {
				return false, err
			}
		}
	}
	return false, c.options.Record.Err()
}

// goneError says that a line is lost for good.
type goneError struct{ error }

func (g *goneError) Unwrap() error { return g.error }

func isGone(err error) bool {
	var gone *goneError
	return errors.As(err, &gone)
}

// How often a line is lost during one job until the job waits for the others, and until it is given up when it goes alone.
const (
	suspectAfter = 3
	endedAlone   = 2
)

// endsChannelError says that a far side ends the file-transfer channel whenever a name is asked for.
type endsChannelError struct{ far string }

func (e *endsChannelError) Error() string {
	return e.far + " ends the file-transfer channel whenever this name is asked for: give it another name, or move it by other means"
}

// isLinked tells whether an end's line is up although its channel has ended.
func isLinked(end ends.End) bool {
	l, ok := end.(interface{ Linked() bool })
	return ok && l.Linked()
}

// lostEnd is the end that an error says the line to is lost, or nil.
func (c *Carry) lostEnd(err error) (end ends.End) {
	for _, e := range []ends.End{c.from, c.to} {
		if err != nil && e.Lost(err) {
			end = e
		}
	}
	return end
}

// maxTries is how often a line may come back without anything moved in between.
const maxTries = 8

// insist does something, and does it again each time it fails because a line was lost and has come back, unless one of
// enough says so. Any other error is returned.
func (c *Carry) insist(ctx context.Context, do func() error, enough ...func() bool) error {
	for {
		err := do()
		if err == nil {
			c.steps.Add(1)
			return nil
		}
		end := c.lostEnd(err)
		if end == nil || ctx.Err() != nil {
			return err
		}
		if err := c.back(ctx, end, err); err != nil {
			return &goneError{err}
		}
		if slices.ContainsFunc(enough, func(is func() bool) bool { return is() }) {
			return err
		}
	}
}

// back waits until an end is reached again.
func (c *Carry) back(ctx context.Context, end ends.End, why error) error {
	c.cut.Store(true)
	first := c.progress.waiting.Add(1) == 1
	c.mu.Lock()
	if first {
		c.tries[end]++
	}
	if c.steps.Swap(0) > 0 {
		c.tries[end] = 1
	}
	many := c.tries[end] > maxTries
	c.mu.Unlock()
	if many {
		c.progress.waiting.Add(-1)
		return fmt.Errorf("the line to %s is lost again and again with nothing moved in between: %w", end.Name(), why)
	}
	if first {
		c.tell(Event{Waiting: true, Say: "the line to " + end.Name() + " is lost (" + sanitize.Line(why.Error(), 160) + "); it goes on when it is back"})
	}
	err := end.Again(ctx)
	if c.progress.waiting.Add(-1) == 0 && err == nil {
		c.tell(Event{Say: "the line to " + end.Name() + " is back"})
	}
	return err
}

func (c *Carry) tell(e Event) {
	if c.options.Tell != nil {
		c.options.Tell(e)
	}
}

// fail notes that an item could not be done.
func (c *Carry) fail(j *job, err error) {
	c.progress.failed(j.Item, j.at)
	c.mu.Lock()
	c.report.Failed++
	if len(c.report.Failures) < maxFailures {
		c.report.Failures = append(c.report.Failures, Failure{j.path(), err})
	}
	c.mu.Unlock()
	c.tell(Event{Path: j.path(), Err: err})
}

// finished notes that an item is done.
func (c *Carry) finished(j *job) {
	c.options.Record.step(lineDone, j.path(), 0)
	c.progress.done(j.Item)
	c.count(j.Item)
}

func (c *Carry) count(i *Item) {
	c.mu.Lock()
	defer c.mu.Unlock()
	bytes := int64(0)
	if i.Act == Make || i.Act == Replace {
		bytes = i.New.Size
	}
	c.report.Done.add(1, bytes)
}

// folders makes the folders that come, those above before those in them. Each is writable for
// its owner until the end.
func (c *Carry) folders(ctx context.Context) error {
	all := c.jobs(func(i *Item) bool { return (i.Act == Make || i.Act == Replace) && i.New.Kind == ends.Folder })
	for depth := 0; len(all) > 0; depth++ {
		var level, rest []*job
		for _, j := range all {
			if depthOf(j.path()) == depth {
				level = append(level, j)
			} else {
				rest = append(rest, j)
			}
		}
		if err := c.each(ctx, level, c.makeFolder); err != nil {
			return err
		}
		all = rest
	}
	return nil
}

func depthOf(path string) int {
	if path == "" {
		return 0
	}
	return strings.Count(path, "/") + 1
}

// makeFolder makes a folder; its permissions come at the end.
func (c *Carry) makeFolder(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	now, err := target.Lstat(ctx, j.path())
	if err == nil && now.Kind == ends.Folder {
		return nil // from an attempt before, or by somebody else: it is as good
	}
	if j.Old != nil && err == nil {
		if err := c.aside.put(ctx, j, now); err != nil {
			return err
		}
	} else if err == nil {
		return errElse
	}
	if target.Lost(err) {
		return err
	}
	if err := target.Mkdir(ctx, j.path(), 0o700); err != nil {
		return fmt.Errorf("the folder cannot be made: %w", err)
	}
	c.mu.Lock()
	c.made[sideOf(j.Item)+j.path()] = true
	c.mu.Unlock()
	return nil
}

// sideOf marks the paths of each side apart.
func sideOf(i *Item) string {
	if i.Back {
		return "<"
	}
	return ">"
}

// errChanged says that the world is no longer as it was when the plan was made.
type errChanged string

// errElse says that something is in the place of what is new.
const errElse = errChanged("something else stands there now")

func (e errChanged) Error() string {
	return string(e) + ": it is not what the plan was made for; make it anew"
}

// files moves files and links, and settles what differs in its permissions alone. What is
// written is proven in batches, as they come, and then put in its place.
func (c *Carry) files(ctx context.Context) error {
	jobs := c.jobs(func(i *Item) bool {
		return (i.Act == Make || i.Act == Replace) && i.New.Kind != ends.Folder || i.Act == Settle && i.New.Kind != ends.Folder
	})
	written := make(chan *job, filesAtOnce)
	var alone atomic.Bool // all that is written together is written
	c.gathers = true
	g, together := errgroup.WithContext(ctx)
	g.Go(func() error {
		defer close(written)
		return c.each(together, jobs, func(ctx context.Context, j *job) error {
			switch {
			case j.Act == Settle:
				return c.settle(ctx, j)
			case j.New.Kind == ends.Link:
				return c.link(ctx, j)
			}
			if err := c.write(ctx, j); err != nil {
				return err
			}
			if alone.Load() {
				return c.proveBatch(ctx, []*job{j})
			}
			select {
			case written <- j:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		})
	})
	g.Go(func() error { return c.proveAll(together, written) })
	err := g.Wait()
	c.gathers = false
	if alone.Store(true); err != nil {
		return err
	}
	return c.alone(ctx)
}

// removals puts aside what is to be removed. Where a folder goes its content goes along.
func (c *Carry) removals(ctx context.Context) error {
	return c.each(ctx, c.jobs(func(i *Item) bool { return i.Act == Remove }), c.remove)
}

func (c *Carry) remove(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	now, err := target.Lstat(ctx, j.path())
	if c.options.Record.isAside(j.path()) && isNotThere(err) {
		c.finished(j)
		return nil
	}
	if err != nil {
		return err
	}
	if !now.Same(*j.Old) {
		return errChanged("it has changed since")
	}
	if err := c.aside.put(ctx, j, now); err != nil {
		return err
	}
	c.finished(j)
	return nil
}

// finish sets the permissions and times of folders, the innermost first.
func (c *Carry) finish(ctx context.Context) error {
	all := c.jobs(func(i *Item) bool { return i.New.Kind == ends.Folder && i.Act != Leave && i.Act != Remove })
	slices.SortStableFunc(all, func(a, b *job) int { return depthOf(b.path()) - depthOf(a.path()) })
	for len(all) > 0 {
		depth := depthOf(all[0].path())
		n := slices.IndexFunc(all, func(j *job) bool { return depthOf(j.path()) != depth })
		if n < 0 {
			n = len(all)
		}
		if err := c.each(ctx, all[:n], c.finishFolder); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}

func (c *Carry) finishFolder(ctx context.Context, j *job) error {
	if now, err := c.target(j.Item).Lstat(ctx, j.path()); err != nil || now.Kind != ends.Folder {
		return err // it failed before, and that was told
	}
	if err := c.attributes(ctx, j, j.path(), true); err != nil {
		return err
	}
	c.finished(j)
	return nil
}
