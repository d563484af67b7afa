// Package tomltext reads TOML (version 1.0) entry by entry, with the place of every key
// and value in the text, for edits that leave every other byte alone.
//
// It is the one place that knows the parser underneath, whose interface its makers call
// unstable. It promises that places lie within the text and that a mistake in the
// grammar ends the reading with where it is. It costs one pass over the text.
package tomltext

import (
	"errors"
	"iter"

	"github.com/pelletier/go-toml/v2/unstable"
)

// Span is a range of bytes of the text.
type Span struct{ From, To int }

// Word is one part of a key, and where it stands.
type Word struct {
	Text string
	Span
}

// Entry is a header, or a key with its value.
type Entry struct {
	Header bool   // "[keys]"
	Array  bool   // "[[keys]]"
	Keys   []Word // the parts of a dotted key, at least one
	Span          // of the whole, with what follows on the line where it is a key
	Value  Value  // of a key
}

// Mistake is where the text is no TOML.
type Mistake struct {
	At  int // an offset in the text
	Say string
}

func (m *Mistake) Error() string { return m.Say }

// Read calls each with every entry, in their order. It fails with a [Mistake].
func Read(text []byte, each func(Entry)) error {
	var p unstable.Parser
	p.Reset(text)
	for p.NextExpression() {
		n := p.Expression()
		e := Entry{Header: n.Kind != unstable.KeyValue, Array: n.Kind == unstable.ArrayTable, Span: span(n.Raw)}
		if n.Kind == unstable.Comment {
			continue
		}
		for it := n.Key(); it.Next(); {
			e.Keys = append(e.Keys, Word{string(it.Node().Data), span(it.Node().Raw)})
		}
		if !e.Header {
			e.Value = Value{n.Value()}
		}
		each(e)
	}
	err := p.Error()
	if err == nil {
		return nil
	}
	var at *unstable.ParserError
	if !errors.As(err, &at) {
		return &Mistake{Say: err.Error()}
	}
	return &Mistake{At: min(int(p.Range(at.Highlight).Offset), len(text)), Say: at.Message}
}

func span(r unstable.Range) Span { return Span{int(r.Offset), int(r.Offset + r.Length)} }

// Kind is what kind of value stands somewhere.
type Kind uint8

// The kinds of values.
const (
	Date Kind = iota // a date or a time
	String
	Bool
	Integer
	Float
	Array
	Table // an inline one
)

var kinds = map[unstable.Kind]Kind{
	unstable.String: String, unstable.Bool: Bool, unstable.Integer: Integer, unstable.Float: Float,
	unstable.Array: Array, unstable.InlineTable: Table,
}

var kindWords = [...]string{"a date", "a text", "true or false", "a number", "a number", "a list", "a table"}

// String names the kind: "a text", "a list".
func (k Kind) String() string { return kindWords[k] }

// Value is a value of an entry. It is valid while each is called with that entry.
type Value struct{ node *unstable.Node }

// Kind is what kind of value it is.
func (v Value) Kind() Kind { return kinds[v.node.Kind] }

// Text is what a string says; of other values it is how they are written.
func (v Value) Text() string { return string(v.node.Data) }

// Span is where the value stands; of a list it is where its first item does, where it
// has one. It is empty where the parser does not tell.
func (v Value) Span() Span {
	if v.Kind() == Array {
		for item := range v.Items() {
			return item.Span()
		}
	}
	return span(v.node.Raw)
}

// Items are the values of a list.
func (v Value) Items() iter.Seq[Value] {
	return func(yield func(Value) bool) {
		for it := v.node.Children(); it.Next(); {
			if it.Node().Kind != unstable.Comment && !yield(Value{it.Node()}) {
				return
			}
		}
	}
}

// Pairs are the keys and values of an inline table. A key may be dotted.
func (v Value) Pairs() iter.Seq2[[]Word, Value] {
	return func(yield func([]Word, Value) bool) {
		for it := v.node.Children(); it.Next(); {
			if it.Node().Kind != unstable.KeyValue {
				continue
			}
			var keys []Word
			for key := it.Node().Key(); key.Next(); {
				keys = append(keys, Word{string(key.Node().Data), span(key.Node().Raw)})
			}
			if !yield(keys, Value{it.Node().Value()}) {
				return
			}
		}
	}
}
