package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/shells"
	"meatus/tui/stack"
	"meatus/tui/theme"
)

// helpLayer is the help: a page of all keys.
type helpLayer struct {
	stack.Base
	a    *App
	page int
}

// showHelp shows the help in place of the switcher or on top of what shows.
func (a *App) showHelp() tea.Cmd {
	if open := layer[*switchLayer](a.stack); open != nil {
		a.stack.Drop(open)
	}
	return a.push(&helpLayer{a: a})
}

func (l *helpLayer) Shape() stack.Shape  { return stack.Page }
func (l *helpLayer) Typing() bool        { return true } // every key is its own
func (l *helpLayer) Table() action.Table { return nil }

// Update turns the pages; any other key puts the help away.
func (l *helpLayer) Update(msg tea.Msg) tea.Cmd {
	key, ok := msg.(tea.KeyPressMsg)
	if !ok {
		return nil
	}
	pages := l.pages()
	switch key.String() {
	case "?", "down", "right", "pgdown", "space":
		l.page = (l.page + 1) % pages
	case "up", "left", "pgup":
		l.page = max(l.page-1, 0)
	default:
		l.a.stack.Drop(l)
	}
	return nil
}

// group is some keys in the help, under a name.
type group struct {
	name  string
	hints []theme.Hint
}

// The groups that plain lines leave out.
const (
	marksGroup = "marks"
	shellGroup = "in a shell"
)

// helpGroups are what "?" shows: the keys of what has them, those of everywhere, those of a
// shell, and the marks.
func (a *App) helpGroups() []group {
	leader := a.options.Leader
	under := a.under()
	here, name := under.Table().Help(), places[a.at()].Name
	if under.Shape() != stack.Place {
		name = "this"
	}
	everywhere := append(hints(a.frameTable().Help()), theme.Hint{Key: leader, Does: "go to a place or shell"})
	inShell := []theme.Hint{{Key: leader, Does: "go elsewhere"}, {Key: leader + " twice", Does: "send the key itself"}, {Key: leader + " :", Does: "find an action"}}
	for _, s := range shells.Actions() {
		inShell = append(inShell, theme.Hint{Key: leader + " " + s.Key, Does: s.Does})
	}
	inShell = append(inShell, theme.Hint{Key: "shift+pgup", Does: "scroll back, like the wheel"}, theme.Hint{Key: "mouse", Does: "select and copy"}, theme.Hint{Key: "else", Does: "is sent to the remote shell"})
	marks := group{marksGroup, []theme.Hint{
		{Key: "● open", Does: "works"}, {Key: "◐ warning", Does: "works, but something is wrong"},
		{Key: "╳ blocked", Does: "fails, or will fail"}, {Key: "○ not checked", Does: "not known"},
		{Key: "━ live", Does: "connected"}, {Key: "╍ frozen", Does: "connected, but no answer"}, {Key: "─ known", Does: "the host key is trusted"}, {Key: "┈ new", Does: "never connected"},
	}}
	groups := []group{marks}
	for _, g := range here {
		of := name
		if g.Name != "" {
			of += ": " + g.Name
		}
		groups = append(groups, group{of, g.Hints})
	}
	groups = append(groups, group{"everywhere", everywhere}, group{shellGroup, inShell})
	if a.inShell() { // those come first
		groups = append(groups[len(groups)-1:], groups[:len(groups)-1]...)
	}
	for i := range groups {
		a.keymap.Hints(groups[i].hints)
	}
	return groups
}

// hints are those of all groups.
func hints(groups []action.Group) []theme.Hint {
	var all []theme.Hint
	for _, g := range groups {
		all = append(all, g.Hints...)
	}
	return all
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

// laid are the columns of the help, how many of them a page has, and how wide each is.
func (l *helpLayer) laid() (columns [][]string, count, width int) {
	a := l.a
	rows := max(a.height-2, 1)
	count = max((a.width-1)/39, 1)
	width = (a.width - 1) / count
	columns = a.helpColumns(rows, width-1)
	if len(columns) < count { // there is room for wider ones
		count = len(columns)
		width = min((a.width-1)/count, 60)
		columns = a.helpColumns(rows, width-1)
	}
	return columns, count, width
}

func (l *helpLayer) pages() int {
	columns, count, _ := l.laid()
	return (len(columns) + count - 1) / count
}

// View draws a page of the help: as many columns as the window has room for.
func (l *helpLayer) View() []string {
	a, t := l.a, l.a.theme
	columns, count, width := l.laid()
	pages := (len(columns) + count - 1) / count
	page := l.page % pages // the window may have grown
	shown := columns[page*count : min((page+1)*count, len(columns))]
	say := "any key closes this"
	if pages > 1 {
		say = fmt.Sprintf("page %d of %d: ↓ next page, any other key closes this", page+1, pages)
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
