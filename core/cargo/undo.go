package cargo

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"meatus/core/cargo/ends"
)

// Undo brings back what a carry replaced, removed and settled, and puts aside what it made, where
// that is still as it left it. What is not is told in the report and left alone. The record is
// of the carry, opened with [OpenRecord].
func Undo(ctx context.Context, r *Record, from, to ends.End, tell func(Event)) (Report, error) {
	c := NewCarry(r.Plan, from, to, Options{Record: nil, Tell: tell})
	c.aside.folder = r.Folder
	u := &undo{Carry: c, record: r}
	u.progress.start()
	defer u.progress.stop()
	acts := []func(*Item) bool{
		func(i *Item) bool { return i.Act == Remove },
		func(i *Item) bool { return i.Act != Remove && i.New.Kind != ends.Folder },
		func(i *Item) bool { return i.Act != Remove && i.New.Kind == ends.Folder },
	}
	for _, act := range acts {
		if err := u.all(ctx, act); err != nil {
			return c.sum(), err
		}
	}
	if c.sum().Failed == 0 {
		r.write(line{Do: lineUndone})
	}
	return c.sum(), r.Err()
}

// all undoes what a choice takes, what is in a folder before the folder.
func (u *undo) all(ctx context.Context, choose func(*Item) bool) error {
	for _, u.window = range slices.Backward(u.windows()) {
		jobs := u.jobs(func(i *Item) bool { return i.Act != Leave && choose(i) })
		slices.SortStableFunc(jobs, func(a, b *job) int { return depthOf(b.path()) - depthOf(a.path()) })
		for len(jobs) > 0 {
			n := slices.IndexFunc(jobs, func(j *job) bool { return depthOf(j.path()) != depthOf(jobs[0].path()) })
			if n < 0 {
				n = len(jobs)
			}
			if err := u.each(ctx, jobs[:n], u.one); err != nil {
				return err
			}
			jobs = jobs[n:]
		}
	}
	return nil
}

// undo is one under way.
type undo struct {
	*Carry
	record *Record
}

// one undoes one item. It may be called again after a lost line.
func (u *undo) one(ctx context.Context, j *job) error {
	if err := u.clear(ctx, j); err != nil {
		return err
	}
	done, put := u.record.isDone(j.path()), u.record.isAside(j.path())
	if !done && !put {
		return nil // it was never come to
	}
	var err error
	switch {
	case j.Act == Settle:
		err = u.unsettle(ctx, j)
	case j.Act == Make:
		err = u.unmake(ctx, j)
	default:
		err = u.bringBack(ctx, j)
	}
	if err == nil {
		u.count(j.Item)
		u.progress.done(j.Item)
	}
	return err
}

// clear removes what was written beside the place and never put there.
func (u *undo) clear(ctx context.Context, j *job) error {
	if _, begun := u.record.arrived(j.path()); !begun {
		return nil
	}
	return u.drop(ctx, j)
}

// unsettle sets permissions and time as they were.
func (u *undo) unsettle(ctx context.Context, j *job) error {
	target := u.target(j.Item)
	now, err := target.Lstat(ctx, j.path())
	if err != nil {
		return err
	}
	if now.Size != j.Old.Size || now.Time != j.New.Time && now.Time != j.Old.Time {
		return errNoLonger
	}
	if err := target.Chmod(ctx, j.path(), j.Old.Mode); err != nil {
		return err
	}
	return target.Chtime(ctx, j.path(), *j.Old)
}

var errNoLonger = errors.New("it is no longer as it was left, so it stays")

// asMade tells whether what stands there now is what the carry put there.
func asMade(now ends.Entry, j *job) bool {
	if now.Kind != j.New.Kind || now.Link != j.New.Link {
		return false
	}
	return now.Kind != ends.File || now.Size == j.New.Size && (now.Time == j.New.Time || !ends.Tellable(j.New.Time))
}

// unmake takes away what was made: a file is put aside, a folder removed where nothing is in it.
func (u *undo) unmake(ctx context.Context, j *job) error {
	target := u.target(j.Item)
	now, err := target.Lstat(ctx, j.path())
	if isNotThere(err) {
		return nil
	}
	if err != nil {
		return err
	}
	if !asMade(now, j) {
		return errNoLonger
	}
	if now.Kind == ends.Folder {
		err := target.Remove(ctx, j.path())
		if err != nil && j.path() == "" && !target.Lost(err) {
			u.tell(Event{Say: "the folder itself stays, since what was put aside is in it"})
			return nil
		}
		if err != nil {
			return fmt.Errorf("the folder stays, something is in it: %w", err)
		}
		return nil
	}
	return u.aside.undone(ctx, j)
}

// bringBack puts what was put aside where it stood.
func (u *undo) bringBack(ctx context.Context, j *job) error {
	target := u.target(j.Item)
	kept := u.aside.path(j.path())
	old, err := target.Lstat(ctx, kept)
	if err != nil {
		// It was brought back by an attempt before, or never went.
		if err = unlessDone(ctx, target, j.path(), err, func(now ends.Entry) bool { return now.Same(*j.Old) }); err != nil {
			err = fmt.Errorf("what was put aside is no longer kept: %w", err)
		}
		return err
	}
	now, err := target.Lstat(ctx, j.path())
	if err != nil && !isNotThere(err) {
		return err
	}
	switch {
	case isNotThere(err):
		return target.Rename(ctx, kept, j.path())
	case j.Act == Remove || !asMade(now, j) && !now.Same(*j.Old):
		return errNoLonger
	}
	if old.Kind == ends.Folder || !target.Can(ends.Replaces) {
		if err := u.aside.undone(ctx, j); err != nil {
			return err
		}
		return target.Rename(ctx, kept, j.path())
	}
	return target.Replace(ctx, kept, j.path())
}

// undone puts aside what an undo takes away.
func (a *asides) undone(ctx context.Context, j *job) error {
	target := a.c.target(j.Item)
	to := ends.Join(a.folder+"-undone", j.path())
	folder, _ := ends.Split(to)
	if err := a.folders(ctx, target, sideOf(j.Item), folder); err != nil {
		return fmt.Errorf("it cannot be put aside: %w", err)
	}
	return target.Rename(ctx, j.path(), to)
}

// Clean removes what a carry that is not gone on with had written beside the places.
func Clean(ctx context.Context, r *Record, from, to ends.End) error {
	c := NewCarry(r.Plan, from, to, Options{})
	u := &undo{Carry: c, record: r}
	if err := c.clearStreams(ctx); err != nil {
		return err
	}
	for _, c.window = range c.windows() {
		if err := c.each(ctx, c.jobs(func(i *Item) bool { return i.Act == Make || i.Act == Replace }), u.clear); err != nil {
			return err
		}
	}
	return nil
}
