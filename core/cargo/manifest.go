package cargo

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	"meatus/core/cargo/ends"
)

// walkFiles tells the path of every file of a tree that the rules take, and what could not be
// read.
func walkFiles(ctx context.Context, e ends.End, rules Rules) (files []string, problems []Failure, err error) {
	err = Compare(ctx, e, nowhere{e}, rules, func(l Listed) {
		if l.Err != nil {
			problems = append(problems, Failure{l.Path, l.Err})
		}
		for _, p := range l.Pairs {
			if p.From.Kind == ends.File && p.Diff != Refused {
				files = append(files, ends.Join(l.Path, p.Name))
			}
		}
	})
	slices.Sort(files)
	return files, problems, err
}

// nowhere is an end with nothing in it.
type nowhere struct{ ends.End }

func (nowhere) Stat(context.Context, string) (ends.Entry, error) { return ends.Entry{}, nil }

// WriteManifest writes the digest of every file of a tree in the usual two columns: the digest,
// two blanks, the path; where a path has a line's end or a backslash these are escaped and the
// line begins with a backslash. It returns how many files it has, and what could not be read.
func WriteManifest(ctx context.Context, e ends.End, rules Rules, w io.Writer) (n int, problems []Failure, err error) {
	files, problems, err := walkFiles(ctx, e, rules)
	if err != nil {
		return 0, problems, err
	}
	sums := make(map[string]ends.Sum, len(files))
	err = e.Digest(ctx, files, func(name string, sum ends.Sum, err error) {
		if err != nil {
			problems = append(problems, Failure{name, err})
			return
		}
		sums[name] = sum
	})
	if err != nil {
		return 0, problems, err
	}
	out := bufio.NewWriter(w)
	for _, name := range files {
		if sum, ok := sums[name]; ok {
			fmt.Fprintln(out, manifestLine(name, sum))
			n++
		}
	}
	return n, problems, out.Flush()
}

func manifestLine(name string, sum ends.Sum) string {
	escaped := ends.Escaped(name)
	if escaped != name {
		return `\` + sum.String() + "  " + escaped
	}
	return sum.String() + "  " + name
}

// maxManifest is how many files a manifest may have.
const maxManifest = 10 << 20

// CheckManifest compares a tree with a manifest. Each file that differs, is missing, or stands
// there and not in the manifest is told. It returns how many are as they should be.
func CheckManifest(ctx context.Context, e ends.End, rules Rules, r io.Reader) (right int, wrong []Failure, err error) {
	want, err := readManifest(r)
	if err != nil {
		return 0, nil, err
	}
	files, wrong, err := walkFiles(ctx, e, rules)
	if err != nil {
		return 0, nil, err
	}
	var both []string
	there := map[string]bool{}
	for _, name := range files {
		there[name] = true
		if _, ok := want[name]; ok {
			both = append(both, name)
		} else {
			wrong = append(wrong, Failure{name, errNotListed})
		}
	}
	for name := range want {
		if !there[name] {
			wrong = append(wrong, Failure{name, errMissing})
		}
	}
	err = e.Digest(ctx, both, func(name string, sum ends.Sum, err error) {
		switch {
		case err != nil:
			wrong = append(wrong, Failure{name, err})
		case sum != want[name]:
			wrong = append(wrong, Failure{name, errOther})
		default:
			right++
		}
	})
	slices.SortFunc(wrong, func(a, b Failure) int { return strings.Compare(a.Path, b.Path) })
	return right, wrong, err
}

// wrongness is what is wrong with a file of a manifest.
type wrongness string

func (w wrongness) Error() string { return string(w) }

const (
	errNotListed wrongness = "it is not in the manifest"
	errMissing   wrongness = "it is not there"
	errOther     wrongness = "its content is another"
)

func readManifest(r io.Reader) (map[string]ends.Sum, error) {
	want := map[string]ends.Sum{}
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 64<<10)
	for n := 1; lines.Scan(); n++ {
		line := lines.Text()
		if strings.TrimSpace(line) == "" || strings.HasPrefix(line, "#") {
			continue
		}
		sum, name, ok := ends.ParseSum(line)
		if !ok {
			return nil, fmt.Errorf("line %d of the manifest is no digest and path", n)
		}
		if strings.HasPrefix(line, `\`) {
			name = ends.Unescaped(name)
		}
		name = strings.TrimPrefix(name, "./")
		if name != cleaned(name) {
			return nil, fmt.Errorf("line %d of the manifest: %q leads out of the tree, or is written in a roundabout way", n, Say(name))
		}
		if want[name] = sum; len(want) > maxManifest {
			return nil, fmt.Errorf("the manifest has more than %d files", maxManifest)
		}
	}
	return want, lines.Err()
}
