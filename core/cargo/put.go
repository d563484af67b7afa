package cargo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/cargo/ends"
)

// proveAll takes files as they are written, compares their contents in batches, and puts them in
// their places. While one batch is compared the next one gathers.
func (c *Carry) proveAll(ctx context.Context, written <-chan *job) error {
	for {
		first, ok := <-written
		if !ok {
			return nil
		}
		batch := []*job{first}
	gather:
		for len(batch) < maxBatch {
			select {
			case j, ok := <-written:
				if !ok {
					break gather
				}
				batch = append(batch, j)
			default:
				break gather
			}
		}
		if err := c.proveBatch(ctx, batch); err != nil {
			return err
		}
	}
}

// maxBatch is how many files are compared at once.
const maxBatch = 2000

// proves tells whether contents are compared after writing.
func (c *Carry) proves() bool {
	switch c.options.Proof {
	case ProveNought:
		return false
	case ProveAll:
		return true
	}
	return c.doubt.Load() || c.from.Can(ends.Digests) && c.to.Can(ends.Digests)
}

// proveBatch compares what was written with its source, and writes once more what differs.
func (c *Carry) proveBatch(ctx context.Context, batch []*job) error {
	if err := c.options.Record.Flush(); err != nil { // with what of the batch before is in its place
		return err
	}
	if err := c.syncAll(batch); err != nil {
		return err
	}
	if !c.proves() {
		sampled, same, err := c.sample(ctx, batch)
		if err != nil {
			return err
		}
		if same {
			c.mu.Lock()
			c.report.Unproven += len(batch)
			c.report.Sampled += sampled
			c.mu.Unlock()
			return c.each(ctx, batch, c.placeSized)
		}
		if !c.doubt.Swap(true) {
			c.tell(Event{Say: "a sample differs from its source: from here on every file is read back and compared"})
		}
	}
	var right, wrong []*job
	for _, back := range []bool{false, true} {
		var some []*job
		for _, j := range batch {
			if j.Back == back {
				some = append(some, j)
			}
		}
		likeness, err := c.compare(ctx, some)
		if err != nil {
			return err
		}
		for _, j := range some {
			switch l := likeness[j.path()]; {
			case l.Err != nil:
				c.fail(j, fmt.Errorf("what has arrived cannot be compared: %w", l.Err))
			case l.Differs:
				wrong = append(wrong, j)
			default:
				right = append(right, j)
			}
		}
	}
	c.mu.Lock()
	c.report.Proven += len(right)
	c.mu.Unlock()
	if err := c.each(ctx, right, c.place); err != nil {
		return err
	}
	return c.rewrite(ctx, wrong)
}

// compare compares the contents of jobs that go one way.
func (c *Carry) compare(ctx context.Context, jobs []*job) (map[string]Likeness, error) {
	if len(jobs) == 0 {
		return nil, nil
	}
	byPath := make(map[string]*job, len(jobs))
	var unread, read []string
	for _, j := range jobs {
		byPath[j.path()] = j
		if j.summed {
			read = append(read, j.path())
		} else {
			unread = append(unread, j.path())
		}
	}
	source, target := c.source(jobs[0].Item), c.target(jobs[0].Item)
	part := func(path string) string { return byPath[path].part }
	all := map[string]Likeness{}
	err := c.insist(ctx, func() error {
		some, err := unlike(ctx, source, target, unread, func(path string) string { return byPath[path].sourcePath() }, part)
		for path, l := range some {
			all[path] = l
		}
		return err
	})
	if err != nil || len(read) == 0 {
		return all, err
	}
	parts := make([]string, len(read))
	paths := make(map[string]string, len(read))
	for i, path := range read {
		parts[i] = part(path)
		paths[parts[i]] = path
	}
	err = c.insist(ctx, func() error {
		return target.Digest(ctx, parts, func(part string, sum ends.Sum, err error) {
			all[paths[part]] = Likeness{Differs: sum != byPath[paths[part]].sum, Err: err}
		})
	})
	return all, err
}

// rewrite writes once more what did not arrive as it was sent.
func (c *Carry) rewrite(ctx context.Context, wrong []*job) error {
	var again []*job
	for _, j := range wrong {
		if j.again {
			c.fail(j, errors.New("what arrives differs from what is sent, twice: the far side or a disk is not to be trusted; nothing was put in its place"))
			if err := c.insist(ctx, func() error { return c.drop(ctx, j) }); err != nil && ctx.Err() != nil {
				return err
			}
			continue
		}
		c.tell(Event{Path: j.path(), Say: "what arrived differs from what was sent; it is moved again"})
		j.again = true
		again = append(again, j)
	}
	if len(again) == 0 {
		return nil
	}
	var rewritten []*job
	var mu sync.Mutex
	err := c.each(ctx, again, func(ctx context.Context, j *job) error {
		if err := c.drop(ctx, j); err != nil {
			return err
		}
		if err := c.write(ctx, j); err != nil {
			return err
		}
		mu.Lock()
		defer mu.Unlock()
		rewritten = append(rewritten, j)
		return nil
	})
	if err != nil || len(rewritten) == 0 {
		return err
	}
	return c.proveBatch(ctx, rewritten)
}

