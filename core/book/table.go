package book

import (
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"meatus/core/sanitize"
	"meatus/core/tomltext"
)

// Table is a table of the sessions file: a session or site by its name, a like by
// its place among the likes, or the defaults.
type Table struct {
	Layer Layer
	Name  string // of the session or site; of a like, its pattern
	Nth   int    // of a like, from 0
}

// String says which table it is as a person would.
func (t Table) String() string {
	if t.Layer == InSession {
		return t.Name
	}
	return From(t.Layer, t.Name).String()
}

// heads tells whether a header is the table's; likes counts the likes so far.
func (t Table) heads(parts []tomltext.Word, array bool, likes int) bool {
	switch t.Layer {
	case InDefaults:
		return !array && len(parts) == 1 && parts[0].Text == "defaults"
	case InLike:
		return array && len(parts) == 1 && parts[0].Text == "like" && likes == t.Nth
	}
	return !array && len(parts) == 2 && parts[0].Text == layerWords[t.Layer] && parts[1].Text == t.Name
}

// WrongValue says what is wrong with a value as a person writes it, and how to
// write it, "" where nothing is. It looks at the value alone and at the names it
// refers to, not at what it would do to the rest of the file.
func (b *Book) WrongValue(layer Layer, key, value string) string {
	value = strings.TrimSpace(value)
	if value == "" {
		return ""
	}
	if key == "tunnels" {
		if _, err := ParseTunnels(value); err != nil {
			return err.Error()
		}
		return ""
	}
	if wrong := wrongText(layer, key, value); wrong != "" {
		return wrong
	}
	var names, of []string
	switch key {
	case "via":
		names, of = b.Hops(), strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })
	default:
		return ""
	}
	for _, name := range of {
		if !slices.Contains(names, name) {
			return join(fmt.Sprintf("there is no session %q", sanitize.Line(name, 40)), meant(name, names))
		}
	}
	return ""
}

// Tables are the tables a session takes its values from, nearest first: itself,
// the likes that fit it, its site and the defaults.
func (b *Book) Tables(session string) []Table {
	tables := []Table{{Layer: InSession, Name: session}}
	for i, like := range slices.Backward(b.far.likes) {
		if ok, _ := path.Match(like.name, session); ok {
			tables = append(tables, Table{InLike, like.name, i})
		}
	}
	if s := b.Session(session); s != nil && s.Site.Set && b.far.sites[s.Site.V] != nil {
		tables = append(tables, Table{Layer: InSite, Name: s.Site.V})
	}
	return append(tables, Table{Layer: InDefaults})
}

// usedOnly tells whether a site is nowhere in the file but in the sessions that stand in it.
func (b *Book) usedOnly(site string) bool {
	t := b.far.sites[site]
	return t != nil && t.used
}

// Own is what a table says itself, and whether there is such a table. The
// defaults are always there, if empty.
func (b *Book) Own(t Table) (own Session, ok bool) {
	var found *table
	switch t.Layer {
	case InDefaults:
		found = b.far.defaults
		ok = true
	case InSite:
		found = b.far.sites[t.Name]
	case InLike:
		if t.Nth < len(b.far.likes) {
			found = b.far.likes[t.Nth]
		}
	}
	if found != nil {
		own, ok = found.own, true
	}
	if own.Extras == nil {
		own.Extras = noExtras
	}
	if own.Access == nil {
		own.Access = &Access{}
	}
	if own.Behaviour == nil {
		own.Behaviour = &Behaviour{}
	}
	return own, ok
}

// Members are the sessions that a table gives values to.
func (b *Book) Members(t Table) []string {
	var names []string
	for _, s := range b.Sessions {
		fits := t.Layer == InDefaults || t.Layer == InSession && s.Name == t.Name || t.Layer == InSite && s.Site.V == t.Name
		if t.Layer == InLike {
			fits, _ = path.Match(t.Name, s.Name)
		}
		if fits {
			names = append(names, s.Name)
		}
	}
	return names
}

// Far is what a session would inherit for everything it does not say itself.
func (b *Book) Far(name string) Session {
	s := b.Session(name)
	if s == nil {
		return emptySession()
	}
	t := &table{layer: InSession, name: name, own: Session{Site: s.Site}}
	return *(&reader{file: b.Path, layers: b.far}).session(t)
}

// AddTable writes a new site or like at the end of the sessions file.
func AddTable(path string, t Table) (*Book, error) {
	return Change(path, "the new "+t.String(), func(before *Book, text []byte) ([]byte, error) {
		switch t.Layer {
		case InSite:
			if !ValidName(t.Name) {
				return nil, fmt.Errorf("%q cannot be a site's name; %s", t.Name, nameHint)
			}
			return fmt.Appendf(spaced(text), "[site.%s]\n", keyText(t.Name)), nil
		case InKey:
			return fmt.Appendf(spaced(text), "[key.%s]\n", keyText(t.Name)), nil
		case InLike:
			return fmt.Appendf(spaced(text), "[[like]]\nname = %s\n", quote(t.Name)), nil
		}
		return nil, fmt.Errorf("%s is no site and no like", t)
	})
}

