// Package sheet is the session sheet: every value of a session with where it
// comes from and what it would be without it, edited in place; and beside it the
// sheets of the likes, the site and the defaults it takes values from. Each
// accepted change is saved by itself; there is no unsaved state.
package sheet

import (
	"fmt"
	"slices"
	"strings"
	"time"

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
	session string     // whose sheet was asked for
	at      book.Table // the table that shows: the session, or one it takes values from
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

// New returns the sheet of a session.
func New(ws *workspace.Workspace, session string, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, ws: ws, width: width, input: textinput.New(), cursor: 1}
	m.Show(session)
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
func (m *Model) Show(session string) {
	m.session, m.at = session, book.Table{Layer: book.InSession, Name: session}
}

// SetWorkspace shows another reading of the workspace. It tells whether the
// session is still there.
func (m *Model) SetWorkspace(ws *workspace.Workspace, say string) bool {
	m.ws, m.note, m.bad = ws, say, false
	if ws.Book.Session(m.session) == nil {
		return false
	}
	if _, ok := ws.Book.Own(m.at); !ok && m.at.Layer != book.InSession {
		m.Show(m.session)
	}
	m.cursor = min(m.cursor, len(m.fields())-1)
	if now, _ := m.text(m.field()); m.editing && now != m.began {
		m.note = fmt.Sprintf("%s became %q outside: enter writes yours, esc keeps that", m.field(), now)
	}
	return true
}

func (m *Model) fields() []string { return book.FieldsOf(m.at.Layer) }

func (m *Model) field() string { return m.fields()[m.cursor] }

// text is what the table has for a key, and where that is from.
func (m *Model) text(key string) (string, book.Origin) {
	if m.at.Layer == book.InSession {
		return m.ws.Book.Session(m.session).Text(key)
	}
	if key == "name" {
		return m.at.Name, book.Origin{Layer: book.InLike}
	}
	own, _ := m.ws.Book.Own(m.at)
	if value, origin := own.Text(key); origin.Layer != book.BuiltIn {
		return value, origin
	}
	return "", book.Origin{}
}

// next shows the next of the tables the session takes values from.
func (m *Model) next(by int) {
	tables := m.ws.Book.Tables(m.session)
	at := (max(slices.Index(tables, m.at), 0) + by + len(tables)) % len(tables)
	m.at, m.cursor, m.note, m.bad = tables[at], 0, "", false
}

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
				at := m.at
				return nil, m.write("removed "+at.String(), "", func(path string) (*book.Book, error) {
					if at.Layer == book.InSession {
						return book.Remove(path, at.Name)
					}
					return book.RemoveTable(path, at)
				})
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
		m.cursor = min(m.cursor+1, len(m.fields())-1)
	case "tab":
		m.next(1)
	case "shift+tab":
		m.next(-1)
	case "a":
		m.ask("add", "site ")
	case "enter":
		value, origin := m.text(m.field())
		m.began = value
		if origin.Layer != m.at.Layer {
			value = ""
		}
		m.editing, m.note = true, ""
		m.input.SetValue(value)
		m.input.CursorEnd()
		m.input.Focus()
	case "backspace", "delete", "x":
		if _, origin := m.text(m.field()); origin.Layer == m.at.Layer && m.field() != "name" {
			return nil, m.save("")
		}
	case "u":
		return nil, m.undo()
	case "r":
		if m.at.Layer == book.InSession || m.at.Layer == book.InSite {
			m.ask("rename", m.at.Name)
		}
	case "y":
		if m.at.Layer == book.InSession {
			m.ask("copy", m.session+"-2")
		}
	case "D":
		if m.at.Layer != book.InDefaults {
			m.remove, m.bad = true, false
			m.note = fmt.Sprintf("remove %s? enter removes it, any other key keeps it", m.at)
		}
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
		what, name, old, at := m.naming, m.input.Value(), m.session, m.at
		m.editing, m.naming = false, ""
		switch {
		case what == "rename" && at.Layer == book.InSite:
			return m.write("renamed "+at.String()+" to "+name, "", func(path string) (*book.Book, error) { return book.RenameSite(path, at.Name, name) })
		case what == "add":
			return m.add(name)
		case what == "rename":
			return m.write("renamed "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Rename(path, old, name) })
		case what == "copy":
			return m.write("copied "+old+" to "+name, name, func(path string) (*book.Book, error) { return book.Copy(path, old, name) })
		}
		return m.save(name)
	}
	m.input, cmd = m.input.Update(msg)
	return cmd
}

// save writes one value; "" gives it up for the inherited one.
func (m *Model) save(value string) tea.Cmd {
	at, key := m.at, m.field()
	if key == "name" && m.at.Layer == book.InLike {
		m.at.Name = value
	}
	say := key + " is saved"
	if at.Layer != book.InSession {
		say = fmt.Sprintf("%s of %s is saved", key, at)
	}
	return m.write(say, "", func(path string) (*book.Book, error) { return book.SetIn(path, at, key, value) })
}

