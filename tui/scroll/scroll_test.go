package scroll

import (
	"fmt"
	"strings"
	"testing"

	"meatus/tui/fit"

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

func TestTheChosenRowIsWhole(t *testing.T) {
	row := func(i int) fit.Row { return fit.Hang(fmt.Sprintf("%02d %s", i, strings.Repeat("word ", 8)), 3, 20) }
	for at := range 10 {
		c := Cursor{At: at}
		lines, below := c.Rows(10, 6, row)
		text := strings.Join(lines, "\n")
		if len(lines) > 6 || strings.Count(text, "word") < 8 || !strings.Contains(text, fmt.Sprintf("%02d", at)) {
			t.Errorf("at %d:\n%s", at, text)
		}
		if last := lines[len(lines)-1]; below > 0 && strings.HasPrefix(last, "09") {
			t.Errorf("at %d %d are told to be below the last", at, below)
		}
	}
	long := func(int) fit.Row { return fit.Hang(strings.Repeat("word ", 400), 3, 20) }
	if lines, _ := (Cursor{}).Rows(3, 6, long); len(lines) > 6 || !strings.HasSuffix(lines[2], "…") {
		t.Errorf("one that is longer than the room:\n%s", strings.Join(lines, "\n"))
	}
	if lines, below := (Cursor{At: 4}).Rows(0, 6, long); lines != nil || below != 0 {
		t.Errorf("of nothing: %q", lines)
	}
}