// RemoveTable takes a site or like out of the sessions file. It fails for a site
// that sessions stand in.
func RemoveTable(path string, t Table) (*Book, error) {
	return Change(path, "removing "+t.String(), func(before *Book, text []byte) ([]byte, error) {
		if t.Layer == InSession {
			return nil, fmt.Errorf("%s is a session", t)
		}
		if members := before.Members(t); t.Layer == InSite && len(members) > 0 {
			return nil, fmt.Errorf("%s stands in it; move it first", members[0])
		}
		return takeOut(text, t)
	})
}

// RenameSite gives a site another name, in its header and in every session that
// stands in it.
func RenameSite(path, old, name string) (*Book, error) {
	return Change(path, fmt.Sprintf("renaming site %s to %s", old, name), func(before *Book, text []byte) ([]byte, error) {
		if !ValidName(name) {
			return nil, fmt.Errorf("%q cannot be a site's name; %s", name, nameHint)
		}
		if !before.usedOnly(old) {
			t, err := findTable(text, Table{Layer: InSite, Name: old})
			if err != nil {
				return nil, err
			}
			text = slices.Concat(text[:t.name.From], []byte(keyText(name)), text[t.name.To:])
		}
		return replaceIn(text, "site", func(s string) string {
			if s == old {
				return name
			}
			return s
		})
	})
}

// MoveKey makes every table that names a key file, to offer it or to lend it, name
// another: change gets each
// path as written and returns what it is now.
func MoveKey(path, what string, change func(written string) string) (*Book, error) {
	return Change(path, what, moveKey(change))
}

// ReplaceKey is MoveKey for a key in the place of another one: gateways and issuers, which know a person by the key that
// there was, keep it.
func ReplaceKey(path, what string, change func(written string) string) (*Book, error) {
	return Change(path, what, func(before *Book, text []byte) ([]byte, error) {
		text, err := moveKey(change)(before, text)
		if err != nil {
			return nil, err
		}
		for _, g := range slices.Concat(before.Gateways, before.Issuers) {
			if !slices.ContainsFunc(g.Keys.V, func(written string) bool { return change(written) != written }) {
				continue
			}
			layer := InGateway
			if g.Issuer {
				layer = InIssuer
			}
			t, err := findTable(text, Table{Layer: layer, Name: g.Name})
			if err != nil {
				return nil, err
			}
			text = t.put(text, "key", literal("key", strings.Join(g.Keys.V, ",")))
		}
		return text, nil
	})
}

func moveKey(change func(written string) string) func(before *Book, text []byte) ([]byte, error) {
	return func(before *Book, text []byte) ([]byte, error) {
		text, err := replaceIn(text, "key", change)
		if err != nil {
			return nil, err
		}
		if text, err = replaceIn(text, "lends", change); err != nil {
			return nil, err
		}
		for _, k := range before.Keys {
			if now := change(k.Path); now != k.Path {
				t, err := findTable(text, Table{Layer: InKey, Name: k.Path})
				if err != nil {
					return nil, err
				}
				text = slices.Concat(text[:t.name.From], []byte(keyText(now)), text[t.name.To:])
			}
		}
		return text, nil
	}
}

// SetKey says something of a key file: its hosts, stay or confirm, as a person
// writes it, "" to say nothing of it.
func SetKey(path, key, field, value string) (*Book, error) {
	table := Table{Layer: InKey, Name: key}
	return Change(path, fmt.Sprintf("%s of %s", field, key), func(before *Book, text []byte) ([]byte, error) {
		if !slices.ContainsFunc(before.Keys, func(k KeyTerms) bool { return k.Path == key }) {
			text = fmt.Appendf(spaced(text), "[key.%s]\n", keyText(key))
		}
		t, err := findTable(text, table)
		if err != nil {
			return nil, err
		}
		if value == "" {
			return t.drop(text, field), nil
		}
		return t.put(text, field, literal(field, value)), nil
	})
}

// SetKeys gives sessions key files of their own, as one edit.
func SetKeys(path, what string, keys map[string][]string) (*Book, error) {
	return Change(path, what, func(_ *Book, text []byte) ([]byte, error) {
		for _, session := range slices.Sorted(maps.Keys(keys)) {
			t, err := findTable(text, Table{Layer: InSession, Name: session})
			if err != nil {
				return nil, err
			}
			text = t.put(text, "key", literal("key", strings.Join(keys[session], ",")))
		}
		return text, nil
	})
}

// WrongText says what is wrong with the text of a session's value by itself, "" where nothing is.
func WrongText(key, value string) string { return wrongText(InSession, key, strings.TrimSpace(value)) }

func wrongText(layer Layer, key, value string) string {
	text := fmt.Sprintf("[session.x]\n%s = %s\n", key, literal(key, value))
	if layer == InLike && key == "name" {
		text = fmt.Sprintf("[[like]]\nname = %s\n", literal(key, value))
	}
	for _, p := range Parse("", []byte(text)).Problems {
		if strings.HasPrefix(p.Say, key+": ") {
			return join(strings.TrimPrefix(p.Say, key+": "), p.Hint)
		}
	}
	return ""
}
