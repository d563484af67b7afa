package estates

import (
	"context"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/scroll"
)

// console is the console output of an instance, read again and again while it shows.
type console struct {
	source estate.Source
	id, of string // the instance, and its name
	text   string
	lines  []string
	at     scroll.Cursor
	free   bool // the person has moved: new output does not move the view
	read   bool
	err    error
}

// The messages of the console.
type (
	consoleRead struct {
		id, text string
		err      error
	}
	consoleDue struct{ id string }
)

// showConsole shows the console of the chosen instance in place of the networks.
func (m *Model) showConsole() tea.Cmd {
	e, ok := m.source()
	if s := m.chosen(); ok && s != nil {
		m.console = &console{source: estate.Source{Dir: m.s.Workspace().Dir, EstateSource: e}, id: s.Instance.ID, of: called(s.Instance)}
		return m.readConsole()
	}
	return nil
}

// consoleCan reports whether the source of the chosen instance hands out consoles.
func (m *Model) consoleCan() bool {
	e, ok := m.source()
	return ok && m.chosen() != nil && (&estate.Source{EstateSource: e}).Acts()
}

func (m *Model) readConsole() tea.Cmd {
	source, id := m.console.source, m.console.id
	return m.s.Run(func() tea.Msg {
		text, err := source.Console(context.Background(), id) // which has a bound of its own
		return consoleRead{id, text, err}
	})
}

// takeConsole takes what was read, and reads again in a moment while it shows.
func (m *Model) takeConsole(msg consoleRead) tea.Cmd {
	c := m.console
	if c == nil || c.id != msg.id {
		return nil
	}
	c.read, c.err = true, msg.err
	if msg.err == nil && msg.text != c.text {
		c.text = msg.text
		c.lines = nil
		for line := range strings.Lines(msg.text) {
			c.lines = append(c.lines, sanitize.Code(strings.TrimRight(line, "\r\n"), 1000))
		}
		if !c.free {
			c.at = scroll.Cursor{}
			c.at.Move(len(c.lines), len(c.lines), m.consoleRoom())
		}
	}
	return m.s.After(estate.ConsolePace, consoleDue{c.id})
}

// consoleRoom is how many lines of output show at once.
func (m *Model) consoleRoom() int { return max(m.height-1, 1) }

func (m *Model) consoleTable() action.Table {
	c := m.console
	return action.Table{
		action.On("up down", "scroll", nil).Ranked(action.Movement),
		action.On("y", "copy the output", func() tea.Cmd { return m.s.Copy(strings.Join(c.lines, "\n")) }).If(func() bool { return len(c.lines) > 0 }, "there is no output"),
		action.On("r", "read again", func() tea.Cmd { return m.readConsole() }),
		action.On("esc q ctrl+c", "to the instances", func() tea.Cmd { m.console = nil; return nil }),
	}
}

// moveConsole scrolls.
func (m *Model) moveConsole(msg tea.Msg) {
	c := m.console
	c.at.Take(msg, len(c.lines), m.consoleRoom())
	c.free = c.at.At < len(c.lines)-1
}

// consoleView draws the output.
func (m *Model) consoleView() []string {
	t, c := m.s.Theme, m.console
	right := t.Faint.Render(words.Count(len(c.lines), "line") + ", read every 2 s")
	lines := []string{t.Title(t.Accent.Render("estate / console of ")+t.Strong.Render(sanitize.Line(c.of, 60)), right, m.width, fit.Spread)}
	switch {
	case c.err != nil:
		for _, l := range fit.Wrap(c.err.Error(), m.width-8) {
			lines = append(lines, "   "+t.Mark(gate.Shut)+" "+t.Verdict(gate.Shut).Render(l))
		}
	case !c.read:
		return append(lines, "", "   "+t.Faint.Render("looking …"))
	case len(c.lines) == 0:
		return append(lines, "", "   "+t.Faint.Render("It has printed nothing yet."))
	}
	from, to := c.at.Window(len(c.lines), max(m.consoleRoom()-len(lines)+1, 1))
	for _, l := range slices.Clone(c.lines[from:to]) {
		lines = append(lines, " "+fit.Cut(l, m.width-2))
	}
	return lines
}
