package book

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// Draft is a session to be written down. Empty fields are left out.
type Draft struct {
	Name, Site, User, Host string
	Instance               string // in place of a host
	Port                   int
	Via, Keys              []string
	Keepalive              string
	Agent                  string
	Tunnels                []Tunnel
	Settings               []Setting // further values, as they are written in the sheet of a session
}

// Text is the draft as it stands in the sessions file.
func (d Draft) Text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "[session.%s]\n", keyText(d.Name))
	line := func(key, value string) { fmt.Fprintf(&b, "%-4s = %s\n", key, value) }
	if d.Site != "" {
		line("site", quote(d.Site))
	}
	if d.Instance != "" {
		line("instance", quote(d.Instance))
	} else {
		line("host", quote(d.Host))
	}
	if d.Port != 0 {
		line("port", strconv.Itoa(d.Port))
	}
	if d.User != "" {
		line("user", quote(d.User))
	}
	if len(d.Via) > 0 {
		line("via", "["+strings.Join(quoteAll(d.Via), ", ")+"]")
	}
	switch len(d.Keys) {
	case 0:
	case 1:
		line("key", quote(d.Keys[0]))
	default:
		line("key", "["+strings.Join(quoteAll(d.Keys), ", ")+"]")
	}
	if d.Keepalive != "" {
		line("keepalive", quote(d.Keepalive))
	}
	if d.Agent != "" {
		line("agent", quote(d.Agent))
	}
	if len(d.Tunnels) > 0 {
		line("tunnels", tunnelsText(d.Tunnels))
	}
	for _, s := range d.Settings {
		line(s.Key, literal(s.Key, s.Value))
	}
	return b.String()
}

// Add writes new sessions at the end of the sessions file at path, as one edit. The file
// is made if there is none. Everything that stands in the file is kept to the
// byte. It returns the book as it then is. It fails, leaving the file alone,
// where a name is taken or a draft would bring a problem into the file.
func Add(path string, drafts ...Draft) (*Book, error) {
	var names []string
	for _, d := range drafts {
		names = append(names, d.Name)
	}
	return Change(path, "the new session "+strings.Join(names, ", "), func(before *Book, text []byte) ([]byte, error) {
		return added(filepath.Base(path), before, text, drafts)
	})
}

// Try is [Add] that writes nothing: the book as it would be.
func Try(path string, drafts ...Draft) (*Book, error) {
	text, err := os.ReadFile(path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	name := filepath.Base(path)
	before := Parse(name, text)
	if text, err = added(name, before, text, drafts); err != nil {
		return nil, err
	}
	after := Parse(name, text)
	if p := fresh(before.Problems, after.Problems); p != nil {
		return nil, errors.New(join(p.Say, p.Hint))
	}
	after.Path = path
	return after, nil
}

// added is the text of a sessions file with drafts at its end.
func added(file string, before *Book, text []byte, drafts []Draft) ([]byte, error) {
	seen := map[string]bool{}
	for _, d := range drafts {
		if err := before.free(d.Name); err != nil {
			return nil, err
		}
		if seen[d.Name] {
			return nil, fmt.Errorf("two new sessions are called %s", d.Name)
		}
		seen[d.Name] = true
		text = append(spaced(text), d.Text()...)
	}
	after := Parse(file, text)
	for name := range seen {
		if after.Session(name) == nil {
			return nil, fmt.Errorf("not written: %s has a mistake that swallows its end; mend line %d first", file, lastLine(before))
		}
	}
	return text, nil
}

// spaced ends a text with exactly what separates it from a new table.
func spaced(text []byte) []byte {
	if len(bytes.TrimSpace(text)) == 0 {
		return text
	}
	if !bytes.HasSuffix(text, []byte("\n")) {
		text = append(text, '\n')
	}
	return append(text, '\n')
}

func lastLine(b *Book) int {
	if len(b.Problems) == 0 {
		return 1
	}
	return int(b.Problems[len(b.Problems)-1].Line)
}

// quote writes a TOML basic string.
func quote(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}

func quoteAll(list []string) []string {
	out := make([]string, len(list))
	for i, s := range list {
		out[i] = quote(s)
	}
	return out
}

// keyText writes a TOML key, bare where it can be.
func keyText(s string) string {
	for _, r := range s {
		if !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_') {
			return quote(s)
		}
	}
	return s
}
