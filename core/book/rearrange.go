package book

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"

	"meatus/core/tomltext"
)

// Through lists the sessions whose via names a session.
func (b *Book) Through(name string) []string {
	var through []string
	for _, s := range b.Sessions {
		if slices.ContainsFunc(s.Via.V, func(via string) bool { return slices.Contains(Either(via), name) }) {
			through = append(through, s.Name)
		}
	}
	return through
}

// Behind lists the sessions whose way goes through a session, on whichever of their ways, in
// the order of the file.
func (b *Book) Behind(name string) []string {
	const unknown, behind, not = 0, 1, 2
	known := make(map[*Session]int, len(b.Sessions))
	var look func(s *Session) bool
	look = func(s *Session) bool {
		if known[s] != unknown {
			return known[s] == behind
		}
		known[s] = not // a way that runs in a circle leads nowhere
		for i, via := range s.Via.V {
			for _, hop := range Either(via) {
				// Only the first hop brings its own way along.
				if hop == name || i == 0 && b.byName[hop] != nil && look(b.byName[hop]) {
					known[s] = behind
				}
			}
		}
		return known[s] == behind
	}
	var all []string
	for _, s := range b.Sessions {
		if look(s) {
			all = append(all, s.Name)
		}
	}
	return all
}

// betweenWays stands between sessions of a via of which one is to be gone through.
const betweenWays = " | "

// Either are the sessions of one entry of a via: of several, one is gone through, the first
// that answers.
func Either(via string) []string {
	names := strings.Split(via, "|")
	for i := range names {
		names[i] = strings.TrimSpace(names[i])
	}
	return names
}

// free tells why a new session cannot have a name, nil where it can.
func (b *Book) free(name string) error {
	if taken := b.Session(name); taken != nil {
		return fmt.Errorf("session %q is there already, on line %d", name, taken.At.Line)
	}
	if !ValidName(name) {
		return fmt.Errorf("%q cannot be a session's name; %s", name, nameHint)
	}
	return nil
}

// Rename gives a session of the file at path another name, in its header and in
// every via that names it.
func Rename(path, old, name string) (*Book, error) {
	return Change(path, fmt.Sprintf("renaming %s to %s", old, name), func(before *Book, text []byte) ([]byte, error) {
		if err := before.free(name); err != nil {
			return nil, err
		}
		t, err := findTable(text, Table{Layer: InSession, Name: old})
		if err != nil {
			return nil, err
		}
		text = slices.Concat(text[:t.name.From], []byte(keyText(name)), text[t.name.To:])
		return renameVias(text, old, name)
	})
}

// renameVias changes a name in every via of the file, wherever it stands.
func renameVias(text []byte, old, name string) ([]byte, error) {
	return replaceIn(text, "via", func(s string) string {
		either := Either(s)
		for i, one := range either {
			if one == old {
				either[i] = name
			}
		}
		if slices.Equal(either, Either(s)) {
			return s
		}
		return strings.Join(either, betweenWays)
	})
}

// replaceIn changes the texts of a key, and those in its lists, in every table.
func replaceIn(text []byte, key string, change func(string) string) ([]byte, error) {
	spots, err := textsOf(text, key)
	if err != nil {
		return nil, err
	}
	for _, at := range slices.Backward(spots) {
		if now := change(at.text); now != at.text {
			text = slices.Concat(text[:at.From], []byte(quote(now)), text[at.To:])
		}
	}
	return text, nil
}

// Remove takes a session out of the file at path. Comments around it stay. It
// fails where other sessions go through it.
func Remove(path, name string) (*Book, error) {
	return Change(path, "removing "+name, func(before *Book, text []byte) ([]byte, error) {
		if through := before.Through(name); len(through) > 0 {
			word := "goes"
			if len(through) > 1 {
				word = "go"
			}
			if n := len(through); n > 4 {
				through = append(through[:3:3], fmt.Sprintf("%d more", n-3))
			}
			return nil, fmt.Errorf("%s %s through it; give them another way first", strings.Join(through, ", "), word)
		}
		return takeOut(text, Table{Layer: InSession, Name: name})
	})
}

// takeOut takes a table out of the text. Comments around it stay.
func takeOut(text []byte, table Table) ([]byte, error) {
	t, err := findTable(text, table)
	if err != nil {
		return nil, err
	}
	keys := slices.SortedFunc(maps.Keys(t.pairs), func(a, b string) int { return t.pairs[b].From - t.pairs[a].From })
	for _, key := range keys { // from the last on, so that the places of the others stay
		text = t.drop(text, key)
	}
	from := bytes.LastIndexByte(text[:t.header.From], '\n') + 1
	end := len(text)
	if i := bytes.IndexByte(text[t.header.To:], '\n'); i >= 0 {
		end = t.header.To + i + 1
	}
	if rest := bytes.TrimSpace(text[t.header.To:end]); len(rest) > 0 { // a comment on the header's line
		return slices.Concat(text[:from], rest, []byte("\n"), text[end:]), nil
	}
	if from > 1 && text[from-1] == '\n' && text[from-2] == '\n' && (end == len(text) || text[end] == '\n') {
		from-- // not two blank lines where there was one on each side
	}
	return slices.Concat(text[:from], text[end:]), nil
}

// Copy adds a session under another name with everything an old one says itself.
func Copy(path, old, name string) (*Book, error) {
	return Change(path, fmt.Sprintf("copying %s to %s", old, name), func(before *Book, text []byte) ([]byte, error) {
		if err := before.free(name); err != nil {
			return nil, err
		}
		t, err := findTable(text, Table{Layer: InSession, Name: old})
		if err != nil {
			return nil, err
		}
		var lines []tomltext.Span
		for key, pair := range t.pairs {
			if key != "tunnels" || !t.blocks {
				lines = append(lines, pair)
			}
		}
		slices.SortFunc(lines, func(a, b tomltext.Span) int { return a.From - b.From })
		table := fmt.Sprintf("[session.%s]\n", keyText(name))
		for _, l := range lines {
			table += string(text[l.From:l.To]) + "\n"
		}
		if t.blocks {
			table += "tunnels = " + tunnelsText(before.Session(old).Tunnels.V) + "\n"
		}
		return append(spaced(text), table...), nil
	})
}
