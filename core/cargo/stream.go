package cargo

import (
	"archive/tar"
	"bufio"
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/cargo/ends"
)

// Many small files go as one packed stream where the far side can unpack one: a file by itself takes
// some ten requests, a file in a stream none. They are unpacked beside their places, under names of
// ours, proven, and put in their places: a folder that is new by one rename with all that is in it.

// Bounds of streams.
const (
	smallFile   = 64 << 10 // bytes; what is longer goes by itself
	fewFiles    = 100      // fewer are not worth a stream
	unitFiles   = 5000     // a new folder with more goes file by file into its place
	streamFiles = 2500     // while one stream is proven over there the next one goes
	streamBytes = 32 << 20
	sampleFiles = 256 // how many go each way first, so that it is known which is faster
)

// pace is how long files took by themselves and in streams. A stream takes a while before its first file,
// and a short one shows little else; so the second one is longer, and the two tell what a further file takes.
type pace struct {
	byFile      time.Duration // one file, 0 where that is not known
	first, last trial         // streams, the first and the latest one
	none        bool          // streams are not to be had
}

// trial is one stream.
type trial struct {
	files int
	took  time.Duration
}

// stream notes how long a stream took.
func (p *pace) stream(files int, took time.Duration) {
	p.last = trial{files, took}
	if p.first.files == 0 {
		p.first = p.last
	}
}

// next is how many files the next stream has, most where it is known how long streams take.
func (p *pace) next(most int) int {
	switch {
	case p.first.files == 0:
		return sampleFiles
	case p.last.files <= p.first.files:
		return min(4*sampleFiles, most)
	}
	return most
}

// slower tells whether as many files as are left go better one by one than in streams of so many.
func (p *pace) slower(left, most int) bool {
	more := p.last.files - p.first.files
	if p.none || p.byFile == 0 || more <= 0 {
		return p.none
	}
	each := max(p.last.took-p.first.took, 0) / time.Duration(more)
	before := max(p.first.took-each*time.Duration(p.first.files), 0)
	streams := time.Duration((left + most - 1) / most)
	return streams*before+time.Duration(left)*each > time.Duration(left)*p.byFile
}

// unit is what is put in its place as one: a new folder with what is in it, or one file.
type unit struct {
	top   *job // the folder, nil for a file by itself
	jobs  []*job
	files int
	bytes int64
}

// streams sends small files in packed streams, as long as that is faster than one by one.
func (c *Carry) streams(ctx context.Context) error {
	packer, can := c.to.(ends.Packer)
	if _, here := c.from.(*ends.Here); !can || !here {
		return nil
	}
	units, files := c.units()
	p := c.paced["sent"]
	if files < fewFiles || p.slower(files, streamFiles) || !c.to.Can(ends.Packs) {
		return nil
	}
	if root := c.jobs(func(i *Item) bool { return i.Act == Make && i.New.Kind == ends.Folder && i.Name == "" }); len(root) > 0 {
		if err := c.each(ctx, root, c.makeFolder); err != nil {
			return err
		}
	}
	defer func() { c.paced["sent"] = p }()
	var behind errgroup.Group // one stream is proven while the next one is sent
	for len(units) > 0 {
		if p.first.files > 0 && p.byFile == 0 { // measured once: a sample goes file by file
			if sample := loose(&units, sampleFiles/4); len(sample) > 0 {
				err := behind.Wait()
				began := time.Now()
				if err = cmp.Or(err, c.someFiles(ctx, sample)); err != nil {
					return err
				}
				p.byFile = time.Since(began) / time.Duration(len(sample))
				files -= len(sample)
			}
		}
		if p.slower(files, streamFiles) {
			return behind.Wait()
		}
		batch := takeSome(&units, p.next(streamFiles), streamBytes, (*unit).size)
		began, count := time.Now(), 0
		for _, u := range batch {
			count += u.files
		}
		s, err := c.stream(ctx, packer, batch)
		if s == nil || err != nil {
			p.none = true
			return cmp.Or(err, behind.Wait())
		}
		if files -= count; count > 0 {
			p.stream(count, time.Since(began))
		}
		if err := behind.Wait(); err != nil {
			return err
		}
		behind.Go(func() error { return cmp.Or(s.prove(ctx), s.settle(ctx, batch)) })
	}
	return behind.Wait()
}

