package term

import (
	"strings"
	"unicode"
	"unicode/utf8"
)

// Point is a cell of everything a screen ever held: rows count from the first
// line that was ever there, also where that is gone by now.
type Point struct{ Row, Col int }

// Before tells whether p comes before q.
func (p Point) Before(q Point) bool { return p.Row < q.Row || p.Row == q.Row && p.Col < q.Col }

// Rows returns the numbers of the first row that is kept and of the one behind
// the last.
func (s *Screen) Rows() (first, end int) {
	first = s.history.dropped
	return first, first + s.history.count + s.rows
}

// rowAt is the line of a row that is kept.
func (s *Screen) rowAt(row int) *line {
	if i := row - s.history.dropped; i < s.history.count {
		return s.history.at(i).unpack(0, &s.clusters)
	} else {
		return s.lines[i-s.history.count]
	}
}

// cut is the text of a line's cells from one column up to another, and for each
// byte of it the column it is of.
func (s *Screen) cut(l *line, from, to int) (text string, columns []int) {
	var b strings.Builder
	for col := max(from, 0); col < min(to, len(l.cells)); col++ {
		c := l.cells[col]
		if c.Width == Rest {
			continue
		}
		n := b.Len()
		b.WriteString(s.clusters.text(c.Rune))
		for range b.Len() - n {
			columns = append(columns, col)
		}
	}
	return b.String(), columns
}

// Prompt is the row of the nearest prompt above a row, or below it, where the shell says where its
// prompts begin; ok is false where there is none.
func (s *Screen) Prompt(row int, below bool) (at int, ok bool) {
	first, end := s.Rows()
	by := -1
	if below {
		by = 1
	}
	for at = row + by; at >= first && at < end; at += by {
		if i := at - s.history.dropped; i < s.history.count {
			ok = s.history.at(i).prompt
		} else {
			ok = s.lines[i-s.history.count].prompt
		}
		if ok {
			return at, true
		}
	}
	return 0, false
}

// TextBetween is the text from one cell up to and with another, in whichever
// order they are given. Lines that the screen wrapped are one line; blanks at the
// ends of lines are left out.
func (s *Screen) TextBetween(a, b Point) string {
	if b.Before(a) {
		a, b = b, a
	}
	first, end := s.Rows()
	var out strings.Builder
	for row := max(a.Row, first); row <= min(b.Row, end-1); row++ {
		l := s.rowAt(row)
		from, to := 0, l.used
		if row == a.Row {
			from = a.Col
		}
		if row == b.Row {
			to = min(b.Col+1, max(l.used, from))
		}
		text, _ := s.cut(l, from, to)
		wraps := l.wrapped && row < b.Row
		if !wraps {
			text = strings.TrimRight(text, " ")
		}
		out.WriteString(text)
		if !wraps && row < b.Row {
			out.WriteByte('\n')
		}
	}
	return out.String()
}

// Word is the first and the last cell of the word at a cell: letters, digits and
// what stands in names, paths and addresses.
func (s *Screen) Word(at Point) (from, to Point) {
	first, end := s.Rows()
	if at.Row < first || at.Row >= end {
		return at, at
	}
	l := s.rowAt(at.Row)
	in := func(col int) bool {
		if col < 0 || col >= l.used {
			return false
		}
		if l.cells[col].Width == Rest {
			return true
		}
		r, _ := utf8.DecodeRuneInString(s.clusters.text(l.cells[col].Rune))
		return unicode.IsLetter(r) || unicode.IsDigit(r) || strings.ContainsRune("-_./:@%+~#=", r)
	}
	from, to = at, at
	if !in(at.Col) {
		return from, to
	}
	for in(from.Col - 1) {
		from.Col--
	}
	for in(to.Col + 1) {
		to.Col++
	}
	return from, to
}

// Find looks for a text, whatever the case of its letters, from a cell on
// backwards, or forwards. It also finds what the screen has wrapped. ok is false
// where there is no more of it on that side.
func (s *Screen) Find(text string, at Point, forwards bool) (from, to Point, ok bool) {
	text = strings.ToLower(text)
	if text == "" {
		return at, at, false
	}
	first, end := s.Rows()
	step := -1
	if forwards {
		step = 1
	}
	// Whole lines are looked through, from the first of their rows on.
	goesOn := func(row int) bool { return row > first && s.rowAt(row-1).wrapped }
	row := min(max(at.Row, first), end-1)
	for goesOn(row) {
		row--
	}
	for ; row >= first && row < end; row += step {
		if goesOn(row) {
			continue
		}
		if from, to, ok := s.findIn(row, end, text, at, forwards); ok {
			return from, to, true
		}
	}
	return at, at, false
}

// findIn looks through the line that begins at a row.
func (s *Screen) findIn(row, end int, text string, at Point, forwards bool) (from, to Point, ok bool) {
	var b strings.Builder
	var cells []Point // of each byte
	for ; row < end; row++ {
		l := s.rowAt(row)
		part, columns := s.cut(l, 0, l.used)
		if lower := strings.ToLower(part); len(lower) == len(part) { // else the cells would not fit
			part = lower
		}
		b.WriteString(part)
		for _, col := range columns {
			cells = append(cells, Point{row, col})
		}
		if !l.wrapped {
			break
		}
	}
	whole := b.String()
	for i := 0; ; {
		n := strings.Index(whole[i:], text)
		if n < 0 {
			return from, to, ok
		}
		i += n
		here, last := cells[i], cells[i+len(text)-1]
		switch {
		case forwards && at.Before(here):
			return here, last, true
		case !forwards && here.Before(at):
			from, to, ok = here, last, true // the last one before is wanted
		}
		i++
	}
}

// Mouse is one mouse event over the screen, as a program that asked for it is
// told.
type Mouse struct {
	X, Y             int // the cell, from 0
	Button           int // 0 left, 1 middle, 2 right, 4 wheel up, 5 wheel down; -1 none
	Release, Motion  bool
	Shift, Alt, Ctrl bool
}

// Encode is what a mouse event sends, nothing where the program has not asked for
// it. The older form has no room for cells beyond 222.
func (e Mouse) Encode(m Modes) []byte {
	switch {
	case m.Mouse == 0,
		e.Motion && m.Mouse == 1000,
		e.Motion && e.Button < 0 && m.Mouse < 1003:
		return nil
	}
	code := e.Button
	switch {
	case e.Button < 0:
		code = 3
	case e.Button >= 4:
		code = 64 + e.Button - 4
	}
	if e.Motion {
		code += 32
	}
	for _, held := range []struct {
		is   bool
		adds int
	}{{e.Shift, 4}, {e.Alt, 8}, {e.Ctrl, 16}} {
		if held.is {
			code += held.adds
		}
	}
	if m.MouseSGR {
		final := byte('M')
		if e.Release {
			final = 'm'
		}
		return appendMouse(code, e.X+1, e.Y+1, final)
	}
	if e.X > 222 || e.Y > 222 {
		return nil
	}
	if e.Release {
		code = code&^3 | 3
	}
	return []byte{0x1b, '[', 'M', byte(32 + code), byte(33 + e.X), byte(33 + e.Y)}
}
