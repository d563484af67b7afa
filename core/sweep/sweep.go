// Package sweep looks at an account on a machine for what should not lie there:
// private keys, agents' sockets left behind, and lines in the list of keys that no
// known key explains.
//
// It promises to change nothing over there, and to tell names, modes and
// fingerprints alone: no key leaves the machine. It goes over the
// file-transfer channel, or where there is none by two commands of a POSIX shell, and
// costs a look at the beginnings of the account's small files.
package sweep

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// Report is what was found.
type Report struct {
	Keys        []File   // private keys
	Sockets     []string // where an agent listens, or did
	Unexplained []Line   // of the list of keys
	Explained   int      // lines that known keys explain
	Cut         bool     // there was more than is told
}

// File is a file by its name and what ls says of its mode.
type File struct{ Path, Mode string }

// Line is a key in the list that none of ours is.
type Line struct {
	Number          int
	Kind, SHA256    string
	Comment, Option string
}

// The most that is told of each kind.
const most = 200

// Look looks at the account that a passage is logged in as. known are our own
// keys, which explain lines of its list.
func Look(ctx context.Context, p *walk.Passage, known []ssh.PublicKey) (Report, error) {
	files, done, err := remote.Files(ctx, p, remote.MaxLook)
	if remote.NoFiles(err) {
		return byCommands(ctx, p, known)
	}
	if err != nil {
		return Report{}, err
	}
	defer done()
	return byFiles(ctx, files, cmp.Or(p.Route().Target().KeyList, book.DefaultKeyList), known)
}

// Found is how many things were found that should be looked at.
func (r Report) Found() int { return len(r.Keys) + len(r.Sockets) + len(r.Unexplained) }

// Finding is one thing of a report, in words.
type Finding struct{ Kind, Say string }

// Findings are everything that should be looked at.
func (r Report) Findings() []Finding {
	var all []Finding
	for _, k := range r.Keys {
		all = append(all, Finding{"private key", k.Path + ", " + k.Mode})
	}
	for _, s := range r.Sockets {
		all = append(all, Finding{"agent", s})
	}
	for _, l := range r.Unexplained {
		say := fmt.Sprintf("line %d of the list", l.Number)
		if l.Comment != "" {
			say += fmt.Sprintf(", %q", l.Comment)
		}
		all = append(all, Finding{"unknown key", strings.TrimSpace(fmt.Sprintf("%s: %s %s %s", say, l.Kind, l.SHA256, l.Option))})
	}
	if r.Cut {
		all = append(all, Finding{"and", "more, which is not told"})
	}
	return all
}

// Sum is the report in one line.
func (r Report) Sum() string {
	count := func(n int, word string) string {
		if n != 1 {
			word += "s"
		}
		return fmt.Sprintf("%d %s", n, word)
	}
	return fmt.Sprintf("%s, %s, %s that none of yours explains, %d that one does", count(len(r.Keys), "private key"), count(len(r.Sockets), "socket"), count(len(r.Unexplained), "listed key"), r.Explained)
}

// list finds the lines that no known key explains.
func (r *Report) list(list string, known []ssh.PublicKey) {
	ours := map[string]bool{}
	for _, k := range known {
		ours[string(k.Marshal())] = true
	}
	n := 0
	for line := range strings.Lines(list) {
		n++
		key, comment, options, _, err := ssh.ParseAuthorizedKey([]byte(line))
		switch {
		case err != nil:
		case ours[string(key.Marshal())]:
			r.Explained++
		default:
			r.Unexplained = append(r.Unexplained, Line{n, key.Type(), ssh.FingerprintSHA256(key), sanitize.Line(comment, 80), sanitize.Line(strings.Join(options, ","), 80)})
		}
	}
}
