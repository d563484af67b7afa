// Package doors lists the tunnels of one session, those that are open and those that could be,
// and opens and closes each by itself.
package doors

import (
	"context"
	"errors"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/tunnel"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/compose"
	"meatus/tui/fit"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Model is the list.
type Model struct {
	stack.Base
	s       *place.Services
	session string
	list    *list.List[string, door]
	note    string
}

// New returns the list of a session's tunnels.
func New(s *place.Services, session string) stack.Layer {
	m := &Model{s: s, session: session, list: list.New(door.id)}
	m.list.Set(m.doors())
	return m
}

// door is one tunnel: as it is written, as it is open, or both.
type door struct {
	spec *book.Tunnel
	line *tunnel.Line
}

// id is the identity of a door: as it is written, or where it listens.
func (d door) id() string {
	if d.spec != nil {
		return "written " + d.spec.String()
	}
	return "open " + d.line.Listener
}

// done says what became of opening or closing one.
type done struct{ say string }

// doors are the session's tunnels as they are written, and behind them those that are open
// besides.
func (m *Model) doors() []door {
	var all []door
	open := m.s.Board.Tunnels(m.session)
	taken := make([]bool, len(open))
	if s := m.s.Workspace().Book.Session(m.session); s != nil {
		for i := range s.Tunnels.V {
			d := door{spec: &s.Tunnels.V[i]}
			for n := range open {
				if !taken[n] && same(*d.spec, open[n]) {
					d.line, taken[n] = &open[n], true
					break
				}
			}
			all = append(all, d)
		}
	}
	for n := range open {
		if !taken[n] {
			all = append(all, door{line: &open[n]})
		}
	}
	return all
}

// same tells whether an open tunnel is the one that is written. A port of 0 is any.
func same(t book.Tunnel, l tunnel.Line) bool {
	kind, at := t.Kind()
	if kind != l.Kind || t.Reach != l.Reach {
		return false
	}
	host, any := strings.CutSuffix(at, ":0")
	return at == l.Listener || any && strings.HasPrefix(l.Listener, host+":")
}

func (m *Model) selected() (door, bool) { return m.list.Selected() }

// Subject is the door that is chosen.
func (m *Model) Subject() string {
	switch d, ok := m.selected(); {
	case !ok:
		return m.session
	case d.line != nil:
		return d.line.Listener
	default:
		_, at := d.spec.Kind()
		return at
	}
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	d, ok := m.selected()
	return action.Table{
		action.On("enter", "open it", m.open).If(func() bool { return ok && d.line == nil }, "it is open, or none is chosen").Also("start listen"),
		action.On("D delete backspace", "close it", m.close).If(func() bool { return ok && d.line != nil }, "it is not open").Also("end stop"),
		action.On("n", "new port forward", m.another).Whole().Also("tunnel port forward forwarding proxy"),
		action.On("esc ctrl+c q", "close", func() tea.Cmd { m.s.Close(); return nil }),
		action.On("up down", "choose", nil).If(func() bool { return m.list.Len() > 1 }, "").Ranked(action.Movement),
	}
}

// another asks for another tunnel.
func (m *Model) another() tea.Cmd {
	r, ok := m.s.Plan(m.session)
	if !ok {
		return nil
	}
	return m.s.Task(func(s *place.Services) stack.Layer { return compose.New(s, r) })
}

// open opens the chosen tunnel alone.
func (m *Model) open() tea.Cmd {
	d, _ := m.selected()
	r, ok := m.s.Plan(m.session)
	if !ok {
		return nil
	}
	_, at := d.spec.Kind()
	do := func() tea.Cmd {
		job := &work.OpenTunnels{Tools: m.s.Tools(), Route: r, Specs: []book.Tunnel{*d.spec}, OnKnock: r.Target().OnKnock}
		return m.s.Run(func() tea.Msg {
			if err := job.Run(context.Background(), func(work.Step) {}); err != nil {
				var held *work.HeldElsewhere
				if errors.As(err, &held) {
					return done{fmt.Sprintf("another Meatus (process %d, %s) has opened it for %s", held.Program.PID, held.Program.What, held.For)}
				}
				return done{err.Error()}
			}
			return done{"the door " + at + " is open"}
		})
	}
	if !d.spec.Beyond() {
		return do()
	}
	return m.s.Confirm(place.Confirm{Subject: at, Say: fmt.Sprintf("%s listens for OTHER MACHINES: anyone who reaches this one can use it; enter again opens it", at), Tell: func(say string) { m.note = say }, Do: do})
}

// close closes the chosen tunnel alone.
func (m *Model) close() tea.Cmd {
	d, _ := m.selected()
	at, live := d.line.Listener, d.line.Live
	do := func() tea.Cmd {
		set := m.s.Tunnels
		return m.s.Run(func() tea.Msg {
			if !set.CloseListener(at) {
				return done{at + " was closed already"}
			}
			return done{at + " is closed"}
		})
	}
	if live == 0 {
		return do()
	}
	return m.s.Confirm(place.Confirm{Subject: at, Say: fmt.Sprintf("closing %s ends %s; %s again closes it", at, words.Count(live, "live flow"), m.s.Press("remove")), Tell: func(say string) { m.note = say }, Do: do})
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case done:
		m.note = msg.say
	case tea.KeyPressMsg:
		m.note = ""
		m.list.Take(msg)
		return nil
	}
	m.list.Set(m.doors())
	return nil
}

// SetSize changes the room for the list.
func (m *Model) SetSize(columns, rows int) {
	m.Base.SetSize(columns, rows)
	m.list.SetRoom(rows - 2)
}

// View draws the list in height lines.
func (m *Model) View() []string {
	width, height := m.Columns, m.Rows
	t, all := m.s.Theme, m.list.All()
	open := 0
	for _, d := range all {
		if d.line != nil {
			open++
		}
	}
	lines := []string{t.Title(t.Accent.Render("doors")+t.Rule.Render(" ─ ")+t.Strong.Render(m.session), t.Faint.Render(fmt.Sprintf("%d of %d open", open, len(all))), width, fit.Spread)}
	if m.note != "" {
		for _, l := range fit.Wrap(m.note, width-6) {
			lines = append(lines, "   "+t.Accent.Render(l))
		}
	}
	if len(all) == 0 {
		return append(lines, "", "   "+t.Faint.Render("it has no tunnels; "+m.s.Press("new")+" makes one"))
	}
	rows, _ := m.list.Rows(max(height-len(lines), 1), func(d door, chosen bool) fit.Row {
		pointer := "  "
		if chosen {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		if d.line == nil {
			return fit.Hang(" "+pointer+t.Mark(gate.Untried)+" "+d.spec.String()+t.Faint.Render("  closed"), 5, width)
		}
		v, off := d.line.Standing()
		mark := t.Mark(v)
		if v == gate.Open {
			mark = t.Live.Render("⇄")
		}
		say := fmt.Sprintf("%s, %d live", d.line.Drawn(), d.line.Live)
		if off != "" {
			say += ": " + off
		}
		return fit.Hang(" "+pointer+mark+" "+say, 5, width)
	})
	lines = append(lines, rows...)
	return lines[:min(len(lines), height)]
}
