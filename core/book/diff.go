package book

import (
	"fmt"
	"strings"
)

// Diff says in a few words what changed between two readings of a file, "" where
// nothing did that matters.
func Diff(before, after *Book) string {
	var added, removed, changed []string
	for _, s := range after.Sessions {
		old := before.Session(s.Name)
		switch {
		case old == nil:
			added = append(added, s.Name)
		case differs(old, s):
			changed = append(changed, s.Name)
		}
	}
	for _, s := range before.Sessions {
		if after.Session(s.Name) == nil {
			removed = append(removed, s.Name)
		}
	}
	var parts []string
	for _, p := range []struct {
		word  string
		names []string
	}{{"new", added}, {"changed", changed}, {"gone", removed}} {
		switch {
		case len(p.names) > 4:
			parts = append(parts, fmt.Sprintf("%s: %d sessions", p.word, len(p.names)))
		case len(p.names) > 0:
			parts = append(parts, p.word+": "+strings.Join(p.names, ", "))
		}
	}
	if len(parts) == 0 && len(before.Problems) != len(after.Problems) {
		parts = append(parts, fmt.Sprintf("%d mistakes, before it was %d", len(after.Problems), len(before.Problems)))
	}
	return strings.Join(parts, "; ")
}

// differs tells whether two readings of a session mean something else.
func differs(a, b *Session) bool {
	if (a.Broken == nil) != (b.Broken == nil) {
		return true
	}
	for _, key := range Fields {
		x, from := a.Text(key)
		y, to := b.Text(key)
		if x != y || from.Layer() != to.Layer() {
			return true
		}
	}
	return false
}
