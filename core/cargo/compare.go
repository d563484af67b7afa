package cargo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"sync"

	"meatus/core/cargo/ends"
)

// Diff says how two names differ.
type Diff uint8

// How they differ. From is the side that the comparison began with.
const (
	Same      Diff = iota
	OnlyFrom       // it stands there alone
	OnlyTo         // it stands there alone
	FromNewer      // both are files, and the first was written later
	ToNewer
	Differs   // both are files of one time and another size, or links that lead elsewhere
	OtherKind // a file and a folder, say
	Mode      // they differ in their permissions alone
	Touched   // they differ in their time alone, as far as is known
	Refused   // it can not be moved, and Why says so
)

// Pair is one name, and what stands under it on both sides.
type Pair struct {
	Name     string
	From, To ends.Entry
	Diff     Diff
	Why      string // of what is refused
}

// Listed is one folder as it was found.
type Listed struct {
	Path  string
	Pairs []Pair // by name
	Left  int    // how many names were left out by the rules, or are ours
	Err   error  // why it could not be read; it then has no pairs
	Known int    // how many names were found so far
}

// Bounds of a comparison.
const (
	atOnce     = 48 // folders that are read at once, since each takes several round trips
	maxDepth   = 200
	maxFollows = 8
)

// Compare reads two trees and tells each folder when it has been read, from one goroutine and in
// no order. A folder that is on one side alone is read there. It fails where the root of from
// cannot be read.
func Compare(ctx context.Context, from, to ends.End, rules Rules, each func(Listed)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	root, err := rootPair(ctx, from, to, rules)
	if err != nil {
		return err
	}
	each(Listed{Pairs: []Pair{root}})
	if root.From.Kind != ends.Folder && root.To.Kind != ends.Folder || root.Diff == OtherKind {
		return nil
	}
	c := newComparison(from, to, rules)
	c.push(folder{in: sides{root.From.Kind == ends.Folder, root.To.Kind == ends.Folder}})
	return c.run(ctx, each)
}

// compareSome compares some folders of two trees, and of those in them the ones that stand on one
// side alone.
func compareSome(ctx context.Context, from, to ends.End, rules Rules, folders []string, each func(Listed)) error {
	c := newComparison(from, to, rules)
	c.shallow, c.seen = true, map[string]bool{}
	for _, path := range folders {
		f := folder{path: path, depth: depthOf(path)}
		for end, in := range map[ends.End]*bool{from: &f.in.from, to: &f.in.to} {
			e, err := end.Stat(ctx, path)
			if err != nil && !isNotThere(err) {
				return err
			}
			*in = e.Kind == ends.Folder
		}
		c.push(f)
	}
	return c.run(ctx, each)
}

func newComparison(from, to ends.End, rules Rules) *comparison {
	return &comparison{from: from, to: to, rules: rules, wake: make(chan struct{}, atOnce), found: make(chan Listed, atOnce)}
}

// run reads what waits, and all that is found under it.
func (c *comparison) run(ctx context.Context, each func(Listed)) error {
	var workers sync.WaitGroup
	for range atOnce {
		workers.Go(func() { c.work(ctx) })
	}
	go func() {
		workers.Wait()
		close(c.found)
	}()
	known := 0
	for l := range c.found {
		known += len(l.Pairs)
		l.Known = known
		each(l)
	}
	return ctx.Err()
}

// rootPair is the pair of the roots, with "" for its name.
func rootPair(ctx context.Context, from, to ends.End, rules Rules) (Pair, error) {
	p := Pair{}
	var err error
	if p.From, err = from.Stat(ctx, ""); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return p, fmt.Errorf("%s: %w", from.Root(), err)
	}
	if p.To, err = to.Stat(ctx, ""); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return p, fmt.Errorf("%s: %w", to.Root(), err)
	}
	if p.From.Kind == ends.None && p.To.Kind == ends.None {
		return p, fmt.Errorf("%s: %w", from.Root(), fs.ErrNotExist)
	}
	p.Diff = differ(p.From, p.To, rules)
	if p.From.Kind == ends.Folder && p.To.Kind == ends.Folder {
		p.Diff = Same // the root's own permissions are left alone
	}
	return p, nil
}

// sides tells on which sides something is.
type sides struct{ from, to bool }

// folder is a folder that is to be read.
type folder struct {
	path    string
	in      sides
	depth   int
	follows int // links that were followed on the way to it
}

// comparison is one under way.
type comparison struct {
	from, to ends.End
	rules    Rules
	shallow  bool            // folders on both sides are not gone into
	seen     map[string]bool // where shallow, the folders that were pushed
	wake     chan struct{}
	found    chan Listed

	mu      sync.Mutex
	waiting []folder // the last is read first, so that few wait
	open    int      // folders that wait or are read
}

func (c *comparison) push(all ...folder) {
	c.mu.Lock()
	if c.shallow {
		all = slices.DeleteFunc(all, func(f folder) bool {
			before := c.seen[f.path]
			c.seen[f.path] = true
			return before
		})
	}
	c.waiting = append(c.waiting, all...)
	c.open += len(all)
	c.mu.Unlock()
	for range all {
		select {
		case c.wake <- struct{}{}:
		default:
		}
	}
}

// next is a folder to read; ok is false where there is none now, and over where there will be none.
func (c *comparison) next() (f folder, ok, over bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if n := len(c.waiting); n > 0 {
		f, c.waiting = c.waiting[n-1], c.waiting[:n-1]
		return f, true, false
	}
	return f, false, c.open == 0
}

