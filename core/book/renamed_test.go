package book

import (
	"maps"
	"testing"
)

func TestRenamesAreFoundHoweverTheyWereMade(t *testing.T) {
	parse := func(text string) *Book { return Parse("sessions.toml", []byte(text)) }
	before := parse("[session.quay]\nhost = \"203.0.113.10\"\n[session.db]\nhost = \"10.0.0.1\"\nvia = \"quay\"\n")
	for _, c := range []struct {
		after string
		want  map[string]string
	}{
		{"[session.pier]\nhost = \"203.0.113.10\"\n[session.db]\nhost = \"10.0.0.1\"\nvia = \"pier\"\n", map[string]string{"quay": "pier"}},
		{"[session.pier]\nhost = \"203.0.113.11\"\n[session.db]\nhost = \"10.0.0.1\"\nvia = \"pier\"\n", map[string]string{}},                                          // another machine
		{"[session.pier]\nhost = \"203.0.113.10\"\n[session.mole]\nhost = \"203.0.113.10\"\n[session.db]\nhost = \"10.0.0.1\"\nvia = \"pier\"\n", map[string]string{}}, // which of them?
		{"[session.quay]\nhost = \"203.0.113.10\"\n[session.pier]\nhost = \"203.0.113.10\"\n[session.db]\nhost = \"10.0.0.1\"\nvia = \"quay\"\n", map[string]string{}}, // a copy
	} {
		if got := Renames(before, parse(c.after)); !maps.Equal(got, c.want) {
			t.Errorf("%q: %v, want %v", c.after, got, c.want)
		}
	}
}
