package estate

import (
	"fmt"
	"path"
	"slices"
	"strings"
	"unicode"
)

// Query chooses instances (docs/estate.md): terms parted by blanks, which all have to hold. A term
// is KEY=VALUE, tag:NAME=VALUE, or a word alone, which is a name or an id; ! before it turns it
// round. In values * is any letters and ? one; quotes hold blanks together.
type Query struct {
	text  string
	terms []term
}

type term struct {
	not   bool
	key   string // one of queryKeys, "" for a name or an id
	tag   string // of "tag"
	value string
}

// QueryKeys are the keys of a query, in the order they are offered.
var QueryKeys = []string{"name", "source", "id", "state", "checks", "network", "group", "image", "key", "address", "tag:"}

// QueryError is a mistake in a query. Column counts letters, from 1.
type QueryError struct {
	Column int
	Say    string
}

func (e *QueryError) Error() string { return fmt.Sprintf("column %d: %s", e.Column, e.Say) }

// ParseQuery reads a query. An empty one chooses every instance. It fails with a [QueryError].
func ParseQuery(text string) (Query, error) {
	q := Query{text: text}
	runes := []rune(text)
	for i := 0; i < len(runes); {
		if unicode.IsSpace(runes[i]) {
			i++
			continue
		}
		start := i
		var word []rune
		equals, quoted := -1, false
		for ; i < len(runes) && (quoted || !unicode.IsSpace(runes[i])); i++ {
			switch {
			case runes[i] == '"':
				quoted = !quoted
			case runes[i] == '=' && equals < 0 && !quoted:
				equals = len(word)
				word = append(word, '=')
			default:
				word = append(word, runes[i])
			}
		}
		if quoted {
			return Query{}, &QueryError{start + 1, "a quote has no end"}
		}
		t, err := readTerm(string(word), equals, start+1)
		if err != nil {
			return Query{}, err
		}
		q.terms = append(q.terms, t)
	}
	return q, nil
}

func readTerm(word string, equals, column int) (term, error) {
	var t term
	if rest, ok := strings.CutPrefix(word, "!"); ok {
		t.not, word, equals = true, rest, equals-1
	}
	if equals < 0 {
		t.value = word
	} else {
		key := string([]rune(word)[:equals])
		t.value = string([]rune(word)[equals+1:])
		tag, isTag := strings.CutPrefix(key, "tag:")
		switch {
		case isTag && tag == "":
			return t, &QueryError{column, "which tag? write tag:NAME=VALUE"}
		case isTag:
			t.key, t.tag = "tag", tag
		case !slices.Contains(QueryKeys, key) || key == "tag:":
			return t, &QueryError{column, fmt.Sprintf("%q is nothing that instances are chosen by; there are %s", key, strings.Join(QueryKeys, ", "))}
		default:
			t.key = key
		}
	}
	if t.value == "" && t.key == "" {
		return t, &QueryError{column, fmt.Sprintf("%q is no value", t.value)}
	}
	return t, nil
}

// String is the query as it was written.
func (q Query) String() string { return q.text }

// Plain is the name or the id that a query is for, where it is nothing else and has no * or ? in it;
// "" for other queries.
func (q Query) Plain() string {
	if len(q.terms) != 1 || q.terms[0].key != "" || q.terms[0].not || strings.ContainsAny(q.terms[0].value, "*?") {
		return ""
	}
	return q.terms[0].value
}

// Find are the instances of a source that a query chooses, in their order.
func (q Query) Find(source string, s *Snapshot) []*Instance {
	var found []*Instance
	for i := range s.Instances {
		if q.Holds(source, s, &s.Instances[i]) {
			found = append(found, &s.Instances[i])
		}
	}
	return found
}

// Holds tells whether a query chooses an instance.
func (q Query) Holds(source string, s *Snapshot, i *Instance) bool {
	for _, t := range q.terms {
		if t.holds(source, s, i) == t.not {
			return false
		}
	}
	return true
}

// asPattern has a value mean * and ? alone; a slash is a letter like others.
var asPattern = strings.NewReplacer("/", "\x00", "[", "\\[", "\\", "\\\\")

func (t term) holds(source string, s *Snapshot, i *Instance) bool {
	fits := func(texts ...string) bool {
		return slices.ContainsFunc(texts, func(text string) bool {
			ok, _ := path.Match(asPattern.Replace(t.value), strings.ReplaceAll(text, "/", "\x00"))
			return ok
		})
	}
	switch t.key {
	case "":
		return fits(i.Name, i.ID)
	case "name":
		return fits(i.Name)
	case "source":
		return fits(source)
	case "id":
		return fits(i.ID)
	case "state":
		return fits(string(i.State))
	case "checks":
		return fits(string(i.Checks))
	case "image":
		name := ""
		for _, m := range s.Images {
			if m.ID == i.Image {
				name = m.Name
			}
		}
		return fits(i.Image, name)
	case "key":
		return fits(i.KeyPair)
	case "tag":
		v, has := i.Tags[t.tag]
		return has && fits(v)
	case "group":
		for _, id := range i.Groups {
			name := ""
			for _, g := range s.Groups {
				if g.ID == id {
					name = g.Name
				}
			}
			if fits(id, name) {
				return true
			}
		}
		return false
	}
	for _, a := range i.Addresses {
		if t.key == "address" && fits(a.IP.String()) || t.key == "network" && fits(a.Network, s.NetworkName(a.Network)) {
			return true
		}
	}
	return false
}