// work reads folders until all are read.
func (c *comparison) work(ctx context.Context) {
	for ctx.Err() == nil {
		f, ok, over := c.next()
		if over {
			select {
			case c.wake <- struct{}{}: // the others look, too
			default:
			}
			return
		}
		if !ok {
			select {
			case <-c.wake:
			case <-ctx.Done():
			}
			continue
		}
		l, deeper := c.read(ctx, f)
		c.push(deeper...)
		select {
		case c.found <- l:
		case <-ctx.Done():
		}
		c.mu.Lock()
		c.open--
		if c.open == 0 {
			select {
			case c.wake <- struct{}{}:
			default:
			}
		}
		c.mu.Unlock()
	}
}

// read reads one folder on both sides.
func (c *comparison) read(ctx context.Context, f folder) (Listed, []folder) {
	l := Listed{Path: f.path}
	if f.depth > maxDepth {
		l.Err = fmt.Errorf("it lies more than %d folders deep", maxDepth)
		return l, nil
	}
	names := map[string]*Pair{}
	var left int
	take := func(end ends.End, side func(*Pair) *ends.Entry) error {
		return end.List(ctx, f.path, func(name string, e ends.Entry) error {
			if name == "." || name == ".." {
				return nil
			}
			if ends.Unsafe(name) {
				names[name] = &Pair{Name: name, Diff: Refused, Why: "its name could lead out of the folder"}
				return nil
			}
			if c.rules.Out(ends.Join(f.path, name), name, e.Kind == ends.Folder) {
				left++
				return nil
			}
			p := names[name]
			if p == nil {
				p = &Pair{Name: name}
				names[name] = p
			}
			*side(p) = e
			return nil
		})
	}
	var err error
	if f.in.from {
		err = take(c.from, func(p *Pair) *ends.Entry { return &p.From })
	}
	if f.in.to && err == nil {
		err = take(c.to, func(p *Pair) *ends.Entry { return &p.To })
	}
	if err != nil {
		l.Err = err
		return l, nil
	}
	l.Left = left
	return c.judge(ctx, f, l, names)
}

// judge says how the names of a folder differ, and which folders are to be read next.
func (c *comparison) judge(ctx context.Context, f folder, l Listed, names map[string]*Pair) (Listed, []folder) {
	var deeper []folder
	for _, p := range names {
		follows := f.follows
		if p.From.Kind == ends.Link {
			follows = c.link(ctx, f, p)
		}
		if p.Diff != Refused {
			p.Diff = differ(p.From, p.To, c.rules)
		}
		p.refuse()
		if in := (sides{p.From.Kind == ends.Folder, p.To.Kind == ends.Folder}); (in.from || in.to) && p.Diff != OtherKind && p.Diff != Refused && !(c.shallow && in.from && in.to) {
			deeper = append(deeper, folder{ends.Join(f.path, p.Name), in, f.depth + 1, follows})
		}
		l.Pairs = append(l.Pairs, *p)
	}
	slices.SortFunc(l.Pairs, func(a, b Pair) int { return strings.Compare(a.Name, b.Name) })
	return l, deeper
}

// refuse refuses what cannot be moved at all.
func (p *Pair) refuse() {
	if p.Diff != Refused && p.Diff != Same && p.From.Kind == ends.Other {
		p.Diff, p.Why = Refused, "a device, a socket or a pipe"
	}
}

// link has a link of the first side be what the rules say, and returns how many were followed.
func (c *comparison) link(ctx context.Context, f folder, p *Pair) (follows int) {
	switch c.rules.Links {
	case LeaveLinks:
		p.Diff, p.Why = Refused, linksLeft
	case FollowLinks:
		if f.follows >= maxFollows {
			p.Diff, p.Why = Refused, "a link behind so many others that they may go in a circle"
			return f.follows
		}
		name := ends.Join(f.path, p.Name)
		e, err := c.from.Stat(ctx, name)
		if err != nil {
			p.Diff, p.Why = Refused, "a link that leads nowhere in the tree: "+Say(p.From.Link)
			return f.follows
		}
		if e.Kind == ends.Folder && circle(f.path, p.From.Link) {
			p.Diff, p.Why = Refused, "a link that leads back to a folder it is in"
			return f.follows
		}
		p.From = e
		return f.follows + 1
	default:
		if !ends.Within(f.path, p.From.Link) {
			p.Diff, p.Why = Refused, "a link that leads out of the tree: "+Say(p.From.Link)
		}
	}
	return f.follows
}

// circle tells whether a link leads to a folder above it.
func circle(folder, leads string) bool {
	to := ends.Join(folder, leads)
	to = cleaned(to)
	return to == "" || folder == to || strings.HasPrefix(folder, to+"/")
}

// differ tells how two entries differ, as far as a look tells.
func differ(from, to ends.Entry, rules Rules) Diff {
	switch {
	case from.Kind == ends.None && to.Kind == ends.None:
		return Same
	case to.Kind == ends.None:
		return OnlyFrom
	case from.Kind == ends.None:
		return OnlyTo
	case from.Kind != to.Kind:
		return OtherKind
	case from.Kind == ends.Link:
		if from.Link == to.Link {
			return Same
		}
		return Differs
	case from.Kind == ends.File:
		return differFiles(from, to)
	}
	if from.Kind == ends.Folder && from.Mode != to.Mode {
		return Mode
	}
	return Same
}

// differFiles compares by size and time, in seconds: that is what every end can say.
func differFiles(from, to ends.Entry) Diff {
	timed := ends.Tellable(from.Time) && ends.Tellable(to.Time)
	switch {
	case from.Size != to.Size && timed && from.Time > to.Time:
		return FromNewer
	case from.Size != to.Size && timed && from.Time < to.Time:
		return ToNewer
	case from.Size != to.Size:
		return Differs
	case timed && from.Time != to.Time:
		return Touched
	case from.Mode != to.Mode:
		return Mode
	}
	return Same
}
