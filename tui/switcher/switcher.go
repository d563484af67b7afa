// Package switcher is the way between the places and the live shells: a drawer
// over the upper part of the screen.
package switcher

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/tui/fit"
	"meatus/tui/shells"
	"meatus/tui/theme"
)

// Model is the drawer.
type Model struct {
	theme  *theme.Theme
	width  int
	shells []*shells.Shell
	cursor int // 0 is Routes
}

// New returns the drawer with the shells there are. here is the one that shows,
// or nil on Routes.
func New(t *theme.Theme, width int, all []*shells.Shell, here *shells.Shell) *Model {
	m := &Model{theme: t, width: width, shells: all}
	for i, s := range all {
		if s == here {
			m.cursor = i + 1
		}
	}
	return m
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// SetShells changes the list; the cursor stays within it.
func (m *Model) SetShells(all []*shells.Shell) {
	m.shells = all
	m.cursor = min(m.cursor, len(all))
}

// Update takes a key. chosen tells that a place was: that of a shell, or Routes
// where to is nil.
func (m *Model) Update(msg tea.KeyPressMsg) (to *shells.Shell, chosen bool) {
	switch key := msg.String(); key {
	case "up", "k":
		m.cursor = max(m.cursor-1, 0)
	case "down", "j", "tab":
		m.cursor = min(m.cursor+1, len(m.shells))
	case "enter":
		return m.choose(m.cursor)
	default:
		if len(key) == 1 && key[0] >= '0' && key[0] <= '9' {
			return m.choose(int(key[0] - '0'))
		}
	}
	return nil, false
}

func (m *Model) choose(n int) (to *shells.Shell, chosen bool) {
	switch {
	case n > len(m.shells):
		return nil, false
	case n == 0:
		return nil, true
	}
	return m.shells[n-1], true
}

// View draws the drawer: at most height lines, a hairline below.
func (m *Model) View(height int, summary string) []string {
	t := m.theme
	lines := []string{t.Title(t.Accent.Render("go to"), t.Faint.Render("a number, or enter"), m.width, fit.Spread)}
	names := 20
	for _, s := range m.shells {
		who, _ := s.Where()
		names = min(max(names, len([]rune(who))), 44)
	}
	row := func(n int, mark, name, detail string) {
		pointer := "  "
		if n == m.cursor {
			pointer = t.Accent.Render("❯ ")
			name = t.Strong.Render(name)
		}
		number := t.Faint.Render(fit.Pad(fmt.Sprint(n), 2))
		lines = append(lines, fit.Cut(" "+pointer+number+" "+mark+" "+fit.Pad(name, names)+"   "+detail, m.width))
	}
	row(0, t.Faint.Render("⌂"), "Routes", t.Faint.Render(summary))
	first := max(m.cursor-(height-4), 0)
	for i, s := range m.shells[min(first, len(m.shells)):] {
		if len(lines) >= height-1 {
			break
		}
		who, way := s.Where()
		mark := t.Live.Render("━")
		if !s.Live() {
			mark = t.Verdict(gate.Shut).Render("╳")
		} else if s.Bells() {
			mark = t.Accent.Render("♪")
		}
		row(first+i+1, mark, who, t.Faint.Render(way)+"   "+s.LastLine())
	}
	return append(lines, t.Rule.Render(rule(m.width)))
}

func rule(width int) string {
	out := make([]rune, max(width, 0))
	for i := range out {
		out[i] = '─'
	}
	return string(out)
}

// Hints are the drawer's keys.
func (m *Model) Hints(leader string) []theme.Hint {
	return []theme.Hint{{Key: "↑↓ enter", Does: "go"}, {Key: leader, Does: "send it through"}, {Key: "esc", Does: "stay"}}
}
