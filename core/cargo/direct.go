package cargo

import (
	"context"
	"errors"
	"fmt"

	"meatus/core/cargo/ends"
)

// Between two far machines the one can hand files to the other by itself, with a key that is lent to it:
// they take the shorter way, and are proven and put in their places from here.

// Bounds of what is handed at once; a longer file goes alone.
const (
	handFiles = 5000
	handBytes = 256 << 20
)

// hands has the one machine hand files to the other. What does not arrive so goes through here.
func (c *Carry) hands(ctx context.Context) error {
	if !c.options.Direct || c.paced["handed"].none {
		return nil
	}
	from, far1 := c.from.(*ends.There)
	to, far2 := c.to.(*ends.There)
	if !far1 || !far2 {
		return errors.New("directly is between two far machines")
	}
	jobs := c.jobs(func(i *Item) bool {
		return !i.Back && i.Source == "" && (i.Act == Make || i.Act == Replace) && i.New.Kind == ends.File
	})
	for len(jobs) > 0 {
		batch := takeSome(&jobs, handFiles, handBytes, (*job).size)
		if err := c.paused.wait(ctx); err != nil {
			return err
		}
		c.tell(Event{Say: fmt.Sprintf("%s hands %d files to %s itself, with the key that is lent to it", from.Session, len(batch), to.Session)})
		err := c.hand(ctx, from, to, batch, c.stageOf())
		if errors.Is(err, ends.ErrNotHanded) {
			c.paced["handed"] = pace{none: true}
			c.tell(Event{Say: "what is left goes through here: " + cause(err)})
			return nil
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// hand has a batch handed, proven and put in its place.
func (c *Carry) hand(ctx context.Context, from, to *ends.There, batch []*job, stage string) error {
	names := make([]string, len(batch))
	for i, j := range batch {
		names[i] = j.path()
	}
	clear := func() error {
		return c.insist(ctx, func() error {
			if _, err := to.Lstat(ctx, stage); isNotThere(err) {
				return nil
			}
			return removeTree(ctx, to, stage)
		})
	}
	if err := clear(); err != nil {
		return err
	}
	err := c.insist(ctx, func() error {
		if err := to.Mkdir(ctx, stage, 0o700); err != nil && !to.Lost(err) {
			if there, lerr := to.Lstat(ctx, stage); lerr != nil || there.Kind != ends.Folder { // of an attempt before
				return err
			}
		}
		return from.Hand(ctx, names, to, stage)
	})
	if err != nil {
		return errors.Join(err, clear())
	}
	if err := c.each(ctx, batch, func(ctx context.Context, j *job) error {
		part := ends.Join(stage, j.path())
		now, err := to.Lstat(ctx, part)
		if err != nil || now.Kind != ends.File || now.Size != j.New.Size {
			if to.Lost(err) {
				return err
			}
			return nil // it goes through here, and says why it cannot
		}
		if err := c.attributes(ctx, j, part, true); err != nil {
			return err
		}
		c.progress.moved(j.New.Size - j.at)
		j.part, j.at = part, j.New.Size
		c.mu.Lock()
		c.packed[sideOf(j.Item)+j.path()] = true
		c.mu.Unlock()
		return nil
	}); err != nil {
		return err
	}
	var whole []*job
	for _, j := range batch {
		if c.packed[sideOf(j.Item)+j.path()] {
			whole = append(whole, j)
		}
	}
	if err := c.proveBatch(ctx, whole); err != nil {
		return err
	}
	return clear()
}
