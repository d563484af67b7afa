// Package switcher is the way between the places and the live shells: a drawer
// over the upper part of the screen.
package switcher

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/shells"
	"meatus/tui/theme"
)

// Place is where one can go.
type Place struct {
	Shell *shells.Shell // a shell, or nil
	At    string        // the key of a place that is no shell, "0" for Routes
	Do    string        // not to go anywhere: the key of an action on the shell that shows
	// Answer is to go to the question that waits.
	Answer bool
}

// Model is the drawer.
type Model struct {
	theme  *theme.Theme
	width  int
	places []place.Entry // those that are no shell, in the order they are listed
	shells []*shells.Shell
	cursor int // the line
	here   Place

	// Shown is what is pressed for a letter of a place.
	Shown func(letter string) string
	// Question says who asks for what where a question waits, "" where none does.
	Question string
}

// answerKey goes to the question that waits.
const answerKey = "a"

// New returns the drawer with the places and shells there are; here is what shows now.
func New(t *theme.Theme, width int, places []place.Entry, all []*shells.Shell, here Place) *Model {
	m := &Model{theme: t, width: width, places: places, shells: grouped(all), here: here, Shown: func(letter string) string { return letter }}
	for i, p := range places {
		if p.Key == here.At {
			m.cursor = i
		}
	}
	for i, s := range m.shells {
		if s == here.Shell {
			m.cursor = len(m.places) + i
		}
	}
	return m
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// SetShells changes the list; the cursor stays within it.
func (m *Model) SetShells(all []*shells.Shell) {
	m.shells = grouped(all)
	m.cursor = min(m.cursor, len(m.places)-1+len(all))
}

// grouped are the shells with those of one way beside each other, the way that was taken first
// first.
func grouped(all []*shells.Shell) []*shells.Shell {
	var ways []string
	of := map[string][]*shells.Shell{}
	for _, s := range all {
		_, way := s.Where()
		if end := strings.LastIndex(way, " ▸ "); end > 0 {
			way = way[:end]
		}
		if of[way] == nil {
			ways = append(ways, way)
		}
		of[way] = append(of[way], s)
	}
	out := make([]*shells.Shell, 0, len(all))
	for _, way := range ways {
		out = append(out, of[way]...)
	}
	return out
}

// Update takes a key. chosen tells that a place was.
func (m *Model) Update(msg tea.KeyPressMsg) (to Place, chosen bool) {
	switch key := msg.String(); key {
	case "up", "k":
		m.cursor = max(m.cursor-1, 0)
	case "down", "j", "tab":
		m.cursor = min(m.cursor+1, len(m.places)-1+len(m.shells))
	case "enter":
		return m.choose(m.cursor)
	default:
		if key == answerKey && m.Question != "" {
			return Place{Answer: true}, true
		}
		for i, p := range m.places {
			if p.Key == key {
				return m.choose(i)
			}
		}
		if m.here.Shell != nil && slices.ContainsFunc(shells.Actions(), func(a shells.Action) bool { return a.Key == key }) {
			return Place{Do: key}, true
		}
		if len(key) == 1 && key[0] >= '1' && key[0] <= '9' {
			return m.choose(len(m.places) + int(key[0]-'1'))
		}
	}
	return Place{}, false
}

func (m *Model) choose(line int) (to Place, chosen bool) {
	switch {
	case line >= len(m.places)+len(m.shells):
		return Place{}, false
	case line < len(m.places):
		return Place{At: m.places[line].Key}, true
	}
	return Place{Shell: m.shells[line-len(m.places)]}, true
}

// placeNames is how wide the names of places are drawn.
const placeNames = 7

// View draws the drawer: at most height lines, a hairline below.
func (m *Model) View(height int, summary string) []string {
	t := m.theme
	lines := []string{t.Title(t.Accent.Render("go to"), t.Faint.Render("a number or letter, or enter"), m.width, fit.Spread)}
	names := 20
	for _, s := range m.shells {
		who, _ := s.Where()
		names = min(max(names, len([]rune(who))), 44)
	}
	row := func(line int, press, mark, name, detail string, names int) {
		pointer := "  "
		if line == m.cursor {
			pointer = t.Accent.Render(theme.Chosen + " ")
			name = t.Strong.Render(name)
		}
		number := t.Faint.Render(fit.Pad(press, 2))
		lines = append(lines, fit.Cut(" "+pointer+number+" "+mark+" "+fit.Pad(name, names)+"   "+detail, m.width))
	}
	if m.Question != "" {
		height--
		lines = append(lines, fit.Cut("   "+t.Key.Render(fit.Pad(answerKey, 2))+" "+t.Accent.Render("▲ answer   needs you: "+m.Question), m.width))
	}
	for i, p := range m.places {
		does := p.Does
		if i == 0 {
			does = summary
		}
		row(i, m.Shown(p.Key), t.Faint.Render(p.Mark), p.Name, t.Faint.Render(does), placeNames)
	}
	actions := m.actions()
	if room := height - len(lines) - 2; len(m.shells)+len(actions) > room {
		actions = nil // the finder has them, too
	}
	height -= len(actions)
	first := max(m.cursor-(height-2), 0)
	for i, s := range m.shells[min(first, len(m.shells)):] {
		if len(lines) >= height-1 {
			break
		}
		who, way := s.Where()
		mark := t.Live.Render("━")
		if !s.Live() {
			mark = t.Verdict(gate.Shut).Render(theme.Shut)
		} else if _, lost := s.Lost(); lost {
			mark = t.Verdict(gate.Ajar).Render("╍")
		} else if s != m.here.Shell {
			switch s.News() {
			case "bell":
				mark = t.Accent.Render("♪")
			case "output":
				mark = t.Accent.Render("•")
			}
		}
		row(len(m.places)+first+i, fmt.Sprint(first+i+1), mark, who, t.Faint.Render(way)+"   "+s.LastLine(), names)
	}
	lines = append(lines, actions...)
	return append(lines, t.Rule.Render(rule(m.width)))
}

// actions are what can be done with the shell that shows, two in a line.
func (m *Model) actions() []string {
	if m.here.Shell == nil {
		return nil
	}
	t := m.theme
	lines := []string{"   " + t.Faint.Render("with this shell")}
	all := shells.Actions()
	half := (len(all) + 1) / 2
	for i := range half {
		line := "   "
		for _, n := range []int{i, i + half} {
			if n < len(all) {
				line += " " + t.Key.Render(all[n].Key) + " " + t.Faint.Render(fit.Pad(all[n].Does, min(38, m.width/2-5)))
			}
		}
		lines = append(lines, fit.Cut(line, m.width))
	}
	return lines
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
	return []theme.Hint{{Key: "↑↓ enter", Does: "go"}, {Key: ":", Does: "find an action"}, {Key: leader, Does: "send the key itself"}, {Key: "esc", Does: "stay"}}
}
