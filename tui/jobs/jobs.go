// Package jobs is the place of jobs: what takes its time, several at once, each with its
// steps, while it goes on and after it has ended.
package jobs

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	list          *list.List[work.ID, work.State] // the newest first
	step          scroll.Cursor                   // among the steps of the chosen job
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, list: list.New(func(j work.State) work.ID { return j.ID })}
}

// Show lists the jobs as they are.
func (m *Model) Show() tea.Cmd {
	m.read()
	return nil
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.list.SetRoom(m.room())
}

// read lists the jobs, the newest first.
func (m *Model) read() {
	all := m.s.Jobs.All()
	slices.Reverse(all)
	m.list.Set(all)
}

func (m *Model) selected() (work.State, bool) { return m.list.Selected() }

// Subject is the job that is chosen.
func (m *Model) Subject() string {
	s, ok := m.selected()
	if !ok {
		return ""
	}
	return s.Title.What + " " + s.Title.Of
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	s, ok := m.selected()
	running := ok && !s.Over()
	move := func(by int) func() tea.Cmd {
		return func() tea.Cmd { m.step.Move(by, len(s.Steps), m.stepRows()); return nil }
	}
	return action.Table{
		action.On("esc q ctrl+c", "to Routes", func() tea.Cmd { return m.s.Go("0", s.Title.Session) }),
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("D", "stop it", func() tea.Cmd { m.s.Jobs.Stop(s.ID); return nil }).If(func() bool { return running }, "it does not run").Also("cancel abort end"),
		action.On("right", "the next step", move(1)).If(func() bool { return len(s.Steps) > 1 }, "there is no other"),
		action.On("left", "the step before", move(-1)).If(func() bool { return len(s.Steps) > 1 }, "there is no other"),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case place.Heard:
		switch msg.Event.(type) {
		case work.Begun, work.Stepped, work.Ended:
			m.read()
		}
	case tea.KeyPressMsg, tea.MouseMsg: // the wheel moves
		if m.list.Take(msg) {
			m.step = scroll.Cursor{}
		}
	}
	return nil
}

// room is how many jobs fit, stepRows how many steps of the chosen one.
func (m *Model) room() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-2, 3)
	}
	return max(m.height*40/100-1, 3)
}

func (m *Model) stepRows() int {
	if _, _, beside := place.Halves(m.width); beside {
		return max(m.height-2, 1)
	}
	return max(m.height-m.room()-2, 1)
}

// View draws the jobs, and the chosen one's steps.
func (m *Model) View() []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Accent.Render("jobs"), t.Faint.Render(fmt.Sprintf("%d under way", m.s.Jobs.Running())), m.width, fit.Spread)}
	if m.list.Len() == 0 {
		return append(append(lines, ""), fit.Hang("   "+t.Faint.Render("Nothing is under way. Sweeping, installing and rotating keys, and drawing, go on here while you work."), 3, m.width-1).Whole...)
	}
	width, pane, beside := place.Halves(m.width)
	rows := m.list.Lines(func(s work.State, chosen bool) string {
		pointer := "  "
		if chosen {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		mark, end := t.Accent.Render("◜"), time.Now()
		if s.Over() {
			mark, end = t.Mark(gate.Open), s.Ended
			if s.Err != nil {
				mark = t.Mark(gate.Shut)
			} else if verdict := worst(s.Steps); verdict != gate.Untried {
				mark = t.Mark(verdict)
			}
		}
		return fit.Cut(fmt.Sprintf(" %s%s %s %s %s  %s", pointer, mark, fit.Pad(s.Title.What, 22), t.Strong.Render(fit.Pad(s.Title.Of, min(28, width/5))), t.Faint.Render(fit.Pad(fit.Ago(end.Sub(s.Began)), 7)), sum(s)), width)
	})
	var told []string
	if s, ok := m.selected(); ok {
		told = append([]string{title(t, s, pane)}, steps(t, s, m.step, pane, m.stepRows())...)
	}
	if beside {
		return append(lines, place.Joined(t, rows, told, width, max(m.height-1, 0))...)
	}
	lines = append(lines, rows...)
	for len(lines) < m.room()+1 {
		lines = append(lines, "")
	}
	return append(lines, told...)
}

// worst is the worst verdict of a job's steps, untried where there are none.
func worst(steps []work.Step) gate.Verdict {
	verdict := gate.Untried
	for _, step := range steps {
		if v := step.Verdict; step.Err != nil {
			return gate.Shut
		} else if v > verdict {
			verdict = v
		}
	}
	return verdict
}

// sum says in a line how a job stands: the step it is at, or how many it took and how
// many of those want to be looked at.
func sum(s work.State) string {
	n := len(s.Steps)
	switch {
	case s.Err != nil:
		return s.Err.Error()
	case n == 0:
		return ""
	case !s.Over() || n == 1:
		return s.Steps[n-1].Where + ": " + s.Steps[n-1].Say
	}
	look := 0
	for _, step := range s.Steps {
		if step.Err != nil || step.Verdict == gate.Ajar || step.Verdict == gate.Shut {
			look++
		}
	}
	say := words.Count(n, "step")
	if look > 0 {
		say += fmt.Sprintf(", %d to look at", look)
	}
	return say
}
