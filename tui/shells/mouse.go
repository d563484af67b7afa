package shells

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/term"
)

// wheelLines is how far one turn of the wheel scrolls.
const wheelLines = 3

// mouse gives a mouse event to the divide, to the program at the far side where
// it asked for it and shift is not held, or selects.
func (m *Model) mouse(msg tea.MouseMsg) (wish tea.Msg) {
	e := msg.Mouse()
	if m.moveDivide(msg, e) {
		return nil
	}
	if there := m.paneAt(e.X, e.Y); there != nil {
		if _, click := msg.(tea.MouseClickMsg); click {
			m.focusOn(there)
		}
	}
	r := m.here()
	e.X, e.Y = e.X-r.x, e.Y-r.y
	cell := term.Mouse{X: min(max(e.X, 0), r.width-1), Y: max(e.Y-1, 0)}
	f := m.shell.Frame()
	if f.Modes.Mouse != 0 && f.Back == 0 && m.mode == typing && !e.Mod.Contains(tea.ModShift) && e.Y > 0 && m.shell.Live() {
		m.passOn(msg, e, cell, f.Modes)
		return nil
	}
	at := term.Point{Row: f.First + min(cell.Y, f.Rows-1), Col: cell.X}
	switch msg.(type) {
	case tea.MouseWheelMsg:
		m.wheel(e.Button, f)
	case tea.MouseClickMsg:
		if e.Button == tea.MouseLeft && e.Y > 0 && m.mode == typing {
			m.press(at)
		}
	case tea.MouseMotionMsg:
		if m.drag {
			m.marked.to, m.marked.on = at, true
		}
	case tea.MouseReleaseMsg:
		if m.drag {
			m.drag = false
			if m.marked.on {
				return m.copy()
			}
		}
	}
	return nil
}

// press begins to select; twice soon after each other it takes the word.
func (m *Model) press(at term.Point) {
	again := time.Since(m.clicked) < 400*time.Millisecond && m.marked.from == at
	m.clicked, m.drag = time.Now(), true
	m.marked = span{from: at, to: at}
	if again {
		m.shell.With(func(screen *term.Screen) { m.marked.from, m.marked.to = screen.Word(at) })
		m.marked.on = true
	}
}

// moveDivide drags the divide between two shells. It tells whether the event was
// for it.
func (m *Model) moveDivide(msg tea.MouseMsg, e tea.Mouse) bool {
	switch msg.(type) {
	case tea.MouseClickMsg:
		m.divide = len(m.panes) == 2 && m.arrangement != belowEachOther && e.Button == tea.MouseLeft && e.X == m.leftWidth()
		return m.divide
	case tea.MouseMotionMsg:
		if m.divide && m.width > 0 {
			m.MoveDivide((e.X*100+m.width/2)/m.width - m.share)
		}
		return m.divide
	case tea.MouseReleaseMsg:
		was := m.divide
		m.divide = false
		return was
	}
	return false
}

var buttons = map[tea.MouseButton]int{tea.MouseLeft: 0, tea.MouseMiddle: 1, tea.MouseRight: 2, tea.MouseWheelUp: 4, tea.MouseWheelDown: 5}

// passOn tells the far side of a mouse event.
func (m *Model) passOn(msg tea.MouseMsg, e tea.Mouse, cell term.Mouse, modes term.Modes) {
	button, known := buttons[e.Button]
	if !known {
		button = -1
	}
	cell.Button, cell.Alt, cell.Ctrl = button, e.Mod.Contains(tea.ModAlt), e.Mod.Contains(tea.ModCtrl)
	switch msg.(type) {
	case tea.MouseReleaseMsg:
		cell.Release = true
	case tea.MouseMotionMsg:
		cell.Motion = true
	}
	m.send(cell.Encode(modes))
}

// wheel scrolls back; in a full-screen program, which has nothing to scroll back
// to, it presses the arrow keys.
func (m *Model) wheel(button tea.MouseButton, f *term.Frame) {
	by, key := wheelLines, term.Up
	if button == tea.MouseWheelDown {
		by, key = -wheelLines, term.Down
	} else if button != tea.MouseWheelUp {
		return
	}
	if !f.Alternate {
		m.scroll(by)
		return
	}
	for range wheelLines {
		m.send(term.Key{Special: key}.Encode(f.Modes))
	}
}
