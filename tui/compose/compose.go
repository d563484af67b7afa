// Package compose asks, in place of the card and in a person's terms, what is to be
// reached from where, and makes a tunnel of it.
package compose

import (
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/window"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// kinds are what can be wanted, in a person's terms.
var kinds = []struct{ kind, wish string }{
	{"bring", "a remote service, on a local port"},
	{"lend", "a local service, on a remote port"},
	{"roam", "the remote network, through a SOCKS proxy here"},
	{"windows", "remote graphical programs, on the display here"},
}

// The lines that are asked for.
const (
	onKind = iota
	onWhat
	onListener
	lines
)

// Model is what is asked.
type Model struct {
	stack.Base
	s      *place.Services
	route  route.Route
	kind   int
	inputs [2]*line.Line // what and listener
	at     int
	got    tunnel.Composed
	told   bool // that it listens for other machines
}

// New asks for a tunnel along a route.
func New(s *place.Services, r route.Route) stack.Layer {
	m := &Model{s: s, route: r, at: onWhat}
	for i := range m.inputs {
		m.inputs[i] = line.New(s.Theme, "")
	}
	m.focus(onWhat)
	m.compose()
	return m
}

// Typing tells that keys go into the lines.
func (m *Model) Typing() bool { return true }

// Table is what can be done.
func (m *Model) Table() action.Table {
	another := func(by int) func() tea.Cmd {
		return func() tea.Cmd { m.focus((m.at + by + lines) % lines); return nil }
	}
	other := func(by int) func() tea.Cmd {
		return func() tea.Cmd { m.kind = (m.kind + by + len(kinds)) % len(kinds); m.compose(); return nil }
	}
	onKinds := func() bool { return m.at == onKind }
	return action.Table{
		action.On("enter", "open it now", func() tea.Cmd { return m.done(false) }),
		action.On("ctrl+s", "open and save in "+strings.TrimSpace(fit.Cut(m.route.Session, 16)), func() tea.Cmd { return m.done(true) }),
		action.On("up shift+tab", "choose", another(-1)).As("↑↓").Ranked(action.Movement),
		action.On("down tab", "", another(1)).Ranked(action.Hidden),
		action.On("left", "", other(-1)).If(onKinds, "").Ranked(action.Hidden),
		action.On("right", "", other(1)).If(onKinds, "").Ranked(action.Hidden),
		action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.s.Close(); return nil }),
	}
}

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
	m.got = tunnel.Compose(tunnel.Wish{Kind: kinds[m.kind].kind, What: m.inputs[0].Text(), Listener: m.inputs[1].Text()})
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg.(type) {
	case tea.KeyPressMsg, tea.PasteMsg:
		if m.at != onKind {
			m.inputs[m.at-onWhat].Take(msg)
			m.told = false
			m.compose()
		}
	}
	return nil
}

// done opens what is composed, and with keep writes it into the session. What others
// could use, or what shows everything, is asked about twice.
func (m *Model) done(keep bool) tea.Cmd {
	windows := kinds[m.kind].kind == "windows"
	switch {
	case m.got.Err != nil:
		return nil
	case (windows || m.got.Spec.Beyond()) && !m.told: // knowingly
		m.told = true
		return nil
	}
	m.s.Close()
	if windows {
		return m.openWindows(keep)
	}
	return m.openTunnel(keep)
}

// openTunnel opens the tunnel, and keeps it in the session where that is wanted.
func (m *Model) openTunnel(keep bool) tea.Cmd {
	set, path, r, spec := m.s.Tunnels, m.s.Workspace().SessionsPath(), m.route, m.got.Spec
	adopt, notice, press := m.s.Adopt, m.s.Notice, m.s.Press("tunnels")
	specs := append(slices.Clone(r.Target().Tunnels), spec)
	return m.s.Run(func() tea.Msg {
		if err := set.Open(r, []book.Tunnel{spec}, tunnel.Options{}, false); err != nil {
			notice(r.Session + ": " + err.Error())
			return nil
		}
		if !keep {
			notice(r.Session + ": the port forward is open, until " + press + " closes it or the program ends")
			return nil
		}
		b, err := book.Set(path, r.Session, "tunnels", book.TunnelsLine(specs))
		if err != nil {
			notice("the port forward is open, but not saved: " + err.Error())
			return nil
		}
		say := r.Session + " has another port forward: " + spec.String()
		adopt(b, r.Session, say)
		notice(say)
		return nil
	})
}

