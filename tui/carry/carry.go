// Package carry shows work at far machines as it goes on, in place of the card:
// putting a key into a list, rotating one, sweeping an account. Each step is a
// line; what was found stays until it is left.
package carry

import (
	"context"
	"errors"
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/tui/fit"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Line is one step, or one thing that was found.
type Line struct {
	Verdict gate.Verdict
	Where   string // the session, or what kind of thing it is
	Say     string
}

// Job is the work. It tells its lines as they come.
type Job struct {
	What    string // "sweep", "install", "rotate"
	Of      string // which session or key
	Session string
	Kind    trail.Kind
	Run     func(ctx context.Context, tell func(Line)) error
}

// Left says that the person goes on.
type Left struct{}

// Done says that the work has ended, with what the trail is to have of it.
type Done struct {
	Job     Job
	Entries []trail.Entry
}

type (
	told struct {
		n    int
		line Line
	}
	ended struct {
		n   int
		err error
	}
)

// Model is work under way, or what came of it.
type Model struct {
	theme  *theme.Theme
	width  int
	job    Job
	n      int
	lines  []Line
	at     scroll.Cursor
	room   int
	err    error
	over   bool
	cancel context.CancelFunc
	steps  chan tea.Msg
}

var count int

// New begins the work; run the command to have it told.
func New(ctx context.Context, job Job, t *theme.Theme, width int) (*Model, tea.Cmd) {
	count++
	m := &Model{theme: t, width: width, job: job, n: count, room: 8, steps: make(chan tea.Msg, 64)}
	ctx, m.cancel = context.WithCancel(ctx)
	steps, n := m.steps, m.n
	go func() {
		err := job.Run(ctx, func(l Line) { steps <- told{n, l} })
		steps <- ended{n, err}
	}()
	return m, m.listen()
}

func (m *Model) listen() tea.Cmd {
	steps := m.steps
	return func() tea.Msg { return <-steps }
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// Update takes a message.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case told:
		if msg.n == m.n {
			follow := m.at.At >= len(m.lines)-1
			m.lines = append(m.lines, msg.line)
			if follow {
				m.at.Move(len(m.lines), len(m.lines), m.room)
			}
			return nil, m.listen()
		}
	case ended:
		if msg.n == m.n {
			m.over, m.err = true, msg.err
			m.at.Move(-len(m.lines), len(m.lines), m.room)
			return Done{m.job, m.entries()}, nil
		}
	case tea.KeyPressMsg:
		if m.at.Take(msg, len(m.lines), m.room) {
			return nil, nil
		}
		switch msg.String() {
		case "esc", "ctrl+c", "q", "enter":
			if !m.over {
				if msg.String() == "esc" || msg.String() == "ctrl+c" {
					m.cancel()
				}
				return nil, nil
			}
			return Left{}, nil
		}
	}
	return nil, nil
}

// maxEntries is how many lines of one job the trail gets.
const maxEntries = 100

// entries are what the trail is to have.
func (m *Model) entries() []trail.Entry {
	var all []trail.Entry
	for i, l := range m.lines {
		if i == maxEntries {
			break
		}
		session, say := m.job.Session, l.Where+": "+l.Say
		if m.job.Kind == trail.Carry {
			session, say = l.Where, l.Say
		}
		all = append(all, trail.Entry{Kind: m.job.Kind, Session: session, Say: say})
	}
	if m.err != nil {
		all = append(all, trail.Entry{Kind: m.job.Kind, Session: m.job.Session, Say: m.job.What + " " + m.job.Of, Failed: m.err.Error()})
	}
	return all
}

// View draws the work in height lines.
func (m *Model) View(height int) []string {
	t := m.theme
	state := t.Accent.Render("under way …")
	if m.over {
		state = t.Verdict(gate.Open).Render("done")
		if m.err != nil {
			state = t.Verdict(gate.Shut).Render("stopped")
		}
	}
	lines := []string{t.Title(t.Accent.Render(m.job.What)+t.Rule.Render(" ─ ")+t.Strong.Render(m.job.Of), state, m.width, fit.Spread)}
	var failure []string
	if m.err != nil {
		say := m.err.Error()
		if errors.Is(m.err, context.Canceled) {
			say = "stopped by you; " + say
		}
		for i, l := range fit.Wrap(say, m.width-8) {
			mark := " "
			if i == 0 {
				mark = t.Mark(gate.Shut)
			}
			failure = append(failure, "   "+mark+" "+t.Verdict(gate.Shut).Render(l))
		}
		failure = failure[:min(len(failure), 4)]
	}
	if full := m.inFull(); len(failure) == 0 && len(full) > 0 {
		failure = append([]string{""}, full...)
	}
	m.room = max(height-len(lines)-len(failure)-1, 1)
	m.at.Move(0, len(m.lines), m.room)
	wide := 10
	for _, l := range m.lines {
		wide = min(max(wide, len([]rune(l.Where))), 20)
	}
	for i := m.at.Top; i < min(m.at.Top+m.room, len(m.lines)); i++ {
		l := m.lines[i]
		pointer, say := "  ", l.Say
		if i == m.at.At && m.over && len(m.lines) > 1 {
			pointer = t.Accent.Render("❯ ")
		}
		lines = append(lines, fit.Cut(" "+pointer+t.Mark(l.Verdict)+" "+t.Strong.Render(fit.Pad(l.Where, wide))+"  "+say, m.width))
	}
	if below := len(m.lines) - m.at.Top - m.room; below > 0 {
		lines[len(lines)-1] = fit.Cut(lines[len(lines)-1], m.width-16) + t.Faint.Render(fmt.Sprintf("  %d more below", below))
	}
	if len(m.lines) == 0 && !m.over {
		lines = append(lines, "   "+t.Faint.Render("walking there …"))
	}
	return append(lines, failure...)
}

// inFull is the line that is selected where it does not fit its row.
func (m *Model) inFull() []string {
	if !m.over || m.at.At >= len(m.lines) {
		return nil
	}
	l := m.lines[m.at.At]
	if len([]rune(l.Where))+len([]rune(l.Say)) < m.width-18 {
		return nil
	}
	var lines []string
	for _, part := range fit.Wrap(l.Say, m.width-8) {
		lines = append(lines, "     "+m.theme.Faint.Render(part))
	}
	return lines[:min(len(lines), 3)]
}

// Hints are the keys.
func (m *Model) Hints() []theme.Hint {
	if !m.over {
		return []theme.Hint{{Key: "esc", Does: "stop"}}
	}
	hints := []theme.Hint{{Key: "esc", Does: "go on"}}
	if len(m.lines) > m.room {
		hints = append(hints, theme.Hint{Key: "↑↓", Does: "the rest"})
	}
	return hints
}
