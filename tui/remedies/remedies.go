// Package remedies is the list of what mends a gate, in place of the card: each
// way with what it would change, done when it is chosen.
package remedies

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/mend"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Left says that nothing was chosen.
type Left struct{}

// Done says what was done.
type Done struct {
	Session string
	mend.Done
}

// Handed asks the frame to go a way that is its own: settling an identity,
// waiting, or asking a server about keys.
type Handed struct {
	Session string
	Act     gate.Act
	Case    mend.Case
}

type (
	found  []mend.Way
	failed struct{ err error }
)

// Model is the list.
type Model struct {
	theme  *theme.Theme
	width  int
	what   mend.Case
	ways   []mend.Way
	looked bool
	cursor int
	note   string
}

// New lists what mends a gate. Run [Model.Look] for the ways.
func New(what mend.Case, t *theme.Theme, width int) *Model {
	return &Model{theme: t, width: width, what: what}
}

// Look looks for the ways.
func (m *Model) Look() tea.Cmd {
	what := m.what
	return func() tea.Msg {
		what.Arrived = what.Workspace.Arrived()
		return found(mend.Ways(what))
	}
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// Update takes a message. It returns what is asked of the frame, or nil, and
// what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case found:
		m.ways, m.looked = msg, true
	case failed:
		m.note = msg.err.Error()
	case tea.KeyPressMsg:
		switch msg.String() {
		case "esc", "ctrl+c", "q":
			return Left{}, nil
		case "up", "k":
			m.cursor = max(m.cursor-1, 0)
		case "down", "j":
			m.cursor = max(min(m.cursor+1, len(m.ways)-1), 0)
		case "enter":
			return m.choose()
		}
	}
	return nil, nil
}

func (m *Model) choose() (wish tea.Msg, cmd tea.Cmd) {
	if m.cursor >= len(m.ways) {
		return nil, nil
	}
	way, session := m.ways[m.cursor], m.what.Route.Session
	if way.Act != gate.ByHand {
		return Handed{session, way.Act, m.what}, nil
	}
	return nil, func() tea.Msg {
		done, err := way.Do()
		switch {
		case err != nil && done.Say == "":
			return failed{err}
		case err != nil:
			done.Say += ", but: " + err.Error()
		}
		return Done{session, done}
	}
}

// View draws the list in height lines.
func (m *Model) View(height int) []string {
	t := m.theme
	hop := m.what.Route.Hops[m.what.Hop].Name
	lines := []string{t.Title(t.Accent.Render("remedies")+t.Rule.Render(" ─ ")+t.Strong.Render(hop)+t.Faint.Render(", "+m.what.Gate.Kind.String()), "", m.width, fit.Spread)}
	for _, l := range fit.Wrap(m.what.Gate.Reason, m.width-8) {
		lines = append(lines, "   "+t.Mark(m.what.Gate.Verdict)+" "+l)
	}
	lines = append(lines, "")
	switch {
	case !m.looked:
		lines = append(lines, "   "+t.Faint.Render("looking …"))
	case len(m.ways) == 0:
		lines = append(lines, "   "+t.Faint.Render("Nothing that could be done from here. "+m.what.Gate.Remedy.Say))
	}
	var preview []string
	if m.cursor < len(m.ways) {
		for _, p := range m.ways[m.cursor].Preview {
			preview = append(preview, "     "+t.Accent.Render("→ ")+fit.Cut(p, m.width-9))
		}
	}
	if m.note != "" {
		for _, l := range fit.Wrap(m.note, m.width-8) {
			preview = append(preview, "   "+t.Verdict(gate.Shut).Render(l))
		}
	}
	room := max(height-len(lines)-1-min(len(preview), 4), 1)
	first := max(min(m.cursor-room/2, len(m.ways)-room), 0)
	for i := first; i < min(first+room, len(m.ways)); i++ {
		pointer, say := "  ", m.ways[i].Say
		if i == m.cursor {
			pointer, say = t.Accent.Render("❯ "), t.Strong.Render(say)
		}
		lines = append(lines, " "+pointer+fit.Pad(say, min(44, m.width/2))+" "+t.Faint.Render(fit.Cut(m.ways[i].Why, max(m.width-48, 10))))
	}
	if left := len(m.ways) - first - room; left > 0 {
		lines[len(lines)-1] += t.Faint.Render(fmt.Sprintf("  %d more below", left))
	}
	lines = append(append(lines, ""), preview...)
	return lines[:min(len(lines), height)]
}

// Hints are the keys of the list.
func (m *Model) Hints() []theme.Hint {
	return []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "enter", Does: "do it"}, {Key: "esc", Does: "leave it"}}
}
