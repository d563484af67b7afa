package shells

import (
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/term"
)

func TestKeysReachTheTerminalAsWhatTheyAre(t *testing.T) {
	for _, c := range []struct {
		msg  tea.KeyPressMsg
		want string
	}{
		{tea.KeyPressMsg{Code: 'a', Text: "a"}, "a"},
		{tea.KeyPressMsg{Code: 'A', Text: "A", Mod: tea.ModShift}, "A"},
		{tea.KeyPressMsg{Code: 'é', Text: "é"}, "é"},
		{tea.KeyPressMsg{Code: 'c', Mod: tea.ModCtrl}, "\x03"},
		{tea.KeyPressMsg{Code: 'b', Mod: tea.ModAlt}, "\x1bb"},
		{tea.KeyPressMsg{Code: tea.KeyBackspace}, "\x7f"},
		{tea.KeyPressMsg{Code: tea.KeyDelete}, "\x1b[3~"},
		{tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}, " "},
		{tea.KeyPressMsg{Code: tea.KeyEnter}, "\r"},
		{tea.KeyPressMsg{Code: tea.KeyEscape}, "\x1b"},
		{tea.KeyPressMsg{Code: tea.KeyTab, Mod: tea.ModShift}, "\x1b[Z"},
		{tea.KeyPressMsg{Code: tea.KeyRight, Mod: tea.ModCtrl}, "\x1b[1;5C"},
		{tea.KeyPressMsg{Code: tea.KeyF12}, "\x1b[24~"},
	} {
		if got := string(toKey(c.msg).Encode(term.Modes{})); got != c.want {
			t.Errorf("%s sends %q, want %q", c.msg, got, c.want)
		}
	}
}

func TestRowsAreDrawnWithTheirStyles(t *testing.T) {
	s := term.New(20, 1, 0)
	s.Write([]byte("a\x1b[1;31mb\x1b[0;48;5;200mc\x1b[0;38;2;1;2;3;4:3md\x1b[0;8mx\x1b[0;95m海\x1b[m"))
	f := s.Frame(0, nil)
	var cache rowCache
	want := "a\x1b[0;1;31mb\x1b[0;48;5;200mc\x1b[0;4:3;38;2;1;2;3md\x1b[0m \x1b[0;95m海\x1b[m"
	for range 2 { // drawn, then from the cache
		if got := cache.render(f, f.Lines[0], "all"); got != want {
			t.Errorf("got  %q\nwant %q", got, want)
		}
	}
	if got := renderRow(f, &term.Row{Cells: make([]term.Cell, 20)}, "all"); got != "" {
		t.Errorf("a blank row is %q", got)
	}
}

func TestCursorShapes(t *testing.T) {
	for s, want := range map[term.CursorShape]tea.CursorShape{0: tea.CursorBlock, 2: tea.CursorBlock, 4: tea.CursorUnderline, 5: tea.CursorBar} {
		if got, _ := shape(s); got != want {
			t.Errorf("shape %d is %v, want %v", s, got, want)
		}
	}
}
