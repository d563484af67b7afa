// Package compose asks, in place of the card and in a person's terms, what is to be
// reached from where, and makes a tunnel of it.
package compose

import (
	"os"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/window"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Left says that no tunnel was wanted.
type Left struct{}

// Made asks the frame to open a tunnel, and to write it into the session where Keep
// is set.
type Made struct {
	Route route.Route
	Spec  book.Tunnel
	Keep  bool
}

// Windows asks the frame to open a shell whose programs may draw here, and to write
// that into the session where Keep is set.
type Windows struct {
	Route route.Route
	Keep  bool
}

// kinds are what can be wanted, in a person's terms.
var kinds = []struct{ kind, wish string }{
	{"bring", "a service over there, from here"},
	{"lend", "a service here, from over there"},
	{"roam", "everything over there, by a program here that knows a proxy"},
	{"windows", "windows of programs over there, on the display here"},
}

// The lines that are asked for.
const (
	onKind = iota
	onWhat
	onDoor
	lines
)

// Model is what is asked.
type Model struct {
	theme  *theme.Theme
	width  int
	route  route.Route
	kind   int
	inputs [2]textinput.Model // what and door
	at     int
	got    tunnel.Composed
	told   bool // that it listens to other machines
}

// New asks for a tunnel along a route.
func New(r route.Route, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, width: width, route: r, at: onWhat}
	for i := range m.inputs {
		m.inputs[i] = textinput.New()
		m.inputs[i].Prompt = ""
		m.inputs[i].SetVirtualCursor(true)
		t.Input(&m.inputs[i])
	}
	m.inputs[0].Focus()
	m.compose()
	return m
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	for i := range m.inputs {
		t.Input(&m.inputs[i])
	}
}

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

func (m *Model) compose() {
	if kinds[m.kind].kind == "windows" {
		m.got = tunnel.Composed{Notes: []string{
			"a shell is opened; graphical programs begun in it draw here, until it ends",
			"such a program sees EVERY window of this display and every key typed into one:",
			"do it for a machine alone that you would let sit at your desk",
		}}
		if _, err := window.Local(os.Getenv); err != nil {
			m.got.Err = err
		}
		return
	}
	m.got = tunnel.Compose(tunnel.Wish{Kind: kinds[m.kind].kind, What: m.inputs[0].Value(), Door: m.inputs[1].Value()})
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	if key, ok := msg.(tea.KeyPressMsg); ok {
		switch key.String() {
		case "esc", "ctrl+c":
			return Left{}, nil
		case "up", "shift+tab":
			m.focus((m.at + lines - 1) % lines)
			return nil, nil
		case "down", "tab":
			m.focus((m.at + 1) % lines)
			return nil, nil
		case "left", "right":
			if m.at == onKind {
				by := map[string]int{"left": len(kinds) - 1, "right": 1}[key.String()]
				m.kind = (m.kind + by) % len(kinds)
				m.compose()
				return nil, nil
			}
		case "enter", "ctrl+s":
			if m.got.Err != nil {
				return nil, nil
			}
			if (kinds[m.kind].kind == "windows" || m.got.Spec.Beyond()) && !m.told { // knowingly
				m.told = true
				return nil, nil
			}
			if kinds[m.kind].kind == "windows" {
				return Windows{m.route, key.String() == "ctrl+s"}, nil
			}
			return Made{m.route, m.got.Spec, key.String() == "ctrl+s"}, nil
		}
	}
	if m.at == onKind {
		return nil, nil
	}
	m.inputs[m.at-onWhat], cmd = m.inputs[m.at-onWhat].Update(msg)
	m.told = false
	m.compose()
	return nil, cmd
}

func (m *Model) focus(at int) {
	switch kind := kinds[m.kind].kind; {
	case kind == "windows":
		at = onKind
	case at == onWhat && kind == "roam":
		at = map[bool]int{true: onDoor, false: onKind}[m.at == onKind]
	}
	m.at = at
	for i := range m.inputs {
		m.inputs[i].Blur()
	}
	if at != onKind {
		m.inputs[at-onWhat].Focus()
	}
}

// View draws what is asked in height lines, and the tunnel that comes of it.
func (m *Model) View(height int) []string {
	t := m.theme
	through := "through"
	for _, h := range m.route.Hops {
		through += " ▸ " + h.Name
	}
	out := []string{t.Title(t.Accent.Render("a tunnel")+t.Rule.Render(" ─ ")+t.Strong.Render(m.route.Session), t.Faint.Render(through), m.width, fit.Spread), ""}
	row := func(line int, word, value, help string) {
		pointer := "  "
		if m.at == line {
			pointer = t.Accent.Render("❯ ")
		}
		out = append(out, fit.Cut(" "+pointer+t.Faint.Render(fit.Pad(word, 14))+value+"  "+t.Faint.Render(help), m.width))
	}
	help := ""
	if m.at == onKind {
		help = "←→ another wish"
	}
	row(onKind, "I want", t.Strong.Render(kinds[m.kind].wish), help)
	target := m.route.Target().Name
	for i := range m.inputs {
		m.inputs[i].SetWidth(max(min(m.width-60, 40), 16))
	}
	windows := kinds[m.kind].kind == "windows"
	if kinds[m.kind].kind != "roam" && !windows {
		seen := map[string]string{"bring": "as " + target + " sees it: db.internal postgres, 10.61.4.20:5432, web", "lend": "as this machine sees it: 3000, web, /run/x.sock"}[kinds[m.kind].kind]
		row(onWhat, "which is", m.inputs[0].View(), seen)
	}
	where := map[bool]string{true: "over there, at " + target, false: "here; left empty, one is proposed"}[kinds[m.kind].kind == "lend"]
	if !windows {
		row(onDoor, "by a door at", m.inputs[1].View(), where)
	}
	out = append(out, "")
	if m.got.Err != nil {
		if m.inputs[0].Value() != "" || kinds[m.kind].kind == "roam" || windows {
			out = append(out, "   "+t.Mark(gate.Shut)+" "+m.got.Err.Error())
		}
	} else if windows {
		out = append(out, "   "+t.Accent.Render("→ ")+t.Strong.Render("your display "+os.Getenv("DISPLAY")+" ⇐ windows of programs at "+target))
	} else {
		kind, at := m.got.Spec.Kind()
		out = append(out, "   "+t.Accent.Render("→ ")+t.Strong.Render(tunnel.Line{Kind: kind, Door: at, Reach: m.got.Spec.Reach, As: target}.Drawn()))
	}
	for _, n := range m.got.Notes {
		out = append(out, "     "+t.Faint.Render(fit.Cut(n, m.width-6)))
	}
	if m.told {
		say := "enter again opens it to other machines, knowingly"
		if windows {
			say = "enter again lets them draw here, knowingly"
		}
		out = append(out, "     "+t.Verdict(gate.Ajar).Render(say))
	}
	return out[:min(len(out), height)]
}

// Hints are the keys.
func (m *Model) Hints() []theme.Hint {
	return []theme.Hint{{Key: "enter", Does: "open it now"}, {Key: "ctrl+s", Does: "and keep it in " + strings.TrimSpace(fit.Cut(m.route.Session, 16))}, {Key: "↑↓", Does: "choose"}, {Key: "esc", Does: "leave it"}}
}
