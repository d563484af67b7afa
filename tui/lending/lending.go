// Package lending asks, in place of the card, what is to be lent to one shell: at
// which hop, which keys, for which hosts, and whether each use is asked for.
package lending

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that nothing is lent.
type Left struct{}

// Go asks the frame for a shell at the end of a route, which says what is lent
// there.
type Go struct{ Route route.Route }

type found []workspace.Key

// Model is what is asked.
type Model struct {
	theme  *theme.Theme
	width  int
	ws     *workspace.Workspace
	route  route.Route
	hop    int
	ask    bool
	keys   []workspace.Key
	loaded bool
	chosen map[string]bool // by path
	hosts  textinput.Model
	typing bool
	at     scroll.Cursor
	room   int
	note   string
}

// New asks for a route. What its sessions lend already is proposed.
func New(ws *workspace.Workspace, r route.Route, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, width: width, ws: ws, route: r, hop: len(r.Hops) - 1, ask: true, chosen: map[string]bool{}, hosts: textinput.New(), room: 6}
	m.hosts.Prompt = ""
	m.hosts.SetVirtualCursor(true)
	t.Input(&m.hosts)
	m.take()
	return m
}

// take proposes what the hop's session lends.
func (m *Model) take() {
	h := m.route.Hops[m.hop]
	clear(m.chosen)
	for _, path := range h.Lends {
		m.chosen[path] = true
	}
	if len(h.Lends) == 0 { // the hop after it is what one goes on to
		for _, next := range m.route.Hops[m.hop+1:] {
			for _, path := range next.Keys {
				m.chosen[path] = true
			}
		}
	}
	m.hosts.SetValue(strings.Join(h.LendsSaid, ", "))
}

// Look reads the keys there are.
func (m *Model) Look() tea.Cmd {
	ws := m.ws
	return func() tea.Msg {
		return found(slices.DeleteFunc(ws.Keys(), func(k workspace.Key) bool {
			_, stopped := k.Sheet.Blocked()
			return stopped || k.Err != nil || k.Source == workspace.Downloaded
		}))
	}
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	t.Input(&m.hosts)
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// Update takes a message.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case found:
		m.keys, m.loaded = msg, true
		// Those that are proposed first.
		slices.SortStableFunc(m.keys, func(a, b workspace.Key) int {
			return rank(m.chosen[a.Path]) - rank(m.chosen[b.Path])
		})
	case tea.KeyPressMsg:
		if m.typing {
			switch msg.String() {
			case "enter", "esc", "tab":
				m.typing = false
				m.hosts.Blur()
				return nil, nil
			}
			m.hosts, cmd = m.hosts.Update(msg)
			return nil, cmd
		}
		return m.key(msg)
	}
	return nil, nil
}

func rank(chosen bool) int {
	if chosen {
		return 0
	}
	return 1
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	if m.at.Take(msg, len(m.keys), m.room) {
		return nil, nil
	}
	switch msg.String() {
	case "esc", "ctrl+c", "q":
		return Left{}, nil
	case "left", "right":
		by := map[string]int{"left": -1, "right": 1}[msg.String()]
		m.hop = max(min(m.hop+by, len(m.route.Hops)-1), 0)
		m.take()
	case "a":
		m.ask = !m.ask
	case "f":
		m.typing = true
		return nil, m.hosts.Focus()
	case "space":
		if m.at.At < len(m.keys) {
			path := m.keys[m.at.At].Path
			m.chosen[path] = !m.chosen[path]
		}
	case "enter":
		return m.go_()
	}
	return nil, nil
}

