package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/sanitize"
	"meatus/tui/entry"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// View draws the program.
func (a *App) View() tea.View {
	v := tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, WindowTitle: "meatus " + a.name()}
	switch {
	case a.width == 0:
	case a.tooSmall():
		v.Content = a.smallView()
	case a.inShell && a.switcher == nil && !a.leaving:
		if a.shell.Shell().Frame().Modes.Mouse == 1003 {
			v.MouseMode = tea.MouseModeAllMotion
		}
		lines, cursor := a.shell.View(a.waiting(), a.roundTrip())
		v.Content, v.Cursor = strings.Join(lines, "\n"), cursor
		who, _ := a.shell.Shell().Where()
		v.WindowTitle = "meatus " + who
	case a.at != nil && a.switcher == nil && !a.leaving:
		lines := a.at.View()
		if a.notice != "" && len(lines) > 0 {
			lines[len(lines)-1] = a.footer()
		}
		v.Content = fit.Block(lines, a.width, a.height)
	default:
		v.Content = fit.Block(a.screen(), a.width, a.height)
	}
	return v
}

func (a *App) name() string {
	if a.options.Name != "" {
		return a.options.Name
	}
	return sanitize.Line(filepath.Base(a.ws.Dir), 40)
}

// waiting says in a shell that its line is frozen, or that a question waits
// elsewhere.
func (a *App) waiting() string {
	if s := a.shell.Shell(); s != nil && s.Live() {
		var prefixes []string
		for i := range s.Route.Hops {
			prefixes = append(prefixes, s.Route.Prefix(i))
		}
		if since, hop, ok := a.routes.Frozen(prefixes); ok {
			return fmt.Sprintf("frozen at %s: no byte for %s, typing is held", hop, fit.Ago(time.Since(since)))
		}
	}
	if !a.ask.Waiting() {
		return ""
	}
	return "a question waits at " + a.ask.Session() + ": " + a.options.Leader
}

// roundTrip is that of the link of the shell that shows, 0 where it is not known.
func (a *App) roundTrip() time.Duration {
	r := a.shell.Shell().Route
	return a.routes.RoundTrip(r.Prefix(len(r.Hops) - 1))
}

func (a *App) tooSmall() bool { return a.width < LeastWidth || a.height < LeastHeight }

func (a *App) smallView() string {
	text := fit.Wrap(fmt.Sprintf("Meatus needs a window of %d columns and %d rows; this one has %d and %d. Make it larger, or the letters smaller. Nothing has stopped.", LeastWidth, LeastHeight, a.width, a.height), max(a.width-2, 10))
	return fit.Block(text, a.width, a.height)
}

// screen draws everything but a shell alone.
func (a *App) screen() []string {
	if a.switcher != nil {
		return a.withSwitcher()
	}
	return a.routesScreen()
}

// routesScreen is Routes: header, board, the pane below, links, keys.
func (a *App) routesScreen() []string {
	t := a.theme
	strip := a.routes.Strip()
	pane := a.paneHeight()
	rest := max(a.height-2-pane, 1)
	if strip != "" {
		rest = max(rest-1, 0)
	}
	header := t.Title(t.Accent.Render("meatus")+t.Rule.Render(" ─ ")+t.Strong.Render(a.name()), a.summary(), a.width, fit.Spread)
	board := a.routes.Board(rest)
	if line, ok := a.task.(*entry.Model); ok && line.First() {
		board = line.Welcome(rest)
	}
	lines := append([]string{header}, upTo(board, rest)...)
	lines = append(lines, upTo(a.pane(pane), pane)...)
	if strip != "" {
		lines = append(lines, strip)
	}
	return append(lines, a.footer())
}

// summary counts the routes, and how far a look at them has come.
func (a *App) summary() string {
	s := a.routes.Summary()
	if a.look.cancel != nil {
		s = a.theme.Accent.Render(fmt.Sprintf("checking %d of %d", a.look.done, a.look.total)) + " · " + s
	}
	return s
}

// upTo makes lines exactly n.
func upTo(lines []string, n int) []string {
	for len(lines) < n {
		lines = append(lines, "")
	}
	return lines[:n]
}

// paneHeight is how much of the screen the card, or what stands in its place,
// takes.
func (a *App) paneHeight() int {
	if a.help {
		return max(len(a.helpPane()), 12)
	}
	return min(max(a.height*42/100, 12), 18)
}

// pane is what stands below the board.
func (a *App) pane(height int) []string {
	switch {
	case a.leaving:
		return a.leavingPane()
	case a.help:
		return a.helpPane()
	case a.ask.Waiting():
		return a.ask.View(height)
	case a.task != nil:
		return a.task.View(height)
	}
	return a.routes.Card(height)
}

