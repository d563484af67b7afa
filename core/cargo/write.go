package cargo

import (
	"cmp"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"

	"golang.org/x/sync/errgroup"

	"meatus/core/cargo/ends"
)

// noteEvery is after how many bytes of a file it is written down how much has arrived.
const noteEvery = 8 << 20

// write writes a file's content beside its place, on from what had arrived.
func (c *Carry) write(ctx context.Context, j *job) (err error) {
	path := j.path()
	c.progress.now.Store(&path)
	r, w, err := c.openBoth(ctx, j)
	if err != nil {
		return err
	}
	defer r.Close()
	err = c.fill(ctx, r, w, j)
	if err = errors.Join(err, w.Close()); err != nil {
		return err
	}
	if err := c.unchanged(r, j); err != nil {
		return errors.Join(err, c.drop(ctx, j))
	}
	return c.attributes(ctx, j, j.part, !c.small(j))
}

// openBoth opens the source and what is written. The first tree's file is opened first whichever way the file goes: an end
// may have to wait for another file to be closed, and two files that wait for each other would wait for ever.
func (c *Carry) openBoth(ctx context.Context, j *job) (r ends.Reader, w ends.Writer, err error) {
	if j.Back {
		back, err := c.begin(ctx, j)
		if err != nil {
			return nil, nil, err
		}
		if r, err = c.openUnchanged(ctx, j); err != nil {
			return nil, nil, errors.Join(err, back.Close())
		}
		return r, back, nil
	}
	if r, err = c.openUnchanged(ctx, j); err != nil {
		return nil, nil, err
	}
	if w, err = c.begin(ctx, j); err != nil {
		r.Close()
		return nil, nil, err
	}
	return r, w, nil
}

