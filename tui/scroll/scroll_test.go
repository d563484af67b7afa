package scroll

import (
	"testing"

	tea "charm.land/bubbletea/v2"
)

func TestTheCursorStaysInTheListAndInView(t *testing.T) {
	var c Cursor
	for i, step := range []struct {
		msg     tea.Msg
		at, top int
		taken   bool
	}{
		{tea.KeyPressMsg{Code: tea.KeyUp}, 0, 0, true},
		{tea.KeyPressMsg{Code: tea.KeyEnd}, 9, 6, true},
		{tea.KeyPressMsg{Code: 'k', Text: "k"}, 8, 6, true},
		{tea.KeyPressMsg{Code: tea.KeyPgUp}, 4, 4, true},
		{tea.MouseWheelMsg{Button: tea.MouseWheelDown}, 7, 4, true},
		{tea.KeyPressMsg{Code: 'x', Text: "x"}, 7, 4, false},
		{tea.KeyPressMsg{Code: tea.KeyHome}, 0, 0, true},
	} {
		if taken := c.Take(step.msg, 10, 4); taken != step.taken || c.At != step.at || c.Top != step.top {
			t.Errorf("step %d: at %d from %d, taken %v; want %d from %d", i, c.At, c.Top, taken, step.at, step.top)
		}
	}
	c.At = 9
	if c.Move(0, 3, 4); c.At != 2 {
		t.Errorf("in a shorter list it is at %d", c.At)
	}
}
