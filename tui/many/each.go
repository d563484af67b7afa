package many

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// least is how many columns the output of one kind needs beside others.
const least = 40

// Each runs a command at several sessions' machines.
type Each struct {
	stack.Base
	s       *place.Services
	names   []string
	careful []string // those whose names have to be typed
	input   *line.Line
	command string // that is run once the names are typed
	note    string

	job   *work.Each // nil until it runs
	id    work.ID
	alike []work.Alike // once it has run
	first int          // of alike, the leftmost that shows
	at    scroll.Cursor
}

// NewEach returns a command to be run at sessions by name.
func NewEach(s *place.Services, names []string) stack.Layer {
	return &Each{s: s, names: names, careful: s.Workspace().Book.Careful(names...), input: line.New(s.Theme, "")}
}

// Typing tells whether keys go into the command or a name.
func (m *Each) Typing() bool { return m.job == nil }

func (m *Each) over() bool { return m.alike != nil }

// Table is what can be done.
func (m *Each) Table() action.Table {
	away := func() tea.Cmd { m.s.Close(); return nil }
	switch {
	case m.job == nil:
		return action.Table{action.On("enter", "run it", m.typed), action.On("esc ctrl+c", "cancel", away)}
	case !m.over():
		return action.Table{
			action.On("esc ctrl+c", "stop", func() tea.Cmd { m.s.Jobs.Stop(m.id); return nil }),
			action.On("b", "go on with it in the background", away),
		}
	}
	side := func(by int) func() tea.Cmd {
		return func() tea.Cmd { m.first = max(min(m.first+by, len(m.alike)-1), 0); return nil }
	}
	return action.Table{
		action.On("esc ctrl+c q enter", "close", away),
		action.On("left right", "other outputs", nil).If(func() bool { return len(m.alike) > 1 }, "").Ranked(action.Movement),
		action.On("left", "", side(-1)).Ranked(action.Hidden),
		action.On("right", "", side(1)).Ranked(action.Hidden),
		action.On("up down", "the rest", nil).If(func() bool { return m.longest() > m.room() }, "").Ranked(action.Movement),
	}
}

// typed takes the command, or a name.
func (m *Each) typed() tea.Cmd {
	text := strings.TrimSpace(m.input.Text())
	if text == "" {
		return nil
	}
	if m.command == "" {
		m.command = text
		m.input.Begin("")
	} else if text != m.careful[0] {
		m.note = "that is not " + m.careful[0]
		return nil
	} else {
		m.careful = m.careful[1:]
		m.input.Begin("")
	}
	if m.note = ""; len(m.careful) > 0 {
		return nil
	}
	var routes []route.Route
	for _, name := range m.names {
		r, err := m.s.Workspace().Planner().Plan(name)
		if err != nil {
			m.note, m.command = name+": "+err.Error(), ""
			return nil
		}
		routes = append(routes, r)
	}
	m.job = &work.Each{Tools: m.s.Tools(), Routes: routes, Command: m.command}
	m.id = m.s.Jobs.Begin(m.job)
	return nil
}

// Update takes a message.
func (m *Each) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case place.Heard:
		if e, ok := msg.Event.(work.Ended); ok && m.job != nil && e.State.ID == m.id {
			m.alike = work.Gather(m.job.Results)
			if m.job.Results == nil {
				m.alike = []work.Alike{}
			}
		}
	case tea.KeyPressMsg, tea.PasteMsg:
		if m.job == nil {
			m.input.Take(msg)
			return nil
		}
		m.at.Take(msg, max(m.longest()-m.room()+1, 1), m.room())
	}
	return nil
}

// longest is how many lines the longest output has.
func (m *Each) longest() int {
	n := 0
	for _, a := range m.alike {
		n = max(n, len(a.Lines))
	}
	return n
}

// Shape is below the board; the outputs take the place of the board, too.
func (m *Each) Shape() stack.Shape {
	if m.over() && len(m.alike) > 0 {
		return stack.Wide
	}
	return stack.Below
}

// room is how many lines of the outputs show.
func (m *Each) room() int { return max(m.Rows-stack.CardRows(m.Rows)-2, 1) }

