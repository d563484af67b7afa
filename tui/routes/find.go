package routes

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/tui/action"
	"meatus/tui/line"
	"meatus/tui/match"
	"meatus/tui/theme"
)

// viaPrefix, before a session's name, finds those whose way goes through that session.
const viaPrefix = "via "

// find narrows the board to the sessions that match what is typed.
type find struct {
	on     bool       // the board is narrowed
	typing bool       // keys go into the text
	line   *line.Line // what is looked for
	pool   []string   // for each session what is matched, made when first needed
	found  []int      // sessions, the best match first
}

func newFindLine(t *theme.Theme) *line.Line { return line.New(t, "") }

// findTable is what can be done while something is looked for.
func (m *Model) findTable() action.Table {
	move := func(by int) func() tea.Cmd { return func() tea.Cmd { m.step(by); return nil } }
	return action.Table{
		action.On("up", "choose", move(-1)).As("↑↓").Ranked(action.Movement),
		action.On("down", "", move(1)).Ranked(action.Hidden),
		action.On("enter", "open shell", func() tea.Cmd { m.find.typing = false; return m.enter() }),
		action.On("tab", "to the board", func() tea.Cmd { m.find.typing = false; return nil }),
		action.On("esc ctrl+c", "show all", func() tea.Cmd { m.endFind(); return nil }),
	}
}

// findKey takes a key while what is looked for is typed.
func (m *Model) findKey(msg tea.KeyPressMsg) tea.Cmd {
	if cmd, done := m.findTable().Do(msg); done {
		return cmd
	}
	m.find.line.Take(msg)
	m.narrow()
	return nil
}

func (m *Model) startFind() tea.Cmd {
	m.find.on, m.find.typing = true, true
	m.narrow()
	return nil
}

// endFind shows the whole board again; the selected session stays selected.
func (m *Model) endFind() {
	m.forgetFind()
	m.lay()
	m.settle()
}

// forgetFind looks for nothing any more; the board is to be laid anew.
func (m *Model) forgetFind() {
	m.find.pool, m.find.found = nil, nil
	m.find.on, m.find.typing = false, false
	m.find.line.Begin("")
}

// narrow finds the sessions that match, and goes to the best.
func (m *Model) narrow() {
	m.match()
	m.lay()
	if found := m.find.found; len(found) > 0 {
		m.cursor, m.whole = found[0], false
	}
	m.settle()
}

// match finds the sessions that match what is looked for.
func (m *Model) match() {
	f := &m.find
	if len(f.pool) != m.sessions() {
		f.pool = make([]string, m.sessions())
		for i, s := range m.ws.Book.Sessions {
			f.pool[i] = matched(s)
		}
	}
	f.found = f.found[:0]
	hop, via := strings.CutPrefix(f.line.Text(), viaPrefix)
	if hop = strings.TrimSpace(hop); via && m.ws.Book.Session(hop) != nil {
		for _, name := range m.ws.Book.Behind(hop) {
			f.found = append(f.found, m.byName[name])
		}
	} else if f.line.Text() == "" {
		for i := range m.ws.Book.Sessions {
			f.found = append(f.found, i)
		}
	} else {
		f.found = match.Rank(f.line.Text(), f.pool)
	}
}

// matched is what of a session is looked through: name, site, host, user, keys,
// tunnels.
func matched(s *book.Session) string {
	parts := []string{s.Name, s.Site.V, s.Host.V, s.User.V}
	parts = append(parts, s.Keys.V...)
	for _, t := range s.Tunnels.V {
		parts = append(parts, t.Bring, t.Lend, t.Roam, t.Reach)
	}
	return strings.ToLower(strings.Join(parts, " "))
}

// findLine shows what is looked for and how much was found.
func (m *Model) findLine() string {
	t, f := m.s.Theme, &m.find
	text := t.Strong.Render(f.line.Text())
	if f.typing {
		text = f.line.View(40)
	}
	count := fmt.Sprintf("%d of %d", len(f.found), m.sessions())
	live := 0
	for _, i := range f.found[:min(len(f.found), 1000)] {
		if s, _ := m.s.Board.State(m.nameOf(i)); s.Running != nil || len(m.s.Board.Tunnels(s.Name)) > 0 {
			live++
		}
	}
	if live > 0 {
		count += fmt.Sprintf(", %d in use", live)
	}
	return "  " + t.Accent.Render("/ ") + text + "  " + t.Faint.Render(count)
}
