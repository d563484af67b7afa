package book

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"meatus/core/atomicfile"
	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// ErrMoved says that the file is no longer the one an edit was made for.
var ErrMoved = errors.New("the file was changed meanwhile; look at it again")

// Change makes one edit of the sessions file at path: it reads the file, has edit
// make its new text, and writes that. what says what is done, for undoing it. It
// fails, leaving the file alone, where the new text would bring a mistake that
// the old one did not have. It returns the book as it then is.
func Change(path, what string, edit func(before *Book, text []byte) ([]byte, error)) (*Book, error) {
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return nil, err
	}
	defer unlock()
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	name := filepath.Base(path)
	before := Parse(name, text)
	changed, err := edit(before, bytes.Clone(text))
	if err != nil {
		return nil, err
	}
	after := Parse(name, changed)
	after.Path = path
	if p := fresh(before.Problems, after.Problems); p != nil {
		return nil, fmt.Errorf("not written: %s", join(p.Say, p.Hint))
	}
	if bytes.Equal(text, changed) {
		return after, nil
	}
	if err := atomicfile.Write(path, changed); err != nil {
		return nil, err
	}
	return after, remember(path, what, text, changed)
}

// fresh is the first problem that was not there before.
func fresh(before, after []Problem) *Problem {
	if all := allFresh(before, after); len(all) > 0 {
		return &all[0]
	}
	return nil
}

// allFresh are the problems that were not there before.
func allFresh(before, after []Problem) (all []Problem) {
	key := func(p Problem) string { return p.Session + "\x00" + p.Say }
	known := map[string]int{}
	for _, p := range before {
		known[key(p)]++
	}
	for i, p := range after {
		if known[key(p)]--; known[key(p)] < 0 {
			all = append(all, after[i])
		}
	}
	return all
}

func join(say, hint string) string {
	if hint == "" {
		return say
	}
	return say + "; " + hint
}

// Set is [SetIn] for a session.
func Set(path, session, key, value string) (*Book, error) {
	return SetIn(path, Table{Layer: InSession, Name: session}, key, value)
}

// SetIn gives a table of the file at path a value of its own, as a person writes
// it (a list with commas), or takes it away where value is "", so that what is
// farther away holds again. Everything else in the file stays as it is.
func SetIn(path string, table Table, key, value string) (*Book, error) {
	if key == "tunnels" && value != "" {
		if _, err := ParseTunnels(value); err != nil {
			return nil, fmt.Errorf("not written: %w", err)
		}
	}
	what := fmt.Sprintf("%s of %s", key, table)
	return Change(path, what, func(before *Book, text []byte) ([]byte, error) {
		if table.Layer == InDefaults && before.far.defaults == nil {
			text = append(spaced(text), "[defaults]\n"...)
		}
		if table.Layer == InSite && before.usedOnly(table.Name) {
			text = fmt.Appendf(spaced(text), "[site.%s]\n", keyText(table.Name))
		}
		t, err := findTable(text, table)
		if err != nil {
			return nil, err
		}
		if value == "" {
			return t.drop(text, key), nil
		}
		return t.put(text, key, literal(key, value)), nil
	})
}

// Setting is a value of a session as a person writes it; "" has it inherited.
type Setting struct{ Key, Value string }

