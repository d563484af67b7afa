// Package lending asks, in place of the card, what is to be lent to one shell: at
// which hop, which keys, for which hosts, and whether each use is asked for.
package lending

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// choice is one of a few values that are offered one after another.
type choice[T comparable] struct {
	offered []T
	at      int
}

// choose returns the choice at a value, which is offered, too.
func choose[T comparable](v T, offered ...T) choice[T] {
	at := slices.Index(offered, v)
	if at < 0 {
		at, offered = len(offered), append(offered, v)
	}
	return choice[T]{offered, at}
}

func (c choice[T]) chosen() T { return c.offered[c.at] }

func (c *choice[T]) next() tea.Cmd {
	c.at = (c.at + 1) % len(c.offered)
	return nil
}

// found brings the keys there are.
type found []workspace.Key

// Model is what is asked.
type Model struct {
	stack.Base
	s      *place.Services
	route  route.Route
	hop    int
	ask    bool
	keys   *list.List[string, workspace.Key] // by path
	loaded bool
	chosen map[string]bool // by path
	hosts  *line.Line
	typing bool
	path   *line.Line // of any key file, while one is named
	uses   choice[int]
	lasts  choice[time.Duration]
	note   string
}

// New asks for a route. What its sessions lend already is proposed.
func New(s *place.Services, r route.Route) stack.Layer {
	m := &Model{s: s, route: r, hop: len(r.Hops) - 1, ask: true, chosen: map[string]bool{}, keys: list.New(func(k workspace.Key) string { return k.Path }), hosts: line.New(s.Theme, "")}
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
	m.hosts.Begin(strings.Join(h.LendsSaid, ", "))
	m.uses, m.lasts = choose(h.LendUses, 0, 1, 3, 10, 50), choose(h.LendFor, 0, 5*time.Minute, 15*time.Minute, time.Hour, 8*time.Hour)
}

// Show reads the keys there are.
func (m *Model) Show() tea.Cmd {
	ws := m.s.Workspace()
	return m.s.Run(func() tea.Msg {
		return found(slices.DeleteFunc(ws.Keys(), func(k workspace.Key) bool {
			_, stopped := k.Sheet.Blocked()
			return stopped || k.Err != nil || k.Source == workspace.Downloaded
		}))
	})
}

// Typing tells whether keys go into the hosts.
func (m *Model) Typing() bool { return m.typing || m.path != nil }

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.typing {
		return action.Table{action.On("enter esc tab", "apply the filter", func() tea.Cmd { m.typing = false; return nil })}
	}
	if m.path != nil {
		return action.Table{
			action.On("enter", "lend it", m.named),
			action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.path = nil; return nil }),
		}
	}
	other := func(by int) func() tea.Cmd {
		return func() tea.Cmd {
			m.hop = max(min(m.hop+by, len(m.route.Hops)-1), 0)
			m.take()
			return nil
		}
	}
	return action.Table{
		action.On("space", "lend this key", m.toggle),
		action.On("enter", "open the shell", m.begin),
		action.On("a", "confirm each use", func() tea.Cmd { m.ask = !m.ask; return nil }).Also("confirm each use"),
		action.On("h", "hosts", func() tea.Cmd { m.typing = true; return nil }),
		action.On("v", "uses", m.uses.next).Also("times how often limit"),
		action.On("w", "time", m.lasts.next).Also("how long limit"),
		action.On("N", "another key file", func() tea.Cmd { m.path = line.New(m.s.Theme, ""); return nil }),
		action.On("left", "another hop", other(-1)).As("←→").Ranked(action.Movement),
		action.On("right", "", other(1)).Ranked(action.Hidden),
		action.On("esc ctrl+c q", "lend nothing", func() tea.Cmd { m.s.Close(); return nil }),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case found:
		m.loaded = true
		// Those that are proposed first.
		slices.SortStableFunc(msg, func(a, b workspace.Key) int {
			return rank(m.chosen[a.Path]) - rank(m.chosen[b.Path])
		})
		m.keys.Set(msg)
	case named:
		if m.note = msg.say; msg.say == "" {
			if _, there := m.keys.Find(msg.key.Path); !there {
				m.keys.Set(slices.Insert(slices.Clone(m.keys.All()), 0, msg.key))
			}
			m.keys.Select(msg.key.Path)
			m.chosen[msg.key.Path] = true
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		m.note = ""
		switch {
		case m.typing:
			m.hosts.Take(msg)
		case m.path != nil:
			m.path.Take(msg)
		default:
			m.keys.Take(msg)
		}
	}
	return nil
}

// named is a key file by its path, that the workspace knows or does not.
type named struct {
	key workspace.Key
	say string // why it cannot be lent
}

