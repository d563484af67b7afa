// Package line is one line that text is typed into, in the look of the program.
package line

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/tui/theme"
)

// Line takes typing and pasting, and draws itself. Its methods are for the interface's
// goroutine.
type Line struct {
	theme *theme.Theme
	input textinput.Model
}

// New returns an empty line that takes keys, with a prompt that may be "".
func New(t *theme.Theme, prompt string) *Line {
	l := &Line{theme: t, input: textinput.New()}
	l.input.Prompt = prompt
	l.input.SetVirtualCursor(true)
	l.input.Focus()
	return l
}

// Hide has what is typed drawn as dots.
func (l *Line) Hide() *Line {
	l.input.EchoMode, l.input.EchoCharacter = textinput.EchoPassword, '•'
	return l
}

// Begin puts a proposed text into the line, the cursor behind it.
func (l *Line) Begin(proposed string) {
	l.input.SetValue(proposed)
	l.input.CursorEnd()
	l.input.Focus()
}

// Text is what stands in the line.
func (l *Line) Text() string { return l.input.Value() }

// Cursor is where the cursor stands, in runes; SetCursor moves it.
func (l *Line) Cursor() int         { return l.input.Position() }
func (l *Line) SetCursor(runes int) { l.input.SetCursor(runes) }

// Focus has the line show its cursor, Blur not.
func (l *Line) Focus() { l.input.Focus() }
func (l *Line) Blur()  { l.input.Blur() }

// Take takes a key or what was pasted.
func (l *Line) Take(msg tea.Msg) {
	focused := l.input.Focused()
	l.input.Focus()
	l.input, _ = l.input.Update(msg)
	if !focused {
		l.input.Blur()
	}
}

// View draws the line in a width, in columns.
func (l *Line) View(width int) string {
	l.theme.Input(&l.input)
	l.input.SetWidth(max(width, 8))
	return l.input.View()
}
