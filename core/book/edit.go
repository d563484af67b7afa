package book

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2/unstable"

	"meatus/core/atomicfile"
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
	key := func(p Problem) string { return p.Session + "\x00" + p.Say }
	known := map[string]int{}
	for _, p := range before {
		known[key(p)]++
	}
	for i, p := range after {
		if known[key(p)]--; known[key(p)] < 0 {
			return &after[i]
		}
	}
	return nil
}

func join(say, hint string) string {
	if hint == "" {
		return say
	}
	return say + "; " + hint
}

// Fields are the keys of a session that [Set] can set, in the order they are
// shown.
var Fields = []string{"site", "host", "port", "user", "key", "via", "tunnels", "knock", "links", "windows", "dial", "keepalive", "reconnect", "agent", "lends", "lends_to", "ring", "backspace", "term", "colours", "env", "folder", "arrive"}

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

// literal writes a value as TOML, as its key wants it.
func literal(key, value string) string {
	switch key {
	case "port":
		if n, err := strconv.Atoi(strings.TrimSpace(value)); err == nil {
			return strconv.Itoa(n)
		}
	case "tunnels":
		if list, err := ParseTunnels(value); err == nil {
			return tunnelsText(list)
		}
	case "confirm":
		if word := strings.TrimSpace(value); word == "true" || word == "false" {
			return word
		}
	case "via", "key", "env", "lends", "lends_to", "hosts":
		parts := strings.FieldsFunc(value, func(r rune) bool { return r == ',' })
		for i := range parts {
			parts[i] = strings.TrimSpace(parts[i])
		}
		parts = slices.DeleteFunc(parts, func(s string) bool { return s == "" })
		if key == "key" && len(parts) == 1 {
			return quote(parts[0])
		}
		return "[" + strings.Join(quoteAll(parts), ", ") + "]"
	}
	return quote(strings.TrimSpace(value))
}

// span is a range of bytes of the file.
type span struct{ from, to int }

// tableText is where one table stands in the text.
type tableText struct {
	header span
	name   span            // the session's name in the header
	pairs  map[string]span // "key = value", without what follows on the line
	values map[string]span
	last   int // the offset behind the last pair, or the header
}

// findTable finds where a table stands in the text.
func findTable(text []byte, table Table) (*tableText, error) {
	likes := -1
	var p unstable.Parser
	p.Reset(text)
	var found *tableText
	inside := false
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind != unstable.KeyValue {
			var parts []string
			var last unstable.Range
			for it := e.Key(); it.Next(); {
				parts = append(parts, string(it.Node().Data))
				last = it.Node().Raw
			}
			if e.Kind == unstable.ArrayTable && len(parts) == 1 && parts[0] == "like" {
				likes++
			}
			inside = found == nil && table.heads(parts, e.Kind == unstable.ArrayTable, likes)
			if inside {
				end := int(last.Offset + last.Length)
				end += bytes.IndexByte(text[end:], ']') + 1
				if e.Kind == unstable.ArrayTable {
					end++
				}
				found = &tableText{header: span{int(last.Offset), end}, name: span{int(last.Offset), int(last.Offset + last.Length)}, pairs: map[string]span{}, values: map[string]span{}, last: end}
			}
			continue
		}
		if !inside {
			continue
		}
		it := e.Key()
		it.Next()
		key := it.Node()
		pair := span{int(e.Raw.Offset), int(e.Raw.Offset + e.Raw.Length)}
		pair.to = pair.from + len(bytes.TrimRight(text[pair.from:pair.to], " \t\r\n"))
		value := int(key.Raw.Offset + key.Raw.Length)
		value += bytes.IndexByte(text[value:], '=') + 1
		for value < pair.to && (text[value] == ' ' || text[value] == '\t') {
			value++
		}
		found.pairs[string(key.Data)], found.values[string(key.Data)] = pair, span{value, pair.to}
		found.last = pair.to
	}
	if found == nil {
		if err := p.Error(); err != nil {
			return nil, fmt.Errorf("the file has a mistake before it: %w; mend that first", err)
		}
		return nil, fmt.Errorf("there is no %s", table)
	}
	return found, nil
}