// named reads the key file whose path was typed, to lend it.
func (m *Model) named() tea.Cmd {
	path := m.s.Workspace().Planner().KeyPath(strings.TrimSpace(m.path.Text()))
	m.path = nil
	return m.s.Run(func() tea.Msg {
		sheet, err := keyfile.Look(path)
		if fault, stopped := sheet.Blocked(); stopped {
			return named{say: sanitize.Name(path) + ": " + fault.Say}
		}
		if err != nil {
			return named{say: err.Error()}
		}
		return named{key: workspace.Key{Path: path, Sheet: sheet}}
	})
}

// toggle lends the chosen key, or does not.
func (m *Model) toggle() tea.Cmd {
	if k, ok := m.keys.Selected(); ok {
		m.chosen[k.Path] = !m.chosen[k.Path]
	}
	return nil
}

func rank(chosen bool) int {
	if chosen {
		return 0
	}
	return 1
}

// begin opens a shell with what was chosen lent to it.
func (m *Model) begin() tea.Cmd {
	planner := m.s.Workspace().Planner()
	var lends []string
	terms := map[string]route.Terms{}
	for _, k := range m.keys.All() {
		terms[k.Path] = planner.TermsOf(k.Path)
		if m.chosen[k.Path] {
			lends = append(lends, k.Path)
		}
	}
	if len(lends) == 0 {
		m.note = "choose at least one key with space"
		return nil
	}
	patterns := strings.FieldsFunc(m.hosts.Text(), func(r rune) bool { return r == ',' || r == ' ' })
	for _, p := range patterns {
		if _, err := filepath.Match(p, "x"); err != nil {
			m.note = fmt.Sprintf("%q is no pattern of hosts", p)
			return nil
		}
	}
	r := m.route
	if m.hop < len(r.Hops)-1 {
		r = r.UpTo(m.hop)
		r.Session = r.Target().Name
	}
	r = r.AtEnd(func(last *route.Hop) {
		last.Lends, last.Agent, last.Terms = lends, "lend", terms
		if m.ask {
			last.Agent = "ask"
		}
		last.LendUses, last.LendFor = m.uses.chosen(), m.lasts.chosen()
		last.LendsSaid, last.LendsTo = patterns, planner.Hosts(patterns)
	})
	m.s.Close()
	return m.s.Open(r, false)
}

// View draws what is asked in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t := m.s.Theme
	lines := []string{t.Title(t.Accent.Render("lend to one shell")+t.Rule.Render(" ─ ")+t.Strong.Render(m.route.Session), t.Faint.Render("for as long as that shell lives"), width, fit.Spread)}
	row := func(word, value, help string) {
		lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad(word, 7))+value+t.Faint.Render("   "+help), width))
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
		asks = t.Verdict(gate.Ajar).Render("no confirmation; uses are logged")
	}
	row("asks", asks, "a changes")
	hosts := t.Text.Render("every host")
	if m.typing {
		hosts = m.hosts.View(max(width-40, 10))
	} else if m.hosts.Text() != "" {
		hosts = t.Strong.Render(fit.Cut(m.hosts.Text(), width-30))
	}
	row("for", hosts, map[bool]string{true: "enter", false: m.s.Press("hosts") + ": only some hosts or sessions, as gauge-*"}[m.typing])
	limit := "any number of uses"
	if n := m.uses.chosen(); n > 0 {
		limit = words.Count(n, "use")
	}
	lasts := ", as long as the shell"
	if d := m.lasts.chosen(); d > 0 {
		lasts = ", for " + fit.Ago(d)
	}
	row("limit", t.Text.Render(limit+lasts), "u, t change")
	if m.path != nil {
		row("key", m.path.View(max(width-40, 10)), "the path of any key file")
	}
	lines = append(lines, "")
	if m.note != "" {
		lines[len(lines)-1] = "   " + t.Verdict(gate.Shut).Render(m.note)
	}
	lines = append(lines, m.keyRows(width, max(height-len(lines), 1))...)
	if !m.loaded {
		lines = append(lines, "   "+t.Faint.Render("looking …"))
	}
	return lines
}

// keyRows are the keys that can be lent, in so many rows.
func (m *Model) keyRows(width, rows int) []string {
	t, planner := m.s.Theme, m.s.Workspace().Planner()
	lines, _ := m.keys.Rows(rows, func(k workspace.Key, chosen bool) fit.Row {
		pointer, box := "  ", t.Faint.Render("□")
		name := fit.Pad(sanitize.Name(k.Path), 24)
		if m.chosen[k.Path] {
			box, name = t.Accent.Render("■"), t.Strong.Render(name)
		}
		if chosen {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		detail := fmt.Sprintf("%s %d", k.Sheet.Kind, k.Sheet.Bits)
		if k.Sheet.Passphrase {
			detail += ", has a passphrase"
		}
		if terms := planner.TermsOf(k.Path); len(terms.Said) > 0 {
			detail += ", limited to " + strings.Join(terms.Said, ", ")
		}
		return fit.Row{Line: fit.Cut(" "+pointer+box+" "+name+"  "+t.Faint.Render(detail), width)}
	})
	return lines
}
