package tui

import (
	"fmt"
	"slices"

	"github.com/charmbracelet/x/ansi"

	"meatus/tui/fit"
	"meatus/tui/shells"
	"meatus/tui/theme"
)

// helping is the help: whether it shows, and which page of it.
type helping struct {
	on   bool
	page int
}

// helpKey turns the pages of the help; any other key puts it away.
func (a *App) helpKey(key string) {
	switch key {
	case "?", "down", "right", "pgdown", "space":
		a.help.page++
	case "up", "left", "pgup":
		a.help.page = max(a.help.page-1, 0)
	default:
		a.help = helping{}
	}
}

// group is some keys in the help, under a name.
type group struct {
	name  string
	hints []theme.Hint
}

// helpGroups are what "?" shows: the keys of what has them, those of everywhere, those of a
// shell, and the marks.
func (a *App) helpGroups() []group {
	leader := a.options.Leader
	here, name := a.focused().Table().Help(), places[a.at].Name
	if a.at == 0 && a.task.Task != nil {
		name = "this"
	}
	everywhere := append(a.frameTable().Help(), theme.Hint{Key: leader, Does: "go to a place or shell"})
	inShell := []theme.Hint{{Key: leader, Does: "go elsewhere"}, {Key: leader + " twice", Does: "send it through"}, {Key: leader + " :", Does: "find an action"}}
	for _, s := range shells.Actions() {
		inShell = append(inShell, theme.Hint{Key: leader + " " + s.Key, Does: s.Does})
	}
	inShell = append(inShell, theme.Hint{Key: "shift+pgup", Does: "scroll back, as the wheel"}, theme.Hint{Key: "mouse", Does: "select and copy"}, theme.Hint{Key: "else", Does: "goes to the far side"})
	groups := []group{
		{name, here},
		{"everywhere", everywhere},
		{"in a shell", inShell},
		{"marks", []theme.Hint{
			{Key: "● open", Does: "holds"}, {Key: "◐ ajar", Does: "holds, but something is off"},
			{Key: "╳ shut", Does: "will fail, or failed"}, {Key: "○ untried", Does: "not known from here"},
			{Key: "━ live", Does: "a link is up"}, {Key: "╍ frozen", Does: "it does not answer"}, {Key: "─ known", Does: "its identity is vouched for"}, {Key: "┈ new", Does: "never visited"},
		}},
	}
	if a.inShell {
		groups[0], groups[2] = groups[2], groups[0]
	}
	for i := range groups {
		a.keymap.Hints(groups[i].hints)
	}
	return groups
}

// helpColumns lays the help out in columns of so many rows, each at most width wide.
func (a *App) helpColumns(rows, width int) [][]string {
	var columns [][]string
	column := []string{}
	next := func() {
		columns, column = append(columns, column), nil
	}
	for i, g := range a.helpGroups() {
		lines := a.helpGroup(g, width)
		if i > 0 && len(column)+min(len(lines), 6) > rows {
			next()
		}
		for _, l := range lines {
			if len(column) == rows {
				next()
			}
			column = append(column, l)
		}
		if len(column) < rows {
			column = append(column, "")
		}
	}
	next()
	return columns
}

// helpPage draws a page of the help: as many columns as the window has room for.
func (a *App) helpPage() []string {
	t := a.theme
	rows, count := max(a.height-2, 1), max((a.width-1)/39, 1)
	width := (a.width - 1) / count
	columns := a.helpColumns(rows, width-1)
	if len(columns) < count { // there is room for wider ones
		count = len(columns)
		width = min((a.width-1)/count, 60)
		columns = a.helpColumns(rows, width-1)
	}
	pages := (len(columns) + count - 1) / count
	a.help.page %= pages
	shown := columns[a.help.page*count : min((a.help.page+1)*count, len(columns))]
	say := "any key puts this away"
	if pages > 1 {
		say = fmt.Sprintf("page %d of %d: ↓ goes on, any other key puts this away", a.help.page+1, pages)
	}
	lines := []string{t.Title(t.Accent.Render("all keys"), t.Faint.Render(say), a.width, fit.Spread)}
	for row := range slices.MaxFunc(shown, func(a, b []string) int { return len(a) - len(b) }) {
		line := " "
		for _, column := range shown {
			text := ""
			if row < len(column) {
				text = column[row]
			}
			line += fit.Pad(text, width-1) + " "
		}
		lines = append(lines, line)
	}
	return lines
}

// helpGroup are the lines of a group, at most width columns wide.
func (a *App) helpGroup(g group, width int) []string {
	t := a.theme
	wide := 0
	for _, h := range g.hints {
		wide = max(wide, ansi.StringWidth(h.Key))
	}
	lines := []string{t.Strong.Render(g.name)}
	for _, h := range g.hints {
		column := min(wide, 16) + 1
		lines = append(lines, fit.Hang(t.Key.Render(fit.Pad(h.Key, column))+t.Faint.Render(h.Does), column, width).Whole...)
	}
	return lines
}
