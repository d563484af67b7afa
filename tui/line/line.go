// Package line is one line that text is typed into, in the look of the program.
package line

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/tui/theme"
)

// Line takes typing and pasting, and draws itself. Its methods are for the interface's
// goroutine.
type Line struct {
	theme    *theme.Theme
	input    textinput.Model
	proposed bool   // what stands in it was proposed, and typing takes its place
	hidden   bool   // what is typed is kept apart, and drawn as dots
	secret   []byte // what was typed hidden; it never grows out of its place
}

// maxSecret is how long what is typed hidden may be, in bytes.
const maxSecret = 1024

// New returns an empty line that takes keys, with a prompt that may be "".
func New(t *theme.Theme, prompt string) *Line {
	l := &Line{theme: t, input: textinput.New()}
	l.input.Prompt = prompt
	l.input.SetVirtualCursor(true)
	l.input.Focus()
	return l
}

// Hide has what is typed drawn as dots, and kept where it can be wiped.
func (l *Line) Hide() *Line {
	l.hidden, l.secret = true, make([]byte, 0, maxSecret)
	return l
}

// Begin puts a text into the line to be edited, the cursor behind it.
func (l *Line) Begin(text string) {
	l.Wipe()
	l.proposed = false
	l.input.SetValue(text)
	l.input.CursorEnd()
	l.input.Focus()
}

// Propose puts a text into the line that is taken as it is, edited, or replaced by what is
// typed first.
func (l *Line) Propose(text string) {
	l.Begin(text)
	l.proposed = text != ""
}

// Text is what stands in the line; of a hidden one it is a copy that cannot be wiped, see
// [Line.Secret].
func (l *Line) Text() string {
	if l.hidden {
		return string(l.secret)
	}
	return l.input.Value()
}

// Secret is what was typed hidden, for whoever wipes it. The line is empty after it.
func (l *Line) Secret() []byte {
	typed := append([]byte(nil), l.secret...)
	l.Wipe()
	return typed
}

// Peek is what was typed hidden so far, to be looked at and not kept.
func (l *Line) Peek() []byte { return l.secret }

// Wipe empties the line of what was typed hidden.
func (l *Line) Wipe() {
	if l.hidden {
		clear(l.secret[:cap(l.secret)])
		l.secret = l.secret[:0]
		l.dots()
	}
}

// Cursor is where the cursor stands, in runes; SetCursor moves it.
func (l *Line) Cursor() int         { return l.input.Position() }
func (l *Line) SetCursor(runes int) { l.input.SetCursor(runes) }

// Focus has the line show its cursor, Blur not.
func (l *Line) Focus() { l.input.Focus() }
func (l *Line) Blur()  { l.input.Blur() }

// Take takes a key or what was pasted.
func (l *Line) Take(msg tea.Msg) {
	if l.hidden {
		l.takeHidden(msg)
		return
	}
	if l.proposed {
		key, pressed := msg.(tea.KeyPressMsg)
		_, pasted := msg.(tea.PasteMsg)
		if pasted || pressed && key.Text != "" {
			l.input.SetValue("")
		}
		l.proposed = l.proposed && !pasted && !pressed
	}
	focused := l.input.Focused()
	l.input.Focus()
	l.input, _ = l.input.Update(msg)
	if !focused {
		l.input.Blur()
	}
}

// takeHidden takes what is typed at the end of a hidden line; nobody sees where else.
func (l *Line) takeHidden(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.PasteMsg:
		l.add(strings.TrimRight(msg.Content, "\r\n"))
	case tea.KeyPressMsg:
		switch msg.String() {
		case "backspace", "ctrl+h":
			_, size := utf8.DecodeLastRune(l.secret)
			left := len(l.secret) - size
			clear(l.secret[left:])
			l.secret = l.secret[:left]
		case "ctrl+u", "ctrl+w":
			l.Wipe()
		default:
			l.add(msg.Text)
		}
	}
	l.dots()
}

func (l *Line) add(text string) {
	for _, r := range text {
		if unicode.IsControl(r) || len(l.secret)+utf8.RuneLen(r) > cap(l.secret) {
			continue
		}
		l.secret = utf8.AppendRune(l.secret, r)
	}
}

// dots has the line show one for each rune.
func (l *Line) dots() {
	l.input.SetValue(strings.Repeat("•", utf8.RuneCount(l.secret)))
	l.input.CursorEnd()
}

// View draws the line in a width, in columns.
func (l *Line) View(width int) string {
	l.theme.Input(&l.input, l.proposed)
	l.input.SetWidth(max(width, 8))
	return l.input.View()
}