// openWindows opens a shell whose programs may draw here, and keeps that in the session
// where it is wanted.
func (m *Model) openWindows(keep bool) tea.Cmd {
	r, path := m.route, m.s.Workspace().SessionsPath()
	r = r.AtEnd(func(last *route.Hop) { last.Windows = true })
	open := m.s.Open(r, false)
	if !keep {
		return open
	}
	adopt, notice := m.s.Adopt, m.s.Notice
	return tea.Batch(open, m.s.Run(func() tea.Msg {
		b, err := book.Set(path, r.Session, "windows", "on")
		if err != nil {
			notice("not kept: " + err.Error())
			return nil
		}
		adopt(b, r.Session, r.Session+": programs there may draw here")
		return nil
	}))
}

func (m *Model) focus(at int) {
	switch kind := kinds[m.kind].kind; {
	case kind == "windows":
		at = onKind
	case at == onWhat && kind == "roam":
		at = map[bool]int{true: onListener, false: onKind}[m.at == onKind]
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
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t := m.s.Theme
	through := "through"
	for _, h := range m.route.Hops {
		through += " ▸ " + h.Name
	}
	out := []string{t.Title(t.Accent.Render("a tunnel")+t.Rule.Render(" ─ ")+t.Strong.Render(m.route.Session), t.Faint.Render(through), width, fit.Spread), ""}
	row := func(at int, word, value, help string) {
		pointer := "  "
		if m.at == at {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		line := " " + pointer + t.Faint.Render(fit.Pad(word, 14)) + value + "  "
		if fit.Width(line)+fit.Width(help) <= width {
			out = append(out, line+t.Faint.Render(help))
			return
		}
		out = append(out, fit.Cut(line, width)) // what helps stands below, where there is no room beside
		for _, l := range fit.Wrap(help, max(width-19, 20)) {
			out = append(out, strings.Repeat(" ", 17)+t.Faint.Render(l))
		}
	}
	help := ""
	if m.at == onKind {
		help = "←→ another wish"
	}
	row(onKind, "I want", t.Strong.Render(kinds[m.kind].wish), help)
	target := m.route.Target().Name
	room := max(min(width-22, 40), 16)
	windows := kinds[m.kind].kind == "windows"
	if kinds[m.kind].kind != "roam" && !windows {
		seen := map[string]string{"bring": "as " + target + " sees it: db.internal postgres, 10.61.4.20:5432, web, 10.61.4.9 desktop; socks 1080 is a proxy", "lend": "as this machine sees it: 3000, web, /run/x.sock"}[kinds[m.kind].kind]
		row(onWhat, "which is", m.inputs[0].View(room), seen)
	}
	where := map[bool]string{true: "remote, at " + target, false: "here; left empty, one is proposed"}[kinds[m.kind].kind == "lend"]
	if !windows {
		row(onListener, "at the port", m.inputs[1].View(room), where)
	}
	out = append(out, "")
	if m.got.Err != nil {
		if m.inputs[0].Text() != "" || kinds[m.kind].kind == "roam" || windows {
			out = append(out, "   "+t.Mark(gate.Shut)+" "+m.got.Err.Error())
		}
	} else if windows {
		out = append(out, "   "+t.Accent.Render("→ ")+t.Strong.Render("your display "+os.Getenv("DISPLAY")+" ⇐ windows of programs at "+target))
	} else {
		kind, at := m.got.Spec.Kind()
		out = append(out, "   "+t.Accent.Render("→ ")+t.Strong.Render(tunnel.Line{Kind: kind, Listener: at, Reach: m.got.Spec.Reach, As: target}.Drawn()))
	}
	for _, n := range m.got.Notes {
		out = append(out, "     "+t.Faint.Render(fit.Cut(n, width-6)))
	}
	if m.told {
		say := "enter again opens it to other machines, knowingly"
		if windows {
			say = "enter again allows them to use the display"
		}
		out = append(out, "     "+t.Verdict(gate.Ajar).Render(say))
	}
	return out[:min(len(out), height)]
}