// go_ makes the route of what was chosen.
func (m *Model) go_() (wish tea.Msg, cmd tea.Cmd) {
	r := m.route
	r.Hops = slices.Clone(r.Hops[:m.hop+1])
	last := &r.Hops[m.hop]
	if m.hop < len(m.route.Hops)-1 {
		r.Session = last.Name
	}
	last.Lends, last.Agent = nil, "lend"
	last.Terms = map[string]route.Terms{}
	for _, k := range m.keys {
		last.Terms[k.Path] = m.ws.Planner().TermsOf(k.Path)
		if m.chosen[k.Path] {
			last.Lends = append(last.Lends, k.Path)
		}
	}
	if len(last.Lends) == 0 {
		m.note = "choose at least one key with space"
		return nil, nil
	}
	if m.ask {
		last.Agent = "ask"
	}
	patterns := strings.FieldsFunc(m.hosts.Value(), func(r rune) bool { return r == ',' || r == ' ' })
	for _, p := range patterns {
		if _, err := filepath.Match(p, "x"); err != nil {
			m.note = fmt.Sprintf("%q is no pattern of hosts", p)
			return nil, nil
		}
	}
	last.LendsSaid = patterns
	last.LendsTo = m.ws.Planner().Hosts(patterns)
	return Go{r}, nil
}

// View draws what is asked in height lines.
func (m *Model) View(height int) []string {
	t := m.theme
	lines := []string{t.Title(t.Accent.Render("lend to one shell")+t.Rule.Render(" ─ ")+t.Strong.Render(m.route.Session), t.Faint.Render("for as long as that shell lives"), m.width, fit.Spread)}
	row := func(word, value, help string) {
		lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad(word, 7))+value+t.Faint.Render("   "+help), m.width))
	}
	var hops []string
	for i, h := range m.route.Hops {
		name := t.Faint.Render(h.Name)
		if i == m.hop {
			name = t.Accent.Render("▸ ") + t.Strong.Render(h.Name)
		}
		hops = append(hops, name)
	}
	help := ""
	if len(hops) > 1 {
		help = "←→ another hop"
	}
	row("at", strings.Join(hops, "   "), help)
	asks := t.Verdict(gate.Open).Render("before each use")
	if !m.ask {
		asks = t.Verdict(gate.Ajar).Render("never: every use is told, none is asked for")
	}
	row("asks", asks, "a changes")
	hosts := t.Text.Render("every host")
	if m.typing {
		m.hosts.SetWidth(max(m.width-40, 10))
		hosts = m.hosts.View()
	} else if m.hosts.Value() != "" {
		hosts = t.Strong.Render(fit.Cut(m.hosts.Value(), m.width-30))
	}
	row("for", hosts, map[bool]string{true: "enter", false: "f: only some hosts or sessions, as gauge-*"}[m.typing])
	lines = append(lines, "")
	if m.note != "" {
		lines[len(lines)-1] = "   " + t.Verdict(gate.Shut).Render(m.note)
	}
	m.room = max(height-len(lines), 1)
	m.at.Move(0, len(m.keys), m.room)
	for i := m.at.Top; i < min(m.at.Top+m.room, len(m.keys)); i++ {
		k := m.keys[i]
		pointer, box := "  ", t.Faint.Render("□")
		name := fit.Pad(filepath.Base(k.Path), 24)
		if m.chosen[k.Path] {
			box, name = t.Accent.Render("■"), t.Strong.Render(name)
		}
		if i == m.at.At {
			pointer = t.Accent.Render("❯ ")
		}
		detail := fmt.Sprintf("%s %d", k.Sheet.Kind, k.Sheet.Bits)
		if k.Sheet.Passphrase {
			detail += ", has a passphrase"
		}
		if terms := m.ws.Planner().TermsOf(k.Path); len(terms.Said) > 0 {
			detail += ", meant for " + strings.Join(terms.Said, ", ")
		}
		lines = append(lines, fit.Cut(" "+pointer+box+" "+name+"  "+t.Faint.Render(detail), m.width))
	}
	if !m.loaded {
		lines = append(lines, "   "+t.Faint.Render("looking …"))
	}
	return lines
}

// Hints are the keys.
func (m *Model) Hints() []theme.Hint {
	return []theme.Hint{{Key: "space", Does: "lend this key"}, {Key: "enter", Does: "open the shell"}, {Key: "a", Does: "ask or not"}, {Key: "f", Does: "hosts"}, {Key: "esc", Does: "lend nothing"}}
}