// units are what can go in streams, and how many files that is.
func (c *Carry) units() (units []*unit, files int) {
	all := c.jobs(func(i *Item) bool {
		return !i.Back && i.Source == "" && (i.Act == Make || i.Act == Replace && i.New.Kind == ends.File) && i.New.Kind != ends.Other && i.New.Size <= smallFile
	})
	folders := map[string]*job{} // that are new
	for _, j := range all {
		if j.New.Kind == ends.Folder && j.Name != "" {
			folders[j.path()] = j
		}
	}
	byTop := map[string]*unit{}
	for _, j := range all {
		top := ""
		for at := j.path(); at != ""; at, _ = ends.Split(at) {
			if folders[at] != nil {
				top = at
			}
		}
		switch {
		case j.New.Kind != ends.Folder && j.begun, j.Name == "":
			continue // it is gone on with by itself
		case top == "" && j.New.Kind == ends.File:
			units = append(units, &unit{jobs: []*job{j}, files: 1, bytes: j.New.Size})
			files++
			continue
		case top == "":
			continue
		}
		u := byTop[top]
		if u == nil {
			u = &unit{top: folders[top]}
			byTop[top] = u
			units = append(units, u)
		}
		if u.jobs = append(u.jobs, j); j.New.Kind == ends.File {
			u.files, u.bytes = u.files+1, u.bytes+j.New.Size
			files++
		}
	}
	return slices.DeleteFunc(units, func(u *unit) bool {
		drop := u.top != nil && (u.files == 0 || u.files > unitFiles || u.bytes > 2*streamBytes)
		if drop {
			files -= u.files
		}
		return drop
	}), files
}

// takeSome takes the first of all, up to so many files and bytes, and one at least. How many files and bytes
// one of them has, size says.
func takeSome[T any](all *[]T, mostFiles int, mostBytes int64, size func(T) (files int, bytes int64)) []T {
	n, files, bytes := 0, 0, int64(0)
	for ; n < len(*all); n++ {
		f, b := size((*all)[n])
		if files, bytes = files+f, bytes+b; n > 0 && (files > mostFiles || bytes > mostBytes) {
			break
		}
	}
	batch := (*all)[:n]
	*all = (*all)[n:]
	return batch
}

// size is how many files a unit has, and their bytes.
func (u *unit) size() (int, int64) { return u.files, u.bytes }

// size is that of the one file.
func (j *job) size() (int, int64) { return 1, j.New.Size }

// loose takes files that stand by themselves out of the units, at most so many.
func loose(units *[]*unit, most int) []*job {
	var jobs []*job
	*units = slices.DeleteFunc(*units, func(u *unit) bool {
		if u.top != nil || len(jobs) == most {
			return false
		}
		jobs = append(jobs, u.jobs...)
		return true
	})
	return jobs
}

// someFiles moves files one by one.
func (c *Carry) someFiles(ctx context.Context, jobs []*job) error {
	if len(jobs) == 0 {
		return nil
	}
	if err := c.each(ctx, jobs, c.write); err != nil {
		return err
	}
	whole := slices.DeleteFunc(slices.Clone(jobs), func(j *job) bool { return j.at < j.New.Size })
	c.mu.Lock()
	for _, j := range jobs {
		c.packed[sideOf(j.Item)+j.path()] = true
	}
	c.mu.Unlock()
	return c.proveBatch(ctx, whole)
}

// stageOf is the folder in which the files of a stream that stand by themselves are unpacked.
func (c *Carry) stageOf() string {
	c.stages++
	return fmt.Sprintf("%s%s-%d", partPrefix, c.plan.ID, c.stages)
}

// stream sends units as one stream. It returns nil where the far side cannot unpack it: then they go
// file by file.
func (c *Carry) stream(ctx context.Context, packer ends.Packer, units []*unit) (*packing, error) {
	stage := c.stageOf()
	s := &packing{c: c, packer: packer, stage: stage}
	for _, u := range units {
		s.place(u)
	}
	// Folders come before what is in them, since paths are in order within a unit.
	slices.SortStableFunc(s.staged, func(a, b stagedJob) int { return depthOf(a.at) - depthOf(b.at) })
	err := c.insist(ctx, func() error {
		if err := s.clear(ctx); err != nil {
			return err
		}
		return s.send(ctx)
	})
	if err != nil {
		if ctx.Err() != nil || c.to.Lost(err) {
			return nil, err
		}
		c.tell(Event{Say: "a packed stream was not taken there, so files go one by one: " + cause(err)})
		return nil, c.insist(ctx, func() error { return s.clear(ctx) })
	}
	return s, nil
}

// packing is one stream.
type packing struct {
	c      *Carry
	packer ends.Packer
	stage  string
	staged []stagedJob
	tops   []*job
	loose  bool // something is in the stage
}

// stagedJob is a job, and where it is unpacked.
type stagedJob struct {
	*job
	at string
	ok bool // it was packed, and then proven
}

