package line

import (
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/lab/memory"
	"meatus/tui/theme"
)

// types presses keys for a text, none of which holds more than one letter.
func types(l *Line, text string) {
	for _, r := range text {
		l.Take(tea.KeyPressMsg{Code: r, Text: string(r)})
	}
}

func TestWhatIsTypedHiddenIsDotsAndCanBeWiped(t *testing.T) {
	l := New(theme.New(true), "› ").Hide()
	var masked []byte
	for i := range 40 { // a passphrase that stands nowhere else
		c := byte('a' + (i*11+i*i)%26)
		masked = append(masked, c^memory.Mask)
		types(l, string(rune(c)))
	}
	if got := ansi.Strip(l.View(60)); strings.Count(got, "•") != 40 || strings.ContainsAny(got, "abcdefghijklmnopqrstuvwxyz") {
		t.Errorf("it shows %q", got)
	}
	if n := memory.Count(t, masked); n != 1 {
		t.Errorf("what is being typed is in memory %d times", n)
	}
	typed := l.Secret()
	if len(typed) != 40 || len(l.Peek()) != 0 || strings.Contains(l.View(60), "•") {
		t.Errorf("%d bytes were typed", len(typed))
	}
	clear(typed)
	if n := memory.Count(t, masked); n != 0 {
		t.Errorf("what was typed is in memory %d times after it was used", n)
	}
}

func TestAHiddenLineIsEditedAtItsEnd(t *testing.T) {
	l := New(theme.New(true), "").Hide()
	types(l, "ebbé")
	l.Take(tea.KeyPressMsg{Code: tea.KeyBackspace})
	l.Take(tea.KeyPressMsg{Code: tea.KeyLeft})
	l.Take(tea.PasteMsg{Content: " and\x1b flow\r\n"})
	if got := l.Text(); got != "ebb and flow" {
		t.Errorf("%q", got)
	}
	l.Take(tea.PasteMsg{Content: strings.Repeat("x", 2*maxSecret)})
	if n := len(l.Peek()); n != maxSecret {
		t.Errorf("%d bytes were taken", n)
	}
	l.Take(tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
	if n := len(l.Secret()); n != 0 {
		t.Errorf("%d bytes are left", n)
	}
}

func TestAProposedTextIsReplacedByTypingAndKeptOtherwise(t *testing.T) {
	for what, c := range map[string]struct {
		do   func(*Line)
		want string
	}{
		"taken as it is":   {func(*Line) {}, "new.pem"},
		"replaced":         {func(l *Line) { types(l, "tide") }, "tide"},
		"replaced by text": {func(l *Line) { l.Take(tea.PasteMsg{Content: "ebb.pem"}) }, "ebb.pem"},
		"edited":           {func(l *Line) { l.Take(tea.KeyPressMsg{Code: tea.KeyBackspace}); types(l, "x") }, "new.pex"},
		"gone through":     {func(l *Line) { l.Take(tea.KeyPressMsg{Code: tea.KeyHome}); types(l, "a-") }, "a-new.pem"},
	} {
		l := New(theme.New(true), "")
		l.Propose("new.pem")
		if c.do(l); l.Text() != c.want {
			t.Errorf("%s: %q", what, l.Text())
		}
	}
	l := New(theme.New(true), "")
	l.Begin("keys/")
	if types(l, "x"); l.Text() != "keys/x" {
		t.Errorf("a text to be edited: %q", l.Text())
	}
}