// SetAll sets values of several sessions as one edit, and returns the book as it then is. It
// fails, leaving the file alone, as [SetIn] does, where a session is not there, and where a key
// is none.
func SetAll(path string, sessions []string, values []Setting) (*Book, error) {
	var keys []string
	for _, v := range values {
		if !slices.Contains(Fields, v.Key) {
			return nil, fmt.Errorf("not written: %s", join(fmt.Sprintf("there is no setting %q", sanitize.Line(v.Key, 40)), meant(v.Key, Fields)))
		}
		if v.Key == "tunnels" && v.Value != "" {
			if _, err := ParseTunnels(v.Value); err != nil {
				return nil, fmt.Errorf("not written: %w", err)
			}
		}
		keys = append(keys, v.Key)
	}
	of := strings.Join(sessions, ", ")
	if len(sessions) > 3 {
		of = fmt.Sprintf("%d sessions", len(sessions))
	}
	return Change(path, strings.Join(keys, ", ")+" of "+of, func(before *Book, text []byte) ([]byte, error) {
		left := map[string]bool{}
		for _, name := range sessions {
			if before.Session(name) == nil {
				return nil, fmt.Errorf("there is no session %q", sanitize.Line(name, 60))
			}
			left[name] = true
		}
		parts, err := sessionParts(text)
		if err != nil {
			return nil, err
		}
		var out []byte
		for _, part := range parts {
			piece := bytes.Clone(text[part.From:part.To])
			for _, v := range values {
				if !left[part.text] {
					break
				}
				t, err := findTable(piece, Table{Layer: InSession, Name: part.text})
				if err != nil {
					return nil, err
				}
				if v.Value == "" {
					piece = t.drop(piece, v.Key)
				} else {
					piece = t.put(piece, v.Key, literal(v.Key, v.Value))
				}
			}
			out = append(out, piece...)
		}
		return out, nil
	})
}

// tableText is where one table stands in the text.
type tableText struct {
	header tomltext.Span
	name   tomltext.Span            // the session's name in the header
	pairs  map[string]tomltext.Span // "key = value", without what follows on the line
	values map[string]tomltext.Span
	blocks bool // the value of "tunnels" is a row of headers, [[session.reef.tunnels]]
	last   int  // the offset behind the last pair, or the header
}

// findTable finds where a table stands in the text.
func findTable(text []byte, table Table) (*tableText, error) {
	likes := -1
	var found *tableText
	inside, tunnels := false, false
	err := tomltext.Read(text, func(e tomltext.Entry) {
		if e.Header {
			if n := len(e.Keys); e.Array && n > 1 && e.Keys[n-1].Text == "tunnels" && table.heads(e.Keys[:n-1], table.Layer == InLike, likes) {
				if (inside || tunnels) && found.pairs["tunnels"].To == 0 || tunnels {
					from := bytes.LastIndexByte(text[:e.Keys[0].From], '\n') + 1
					if tunnels {
						from = found.pairs["tunnels"].From
					}
					end := e.Keys[n-1].To + len("]]")
					found.pairs["tunnels"], found.values["tunnels"] = tomltext.Span{From: from, To: end}, tomltext.Span{From: from, To: end}
					inside, tunnels, found.blocks = false, true, true
				}
				return
			}
			tunnels = false
			if e.Array && len(e.Keys) == 1 && e.Keys[0].Text == "like" {
				likes++
			}
			if inside = found == nil && table.heads(e.Keys, e.Array, likes); inside {
				last := e.Keys[len(e.Keys)-1].Span
				end := last.To + bytes.IndexByte(text[last.To:], ']') + 1
				if e.Array {
					end++
				}
				found = &tableText{header: tomltext.Span{From: last.From, To: end}, name: last, pairs: map[string]tomltext.Span{}, values: map[string]tomltext.Span{}, last: end}
			}
			return
		}
		if tunnels {
			end := e.From + len(bytes.TrimRight(text[e.From:e.To], " \t\r\n"))
			found.pairs["tunnels"] = tomltext.Span{From: found.pairs["tunnels"].From, To: end}
			found.values["tunnels"] = found.pairs["tunnels"]
		}
		if !inside {
			return
		}
		key, pair := e.Keys[0], e.Span
		pair.To = pair.From + len(bytes.TrimRight(text[pair.From:pair.To], " \t\r\n"))
		value := key.To + bytes.IndexByte(text[key.To:], '=') + 1
		for value < pair.To && (text[value] == ' ' || text[value] == '\t') {
			value++
		}
		found.pairs[key.Text], found.values[key.Text] = pair, tomltext.Span{From: value, To: pair.To}
		found.last = pair.To
	})
	switch {
	case found != nil:
		return found, nil
	case err != nil:
		return nil, fmt.Errorf("the file has a mistake before it: %w; mend that first", err)
	}
	b := Parse("", text)
	if _, there := b.Own(table); b.Session(table.Name) != nil && table.Layer == InSession || there && table.Layer != InDefaults {
		return nil, fmt.Errorf("%s is written as an inline table or by dotted keys, which are not edited here; give it a header of its own first", table)
	}
	return nil, fmt.Errorf("there is no %s", table)
}