// place says where a unit is unpacked.
func (s *packing) place(u *unit) {
	if u.top == nil {
		s.loose = true
		s.staged = append(s.staged, stagedJob{job: u.jobs[0], at: fmt.Sprintf("%s/%d", s.stage, len(s.staged))})
		return
	}
	s.tops = append(s.tops, u.top)
	for _, j := range u.jobs {
		s.staged = append(s.staged, stagedJob{job: j, at: u.top.part + j.path()[len(u.top.path()):]})
	}
}

// clear removes what an attempt before has left.
func (s *packing) clear(ctx context.Context) error {
	folders := []string{}
	if s.loose {
		folders = append(folders, s.stage)
	}
	for _, top := range s.tops {
		folders = append(folders, top.part)
	}
	for _, folder := range folders {
		_, err := s.c.to.Lstat(ctx, folder)
		if isNotThere(err) {
			continue
		}
		if err == nil {
			err = removeTree(ctx, s.c.to, folder)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// send packs the stream while it is unpacked over there.
func (s *packing) send(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out, in := io.Pipe()
	var packed sync.WaitGroup
	packed.Go(func() { in.CloseWithError(s.write(ctx, in)) })
	err := s.packer.Unpack(ctx, out)
	out.CloseWithError(io.ErrClosedPipe)
	cancel()
	packed.Wait() // nothing of this attempt goes on beside the next
	return err
}

func (s *packing) write(ctx context.Context, to io.Writer) error {
	out := bufio.NewWriterSize(to, 256<<10) // headers and small files are not sent each by itself
	w := tar.NewWriter(out)
	if s.loose {
		if err := w.WriteHeader(s.folder(s.stage)); err != nil {
			return err
		}
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	texts := s.ahead(ctx)
	for i := range s.staged {
		if err := s.one(ctx, w, &s.staged[i], texts); err != nil {
			return err
		}
	}
	return cmp.Or(w.Close(), out.Flush())
}

func (s *packing) folder(name string) *tar.Header {
	return &tar.Header{Typeflag: tar.TypeDir, Name: s.packer.Staged(name) + "/", Mode: 0o700, ModTime: time.Now(), Format: tar.FormatPAX}
}

// one packs a folder, a link or a file. A file that has changed is left out, and told when it goes by
// itself.
func (s *packing) one(ctx context.Context, w *tar.Writer, j *stagedJob, texts <-chan chan text) error {
	name := s.packer.Staged(j.at)
	switch j.New.Kind {
	case ends.Folder:
		j.ok = true
		return w.WriteHeader(s.folder(j.at))
	case ends.Link:
		if leadsOut(j.job) != nil {
			return nil // it is told when it goes by itself
		}
		j.ok = true
		return w.WriteHeader(&tar.Header{Typeflag: tar.TypeSymlink, Name: name, Linkname: j.New.Link, Mode: 0o777, Format: tar.FormatPAX})
	}
	if err := s.c.onTheWay(ctx, int(j.New.Size)); err != nil {
		return err
	}
	defer s.c.budget.Release(j.New.Size)
	next, more := <-texts
	if !more {
		return ctx.Err()
	}
	var got text
	select {
	case got = <-next:
	case <-ctx.Done():
		return ctx.Err()
	}
	if j.ok = got.err == nil; !j.ok {
		return nil
	}
	j.sum, j.summed = got.sum, true
	h := &tar.Header{Typeflag: tar.TypeReg, Name: name, Size: j.New.Size, Mode: int64(s.c.mode(j.job)), ModTime: j.New.When(), Format: tar.FormatPAX}
	if err := w.WriteHeader(h); err != nil {
		return err
	}
	_, err := w.Write(got.bytes)
	return err
}

// text is a file's content that was read ahead.
type text struct {
	bytes []byte
	sum   ends.Sum
	err   error
}

// ahead reads the files of the stream, some before they are packed.
func (s *packing) ahead(ctx context.Context) <-chan chan text {
	texts := make(chan chan text, 32)
	go func() {
		defer close(texts)
		for i := range s.staged {
			j := s.staged[i].job
			if j.New.Kind != ends.File {
				continue
			}
			one := make(chan text, 1)
			select {
			case texts <- one:
			case <-ctx.Done():
				return
			}
			go func() {
				b, err := s.text(ctx, j)
				one <- text{b, sha256.Sum256(b), err}
			}()
		}
	}()
	return texts
}

// text is a file's content, where the file is what the plan has.
func (s *packing) text(ctx context.Context, j *job) ([]byte, error) {
	f, err := s.c.from.Open(ctx, j.sourcePath())
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := s.c.unchanged(f, j); err != nil {
		return nil, err
	}
	text := make([]byte, j.New.Size)
	if n, err := f.ReadAt(text, 0); n < len(text) {
		return nil, err
	}
	return text, s.c.mayLeave(j, text)
}

// prove compares what was unpacked with what was packed. What differs is left to go by itself.
func (s *packing) prove(ctx context.Context) error {
	if !s.c.proves() { // that it was unpacked without an error is what is known
		return nil
	}
	at := map[string]*stagedJob{}
	var names []string
	for i := range s.staged {
		if j := &s.staged[i]; j.ok && j.New.Kind == ends.File {
			j.ok = false
			at[j.at] = j
			names = append(names, j.at)
		}
	}
	return s.c.insist(ctx, func() error {
		return s.c.to.Digest(ctx, names, func(name string, sum ends.Sum, err error) {
			if j := at[name]; j != nil && err == nil && sum == j.sum {
				j.ok = true
			}
		})
	})
}

// settle puts what was proven in its place, and removes what is left.
func (s *packing) settle(ctx context.Context, units []*unit) error {
	c := s.c
	byTop := map[*job]bool{}
	for _, u := range units {
		if u.top != nil {
			byTop[u.top] = true
		}
	}
	var tops, files []*job
	for i := range s.staged {
		j := &s.staged[i]
		switch {
		case byTop[j.job]:
			tops = append(tops, j.job)
		case len(j.at) > len(s.stage) && j.at[:len(s.stage)] == s.stage && j.ok:
			j.part = j.at
			files = append(files, j.job)
			c.mu.Lock()
			c.packed[sideOf(j.Item)+j.path()] = true
			c.mu.Unlock()
			c.progress.moved(j.New.Size)
			j.job.at = j.New.Size
		}
	}
	c.proven(len(files))
	if err := s.dropWrong(ctx); err != nil {
		return err
	}
	if err := c.each(ctx, tops, s.placeTop); err != nil {
		return err
	}
	if err := c.each(ctx, files, c.place); err != nil {
		return err
	}
	return c.insist(ctx, func() error { return s.clear(ctx) })
}

// proven counts files that came in a stream.
func (c *Carry) proven(n int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.proves() {
		c.report.Proven += n
	} else {
		c.report.Unproven += n
	}
}

// dropWrong removes from a new folder the files that did not arrive as they were sent.
func (s *packing) dropWrong(ctx context.Context) error {
	for i := range s.staged {
		if j := &s.staged[i]; !j.ok {
			err := s.c.insist(ctx, func() error { return s.c.to.Remove(ctx, j.at) })
			if err != nil && !isNotThere(err) {
				return err
			}
		}
	}
	return nil
}

// placeTop puts a new folder in its place with all that is in it. Where something has come to stand
// there meanwhile its files go one by one.
func (s *packing) placeTop(ctx context.Context, top *job) error {
	c := s.c
	err := c.to.Rename(ctx, top.part, top.path())
	if c.to.Lost(err) {
		return err
	}
	if err != nil {
		if _, lerr := c.to.Lstat(ctx, top.part); !isNotThere(lerr) { // it did not go, and is cleared up
			return nil
		}
		if _, lerr := c.to.Lstat(ctx, top.path()); lerr != nil {
			return lerr
		}
	}
	for i := range s.staged {
		j := &s.staged[i]
		if !under(j.path(), top.path()) {
			continue
		}
		if j.New.Kind == ends.Folder {
			c.mu.Lock()
			c.made[sideOf(j.Item)+j.path()] = true
			c.mu.Unlock()
			continue
		}
		if !j.ok {
			continue
		}
		c.mu.Lock()
		c.packed[sideOf(j.Item)+j.path()] = true
		c.mu.Unlock()
		if j.New.Kind == ends.File {
			c.proven(1)
		}
		c.progress.moved(j.New.Size)
		c.finished(j.job)
	}
	return nil
}

// under tells whether a path is a folder, or lies in it.
func under(path, folder string) bool {
	return path == folder || len(path) > len(folder) && path[:len(folder)] == folder && path[len(folder)] == '/'
}

// clearStreams removes what streams of a carry that was cut off have left.
func (c *Carry) clearStreams(ctx context.Context) error {
	var left []string
	err := c.to.List(ctx, "", func(name string, _ ends.Entry) error {
		if len(name) > len(partPrefix+c.plan.ID) && name[:len(partPrefix+c.plan.ID)] == partPrefix+c.plan.ID {
			left = append(left, name)
		}
		return nil
	})
	if err != nil && !isNotThere(err) {
		return err
	}
	for _, j := range c.jobs(func(i *Item) bool { return !i.Back && i.Act == Make && i.New.Kind == ends.Folder && i.Name != "" }) {
		if now, err := c.to.Lstat(ctx, j.part); err == nil && now.Kind == ends.Folder {
			left = append(left, j.part)
		}
	}
	for _, folder := range left {
		if err := removeTree(ctx, c.to, folder); err != nil && !isNotThere(err) {
			return err
		}
	}
	return nil
}
