package cargo

import (
	"archive/tar"
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/cargo/ends"
)

// Many small files come as one packed stream where the far side can pack one. They are kept in memory
// until they are written, a batch of them while the next one comes, and are written and proven as if they
// had been read one by one.

// Bounds of the streams that files come in.
const (
	fetchFiles = 4000
	fetchBytes = 12 << 20
)

// fetches fetches small files in packed streams, as long as that is faster than one by one.
func (c *Carry) fetches(ctx context.Context) error {
	packer, can := c.from.(ends.Sender)
	if !can {
		return nil
	}
	jobs := c.jobs(func(i *Item) bool {
		return !i.Back && i.Source == "" && (i.Act == Make || i.Act == Replace) && i.New.Kind == ends.File && i.New.Size <= smallFile
	})
	p := c.paced["fetched"]
	if len(jobs) < fewFiles || p.slower(len(jobs), fetchFiles) || !c.from.Can(ends.Sends) {
		return nil
	}
	defer func() { c.paced["fetched"] = p }()
	take := func(most int) []*job { return takeSome(&jobs, most, fetchBytes, (*job).size) }
	var behind errgroup.Group // one batch is written while the next one comes
	fetch := func(batch []*job) (bool, error) {
		texts, err := c.fetch(ctx, packer, batch)
		if err := cmp.Or(err, behind.Wait()); err != nil || texts == nil {
			return false, err
		}
		c.mu.Lock()
		c.ready = texts
		c.mu.Unlock()
		behind.Go(func() error { return c.someFiles(ctx, batch) })
		return true, nil
	}
	if p.byFile == 0 { // measured once: some go each way
		began := time.Now()
		one := take(sampleFiles / 4)
		if err := c.someFiles(ctx, one); err != nil {
			return err
		}
		p.byFile = time.Since(began) / time.Duration(len(one))
	}
	for len(jobs) > 0 && !p.slower(len(jobs), fetchFiles) {
		began, next := time.Now(), p.next(fetchFiles)
		batch := take(next)
		ok, err := fetch(batch)
		if next < fetchFiles { // it is measured with what it takes to write them
			err = cmp.Or(err, behind.Wait())
		}
		if p.none = !ok; err != nil {
			return err
		}
		if next < fetchFiles {
			p.stream(len(batch), time.Since(began))
		}
	}
	return behind.Wait()
}

// fetch has files packed over there, and returns what came of them that is as the plan has it. It returns
// nil where the far side cannot pack them.
func (c *Carry) fetch(ctx context.Context, packer ends.Sender, batch []*job) (texts map[string]*fetched, err error) {
	names, byStaged := make([]string, 0, len(batch)), make(map[string]*job, len(batch))
	most := int64(1 << 20)
	for _, j := range batch {
		names = append(names, j.path())
		byStaged[packer.Staged(j.path())] = j
		most += j.New.Size + int64(len(j.path()))*2 + 4096 // headers, and what fills a block
	}
	err = c.insist(ctx, func() error {
		texts = make(map[string]*fetched, len(batch))
		return packer.Pack(ctx, names, func(stream io.Reader) error {
			return c.unpack(ctx, io.LimitReader(stream, most), byStaged, texts)
		})
	})
	var gone *goneError
	switch {
	case err == nil:
		return texts, nil
	case ctx.Err() != nil || errors.As(err, &gone):
		return nil, err
	}
	c.tell(Event{Say: "a packed stream was not to be had there, so files go one by one: " + cause(err)})
	return nil, nil
}

// unpack keeps the files of a stream. Whatever else a far side packs is passed over.
func (c *Carry) unpack(ctx context.Context, stream io.Reader, want map[string]*job, texts map[string]*fetched) error {
	r := tar.NewReader(stream)
	for {
		h, err := r.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the stream cannot be read: %w", err)
		}
		j := want[h.Name]
		if j == nil || h.Typeflag != tar.TypeReg || h.Size != j.New.Size || h.ModTime.Unix() != j.New.Time {
			continue // it goes by itself, and says why it cannot
		}
		if err := c.paused.wait(ctx); err != nil {
			return err
		}
		if c.limit != nil {
			if err := c.limit.WaitN(ctx, int(h.Size)); err != nil {
				return err
			}
		}
		text := make([]byte, h.Size)
		if _, err := io.ReadFull(r, text); err != nil {
			return fmt.Errorf("the stream ends early: %w", err)
		}
		texts[j.path()] = &fetched{bytes.NewReader(text), j.New}
	}
}

// fetched is a file that came in a stream.
type fetched struct {
	*bytes.Reader
	entry ends.Entry
}

func (f *fetched) Look() (ends.Entry, error) { return f.entry, nil }
func (f *fetched) Close() error              { return nil }

// open opens a file's source: what came of it in a stream, or the file itself.
func (c *Carry) open(ctx context.Context, j *job) (ends.Reader, error) {
	c.mu.Lock()
	f := c.ready[j.path()]
	delete(c.ready, j.path()) // a second time it is read itself
	c.mu.Unlock()
	if f != nil && !j.Back {
		return f, nil
	}
	return c.source(j.Item).Open(ctx, j.sourcePath())
}