// outputs draws the outputs side by side.
func (m *Each) outputs(width, height int) []string {
	t := m.s.Theme
	shown := m.alike[m.first:min(m.first+max(width/least, 1), len(m.alike))]
	wide := width / len(shown)
	lines := make([]string, height)
	for _, a := range shown {
		who := a.Sessions[0]
		if n := len(a.Sessions); n > 1 {
			who = fmt.Sprintf("%s and %d more", who, n-1)
		}
		column := []string{fit.Cut(" "+t.Mark(standing(a.Result))+" "+t.Strong.Render(who)+t.Faint.Render("  "+sanitize.Line(a.Ended(), 200)), wide-2), ""}
		for _, l := range a.Lines[min(m.at.At, len(a.Lines)):] {
			column = append(column, fit.Cut(m.output(l), wide-2))
		}
		if a.Failed != nil {
			for _, l := range fit.Wrap(sanitize.Line(a.Ended(), 600), wide-6) {
				column = append(column, "   "+t.Verdict(gate.Shut).Render(l))
			}
		} else if len(a.Lines) == 0 {
			column = append(column, "   "+t.Faint.Render("nothing was printed"))
		}
		if a.Cut {
			column = append(column, "   "+t.Faint.Render("… there was more; run it there alone"))
		}
		for row := range lines {
			text := ""
			if row < len(column) {
				text = column[row]
			}
			lines[row] += fit.Pad(text, wide)
		}
	}
	return lines
}

// output is one line of it, marked where it differs from what most printed.
func (m *Each) output(l work.Line) string {
	t := m.s.Theme
	text := " " + string(l.Mark) + " " + l.Text
	switch l.Mark {
	case '+':
		return t.Accent.Render(text)
	case '-':
		return t.Faint.Render(text)
	case '!':
		return t.Verdict(gate.Ajar).Render(text)
	}
	return text
}

// standing is how what came of the command stands.
func standing(r work.Result) gate.Verdict {
	switch {
	case r.Failed != nil:
		return gate.Shut
	case r.Status != 0 || r.Signal != "":
		return gate.Ajar
	}
	return gate.Open
}

// View draws what is asked for, how far it is, or what came of it at which machines.
func (m *Each) View() []string {
	if m.Shape() == stack.Wide {
		upper := max(m.Rows-stack.CardRows(m.Rows), 0)
		return append(m.outputs(m.Columns, upper), m.state(m.Columns, stack.CardRows(m.Rows))...)
	}
	return m.state(m.Columns, m.Rows)
}

// state draws the command, how far it is, or what came of it.
func (m *Each) state(width, height int) []string {
	t := m.s.Theme
	of := words.Count(len(m.names), "session")
	title := func(right string) []string {
		return []string{t.Title(t.Accent.Render("run at the marked")+t.Rule.Render(" ─ ")+t.Strong.Render(of), right, width, fit.Spread)}
	}
	if m.job == nil {
		lines := title(t.Faint.Render("8 at a time, a minute each; nothing is lent"))
		prompt := "command "
		if m.command != "" {
			prompt = m.careful[0] + " is marked careful; type its name: "
			lines = append(lines, "   "+t.Faint.Render("command ")+fit.Cut(m.command, width-14))
		}
		lines = append(lines, "   "+t.Accent.Render(prompt)+m.input.View(max(width-len(prompt)-6, 12)))
		if m.note != "" {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(fit.Cut(m.note, width-4)))
		}
		for _, l := range fit.Wrap(strings.Join(m.names, ", "), width-8) {
			lines = append(lines, "     "+t.Faint.Render(l))
		}
		return lines[:min(len(lines), height)]
	}
	state, _ := m.s.Jobs.Get(m.id)
	if !m.over() {
		lines := title(t.Accent.Render(fmt.Sprintf("%d of %d", len(state.Steps), len(m.names))))
		lines = append(lines, "   "+t.Faint.Render("command ")+fit.Cut(m.command, width-14))
		for _, step := range slices.Backward(state.Steps) {
			lines = append(lines, fit.Hang("   "+t.Mark(step.Verdict)+" "+fit.Pad(step.Where, 16)+" "+step.Say, 22, width).Whole...)
		}
		return lines[:min(len(lines), height)]
	}
	right := t.Verdict(gate.Open).Render("done")
	if state.Err != nil {
		right = t.Verdict(gate.Shut).Render("stopped")
	}
	lines := append(title(right), "   "+t.Faint.Render("command ")+fit.Cut(m.command, width-14))
	at := scroll.Cursor{At: m.first}
	list, _ := at.Rows(len(m.alike), max(height-len(lines), 1), func(i int) fit.Row {
		a, pointer := m.alike[i], "  "
		if i == m.first && len(m.alike) > 1 {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		who := a.Sessions[0]
		if n := len(a.Sessions); n > 1 {
			who = fmt.Sprintf("%d machines: %s", n, strings.Join(a.Sessions, ", "))
		}
		room := max(width/3, 16)
		return fit.Columns(" "+pointer+t.Mark(standing(a.Result))+" ", t.Strong.Render(who), room, " "+sanitize.Line(a.Ended(), 200), width)
	})
	lines = append(lines, list...)
	return lines[:min(len(lines), height)]
}