// placeSized puts a file in its place where it has the size it should have.
func (c *Carry) placeSized(ctx context.Context, j *job) error {
	now, err := c.target(j.Item).Lstat(ctx, j.part)
	if err == nil && now.Size != j.New.Size {
		return fmt.Errorf("%d bytes were written and %d have arrived; nothing was put in its place", j.New.Size, now.Size)
	}
	if err != nil && !isNotThere(err) {
		return err
	}
	return c.place(ctx, j)
}

// place puts what was written in its place, by one rename where the end has one that replaces.
// It may be called again when a line was lost in the middle of it.
func (c *Carry) place(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	c.mu.Lock()
	fresh := c.made[sideOf(j.Item)+j.folder] && j.Act == Make
	c.mu.Unlock()
	if fresh {
		if err := target.Rename(ctx, j.part, j.path()); err == nil {
			c.finished(j)
			return nil
		} else if target.Lost(err) {
			return err
		}
	}
	now, err := target.Lstat(ctx, j.path())
	if err != nil && !isNotThere(err) {
		return err
	}
	there := err == nil
	if there && c.arrivedBefore(ctx, j, now) {
		c.finished(j)
		return nil
	}
	switch {
	case !there && (j.Old == nil || c.options.Record.isAside(j.path())):
		err = target.Rename(ctx, j.part, j.path())
	case !there:
		err = errChanged("what was to be replaced is no longer there")
	case j.Old == nil && (c.again || c.cut.Load()):
		err = c.takeAlike(ctx, j, now)
	case j.Old == nil:
		err = errElse
	case !now.Same(*j.Old):
		err = errChanged("what is there has changed since")
	default:
		err = c.replace(ctx, j, now)
	}
	if err != nil {
		return err
	}
	c.finished(j)
	return nil
}

// takeAlike accepts what stands at a job's place where its content is the source's. A carry that was cut off may have
// renamed a whole folder to its place and not have had the answer. The content is read over the line and not digested
// by a command: many files are compared at once, and a server has room for few commands.
func (c *Carry) takeAlike(ctx context.Context, j *job, now ends.Entry) error {
	target := c.target(j.Item)
	if now.Kind != j.New.Kind || now.Size != j.New.Size || now.Link != j.New.Link {
		return errElse
	}
	if now.Kind == ends.File {
		want, err := ends.ReadSum(ctx, c.source(j.Item), j.sourcePath())
		if err != nil {
			return err
		}
		got, err := ends.ReadSum(ctx, target, j.path())
		if err != nil {
			return err
		}
		if got != want {
			return errElse
		}
		if now.Time != j.New.Time { // a server may write late what a session gave it whose line was lost
			if err := c.attributes(ctx, j, j.path(), true); err != nil {
				return err
			}
		}
	}
	if err := target.Remove(ctx, j.part); !isNotThere(err) {
		return err
	}
	return nil
}

// looksAs tells whether what stands somewhere looks as what is to be.
func looksAs(now, want ends.Entry) bool {
	return now.Kind == want.Kind && now.Size == want.Size && now.Link == want.Link && (now.Kind != ends.File || now.Time == want.Time)
}

// arrivedBefore tells whether an attempt before has put it in its place, whose answer was lost.
func (c *Carry) arrivedBefore(ctx context.Context, j *job, now ends.Entry) bool {
	if !looksAs(now, j.New) {
		return false
	}
	_, err := c.target(j.Item).Lstat(ctx, j.part)
	return isNotThere(err)
}

// replace puts what was written in the place of what is there, which is put aside.
func (c *Carry) replace(ctx context.Context, j *job, now ends.Entry) error {
	target := c.target(j.Item)
	one := target.Can(ends.Replaces) && now.Kind != ends.Folder
	if c.options.Keep < 0 && one {
		return target.Replace(ctx, j.part, j.path())
	}
	if one && target.Can(ends.Hardens) && now.Kind == ends.File {
		if err := c.aside.link(ctx, j); err != nil {
			return err
		}
		return target.Replace(ctx, j.part, j.path())
	}
	if err := c.aside.put(ctx, j, now); err != nil {
		return err
	}
	err := target.Rename(ctx, j.part, j.path())
	if err != nil && !target.Lost(err) {
		if back := target.Rename(ctx, c.aside.path(j.path()), j.path()); back != nil {
			return fmt.Errorf("it cannot be put in place (%w), and what stood there not back (%w): it is in %s", err, back, c.aside.path(j.path()))
		}
	}
	return err
}

// unlessDone is the error of an operation, or nil where what it was to make stands there: an attempt
// before, whose answer was lost, has made it, or another at the same time.
func unlessDone(ctx context.Context, target ends.End, name string, err error, is func(ends.Entry) bool) error {
	if err == nil || target.Lost(err) {
		return err
	}
	now, lerr := target.Lstat(ctx, name)
	switch {
	case target.Lost(lerr):
		return lerr
	case lerr == nil && is(now):
		return nil
	}
	return err
}

