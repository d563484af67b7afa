package book

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
)

// Through lists the sessions whose via names a session.
func (b *Book) Through(name string) []string {
	var through []string
	for _, s := range b.Sessions {
		if slices.Contains(s.Via.V, name) {
			through = append(through, s.Name)
		}
	}
	return through
}

// Rename gives a session of the file at path another name, in its header and in
// every via that names it.
func Rename(path, old, name string) (*Book, error) {
	return Change(path, fmt.Sprintf("renaming %s to %s", old, name), func(before *Book, text []byte) ([]byte, error) {
		switch {
		case before.Session(old) == nil:
			return nil, fmt.Errorf("there is no session %q", old)
		case before.Session(name) != nil && name != old:
			return nil, fmt.Errorf("there is a session %s already", name)
		case !ValidName(name):
			return nil, fmt.Errorf("%q cannot be a session's name; use letters, digits, dots, hyphens and underscores", name)
		}
		t, err := findTable(text, "session", old)
		if err != nil {
			return nil, err
		}
		text = slices.Concat(text[:t.name.from], []byte(keyText(name)), text[t.name.to:])
		return renameVias(text, old, name)
	})
}

// renameVias changes a name in every via of the file, wherever it stands.
func renameVias(text []byte, old, name string) ([]byte, error) {
	spots, err := viaNames(text, old)
	if err != nil {
		return nil, err
	}
	for _, at := range slices.Backward(spots) {
		text = slices.Concat(text[:at.from], []byte(quote(name)), text[at.to:])
	}
	return text, nil
}

// Remove takes a session out of the file at path. Comments around it stay. It
// fails where other sessions go through it.
func Remove(path, name string) (*Book, error) {
	return Change(path, "removing "+name, func(before *Book, text []byte) ([]byte, error) {
		if through := before.Through(name); len(through) > 0 {
			return nil, fmt.Errorf("%s goes through it; give it another way first", strings.Join(through, ", "))
		}
		t, err := findTable(text, "session", name)
		if err != nil {
			return nil, err
		}
		for key := range t.pairs {
			at, err := findTable(text, "session", name)
			if err != nil {
				return nil, err
			}
			text = at.drop(text, key)
		}
		t, err = findTable(text, "session", name)
		if err != nil {
			return nil, err
		}
		from := bytes.LastIndexByte(text[:t.header.from], '\n') + 1
		end := len(text)
		if i := bytes.IndexByte(text[t.header.to:], '\n'); i >= 0 {
			end = t.header.to + i + 1
		}
		if rest := bytes.TrimSpace(text[t.header.to:end]); len(rest) > 0 { // a comment on the header's line
			return slices.Concat(text[:from], rest, []byte("\n"), text[end:]), nil
		}
		if from > 1 && text[from-1] == '\n' && text[from-2] == '\n' && (end == len(text) || text[end] == '\n') {
			from-- // not two blank lines where there was one on each side
		}
		return slices.Concat(text[:from], text[end:]), nil
	})
}

// Copy adds a session under another name with everything an old one says itself.
func Copy(path, old, name string) (*Book, error) {
	return Change(path, fmt.Sprintf("copying %s to %s", old, name), func(before *Book, text []byte) ([]byte, error) {
		s := before.Session(old)
		switch {
		case s == nil:
			return nil, fmt.Errorf("there is no session %q", old)
		case before.Session(name) != nil:
			return nil, fmt.Errorf("there is a session %s already", name)
		case !ValidName(name):
			return nil, fmt.Errorf("%q cannot be a session's name; use letters, digits, dots, hyphens and underscores", name)
		}
		t, err := findTable(text, "session", old)
		if err != nil {
			return nil, err
		}
		var lines []span
		for _, pair := range t.pairs {
			lines = append(lines, pair)
		}
		slices.SortFunc(lines, func(a, b span) int { return a.from - b.from })
		table := fmt.Sprintf("[session.%s]\n", keyText(name))
		for _, l := range lines {
			table += string(text[l.from:l.to]) + "\n"
		}
		return append(spaced(text), table...), nil
	})
}
