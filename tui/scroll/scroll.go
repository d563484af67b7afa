// Package scroll is a cursor in a list that may be longer than its room.
package scroll

import (
	tea "charm.land/bubbletea/v2"

	"meatus/tui/fit"
)

// Cursor is where a person is in a list, and which line of it is shown first.
type Cursor struct {
	At, Top int
}

// Move moves by lines in a list of n, of which room are shown.
func (c *Cursor) Move(by, n, room int) {
	c.At = max(min(c.At+by, n-1), 0)
	c.Top = max(min(c.Top, c.At), c.At-room+1)
}

// Window is which of n lines a view shows that has room for some: from, and up to but
// not with, another. The cursor is among them.
func (c Cursor) Window(n, room int) (from, to int) {
	c.Move(0, n, max(room, 1))
	return c.Top, min(c.Top+room, n)
}

// Rows are the lines of a list of n rows that a view shows in its room, and how many rows are below
// them. The chosen row is whole, with at most half of the room; the others where there are lines to
// spare.
func (c Cursor) Rows(n, room int, row func(i int) fit.Row) (lines []string, below int) {
	if n == 0 {
		return nil, 0
	}
	c.Move(0, n, max(room, 1))
	chosen := row(c.At)
	if most := max(room/2, 1); len(chosen.Whole) > most {
		chosen.Whole = append([]string{}, chosen.Whole[:most]...)
		chosen.Whole[most-1] = fit.Cut(chosen.Whole[most-1], fit.Width(chosen.Line)-1) + "…"
	}
	from, to := c.Window(n, room-len(chosen.Whole)+1)
	var rows []fit.Row
	for i := from; i < to; i++ {
		if i == c.At {
			rows = append(rows, chosen)
		} else {
			rows = append(rows, row(i))
		}
	}
	lines, _ = fit.Rows(rows, c.At-from, room)
	return lines, n - to
}

// Take moves as a key or a turn of the wheel says. It tells whether the message
// was one of those.
func (c *Cursor) Take(msg tea.Msg, n, room int) bool {
	by, ok := 0, true
	switch msg := msg.(type) {
	case tea.MouseMsg:
		by, ok = Wheel(msg)
		by *= 3
	case tea.KeyPressMsg:
		by, ok = map[string]int{"up": -1, "k": -1, "down": 1, "j": 1, "pgup": -room, "pgdown": room, "home": -n, "end": n}[msg.String()]
	default:
		ok = false
	}
	if ok {
		c.Move(by, n, room)
	}
	return ok
}

// Wheel is which way a mouse's wheel was turned, -1 for up; ok is false where it was
// not.
func Wheel(msg tea.MouseMsg) (by int, ok bool) {
	wheel, ok := msg.(tea.MouseWheelMsg)
	if !ok {
		return 0, false
	}
	by, ok = map[tea.MouseButton]int{tea.MouseWheelUp: -1, tea.MouseWheelDown: 1}[wheel.Button]
	return by, ok
}