// sessionParts cuts the text at its headers. The text of a part is its session's
// name, "" for what belongs to none.
func sessionParts(text []byte) ([]spot, error) {
	var p unstable.Parser
	p.Reset(text)
	parts := []spot{{}}
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind == unstable.KeyValue {
			continue
		}
		it, name := e.Key(), ""
		it.Next()
		from := int(it.Node().Raw.Offset)
		if string(it.Node().Data) == "session" && it.Next() {
			name = string(it.Node().Data)
		}
		from = bytes.LastIndexByte(text[:from], '\n') + 1
		parts[len(parts)-1].to = from
		parts = append(parts, spot{span{from, 0}, name})
	}
	parts[len(parts)-1].to = len(text)
	if err := p.Error(); err != nil {
		return nil, fmt.Errorf("the file has a mistake: %w; mend that first", err)
	}
	return parts, nil
}

// spot is a text in the file and where it stands.
type spot struct {
	span
	text string
}

// textsOf finds every text that a key has in any table, alone or in a list.
func textsOf(text []byte, key string) ([]spot, error) {
	var p unstable.Parser
	p.Reset(text)
	var found []spot
	take := func(n *unstable.Node) {
		if n.Kind == unstable.String {
			found = append(found, spot{span{int(n.Raw.Offset), int(n.Raw.Offset + n.Raw.Length)}, string(n.Data)})
		}
	}
	for p.NextExpression() {
		e := p.Expression()
		if e.Kind != unstable.KeyValue {
			continue
		}
		it := e.Key()
		if it.Next(); string(it.Node().Data) != key {
			continue
		}
		take(e.Value())
		if e.Value().Kind == unstable.Array {
			for each := e.Value().Children(); each.Next(); {
				take(each.Node())
			}
		}
	}
	if err := p.Error(); err != nil {
		return nil, fmt.Errorf("the file has a mistake: %w; mend that first", err)
	}
	return found, nil
}

// put sets a key: in place where it is there, else on a line of its own behind
// the table's last.
func (t *tableText) put(text []byte, key, value string) []byte {
	if at, ok := t.values[key]; ok {
		return slices.Concat(text[:at.from], []byte(value), text[at.to:])
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
	from, to := at.from, at.to
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

// Text is a setting of a session as a person writes it, and where it is from.
func (s *Session) Text(key string) (value string, origin Origin) {
	if key == "site" {
		return s.Site.V, s.Site.Origin
	}
	return s.Settings.Text(key)
}

// Text is a setting as a person writes it, and where it is from.
func (s *Settings) Text(key string) (value string, origin Origin) {
	switch key {
	case "host":
		return s.Host.V, s.Host.Origin
	case "port":
		if s.Port.V == 0 {
			return "", s.Port.Origin
		}
		return strconv.Itoa(s.Port.V), s.Port.Origin
	case "user":
		return s.User.V, s.User.Origin
	case "key":
		return strings.Join(s.Keys.V, ", "), s.Keys.Origin
	case "via":
		return strings.Join(s.Via.V, ", "), s.Via.Origin
	case "lends_to":
		return strings.Join(s.LendsTo.V, ", "), s.LendsTo.Origin
	case "lends":
		return strings.Join(s.Lends.V, ", "), s.Lends.Origin
	case "env":
		return strings.Join(s.Env.V, ", "), s.Env.Origin
	case "tunnels":
		return TunnelsLine(s.Tunnels.V), s.Tunnels.Origin
	case "keepalive":
		return duration(s.Keepalive), s.Keepalive.Origin
	case "reconnect":
		return duration(s.Reconnect), s.Reconnect.Origin
	}
	for _, text := range texts {
		if text.key == key {
			return text.of(s).V, text.of(s).Origin
		}
	}
	return "", Origin{}
}

func duration(v Value[time.Duration]) string {
	if v.Set && v.V == 0 {
		return "off"
	}
	return shortDuration(v.V.String())
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