// asides puts things aside in a folder of the tree that is named after the day it is kept until.
type asides struct {
	c      *Carry
	folder string

	mu   sync.Mutex
	made map[string]bool
}

const untilPrefix = "until-"

func (a *asides) init(c *Carry) {
	a.c, a.made = c, map[string]bool{}
	a.folder = AsideFolder + "/" + untilPrefix + time.Now().UTC().Add(max(c.options.Keep, 0)).Format(time.DateOnly) + "-" + c.plan.ID
	if r := c.options.Record; r != nil && r.Folder != "" {
		a.folder = r.Folder
	}
}

// path is where what stands at a path is put.
func (a *asides) path(of string) string { return ends.Join(a.folder, of) }

// put puts aside what stands at a job's path.
func (a *asides) put(ctx context.Context, j *job, now ends.Entry) error {
	return a.move(ctx, j, func(target ends.End, to string) error { return target.Rename(ctx, j.path(), to) })
}

// link puts a second name of a file aside, so that its place is never empty.
func (a *asides) link(ctx context.Context, j *job) error {
	return a.move(ctx, j, func(target ends.End, to string) error { return target.Link(ctx, j.path(), to) })
}

func (a *asides) move(ctx context.Context, j *job, how func(target ends.End, to string) error) error {
	target, to := a.c.target(j.Item), a.path(j.path())
	folder, _ := ends.Split(to)
	if err := a.folders(ctx, target, sideOf(j.Item), folder); err != nil {
		return fmt.Errorf("what is there cannot be put aside: %w", err)
	}
	before := a.c.options.Record.isAside(j.path())
	a.c.options.Record.step(lineAside, j.path(), 0)
	if err := a.c.options.Record.Flush(); err != nil {
		return err
	}
	err := how(target, to)
	if before { // a line was lost in the middle of it
		err = unlessDone(ctx, target, to, err, func(ends.Entry) bool { return true })
	}
	if err != nil {
		return fmt.Errorf("what is there cannot be put aside: %w", err)
	}
	return nil
}

// folders makes a folder and those above it, each once.
func (a *asides) folders(ctx context.Context, target ends.End, side, folder string) error {
	if folder == "" {
		return nil
	}
	a.mu.Lock()
	made := a.made[side+folder]
	a.mu.Unlock()
	if made {
		return nil
	}
	up, _ := ends.Split(folder)
	if err := a.folders(ctx, target, side, up); err != nil {
		return err
	}
	err := unlessDone(ctx, target, folder, target.Mkdir(ctx, folder, 0o700), func(now ends.Entry) bool { return now.Kind == ends.Folder })
	if err != nil {
		return err
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	a.made[side+folder] = true
	return nil
}

// expire removes what was put aside and is to be kept no longer, at both ends.
func (a *asides) expire(ctx context.Context) error {
	written := map[ends.End]bool{}
	for item := range a.c.plan.Items() {
		written[a.c.target(item)] = true
	}
	for end := range written {
		if err := Expire(ctx, end, time.Now()); end.Lost(err) || ctx.Err() != nil {
			if err = a.c.insist(ctx, func() error { return Expire(ctx, end, time.Now()) }); err != nil {
				return err
			}
		}
	}
	return nil
}

// Expire removes from a tree what was put aside and is to be kept no longer.
func Expire(ctx context.Context, end ends.End, now time.Time) error {
	var due []string
	err := end.List(ctx, AsideFolder, func(name string, e ends.Entry) error {
		day, ok := strings.CutPrefix(name, untilPrefix)
		if !ok || len(day) < len(time.DateOnly) || e.Kind != ends.Folder || ends.Unsafe(name) {
			return nil
		}
		until, err := time.Parse(time.DateOnly, day[:len(time.DateOnly)])
		if err == nil && now.After(until.Add(24*time.Hour)) {
			due = append(due, ends.Join(AsideFolder, name))
		}
		return nil
	})
	if isNotThere(err) {
		return nil
	}
	for _, folder := range due {
		err = errors.Join(err, removeTree(ctx, end, folder))
	}
	if err == nil && len(due) > 0 {
		end.Remove(ctx, AsideFolder) // where it is empty
	}
	return err
}

// removeTree removes a folder with all that is in it. Links are removed and not followed.
func removeTree(ctx context.Context, end ends.End, folder string) error {
	var folders, others []string
	err := end.List(ctx, folder, func(name string, e ends.Entry) error {
		switch {
		case name == "." || name == "..":
		case ends.Unsafe(name):
			return ends.ErrUnsafe
		case e.Kind == ends.Folder:
			folders = append(folders, ends.Join(folder, name))
		default:
			others = append(others, ends.Join(folder, name))
		}
		return nil
	})
	if err != nil {
		return err
	}
	for _, sub := range folders {
		if err := removeTree(ctx, end, sub); err != nil {
			return err
		}
	}
	var g errgroup.Group
	g.SetLimit(filesAtOnce)
	for _, name := range others {
		g.Go(func() error { return end.Remove(ctx, name) })
	}
	if err := g.Wait(); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return end.Remove(ctx, folder)
}
