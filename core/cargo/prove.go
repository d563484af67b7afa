package cargo

import (
	"context"
	"errors"
	"io"
	"io/fs"

	"golang.org/x/sync/errgroup"

	"meatus/core/cargo/ends"
	"meatus/core/sanitize"
)

// Likeness tells whether two contents differ; Err is why that is not known.
type Likeness struct {
	Differs bool
	Err     error
}

// Unlike compares the contents of files of the same paths in two trees, by SHA-256 digests. It
// fails where a tree can no longer be reached.
func Unlike(ctx context.Context, a, b ends.End, names []string) (map[string]Likeness, error) {
	of := func(name string) string { return name }
	return unlike(ctx, a, b, names, of, of)
}

// unlike is [Unlike] of files that have other names in each tree.
func unlike(ctx context.Context, a, b ends.End, names []string, inA, inB func(string) string) (map[string]Likeness, error) {
	type found struct {
		sum ends.Sum
		err error
	}
	digests := func(e ends.End, in func(string) string, into map[string]found) error {
		asked, back := make([]string, len(names)), make(map[string]string, len(names))
		for i, name := range names {
			asked[i] = in(name)
			back[asked[i]] = name
		}
		return e.Digest(ctx, asked, func(name string, sum ends.Sum, err error) { into[back[name]] = found{sum, err} })
	}
	inFirst, inSecond := make(map[string]found, len(names)), make(map[string]found, len(names))
	var g errgroup.Group
	g.Go(func() error { return digests(a, inA, inFirst) })
	g.Go(func() error { return digests(b, inB, inSecond) })
	if err := g.Wait(); err != nil {
		return nil, err
	}
	all := make(map[string]Likeness, len(names))
	for _, name := range names {
		x, y := inFirst[name], inSecond[name]
		all[name] = Likeness{Differs: x.sum != y.sum, Err: errors.Join(x.err, y.err)}
	}
	return all, nil
}

// cause is why something could not be done, in words and without the path, which the caller says.
func cause(err error) string {
	var p *fs.PathError
	if errors.As(err, &p) {
		err = p.Err
	}
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return "it is no longer there"
	case errors.Is(err, fs.ErrPermission):
		return "this login may not"
	case errors.Is(err, io.EOF):
		return "it ended early"
	}
	return sanitize.Line(err.Error(), 300)
}
