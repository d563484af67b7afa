package event

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Same is a record that many sessions, or machines, had at about the same time: a bastion
// that goes takes all behind it along, and that is one thing to be told.
type Same struct {
	Record
	From, To time.Time // when the first came, and the last
	Of       []string  // whose, in the order in which they came, each once
}

// sameTime is how long after another a record may come to be told with it.
const sameTime = 2 * time.Second

// shownNames is how many names of a [Same] are told.
const shownNames = 3

// Take adds a record to the one of a list that tells the same, or to the list's end. It looks
// back no further than at what is a moment old.
func Take(list []Same, r Record, now time.Time) []Same {
	of := r.Session
	if of == "" {
		of = r.Hop
	}
	for i, s := range slices.Backward(list) {
		if now.Sub(s.To) > sameTime {
			break
		}
		// What failed is told by why it did: what else it says is of that one alone.
		if s.Name != r.Name || s.Failed != r.Failed || r.Failed == "" && s.Say != r.Say || of == "" {
			continue
		}
		list[i].To = now
		if !slices.Contains(s.Of, of) {
			list[i].Of = append(s.Of, of)
		}
		return list
	}
	return append(list, Same{Record: r, From: now, To: now, Of: []string{of}})
}

// Line is the record in one line, with whose it was in front.
func (s Same) Line() string {
	n := len(s.Of)
	if n < 2 {
		return s.Record.Line()
	}
	r := s.Record
	if r.Session, r.Hop = "", ""; r.Failed != "" {
		r.Say, _, _ = strings.Cut(r.Say, ",")
	}
	names := strings.Join(s.Of[:min(n, shownNames)], ", ")
	if n > shownNames {
		names += fmt.Sprintf(" and %d more", n-shownNames)
	}
	return names + ": " + r.Line()
}
