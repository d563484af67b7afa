// Package sheet is the session sheet: every value of a session with where it
// comes from and what it would be without it, edited in place. Each accepted
// change is saved by itself; there is no unsaved state.
package sheet

import (
	"fmt"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Left says that the sheet was put away.
type Left struct{}

// Changed says that the sessions file was written.
type Changed struct {
	Book *book.Book
	Say  string
	// Session is the one to show now, "" for the same.
	Session string
}

// refused says why a value was not taken.
type refused struct{ err error }

// Model is the sheet.
type Model struct {
	theme   *theme.Theme
	ws      *workspace.Workspace
	session string
	width   int
	cursor  int
	editing bool
	naming  string // what a name is asked for: "rename" or "copy", else ""
	remove  bool   // removing is asked about
	began   string // the value when editing it began
	input   textinput.Model
	note    string
	bad     bool // the note is a refusal
}

// hints are what a value can be, shown while it is edited.
var hints = map[string]string{
	"site": "a site of the file", "host": "a name or an address, alone", "port": "1 to 65535", "user": "the login",
	"key": "key files, parted by commas", "via": "sessions to go through, in order, parted by commas",
	"dial": "address:port to knock at instead", "keepalive": "1s to 1h, or off", "agent": "off or lend",
}

// New returns the sheet of a session.
func New(ws *workspace.Workspace, session string, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, ws: ws, session: session, width: width, input: textinput.New(), cursor: 1}
	m.input.Prompt = ""
	m.input.SetVirtualCursor(true)
	t.Input(&m.input)
	return m
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	t.Input(&m.input)
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// Show shows the sheet of another session.
func (m *Model) Show(session string) { m.session = session }

// SetWorkspace shows another reading of the workspace. It tells whether the
// session is still there.
func (m *Model) SetWorkspace(ws *workspace.Workspace, say string) bool {
	m.ws, m.note, m.bad = ws, say, false
	s := ws.Book.Session(m.session)
	if s == nil {
		return false
	}
	if now, _ := s.Text(m.field()); m.editing && now != m.began {
		m.note = fmt.Sprintf("%s became %q outside: enter writes yours, esc keeps that", m.field(), now)
	}
	return true
}

func (m *Model) field() string { return book.Fields[m.cursor] }

// Update takes a message. It returns what is asked of the frame, or nil, and
// what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case refused:
		m.note, m.bad = msg.err.Error(), true
		return nil, nil
	case tea.KeyPressMsg:
		switch {
		case m.editing || m.naming != "":
			return nil, m.edit(msg)
		case m.remove:
			m.remove = false
			m.note = ""
			if msg.String() == "enter" {
				session := m.session
				return nil, m.write("removed "+session, "", func(path string) (*book.Book, error) { return book.Remove(path, session) })
			}
			return nil, nil
		}
		return m.key(msg)
	case tea.PasteMsg:
		if m.editing || m.naming != "" {
			m.input, cmd = m.input.Update(msg)
		}
	}
	return nil, cmd
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg.String() {
	case "esc", "ctrl+c", "q":
		return Left{}, nil
	case "up", "k":
		m.cursor = max(m.cursor-1, 0)
	case "down", "j":
		m.cursor = min(m.cursor+1, len(book.Fields)-1)
	case "enter":
		value, origin := m.ws.Book.Session(m.session).Text(m.field())
		m.began = value
		if origin.Layer != book.InSession {
			value = ""
		}
		m.editing, m.note = true, ""
		m.input.SetValue(value)
		m.input.CursorEnd()
		m.input.Focus()
	case "backspace", "delete", "x":
		if _, origin := m.ws.Book.Session(m.session).Text(m.field()); origin.Layer == book.InSession {
			return nil, m.save("")
		}
	case "u":
		return nil, m.undo()
	case "r":
		m.ask("rename", m.session)
	case "y":
		m.ask("copy", m.session+"-2")
	case "D":
		m.remove, m.bad = true, false
		m.note = fmt.Sprintf("remove %s? enter removes it, any other key keeps it", m.session)
	}
	return nil, nil
}

// ask asks for a name.
func (m *Model) ask(what, proposed string) {
	m.naming, m.note, m.bad = what, "", false
	m.input.SetValue(proposed)
	m.input.CursorEnd()
	m.input.Focus()
}

