// Package finder finds anything that can be done by the words people try: actions of the place
// that shows and of the others, places, sessions, live shells and settings.
//
// It owns what is typed and which line is chosen. What can be done is given to it by the frame,
// which reads it from the tables of the places, so that nothing stands in two lists.
package finder

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/match"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Item is something that can be done.
type Item struct {
	Say    string // what it does
	Of     string // to what, "" for nothing in particular
	Key    string // what does it without the finder, "" for nothing
	Also   string // other words for it
	WhyNot string // why it cannot be done now, "" where it can
	Here   bool   // it is of the place that shows
	Do     func() tea.Cmd
}

// most is how many sessions are offered at once, and least how many lines the finder has.
const (
	most  = 40
	least = 8
)

// Model is the finder.
type Model struct {
	theme    *theme.Theme
	width    int
	height   int
	line     *line.Line
	items    []Item
	sessions []string // their names, in lower case
	session  func(i int) Item
	found    []Item
	at       scroll.Cursor
	room     int
}

// New returns the finder over items, and over sessions by their names in lower case, of which
// session makes items. The words are typed in already.
func New(t *theme.Theme, width int, words string, items []Item, sessions []string, session func(i int) Item) *Model {
	m := &Model{theme: t, width: width, line: line.New(t, ""), items: items, sessions: sessions, session: session, room: 8}
	m.line.Begin(words)
	m.narrow()
	return m
}

// SetSize changes the size: width columns, and at most height lines.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.room = max(height-headLines-1, 1)
	m.at.Move(0, len(m.found), m.room)
}

// headLines are those above what matches.
const headLines = 2

// narrow finds what matches: what can be done now before what cannot, the better matches first.
func (m *Model) narrow() {
	text := m.line.Text()
	type scored struct {
		Item
		score int
	}
	var all []scored
	for _, i := range m.items {
		if s := match.Words(text, i.Say, i.Also, i.Of); s > 0 {
			if s *= 4; i.WhyNot == "" {
				s++
			}
			if i.Here {
				s += 10
			}
			all = append(all, scored{i, s})
		}
	}
	slices.SortStableFunc(all, func(a, b scored) int { return b.score - a.score })
	m.found = m.found[:0]
	for _, i := range all {
		m.found = append(m.found, i.Item)
	}
	if text != "" {
		ranked := match.Rank(text, m.sessions)
		for _, i := range ranked[:min(len(ranked), most)] {
			m.found = append(m.found, m.session(i))
		}
	}
	m.at = scroll.Cursor{}
}

// Paste takes a pasted text.
func (m *Model) Paste(msg tea.PasteMsg) {
	m.line.Take(msg)
	m.narrow()
}

// Update takes a key. chosen is what is to be done, nil for nothing yet; done tells that the
// finder is done with.
func (m *Model) Update(msg tea.KeyPressMsg) (chosen *Item, done bool) {
	switch msg.String() {
	case "esc", "ctrl+c":
		return nil, true
	case "enter":
		if m.at.At < len(m.found) && m.found[m.at.At].WhyNot == "" {
			return &m.found[m.at.At], true
		}
	case "up", "down", "pgup", "pgdown":
		m.at.Take(msg, len(m.found), m.room)
	case "tab":
		m.at.Move(1, len(m.found), m.room)
	case "shift+tab":
		m.at.Move(-1, len(m.found), m.room)
	default:
		m.line.Take(msg)
		m.narrow()
	}
	return nil, false
}

// Items are what matches, the best first.
func (m *Model) Items() []Item { return m.found }

// View draws the finder: what is typed, what matches, and of what cannot be done the reason.
func (m *Model) View() []string {
	t, height := m.theme, m.height
	lines := []string{
		t.Title(t.Accent.Render("what can be done"), t.Faint.Render(words.Plural(len(m.found), "match", "matches")), m.width, fit.Spread),
		"  " + t.Accent.Render(": ") + m.line.View(min(m.width-6, 60)),
	}
	from, to := m.at.Window(len(m.found), m.room)
	keys, says := 3, 16
	for _, i := range m.found[from:to] {
		keys, says = max(keys, fit.Width(i.Key)), max(says, min(fit.Width(i.Say), 40))
	}
	for n, i := range m.found[from:to] {
		pointer, key, say := "  ", t.Key, t.Text
		if from+n == m.at.At {
			pointer, say = t.Accent.Render(theme.Chosen+" "), t.Strong
		}
		if i.WhyNot != "" {
			key, say = t.Faint, t.Faint
		}
		line := " " + pointer + key.Render(fit.Pad(i.Key, keys)) + "  " + say.Render(fit.Pad(i.Say, says)) + "  "
		if i.WhyNot != "" {
			line += t.Faint.Render(i.Of + "  not now: " + i.WhyNot)
		} else {
			line += t.Faint.Render(i.Of)
		}
		lines = append(lines, fit.Cut(line, m.width))
	}
	if len(m.found) == 0 {
		lines = append(lines, "   "+t.Faint.Render("Nothing is called that. Fewer letters find more."))
	}
	for len(lines) < min(least, height) {
		lines = append(lines, "")
	}
	return lines[:min(len(lines), height)]
}

// Hints are the finder's keys.
func (m *Model) Hints() []theme.Hint {
	return []theme.Hint{{Key: "↑↓", Does: "choose"}, {Key: "enter", Does: "do it"}, {Key: "esc", Does: "cancel"}}
}
