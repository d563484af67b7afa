// Package list is a list of rows in which one is chosen by what it is of: the choice stays with it where rows come, go or
// change their order, and where it has gone, nothing is chosen until the person moves.
package list

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/fit"
	"meatus/tui/scroll"
)

// List is the rows, of type R, each with an identity of type K. Its methods are for the interface's goroutine.
type List[K comparable, R any] struct {
	key    func(R) K
	rows   []R
	keep   func(R) bool // what is shown; everything where nil
	shown  []R
	at     scroll.Cursor
	room   int  // rows that are shown at once
	chosen K    // the identity of the chosen row
	any    bool // one was chosen yet
	lost   bool // it has gone, and the person has not moved since
}

// New returns an empty list; key is the identity of a row.
func New[K comparable, R any](key func(R) K) *List[K, R] { return &List[K, R]{key: key, room: 1} }

// Set takes the rows as they are now. The chosen one stays chosen, wherever it stands; where it has gone, none is.
func (l *List[K, R]) Set(rows []R) {
	l.rows = rows
	l.lay()
	i := l.index(l.chosen)
	switch {
	case !l.any: // the first rows
		l.at = scroll.Cursor{}
		l.choose(0)
	case i < 0:
		l.lost = true // nothing else is taken for it
		l.at.Move(0, len(l.shown), l.room)
	default:
		l.choose(i)
	}
}

// Restart forgets what was chosen: the first of the rows that are set next is.
func (l *List[K, R]) Restart() { l.any, l.lost = false, false }

// Filter shows only rows that a function keeps, all where it is nil. Where the chosen one is not among them, the first is
// chosen: a person has asked for it.
func (l *List[K, R]) Filter(keep func(R) bool) {
	l.keep = keep
	l.lay()
	if l.any {
		l.choose(max(l.index(l.chosen), 0))
	}
}

// lay lays the rows that show.
func (l *List[K, R]) lay() {
	if l.shown = l.rows; l.keep != nil {
		l.shown = nil
		for _, r := range l.rows {
			if l.keep(r) {
				l.shown = append(l.shown, r)
			}
		}
	}
}

func (l *List[K, R]) index(k K) int {
	return slices.IndexFunc(l.shown, func(r R) bool { return l.key(r) == k })
}

// choose chooses a row by where it stands.
func (l *List[K, R]) choose(i int) {
	l.at.At, l.lost = i, false
	l.at.Move(0, len(l.shown), l.room)
	if l.at.At < len(l.shown) {
		l.chosen, l.any = l.key(l.shown[l.at.At]), true
	}
}

// SetRoom changes how many rows are shown at once.
func (l *List[K, R]) SetRoom(rows int) {
	l.room = max(rows, 1)
	l.at.Move(0, len(l.shown), l.room)
}

// Shown are the rows that the filter keeps.
func (l *List[K, R]) Shown() []R { return l.shown }

// Len is how many rows the filter keeps.
func (l *List[K, R]) Len() int { return len(l.shown) }

// All are all rows, in the order they were set in.
func (l *List[K, R]) All() []R { return l.rows }

// Selected is the chosen row. ok is false where the list is empty, or what was chosen has gone.
func (l *List[K, R]) Selected() (r R, ok bool) {
	if l.lost || l.at.At >= len(l.shown) {
		return r, false
	}
	return l.shown[l.at.At], true
}

// Find is the row with an identity, whether or not it shows.
func (l *List[K, R]) Find(k K) (r R, ok bool) {
	i := slices.IndexFunc(l.rows, func(r R) bool { return l.key(r) == k })
	if i < 0 {
		return r, false
	}
	return l.rows[i], true
}

// Select chooses the row with an identity. It reports false where that does not show.
func (l *List[K, R]) Select(k K) bool {
	i := l.index(k)
	if i >= 0 {
		l.choose(i)
	}
	return i >= 0
}

// Take moves as a key or a turn of the wheel says. It reports whether the message was one of those.
func (l *List[K, R]) Take(msg tea.Msg) bool {
	if !l.at.Take(msg, len(l.shown), l.room) {
		return false
	}
	l.choose(l.at.At)
	return true
}

// Click chooses the row in a line of what [List.Lines] has drawn, from 0. It reports false where there is none.
func (l *List[K, R]) Click(line int) bool {
	i := l.at.Top + line
	if line < 0 || line >= l.room || i >= len(l.shown) {
		return false
	}
	l.choose(i)
	return true
}

// Window is which rows show: from, and up to but not with, another.
func (l *List[K, R]) Window() (from, to int) { return l.at.Window(len(l.shown), l.room) }

// Lines draws the rows that show, a line each; chosen is true for the chosen one.
func (l *List[K, R]) Lines(draw func(r R, chosen bool) string) []string {
	from, to := l.Window()
	lines := make([]string, 0, to-from)
	for i := from; i < to; i++ {
		lines = append(lines, draw(l.shown[i], i == l.at.At && !l.lost))
	}
	return lines
}

// Rows draws the rows that fit a room of lines, each in as many as it needs, and tells how many are below them (see
// [scroll.Cursor.Rows]).
func (l *List[K, R]) Rows(room int, draw func(r R, chosen bool) fit.Row) (lines []string, below int) {
	return l.at.Rows(len(l.shown), room, func(i int) fit.Row { return draw(l.shown[i], i == l.at.At && !l.lost) })
}
