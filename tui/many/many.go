// Package many does something with several sessions at once: a value that is set in all of
// them, shown before it is written, and a command that is run at each, with what came of it
// side by side.
package many

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Change sets one value of several sessions.
type Change struct {
	stack.Base
	s     *place.Services
	names []string
	input *line.Line
	at    scroll.Cursor
	note  string
}

// NewChange returns a change of sessions by name.
func NewChange(s *place.Services, names []string) stack.Layer {
	return &Change{s: s, names: names, input: line.New(s.Theme, "")}
}

// wrote says that a change was written, refused why it was not.
type (
	wrote   struct{ say string }
	refused struct{ err error }
)

// Typing tells that keys go into the value.
func (m *Change) Typing() bool { return true }

// typed is what is typed: a key, and a value behind the first "=".
func (m *Change) typed() (key, value string, whole bool) {
	key, value, whole = strings.Cut(m.input.Text(), "=")
	return strings.TrimSpace(key), strings.TrimSpace(value), whole
}

// wrong says what is wrong with what is typed, "" where nothing is.
func (m *Change) wrong() string {
	key, value, whole := m.typed()
	switch hint := book.HintOf(key); {
	case !known(key) && whole:
		say := fmt.Sprintf("there is no setting %q", key)
		if near := book.Nearest(key, book.Fields); near != "" {
			say += fmt.Sprintf("; did you mean %s?", near)
		}
		return say
	case !whole && known(key):
		return hint
	case !whole:
		return "one of " + strings.Join(beginning(key), ", ")
	}
	return m.s.Workspace().Book.WrongValue(book.InSession, key, value)
}

func known(key string) bool {
	for _, field := range book.Fields {
		if field == key {
			return true
		}
	}
	return false
}

// beginning are the keys that begin like what is typed, all where none does.
func beginning(typed string) []string {
	var all []string
	for _, field := range book.Fields {
		if strings.HasPrefix(field, typed) {
			all = append(all, field)
		}
	}
	if len(all) == 0 {
		return book.Fields
	}
	return all
}

// Table is what can be done.
func (m *Change) Table() action.Table {
	_, _, whole := m.typed()
	return action.Table{
		action.On("enter", "write it", m.write).If(func() bool { return whole && m.wrong() == "" }, "what is typed is not whole"),
		action.On("tab", "complete", m.complete).If(func() bool { return !whole }, "it is whole"),
		action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.s.Close(); return nil }),
		action.On("up down", "the rest", nil).If(func() bool { return len(m.names) > 6 }, "").Ranked(action.Movement),
	}
}

// complete completes the key.
func (m *Change) complete() tea.Cmd {
	key, _, whole := m.typed()
	if all := beginning(key); !whole && len(all) > 0 && strings.HasPrefix(all[0], key) {
		m.input.Begin(all[0] + "=")
	}
	return nil
}

// write writes the value, as one edit.
func (m *Change) write() tea.Cmd {
	key, value, _ := m.typed()
	names, path, adopt, record, press := m.names, m.s.Workspace().SessionsPath(), m.s.Adopt, m.s.Record, m.s.Press("undo")
	return m.s.Run(func() tea.Msg {
		b, err := book.SetAll(path, names, []book.Setting{{Key: key, Value: value}})
		if b == nil {
			return refused{err}
		}
		say := fmt.Sprintf("%s of %s is written; %s takes it back", key, words.Count(len(names), "session"), press)
		if err != nil {
			say += "; " + err.Error()
		}
		adopt(b, names[0], say)
		record(trail.Entry{Kind: trail.Edit, Say: fmt.Sprintf("%s of %s", key, strings.Join(names, ", "))})
		return wrote{say}
	})
}

// Update takes a message.
func (m *Change) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case refused:
		m.note = msg.err.Error()
	case wrote:
		m.s.Close()
		m.s.Notice(msg.say)
	case tea.KeyPressMsg, tea.PasteMsg:
		if m.note = ""; !m.at.Take(arrows(msg), len(m.names), 6) {
			m.input.Take(msg)
		}
	}
	return nil
}

// arrows are the keys that move in a list while something is typed; letters do not.
func arrows(msg tea.Msg) tea.Msg {
	if key, ok := msg.(tea.KeyPressMsg); ok && key.Text == "" && key.String() != "home" && key.String() != "end" {
		return msg
	}
	return nil
}

// View draws the value, and what it would change of each session.
func (m *Change) View() []string {
	width, height := m.Columns, m.Rows
	t, b := m.s.Theme, m.s.Workspace().Book
	lines := []string{t.Title(t.Accent.Render("change the marked")+t.Rule.Render(" ─ ")+t.Strong.Render(words.Count(len(m.names), "session")), t.Faint.Render("one edit; "+m.s.Press("undo")+" takes it back"), width, fit.Spread),
		"   " + t.Accent.Render("key=value ") + m.input.View(max(width-16, 12))}
	key, value, whole := m.typed()
	say := t.Faint.Render("   " + m.wrong())
	if whole && m.wrong() != "" {
		say = "   " + t.Verdict(gate.Shut).Render("╰ "+m.wrong())
	} else if power := book.Power(key, value); power != "" && whole {
		say = "   " + t.Verdict(gate.Ajar).Render(theme.Ajar+" it "+power)
	}
	if m.note != "" {
		say = "   " + t.Verdict(gate.Shut).Render(m.note)
	}
	lines = append(lines, fit.Wrap(say, width-2)...)
	if !known(key) {
		return lines[:min(len(lines), height)]
	}
	from, to := m.at.Window(len(m.names), max(height-len(lines), 1))
	for _, name := range m.names[from:to] {
		session := b.Session(name)
		if session == nil {
			continue
		}
		was, origin := session.Text(key)
		line := fit.Pad(name, 16) + "  " + t.Faint.Render(or(was, "–")+", "+origin.String())
		switch {
		case !whole || m.wrong() != "":
		case value == "":
			far := b.Far(name)
			now, origin := far.Text(key)
			line += t.Accent.Render(" → ") + t.Strong.Render(or(now, "–")) + t.Faint.Render(", "+origin.String())
		case was == value && origin.Layer() == book.InSession:
			line += t.Faint.Render("  as it is")
		default:
			line += t.Accent.Render(" → ") + t.Strong.Render(value)
		}
		lines = append(lines, fit.Hang("     "+line, 7, width).Whole...)
	}
	return lines[:min(len(lines), height)]
}

func or(text, other string) string {
	if text == "" {
		return other
	}
	return text
}
