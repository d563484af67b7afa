// Package mistakes lists every mistake of the sessions file, with where it is and what to do.
package mistakes

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Model is the list.
type Model struct {
	stack.Base
	s      *place.Services
	all    []book.Problem
	at     scroll.Cursor
	height int
}

// New returns the list of the sessions as they are.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, all: s.Workspace().Book.Problems, height: 6}
}

// SetSize changes the room of the list.
func (m *Model) SetSize(columns, rows int) {
	m.Base.SetSize(columns, rows)
	m.height = max(rows-1, 1)
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	again := m.s.Reread
	return action.Table{
		action.On("esc ctrl+c q enter", "close", func() tea.Cmd { m.s.Close(); return nil }),
		action.On("up down", "the rest", nil).If(func() bool { return len(m.all) > 1 }, "").Ranked(action.Movement),
		action.On("r", "read the file again", func() tea.Cmd { return m.s.Run(func() tea.Msg { again(); return nil }) }),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case place.Heard:
		if c, ok := msg.Event.(engine.Changed); ok {
			m.all = c.Workspace.Book.Problems
			if len(m.all) == 0 {
				m.s.Close()
			}
			m.at.Move(0, len(m.all), m.height)
		}
	case tea.KeyPressMsg:
		m.at.Take(msg, len(m.all), m.height)
	}
	return nil
}

// View draws the mistakes, from the chosen one on, in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t := m.s.Theme
	lines := []string{t.Title(t.Verdict(gate.Shut).Render("mistakes")+t.Rule.Render(" ─ ")+t.Strong.Render(m.s.Workspace().SessionsPath()), t.Faint.Render(fmt.Sprintf("%d of %d", min(m.at.At+1, len(m.all)), len(m.all))), width, fit.Spread)}
	for i := m.at.At; i < len(m.all) && len(lines) < height; i++ {
		p := m.all[i]
		mark := "  "
		if i == m.at.At {
			mark = t.Accent.Render(theme.Chosen + " ")
		}
		head := fmt.Sprintf("line %d, column %d", p.Line, p.Column)
		if p.Session != "" {
			head += ", " + p.Session
		}
		lines = append(lines, fit.Cut("   "+mark+t.Strong.Render(head), width))
		for _, text := range []string{p.Say, p.Hint} {
			if text == "" {
				continue
			}
			for _, l := range fit.Wrap(text, width-10) {
				lines = append(lines, "       "+l)
			}
		}
	}
	return lines[:min(len(lines), height)]
}