func (a *App) leavingPane() []string {
	t := a.theme
	lines := []string{t.Title(t.Accent.Render("leave"), "", a.width, fit.Spread), ""}
	n := a.liveShells()
	say := fmt.Sprintf("%d shells are live. Leaving ends them:", n)
	switch n {
	case 0:
		say = "Leaving closes these doors:"
	case 1:
		say = "A shell is live. Leaving ends it:"
	}
	lines = append(lines, "   "+say)
	for _, l := range a.tunnels.Lines() {
		lines = append(lines, "     "+t.Live.Render("⇄ ")+l.Drawn()+t.Faint.Render(fmt.Sprintf("  %d flows live", l.Live)))
	}
	for _, s := range a.open {
		if s.Live() {
			who, way := s.Where()
			lines = append(lines, "     "+t.Live.Render("━ ")+who+t.Faint.Render("  "+way+"  "+s.LastLine()))
		}
	}
	return lines
}

// helpPane lists all keys, the groups side by side.
func (a *App) helpPane() []string {
	t := a.theme
	lines := []string{t.Title(t.Accent.Render("all keys"), t.Faint.Render("any key closes this"), a.width, fit.Spread)}
	columns := [][]keyGroup{}
	for i, g := range a.allKeys() {
		if a.width < 110 && i == 2 { // two columns, the last two groups in one
			columns[1] = append(columns[1], g)
			continue
		}
		columns = append(columns, []keyGroup{g})
	}
	width := (a.width - 2) / len(columns)
	var drawn [][]string
	tall := 0
	for _, groups := range columns {
		var column []string
		for _, g := range groups {
			column = append(column, a.helpGroup(g, width)...)
		}
		drawn = append(drawn, column)
		tall = max(tall, len(column))
	}
	for row := range tall {
		line := " "
		for _, column := range drawn {
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

func (a *App) helpGroup(g keyGroup, width int) []string {
	t := a.theme
	wide := 0
	for _, h := range g.hints {
		wide = max(wide, len([]rune(h.Key)))
	}
	lines := []string{t.Strong.Render(g.name)}
	for _, h := range g.hints {
		lines = append(lines, t.Key.Render(fit.Pad(h.Key, min(wide, width/2)+1))+t.Faint.Render(h.Does))
	}
	return lines
}

// footer is the line of keys.
func (a *App) footer() string {
	t := a.theme
	if a.notice != "" && a.task == nil {
		return " " + t.Accent.Render(fit.Cut(a.notice, a.width-2))
	}
	var hints []theme.Hint
	switch {
	case a.leaving:
		hints = []theme.Hint{{Key: "enter", Does: "end them and leave"}, {Key: "esc", Does: "stay"}}
	case a.ask.Waiting():
		hints = a.ask.Hints()
	case a.task != nil:
		hints = a.task.Hints()
	case a.routes.Finding():
		hints = a.routes.Hints()
	default:
		hints = a.routesHints()
	}
	return fit.Spread(t.Rule.Render("─ ")+t.Keys(hints...)+" ", "", a.width, t.Rule.Render("─"))
}

// routesHints are the keys on Routes: those of the selected session, then as many
// of the frame's own as fit, with the way to all of them always there.
func (a *App) routesHints() []theme.Hint {
	hints := a.routes.Hints()
	always := []theme.Hint{{Key: a.options.Leader, Does: "go to"}, {Key: "?", Does: "all keys"}}
	for _, h := range []theme.Hint{{Key: "n", Does: "new"}, {Key: "e", Does: "edit"}, {Key: "c", Does: "check"}, {Key: "/", Does: "find"}, {Key: "q", Does: "leave"}} {
		with := append(slices.Clone(hints), h)
		if ansi.StringWidth(a.theme.Keys(append(slices.Clone(with), always...)...)) > a.width-4 {
			break
		}
		hints = with
	}
	return append(hints, always...)
}

// withSwitcher draws the switcher over the upper part of what shows.
func (a *App) withSwitcher() []string {
	t := a.theme
	drawer := a.switcher.View(max(a.height*2/3, 8), a.routes.Summary())
	drawer = append(drawer[:len(drawer)-1], fit.Spread(t.Rule.Render("─ ")+t.Keys(a.switcher.Hints(a.options.Leader)...)+" ", "", a.width, t.Rule.Render("─")))
	var below []string
	if a.at != nil {
		below = a.at.View()
	} else if a.inShell {
		below, _ = a.shell.View(a.waiting(), a.roundTrip())
	} else {
		below = a.routesScreen()
	}
	// What shows is pushed down as far as there is room, and covered beyond that.
	blank := 0
	for blank < len(below) && strings.TrimSpace(ansi.Strip(below[len(below)-1-blank])) == "" {
		blank++
	}
	covered := max(min(len(drawer), len(below))-blank, 0)
	return append(drawer, below[covered:]...)
}