// openUnchanged opens the source where it is still what the plan has.
func (c *Carry) openUnchanged(ctx context.Context, j *job) (ends.Reader, error) {
	r, err := c.open(ctx, j)
	if err != nil {
		return nil, fmt.Errorf("it cannot be read: %w", err)
	}
	if err := c.unchanged(r, j); err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// unchanged tells whether the source is still what the plan has.
func (c *Carry) unchanged(r ends.Reader, j *job) error {
	now, err := r.Look()
	if err != nil {
		return err
	}
	if now.Kind != ends.File || !now.Same(j.New) {
		return errChanged("it has changed while, or before, it was moved")
	}
	return nil
}

// small tells whether a file goes in one piece.
func (c *Carry) small(j *job) bool { return j.New.Size <= int64(c.piece()) }

func (c *Carry) piece() int {
	_, a := c.from.Widths()
	_, b := c.to.Widths()
	return min(a, b)
}

// begin makes the file beside the place, or opens what is there of it. Nobody else may read it
// until it is whole.
func (c *Carry) begin(ctx context.Context, j *job) (ends.Writer, error) {
	target := c.target(j.Item)
	if j.begun {
		w, err := c.goOn(ctx, j)
		if err == nil || !errors.Is(err, fs.ErrNotExist) && !c.heldOpen(ctx, j, err) {
			return w, err
		}
	}
	c.progress.moved(-j.at)
	j.at = 0
	c.options.Record.step(linePart, j.path(), 0)
	w, err := target.Create(ctx, j.part)
	if err != nil { // of an attempt of which nothing was written down
		if err = unlessDone(ctx, target, j.part, err, func(now ends.Entry) bool { return now.Kind == ends.File }); err == nil {
			if w, err = target.Reopen(ctx, j.part); err == nil {
				err = w.Truncate(0)
			} else if c.heldOpen(ctx, j, err) {
				w, err = target.Create(ctx, j.part)
			}
		}
	}
	if err != nil {
		return nil, fmt.Errorf("it cannot be written: %w", err)
	}
	j.begun, j.fresh = true, true
	mode := uint16(0o600)
	if c.small(j) {
		mode = c.mode(j)
	}
	if err := target.Chmod(ctx, j.part, mode); err != nil {
		w.Close()
		return nil, fmt.Errorf("its permissions cannot be set: %w", err)
	}
	return w, nil
}

// heldOpen removes what had arrived of a file where nobody may open it, and tells whether it did: a server that lets
// nobody open a file twice still has it open for a session whose line was lost.
func (c *Carry) heldOpen(ctx context.Context, j *job, err error) bool {
	return errors.Is(err, fs.ErrPermission) && c.target(j.Item).Remove(ctx, j.part) == nil
}

// goOn opens what had arrived of a file. What is shorter than what is known to have arrived is
// begun anew.
func (c *Carry) goOn(ctx context.Context, j *job) (ends.Writer, error) {
	w, err := c.target(j.Item).Reopen(ctx, j.part)
	if err != nil {
		return nil, err
	}
	j.fresh = false
	now, err := w.Look()
	if err != nil {
		w.Close()
		return nil, err
	}
	if now.Size < j.at {
		c.progress.moved(-j.at)
		j.at = 0
	}
	return w, nil
}

// fill moves the content, in pieces that are on their way at once.
func (c *Carry) fill(ctx context.Context, r ends.Reader, w ends.Writer, j *job) error {
	g, within := errgroup.WithContext(ctx)
	arrived := &prefix{c: c, j: j, noted: j.at}
	size, most := j.New.Size, int64(c.piece())
	holes, _ := r.(interface {
		Data(from, size int64) (int64, int64)
	})
	dataEnd := int64(0)
	for at := j.at; at < size; {
		if holes != nil && at >= dataEnd {
			var begin int64
			begin, dataEnd = holes.Data(at, size)
			arrived.skip(at, begin)
			if at = begin; at >= size {
				break
			}
		}
		n := min(most, size-at)
		if err := c.onTheWay(within, int(n)); err != nil {
			break
		}
		piece := at
		g.Go(func() error {
			defer c.budget.Release(n)
			return c.movePiece(r, w, j, arrived, piece, int(n))
		})
		at += n
	}
	if err := cmp.Or(g.Wait(), context.Cause(ctx)); err != nil {
		arrived.giveUp()
		return err
	}
	now, err := w.Look()
	if err == nil && now.Size != size { // its end is a hole, or more stood there
		err = w.Truncate(size)
	}
	if _, together := c.target(j.Item).(syncer); err == nil && !(together && c.small(j)) {
		err = w.Sync()
	}
	return err
}

// syncer is an end that can have many small files on the disk at once, which is much faster than one
// by one.
type syncer interface{ SyncAll() error }

// syncAll has what was written of a batch on the disk, before any of it takes its place.
func (c *Carry) syncAll(batch []*job) error {
	done := map[ends.End]bool{}
	for _, j := range batch {
		target := c.target(j.Item)
		if s, ok := target.(syncer); ok && !done[target] {
			done[target] = true
			if err := s.SyncAll(); err != nil {
				return fmt.Errorf("what was written cannot be put on the disk: %w", err)
			}
		}
	}
	return nil
}

// onTheWay waits until so many bytes may be on their way.
func (c *Carry) onTheWay(ctx context.Context, n int) error {
	if err := c.paused.wait(ctx); err != nil {
		return err
	}
	if c.limit != nil {
		if err := c.limit.WaitN(ctx, n); err != nil {
			return err
		}
	}
	return c.budget.Acquire(ctx, int64(n))
}

func (c *Carry) movePiece(r ends.Reader, w ends.Writer, j *job, arrived *prefix, at int64, n int) error {
	buf, _ := c.buffers.Get().(*[]byte)
	if buf == nil || len(*buf) < n {
		b := make([]byte, max(n, c.piece()))
		buf = &b
	}
	defer c.buffers.Put(buf)
	b := (*buf)[:n]
	got, err := r.ReadAt(b, at)
	if got < n {
		if err == nil || err == io.EOF {
			err = errChanged("it was cut while it was moved")
		}
		return err
	}
	if at == 0 {
		if err := c.mayLeave(j, b); err != nil {
			return err
		}
	}
	if at == 0 && int64(n) == j.New.Size {
		j.sum, j.summed = sha256.Sum256(b), true
	}
	if zero(b) && at+int64(n) < j.New.Size && j.fresh {
		arrived.add(at, int64(n)) // nothing is written where there is nothing: it becomes a hole
		return nil
	}
	if _, err := w.WriteAt(b, at); err != nil {
		return err
	}
	arrived.add(at, int64(n))
	return nil
}

// zero tells whether there are only null bytes.
func zero(b []byte) bool {
	for len(b) >= 8 {
		if b[0]|b[1]|b[2]|b[3]|b[4]|b[5]|b[6]|b[7] != 0 {
			return false
		}
		b = b[8:]
	}
	for _, x := range b {
		if x != 0 {
			return false
		}
	}
	return true
}

// prefix finds out up to where a file has arrived without a gap.
type prefix struct {
	c     *Carry
	j     *job
	mu    sync.Mutex
	ahead map[int64]int64 // pieces that arrived before those in front of them
	noted int64
}

// skip counts a hole.
func (p *prefix) skip(from, to int64) {
	if to > from {
		p.add(from, to-from)
	}
}

// giveUp takes back what arrived behind a gap: it is moved again.
func (p *prefix) giveUp() {
	for _, n := range p.ahead {
		p.c.progress.moved(-n)
	}
}

func (p *prefix) add(at, n int64) {
	p.c.progress.moved(n)
	p.c.steps.Add(1)
	p.j.moved.Add(n)
	p.mu.Lock()
	defer p.mu.Unlock()
	if at != p.j.at {
		if p.ahead == nil {
			p.ahead = map[int64]int64{}
		}
		p.ahead[at] = n
		return
	}
	for n > 0 {
		p.j.at += n
		n = p.ahead[p.j.at]
		delete(p.ahead, p.j.at)
	}
	if p.j.at-p.noted >= noteEvery {
		p.noted = p.j.at
		p.c.options.Record.step(linePart, p.j.path(), p.j.at)
	}
}

// mode is the permissions that a file gets: where it stays the account's own, nothing that would
// have others run it with another's right.
func (c *Carry) mode(j *job) uint16 {
	if c.plan.Rules.Owner {
		return j.New.Mode
	}
	return j.New.Mode & 0o777
}

// attributes sets owner, permissions and time of what stands at a path. What the end has no
// right or no way to set is told, and does not fail the item.
func (c *Carry) attributes(ctx context.Context, j *job, path string, mode bool) error {
	target := c.target(j.Item)
	if c.plan.Rules.Owner && j.New.Owned {
		if err := target.Chown(ctx, path, j.New); err != nil {
			if target.Lost(err) {
				return err
			}
			c.tell(Event{Path: j.path(), Say: "whose it is cannot be kept: " + cause(err)})
		}
		mode = true // it may have taken bits away
	}
	if mode {
		if err := target.Chmod(ctx, path, c.mode(j)); err != nil {
			return fmt.Errorf("its permissions cannot be set: %w", err)
		}
	}
	if err := target.Chtime(ctx, path, j.New); err != nil {
		if target.Lost(err) {
			return err
		}
		c.tell(Event{Path: j.path(), Say: "its time cannot be kept: " + cause(err)})
	}
	return nil
}

// settle sets permissions and time of what is there.
func (c *Carry) settle(ctx context.Context, j *job) error {
	now, err := c.target(j.Item).Lstat(ctx, j.path())
	if err != nil {
		return err
	}
	if !now.Same(*j.Old) {
		if !now.Same(j.New) || now.Size != j.New.Size { // an attempt before set it
			return errChanged("it has changed since")
		}
	}
	if err := c.attributes(ctx, j, j.path(), true); err != nil {
		return err
	}
	c.finished(j)
	return nil
}

// link makes a symbolic link beside its place and puts it there.
func (c *Carry) link(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	if err := leadsOut(j); err != nil {
		return err
	}
	if now, err := target.Lstat(ctx, j.path()); err == nil && now.Kind == ends.Link && now.Link == j.New.Link {
		c.finished(j) // an attempt before has put it there, whose answer was lost
		return nil
	}
	if target.Can(ends.Follows) {
		return c.linkAtOnce(ctx, j)
	}
	err := target.Symlink(ctx, j.New.Link, j.part)
	if errors.Is(err, ends.ErrFollows) { // which is known by that
		return c.linkAtOnce(ctx, j)
	}
	var led ends.Entry
	err = unlessDone(ctx, target, j.part, err, func(now ends.Entry) bool { led = now; return now.Kind == ends.Link && now.Link == j.New.Link })
	if err != nil && led.Kind == ends.Link { // an attempt before made it, and it leads elsewhere
		if rerr := target.Remove(ctx, j.part); target.Lost(rerr) {
			return rerr
		}
		err = &ends.WrongLinkError{Leads: led.Link}
	}
	if err != nil {
		return fmt.Errorf("the link cannot be made: %w", err)
	}
	// The existing link may lead out of the tree.
	if h, ok := target.(interface{ LeadsOut(name string) bool }); ok && h.LeadsOut(j.part) {
		target.Remove(ctx, j.part)
		return errLeadsOut(j)
	}
	if err = c.place(ctx, j); err != nil && !target.Lost(err) {
		target.Remove(ctx, j.part) // there is nothing in it to go on with
	}
	return err
}

// leadsOut refuses a link that leads out of the tree, also in a saved plan.
func leadsOut(j *job) error {
	folder, _ := ends.Split(j.path())
	if j.New.Kind == ends.Link && !ends.Within(folder, j.New.Link) {
		return errLeadsOut(j)
	}
	return nil
}

func errLeadsOut(j *job) error {
	return fmt.Errorf("a link that leads out of the tree, or may: %s", Say(j.New.Link))
}

// linkAtOnce makes a symbolic link at its place, where nothing stands, at a server that follows links: it could not be
// put there by a rename, nor what stands there be put aside.
func (c *Carry) linkAtOnce(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	if _, err := target.Lstat(ctx, j.path()); err == nil {
		return ends.ErrFollows
	} else if !isNotThere(err) {
		return err
	}
	if err := target.Symlink(ctx, j.New.Link, j.path()); err != nil {
		return fmt.Errorf("the link cannot be made: %w", err)
	}
	c.finished(j)
	return nil
}

// drop removes what was written beside the place.
func (c *Carry) drop(ctx context.Context, j *job) error {
	c.progress.moved(-j.at)
	j.at, j.begun = 0, false
	err := c.target(j.Item).Remove(ctx, j.part)
	if isNotThere(err) {
		err = nil
	}
	if err == nil {
		c.options.Record.step(linePart, j.path(), 0)
	}
	return err
}

func isNotThere(err error) bool { return errors.Is(err, fs.ErrNotExist) }
