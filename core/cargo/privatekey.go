package cargo

import (
	"bytes"
	"context"
	"errors"

	"meatus/core/cargo/ends"
)

// A private key of this machine goes to another one only if the plan's rules say so.

// largestKey is the size in bytes of the longest file that is searched for a private key.
const largestKey = 64 << 10

// ErrPrivateKey says that a file holds a private key, and was not sent.
var ErrPrivateKey = errors.New("it holds a private key, and keys stay on this machine unless you say otherwise")

// PrivateKeys returns the paths of files that a plan sends from this machine to another one and that hold a private key.
func PrivateKeys(ctx context.Context, plan *Plan, from, to ends.End) (paths []string, err error) {
	if !leavesHere(from, to) {
		return nil, nil
	}
	for folder, items := range plan.Folders() {
		for i := range items {
			item := &items[i]
			if item.Back || item.Act != Make && item.Act != Replace || item.New.Kind != ends.File || item.New.Size > largestKey {
				continue
			}
			name := ends.Join(folder, item.Name)
			source := name
			if item.Source != "" {
				source = ends.Join(folder, item.Source)
			}
			if text, err := readPiece(ctx, from, source, 0, item.New.Size); err == nil && holdsPrivateKey(text) {
				paths = append(paths, name)
			}
		}
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
	}
	return paths, nil
}

// leavesHere reports whether a transfer goes from this machine to another one.
func leavesHere(from, to ends.End) bool {
	_, fromHere := from.(*ends.Here)
	_, toHere := to.(*ends.Here)
	return fromHere && !toHere
}

// mayLeave fails for the content of a file that holds a private key and is not to leave this machine.
func (c *Carry) mayLeave(j *job, text []byte) error {
	if c.plan.Rules.Keys || j.Back || j.New.Size > largestKey || !leavesHere(c.from, c.to) || !holdsPrivateKey(text) {
		return nil
	}
	return ErrPrivateKey
}

// holdsPrivateKey reports whether a text contains the first line of a private key in PEM (RFC 7468), of any kind.
func holdsPrivateKey(text []byte) bool {
	begin, end := []byte("-----BEGIN "), []byte("PRIVATE KEY-----")
	for {
		i := bytes.Index(text, begin)
		if i < 0 {
			return false
		}
		starts := i == 0 || text[i-1] == '\n' || text[i-1] == '\r'
		text = text[i+len(begin):]
		line := text
		if n := bytes.IndexAny(line, "\r\n"); n >= 0 {
			line = line[:n]
		}
		if starts && bytes.HasSuffix(bytes.TrimRight(line, " \t"), end) {
			return true
		}
	}
}