func (m *Model) edit(msg tea.KeyPressMsg) (cmd tea.Cmd) {
	switch msg.String() {
	case "esc", "ctrl+c":
		m.editing, m.naming, m.note = false, "", ""
		return nil
	case "enter":
		what, name, old := m.naming, m.input.Value(), m.session
		m.editing, m.naming = false, ""
		switch what {
		case "rename":
			return m.write("renamed "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Rename(path, old, name) })
		case "copy":
			return m.write("copied "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Copy(path, old, name) })
		}
		return m.save(name)
	}
	m.input, cmd = m.input.Update(msg)
	return cmd
}

// save writes one value; "" gives it up for the inherited one.
func (m *Model) save(value string) tea.Cmd {
	session, key := m.session, m.field()
	return m.write(key+" is saved", "", func(path string) (*book.Book, error) { return book.Set(path, session, key, value) })
}

// write does one edit of the file. show is the session to show then, "" for the
// same.
func (m *Model) write(say, show string, edit func(path string) (*book.Book, error)) tea.Cmd {
	path := m.ws.SessionsPath()
	return func() tea.Msg {
		b, err := edit(path)
		if b == nil {
			return refused{err}
		}
		if err != nil {
			say = err.Error()
		}
		return Changed{b, say, show}
	}
}

func (m *Model) undo() tea.Cmd {
	path := m.ws.SessionsPath()
	return func() tea.Msg {
		what, b, err := book.Undo(path)
		if b == nil {
			return refused{err}
		}
		return Changed{Book: b, Say: "undone: " + what}
	}
}

// View draws the sheet in height lines.
func (m *Model) View(height int) []string {
	t := m.theme
	s := m.ws.Book.Session(m.session)
	if s == nil {
		return nil
	}
	far := m.ws.Book.Far(m.session)
	note := t.Faint.Render("each change is saved by itself")
	if m.note != "" {
		note = t.Accent.Render(m.note)
	}
	if m.bad {
		note = ""
	}
	lines := []string{t.Title(t.Accent.Render("session sheet")+t.Rule.Render(" ─ ")+t.Strong.Render(s.Name), note, m.width, fit.Spread)}
	if m.naming != "" {
		m.input.SetWidth(40)
		lines = append(lines, "   "+t.Accent.Render(m.naming+" to ")+m.input.View())
	}
	value := max(min(m.width-44, 44), 24)
	for i, key := range book.Fields {
		text, origin := s.Text(key)
		pointer, name := "  ", t.Faint.Render(fit.Pad(key, 10))
		if i == m.cursor {
			pointer, name = t.Accent.Render("❯ "), t.Strong.Render(fit.Pad(key, 10))
		}
		if i == m.cursor && m.editing {
			m.input.SetWidth(value - 2)
			lines = append(lines, " "+pointer+name+" "+fit.Pad(m.input.View(), value)+" "+t.Faint.Render(hints[key]))
			continue
		}
		own := origin.Layer == book.InSession
		from := t.Faint.Render("from " + origin.String())
		if origin.Layer == book.BuiltIn {
			from = t.Faint.Render(origin.String())
		}
		style := t.Text
		switch {
		case text == "":
			text, style, from = "–", t.Faint, ""
		case own:
			style, from = t.Strong, m.without(&far, key)
		}
		lines = append(lines, " "+pointer+name+" "+fit.Pad(style.Render(fit.Cut(text, value-1)), value)+" "+from)
	}
	switch {
	case m.bad:
		for _, l := range fit.Wrap(m.note, m.width-8) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
	case s.Broken != nil:
		for _, l := range fit.Wrap(s.Broken.Error(), m.width-8) {
			lines = append(lines, "   "+t.Mark(gate.Shut)+" "+l)
		}
	}
	return lines[:min(len(lines), height)]
}

// without says what a value of the session's own hides.
func (m *Model) without(far *book.Settings, key string) string {
	text, origin := far.Text(key)
	if text == "" {
		return ""
	}
	return m.theme.Faint.Render(fmt.Sprintf("without it %s, %s", text, origin))
}

// Hints are the sheet's keys.
func (m *Model) Hints() []theme.Hint {
	if m.editing || m.naming != "" {
		return []theme.Hint{{Key: "enter", Does: "save"}, {Key: "esc", Does: "leave it as it is"}}
	}
	return []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "enter", Does: "edit"}, {Key: "x", Does: "inherit"}, {Key: "r", Does: "rename"}, {Key: "y", Does: "copy"}, {Key: "D", Does: "remove"}, {Key: "u", Does: "undo"}, {Key: "esc", Does: "close"}}
}