// add writes a new "site NAME" or "like PATTERN".
func (m *Model) add(what string) tea.Cmd {
	kind, name, _ := strings.Cut(strings.TrimSpace(what), " ")
	layer, ok := map[string]book.Layer{"site": book.InSite, "like": book.InLike}[kind]
	if name = strings.TrimSpace(name); !ok || name == "" {
		m.note, m.bad = `write "site NAME" or "like PATTERN"`, true
		return nil
	}
	return m.write("added "+what, "", func(path string) (*book.Book, error) {
		return book.AddTable(path, book.Table{Layer: layer, Name: name})
	})
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
	lines := []string{t.Title(m.title(), note, m.width, fit.Spread)}
	if m.naming != "" {
		m.input.SetWidth(40)
		word := m.naming + " to "
		if m.naming == "add" {
			word = "add "
		}
		lines = append(lines, "   "+t.Accent.Render(word)+m.input.View())
	}
	value := max(min(m.width-44, 44), 24)
	fields := m.fields()
	room := height - len(lines)
	if m.bad || s.Broken != nil {
		room -= 2
	}
	first := max(min(m.cursor-room/2, len(fields)-room), 0)
	for i, key := range fields[first:min(first+max(room, 1), len(fields))] {
		i += first
		text, origin := m.text(key)
		pointer, name := "  ", t.Faint.Render(fit.Pad(key, 10))
		if i == m.cursor {
			pointer, name = t.Accent.Render("❯ "), t.Strong.Render(fit.Pad(key, 10))
		}
		if i == m.cursor && m.editing {
			m.input.SetWidth(value - 2)
			say := t.Faint.Render(book.HintOf(key))
			if wrong := m.ws.Book.WrongValue(m.at.Layer, key, m.input.Value()); wrong != "" {
				say = t.Verdict(gate.Shut).Render("╰ " + wrong)
			}
			lines = append(lines, fit.Cut(" "+pointer+name+" "+fit.Pad(m.input.View(), value)+" "+say, m.width))
			continue
		}
		own := origin.Layer == m.at.Layer
		from := t.Faint.Render("from " + origin.String())
		if origin.Layer == book.BuiltIn {
			from = t.Faint.Render(origin.String())
		}
		style := t.Text
		if key == "keepalive" {
			from += t.Faint.Render(cost(text))
		}
		switch {
		case text == "":
			text, style, from = "–", t.Faint, ""
		case own:
			style, from = t.Strong, m.without(&far, key)
			if key == "keepalive" {
				from += t.Faint.Render(strings.TrimPrefix(cost(text), "; "))
			}
		}
		if i-first == room-1 && i < len(fields)-1 {
			from = fit.Pad(from, max(m.width-value-30, 10)) + t.Faint.Render("more below")
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

// keepaliveBytes is about what one keepalive and its answer take on the wire, with
// the headers of TCP and IP.
const keepaliveBytes = 250

// cost says what a keepalive costs.
func cost(every string) string {
	d, err := time.ParseDuration(every)
	if err != nil || d <= 0 {
		return ""
	}
	return fmt.Sprintf("; costs %s an hour", fit.Bytes(keepaliveBytes*float64(time.Hour)/float64(d)))
}

// title names the table that shows, and the others that can.
func (m *Model) title() string {
	t := m.theme
	kind := map[book.Layer]string{book.InSession: "session sheet", book.InSite: "site sheet", book.InLike: "like sheet", book.InDefaults: "defaults"}[m.at.Layer]
	title := t.Accent.Render(kind) + t.Rule.Render(" ─ ")
	if m.at.Layer == book.InSession {
		return title + t.Strong.Render(m.session)
	}
	members := m.ws.Book.Members(m.at)
	title += t.Strong.Render(m.at.Name) + t.Faint.Render(fmt.Sprintf(" gives values to %d", len(members)))
	if len(members) > 0 {
		title += t.Faint.Render(": " + fit.Cut(strings.Join(members, ", "), max(m.width/3, 10)))
	}
	return title
}

// without says what a value of the session's own hides.
func (m *Model) without(far *book.Session, key string) string {
	if m.at.Layer != book.InSession {
		return ""
	}
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
	return []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "enter", Does: "edit"}, {Key: "x", Does: "inherit"}, {Key: "esc", Does: "close"}, {Key: "u", Does: "undo"}, {Key: "tab", Does: "site, likes"}, {Key: "r", Does: "rename"}, {Key: "y", Does: "copy"}, {Key: "D", Does: "remove"}, {Key: "a", Does: "add site"}}
}
