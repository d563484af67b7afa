package cargo

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"strings"

	"golang.org/x/sync/errgroup"
	"golang.org/x/time/rate"

	"meatus/core/cargo/ends"
)

// ahead is how many pieces of a stream are on their way at once.
const ahead = 64

// limiter is the limit of a rate, nil for none.
func (o Options) limiter() *rate.Limiter {
	if o.Rate <= 0 {
		return nil
	}
	return rate.NewLimiter(rate.Limit(o.Rate), max(o.Rate/4, 256<<10))
}

// Pour writes a stream to a file of a tree: beside its place, proven, and then put there by one
// rename. What stands there before is put aside. It returns how many bytes came. A stream cannot
// be asked for again, so a lost line ends it.
func Pour(ctx context.Context, r io.Reader, to ends.End, target string, o Options) (int64, error) {
	item := Item{Name: target, Act: Make, New: ends.Entry{Kind: ends.File, Mode: 0o600}}
	switch now, err := to.Lstat(ctx, target); {
	case err == nil && now.Kind != ends.File:
		return 0, fmt.Errorf("%s is a %v, and no file", ends.Join(to.Root(), target), now.Kind)
	case err == nil:
		item.Act, item.Old, item.New.Mode = Replace, &now, now.Mode
	case !isNotThere(err):
		return 0, err
	}
	plan := &Plan{ID: NewID(), To: placeOf(to), Batches: []Batch{NewBatch("", []Item{item})}}
	c := NewCarry(plan, to, to, o)
	j := &job{Item: &item, part: partPrefix + strings.ToLower(rand.Text()[:16])}
	w, err := c.begin(ctx, j)
	if err != nil {
		return 0, err
	}
	n, sum, err := pourInto(ctx, r, w, c.piece(), o.limiter())
	if err == nil {
		err = w.Sync()
	}
	if err = errors.Join(err, w.Close()); err == nil {
		j.New.Size, j.sum, j.summed = n, sum, true
		err = c.arrive(ctx, j)
	}
	if err != nil {
		c.drop(context.WithoutCancel(ctx), j)
		return n, err
	}
	return n, nil
}

// arrive proves one file that was written, and puts it in its place.
func (c *Carry) arrive(ctx context.Context, j *job) error {
	target := c.target(j.Item)
	if err := target.Chmod(ctx, j.part, j.New.Mode); err != nil {
		return err
	}
	now, err := target.Lstat(ctx, j.part)
	if err != nil {
		return err
	}
	if now.Size != j.New.Size {
		return fmt.Errorf("%d bytes were written and %d have arrived; nothing was put in its place", j.New.Size, now.Size)
	}
	j.New.Time = now.Time
	if c.proves() {
		likeness, err := c.compare(ctx, []*job{j})
		if err != nil {
			return err
		}
		if l := likeness[j.path()]; l.Err != nil || l.Differs {
			return errors.Join(errors.New("what has arrived is not what was sent; nothing was put in its place"), l.Err)
		}
	}
	return c.place(ctx, j)
}

// pourInto writes a stream in pieces, several at once.
func pourInto(ctx context.Context, r io.Reader, w ends.Writer, piece int, limit *rate.Limiter) (n int64, sum ends.Sum, err error) {
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(ahead)
	digest := sha256.New()
	for within.Err() == nil {
		b := make([]byte, piece)
		got, rerr := io.ReadFull(r, b)
		if got > 0 {
			digest.Write(b[:got])
			at := n
			if limit != nil {
				limit.WaitN(within, got)
			}
			g.Go(func() error { _, err := w.WriteAt(b[:got], at); return err })
			n += int64(got)
		}
		if rerr == io.EOF || rerr == io.ErrUnexpectedEOF {
			break
		}
		if rerr != nil {
			err = fmt.Errorf("reading what is to be sent: %w", rerr)
			break
		}
	}
	err = errors.Join(err, g.Wait(), ctx.Err())
	return n, ends.Sum(digest.Sum(nil)), err
}

// Drain writes a file of a tree to a stream, and compares what was written with the file's digest
// where that costs nothing. It goes on where a lost line is back. It returns how many bytes went.
func Drain(ctx context.Context, from ends.End, source string, w io.Writer, o Options) (int64, error) {
	item := Item{Name: source, Act: Make}
	c := NewCarry(&Plan{ID: NewID(), Batches: []Batch{NewBatch("", []Item{item})}}, from, from, o)
	digest := sha256.New()
	out := io.MultiWriter(w, digest)
	var at int64
	var first ends.Entry
	err := c.insist(ctx, func() error {
		f, err := from.Open(ctx, source)
		if err != nil {
			return err
		}
		defer f.Close()
		now, err := f.Look()
		if err != nil {
			return err
		}
		if first.Kind == ends.None {
			first = now
		}
		if now.Kind != ends.File || !now.Same(first) {
			return errChanged("it has changed while it was read")
		}
		return drainFrom(ctx, f, out, &at, now.Size, c.piece(), o.limiter())
	})
	if err != nil || o.Proof == ProveNought || o.Proof == ProveCheap && !from.Can(ends.Digests) {
		return at, err
	}
	var differs error
	err = from.Digest(ctx, []string{source}, func(_ string, sum ends.Sum, err error) {
		if differs = err; err == nil && sum != ends.Sum(digest.Sum(nil)) {
			differs = errors.New("what has arrived is not what is there: do not use it")
		}
	})
	return at, errors.Join(err, differs)
}

// drainFrom reads pieces ahead and writes them in order.
func drainFrom(ctx context.Context, f ends.Reader, w io.Writer, at *int64, size int64, piece int, limit *rate.Limiter) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type part struct {
		b   []byte
		err error
	}
	parts := make(chan chan part, ahead)
	go func() {
		defer close(parts)
		for from := *at; from < size; from += int64(piece) {
			n := min(int64(piece), size-from)
			if limit != nil && limit.WaitN(ctx, int(n)) != nil {
				return
			}
			one := make(chan part, 1)
			select {
			case parts <- one:
			case <-ctx.Done():
				return
			}
			go func() {
				b := make([]byte, n)
				got, err := f.ReadAt(b, from)
				if got == len(b) {
					err = nil
				} else if err == nil || err == io.EOF {
					err = errChanged("it was cut while it was read")
				}
				one <- part{b[:got], err}
			}()
		}
	}()
	for one := range parts {
		p := <-one
		if p.err != nil {
			return p.err
		}
		if _, err := w.Write(p.b); err != nil {
			return fmt.Errorf("writing it: %w", err)
		}
		*at += int64(len(p.b))
	}
	return ctx.Err()
}
