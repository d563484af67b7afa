package leases

import (
	"context"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/enrol"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// The messages of the task's own: what would be written, a step, and the end.
type (
	looked struct {
		plan *enrol.Plan
		err  error
	}
	enrolled struct {
		plan  *enrol.Plan
		steps []string
		err   error
	}
)

// Free closes the connection of a plan that nobody looks at any more.
func (l looked) Free() {
	if l.plan != nil {
		go l.plan.Close()
	}
}

// Free closes the connection of a plan that was carried out.
func (e enrolled) Free() { go e.plan.Close() }

// Enrol shows what would have a session's machine trust an issuer, and does it.
type Enrol struct {
	stack.Base
	s       *place.Services
	of      work.Enrolling
	plan    *enrol.Plan
	preview []string
	err     error
	busy    string // what is under way, "" for nothing
	steps   []string
	writes  bool // it is being written
	done    bool
	stop    context.CancelFunc // of looking
	at      scroll.Cursor
}

// NewEnrol looks at a session's machine.
func NewEnrol(s *place.Services, issuer, session string) stack.Layer {
	return &Enrol{s: s, of: work.Enrolling{Session: session, Issuer: issuer}}
}

// Show looks at the machine.
func (m *Enrol) Show() tea.Cmd {
	m.forget()
	m.busy, m.err, m.preview = "looking at what is there …", nil, nil
	tools, of := m.s.Tools(), m.of
	ctx, stop := context.WithCancel(context.Background())
	m.stop = stop
	return m.s.Run(func() tea.Msg {
		plan, err := tools.LookToEnrol(ctx, of)
		return looked{plan, err}
	})
}

// Close ends looking. What is being written goes on to its end.
func (m *Enrol) Close() { m.forget() }

// forget ends what looking began.
func (m *Enrol) forget() {
	if m.stop != nil && !m.writes {
		m.stop()
	}
	if m.plan != nil && !m.writes {
		go m.plan.Close()
		m.plan = nil
	}
}

// variants are how it can be done.
func (m *Enrol) variant() string {
	words := []string{}
	if m.of.Out {
		words = append(words, "taken out")
	}
	if m.of.Host {
		words = append(words, "its own key signed, too")
	}
	if m.of.Super {
		words = append(words, "by sudo")
	}
	return strings.Join(words, ", ")
}

// Table is what can be done.
func (m *Enrol) Table() action.Table {
	ready := m.plan != nil && m.busy == "" && !m.done
	return action.Table{
		action.On("enter", "enrol the machine", m.apply).If(func() bool { return ready }, "the machine is not read yet, or is enrolled already"),
		action.On("v", "change the method", m.next).If(func() bool { return m.busy == "" && !m.done }, "it is under way"),
		action.On("esc q ctrl+c", "close", func() tea.Cmd { m.s.Close(); return nil }).If(func() bool { return m.busy == "" || m.plan == nil }, "it is under way"),
	}
}

// next looks again, with another variant.
func (m *Enrol) next() tea.Cmd {
	switch {
	case m.of.Out:
		m.of.Out, m.of.Host, m.of.Super = false, false, false
	case m.of.Host && m.of.Super:
		m.of.Host, m.of.Super, m.of.Out = false, false, true
	case m.of.Super:
		m.of.Host = true
	case m.of.Host:
		m.of.Host, m.of.Super = false, true
	default:
		m.of.Host = true
	}
	return m.Show()
}

// apply does it.
func (m *Enrol) apply() tea.Cmd {
	m.busy, m.writes = "writing, and proving it …", true
	plan, of, tools := m.plan, m.of, m.s.Tools()
	return m.s.Run(func() tea.Msg {
		var steps []string
		err := tools.Enrol(context.Background(), plan, of, func(say string) { steps = append(steps, say) })
		return enrolled{plan, steps, err}
	})
}

// Update takes a message.
func (m *Enrol) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case looked:
		if m.busy, m.plan, m.err = "", msg.plan, msg.err; msg.err == nil {
			m.preview = msg.plan.Preview()
		}
	case enrolled:
		m.busy, m.writes, m.steps, m.err, m.done = "", false, msg.steps, msg.err, true
		m.forget()
	case tea.KeyPressMsg, tea.MouseWheelMsg:
		m.at.Take(msg, len(m.preview), m.room(m.head()))
	}
	return nil
}

// head is what stands above the preview: what it is about, what was done, and what came of it.
func (m *Enrol) head() []string {
	columns, t := m.Columns, m.s.Theme
	title := t.Accent.Render("enrol ") + t.Strong.Render(sanitize.Line(m.of.Session, 60)) + t.Accent.Render(" at ") + t.Strong.Render(sanitize.Line(m.of.Issuer, 60))
	variant := m.variant()
	if variant != "" {
		variant = t.Faint.Render(variant)
	}
	lines := []string{t.Title(title, variant, columns, fit.Spread)}
	say := func(text string, style func(...string) string) {
		for _, l := range fit.Wrap(sanitize.Line(text, 1000), max(columns-8, 20)) {
			lines = append(lines, fit.Cut("   "+style(l), columns))
		}
	}
	for _, step := range m.steps {
		say(theme.Done+" "+step, t.Text.Render)
	}
	switch {
	case m.busy != "":
		say(m.busy, t.Faint.Render)
	case m.err != nil:
		say(said(m.err), t.Verdict(gate.Shut).Render)
	case m.done:
		say("done", t.Verdict(gate.Open).Render)
	}
	return lines
}

// room is how many lines of the preview show below its head.
func (m *Enrol) room(head []string) int { return max(m.Rows-len(head)-1, 1) }

// View draws the task.
func (m *Enrol) View() []string {
	columns, t := m.Columns, m.s.Theme
	lines := m.head()
	if m.done {
		return lines
	}
	from, to := m.at.Window(len(m.preview), m.room(lines))
	for i := from; i < to; i++ {
		style := t.Faint
		switch {
		case strings.HasPrefix(m.preview[i], "+ "):
			style = t.Verdict(gate.Open)
		case strings.HasPrefix(m.preview[i], "- "):
			style = t.Verdict(gate.Shut)
		}
		lines = append(lines, fit.Cut("   "+style.Render(m.preview[i]), columns))
	}
	if below := len(m.preview) - to; below > 0 {
		lines = append(lines, "   "+t.Faint.Render("more below"))
	}
	return lines
}
