package jobs

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Task shows one job in place of the card, as it goes on and what came of it. The job
// goes on when the task is put away.
type Task struct {
	stack.Base
	s  *place.Services
	id work.ID
	at scroll.Cursor
	// follow has the cursor stay at the newest step while the job runs.
	follow   bool
	followed bool // what was offered after it is done
}

// NewTask shows a job.
func NewTask(s *place.Services, id work.ID) *Task { return &Task{s: s, id: id, follow: true} }

func (m *Task) state() work.State {
	s, _ := m.s.Jobs.Get(m.id)
	return s
}

// Table is what can be done.
func (m *Task) Table() action.Table {
	over := m.state().Over()
	away := func() tea.Cmd { m.s.Close(); return nil }
	next, follows := m.follows()
	return action.Table{
		action.On("esc ctrl+c", "stop", func() tea.Cmd { m.s.Jobs.Stop(m.id); return nil }).If(func() bool { return !over }, "it is over").Also("cancel abort"),
		action.On("b", "go on with it in the background", away).If(func() bool { return !over }, "it is over"),
		action.On("enter", next.Say, func() tea.Cmd { return m.doNext(next) }).If(func() bool { return follows }, "nothing follows").Suits(func() bool { return follows }),
		action.On("esc ctrl+c q enter", "close", away).If(func() bool { return over }, "it is not over").Also("close"),
		action.On("up down", "the rest", nil).If(func() bool { return over && len(m.state().Steps) > 4 }, "").Ranked(action.Movement),
	}
}

// Update takes a message.
func (m *Task) Update(msg tea.Msg) tea.Cmd {
	steps := m.state().Steps
	switch msg := msg.(type) {
	case place.Heard:
		switch e := msg.Event.(type) {
		case work.Stepped:
			if e.ID == m.id && m.follow {
				m.at.At = max(len(steps)-1, 0)
			}
		case work.Ended:
			if e.State.ID == m.id {
				m.follow, m.at = false, scroll.Cursor{}
			}
		}
	case tea.KeyPressMsg:
		m.at.Take(msg, len(steps), 6)
		m.follow = m.at.At == len(steps)-1
	}
	return nil
}

// View draws the job.
func (m *Task) View() []string {
	width, height := m.Columns, m.Rows
	s := m.state()
	return append([]string{title(m.s.Theme, s, width)}, steps(m.s.Theme, s, m.at, width, height-1)...)
}

// title names a job and how it stands.
func title(t *theme.Theme, s work.State, width int) string {
	return t.Title(t.Accent.Render(s.Title.What)+t.Rule.Render(" ─ ")+t.Strong.Render(s.Title.Of), stands(t, s), width, fit.Spread)
}

func stands(t *theme.Theme, s work.State) string {
	switch {
	case !s.Over():
		return t.Accent.Render("under way …")
	case s.Err != nil:
		return t.Verdict(gate.Shut).Render("stopped")
	}
	return t.Verdict(gate.Open).Render("done")
}

// steps draws a job's steps around a cursor, and what stopped it.
func steps(t *theme.Theme, s work.State, at scroll.Cursor, width, height int) []string {
	tail := failure(t, s, width)
	wide := 10
	for _, step := range s.Steps {
		wide = min(max(wide, len([]rune(step.Where))), 20)
	}
	room := max(height-len(tail)-1, 1)
	lines, below := at.Rows(len(s.Steps), room, func(i int) fit.Row {
		step, pointer := s.Steps[i], "  "
		if i == at.At && s.Over() && len(s.Steps) > 1 {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		say := step.Say
		if step.Err != nil {
			say += ": " + step.Err.Error()
		}
		head := " " + pointer + t.Mark(step.Verdict) + " " + t.Strong.Render(fit.Pad(step.Where, wide)) + "  "
		return fit.Hang(head+say, fit.Width(head), width)
	})
	if below > 0 {
		last := len(lines) - 1
		lines[last] = fit.Cut(lines[last], width-16) + t.Faint.Render("  "+fmt.Sprintf("%d more below", below))
	}
	if len(s.Steps) == 0 && !s.Over() {
		lines = append(lines, "   "+t.Faint.Render("connecting …"))
	}
	return append(lines, tail...)
}

// failure is why a job failed, in lines.
func failure(t *theme.Theme, s work.State, width int) []string {
	if s.Err == nil {
		return nil
	}
	say := s.Err.Error()
	if s.Stopped() {
		say = "stopped by you; " + say
	}
	var lines []string
	for i, l := range fit.Wrap(say, width-8) {
		mark := " "
		if i == 0 {
			mark = t.Mark(gate.Shut)
		}
		lines = append(lines, "   "+mark+" "+t.Verdict(gate.Shut).Render(l))
	}
	return lines[:min(len(lines), 4)]
}

// follows is what is offered after the job.
func (m *Task) follows() (f work.Follow, ok bool) {
	s := m.state()
	if job, is := s.Job.(work.Follower); is && s.Over() && s.Err == nil && !m.followed {
		return job.Follow()
	}
	return f, false
}

// doNext makes the edit that is offered.
func (m *Task) doNext(f work.Follow) tea.Cmd {
	m.followed = true
	adopt, notice, record := m.s.Adopt, m.s.Notice, m.s.Record
	m.s.Close()
	return m.s.Run(func() tea.Msg {
		b, err := f.Edit()
		if b == nil {
			notice(f.Session + ": " + err.Error())
			return nil
		}
		adopt(b, f.Session, f.Done)
		record(trail.Entry{Kind: trail.Edit, Session: f.Session, Say: f.Done})
		return nil
	})
}