// spot is a text in the file and where it stands.
type spot struct {
	tomltext.Span
	text string
}

// sessionParts cuts the text at its headers. The text of a part is its session's
// name, "" for what belongs to none.
func sessionParts(text []byte) ([]spot, error) {
	parts := []spot{{}}
	err := tomltext.Read(text, func(e tomltext.Entry) {
		if !e.Header {
			return
		}
		name := ""
		if e.Keys[0].Text == "session" && len(e.Keys) > 1 {
			name = e.Keys[1].Text
		}
		from := bytes.LastIndexByte(text[:e.Keys[0].From], '\n') + 1
		if name != "" && parts[len(parts)-1].text == name {
			return // its tunnels
		}
		parts[len(parts)-1].To = from
		parts = append(parts, spot{tomltext.Span{From: from}, name})
	})
	parts[len(parts)-1].To = len(text)
	if err != nil {
		return nil, fmt.Errorf("the file has a mistake: %w; mend that first", err)
	}
	return parts, nil
}

// textsOf finds every text that a key has in any table, alone or in a list.
func textsOf(text []byte, key string) ([]spot, error) {
	var found []spot
	var take func(named bool, v tomltext.Value)
	take = func(named bool, v tomltext.Value) {
		switch {
		case v.Kind() == tomltext.String && named:
			found = append(found, spot{v.Span(), v.Text()})
		case v.Kind() == tomltext.Array:
			for item := range v.Items() {
				take(named, item)
			}
		case v.Kind() == tomltext.Table:
			for keys, value := range v.Pairs() {
				take(keys[len(keys)-1].Text == key, value)
			}
		}
	}
	err := tomltext.Read(text, func(e tomltext.Entry) {
		if !e.Header {
			take(e.Keys[len(e.Keys)-1].Text == key, e.Value)
		}
	})
	if err != nil {
		return nil, fmt.Errorf("the file has a mistake: %w; mend that first", err)
	}
	return found, nil
}

// put sets a key: in place where it is there, else on a line of its own behind
// the table's last.
func (t *tableText) put(text []byte, key, value string) []byte {
	if at, ok := t.values[key]; ok {
		if t.blocks && key == "tunnels" {
			value = "tunnels = " + value
		}
		return slices.Concat(text[:at.From], []byte(value), text[at.To:])
	}
	line := fmt.Sprintf("%-4s = %s\n", key, value)
	at := t.last
	if i := bytes.IndexByte(text[at:], '\n'); i >= 0 {
		at += i + 1
	} else {
		at, line = len(text), "\n"+line
	}
	return slices.Concat(text[:at], []byte(line), text[at:])
}

// drop takes a key away. A comment behind it stays, on a line of its own.
func (t *tableText) drop(text []byte, key string) []byte {
	at, ok := t.pairs[key]
	if !ok {
		return text
	}
	from, to := at.From, at.To
	for from > 0 && (text[from-1] == ' ' || text[from-1] == '\t') {
		from--
	}
	end := len(text)
	if i := bytes.IndexByte(text[to:], '\n'); i >= 0 {
		end = to + i + 1
	}
	if rest := bytes.TrimSpace(text[to:end]); len(rest) > 0 {
		to = end - len(bytes.TrimLeft(text[to:end], " \t"))
		return slices.Concat(text[:from], text[to:])
	}
	return slices.Concat(text[:from], text[end:])
}

// shortDuration writes "1m0s" as "1m".
func shortDuration(s string) string {
	if strings.HasSuffix(s, "m0s") {
		s = strings.TrimSuffix(s, "0s")
	}
	if strings.HasSuffix(s, "h0m") {
		s = strings.TrimSuffix(s, "0m")
	}
	return s
}
