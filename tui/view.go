package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/contain"
	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// View draws the program.
func (a *App) View() (v tea.View) {
	err := contain.Do("drawing this view", func() error { v = a.view(); return nil })
	if err != nil {
		text := err.Error() + ". Shells, tunnels and jobs go on. esc, or the leader key, leaves this view."
		v = tea.View{AltScreen: true, Content: fit.Block(fit.Wrap(text, max(a.width-2, 10)), a.width, a.height)}
	}
	return v
}

func (a *App) view() tea.View {
	v := tea.View{AltScreen: true, ProgressBar: a.progressBar(), MouseMode: tea.MouseModeCellMotion, WindowTitle: "meatus " + a.name()}
	switch {
	case a.width == 0:
	case a.tooSmall() && !a.smallShell():
		v.Content = a.smallView()
	case a.inShell && a.switcher == nil && !a.leaving && !a.help.on && a.finder == nil:
		if a.shell.Shell().Frame().Modes.Mouse == 1003 {
			v.MouseMode = tea.MouseModeAllMotion
		}
		lines, cursor := a.shell.View(a.waiting(), a.roundTrip())
		v.Content, v.Cursor = strings.Join(lines, "\n"), cursor
		who, _ := a.shell.Shell().Where()
		v.WindowTitle = "meatus " + who
	default:
		v.Content = fit.Block(a.screen(), a.width, a.height)
	}
	v.Content = a.inMarks(v.Content)
	return v
}

// waiting says in a shell that its line is frozen, or that a question waits
// elsewhere.
func (a *App) waiting() string {
	if s := a.shell.Shell(); s != nil && s.Live() {
		var prefixes []string
		for i := range s.Way().Hops {
			prefixes = append(prefixes, s.Way().Prefix(i))
		}
		if l := a.engine.Board.Links().Frozen(prefixes); l != nil {
			return fmt.Sprintf("frozen at %s: no byte for %s, typing is held", l.State.Hop, fit.Ago(time.Since(l.State.LastIn)))
		}
	}
	if say := a.needed(); say != "" {
		return say
	}
	if say := a.moving(); say != "" {
		return say
	}
	return a.tourSay()
}

// roundTrip is that of the link of the shell that shows, 0 where it is not known.
func (a *App) roundTrip() time.Duration {
	r := a.shell.Shell().Way()
	return a.engine.Board.Links().RoundTrip(r.Prefix(len(r.Hops) - 1))
}

func (a *App) tooSmall() bool { return a.width < LeastWidth || a.height < LeastHeight }

// The least window that a shell is drawn in.
const (
	leastShellWidth  = 20
	leastShellHeight = 4
)

// smallShell tells whether a shell shows in a window that is too small for anything else.
func (a *App) smallShell() bool {
	return a.inShell && a.switcher == nil && !a.leaving && !a.help.on && a.finder == nil && a.width >= leastShellWidth && a.height >= leastShellHeight
}

func (a *App) smallView() string {
	text := fit.Wrap(fmt.Sprintf("Meatus needs a window of %d columns and %d rows; this one has %d and %d. Make it larger, or the letters smaller. Nothing has stopped.", LeastWidth, LeastHeight, a.width, a.height), max(a.width-2, 10))
	return fit.Block(text, a.width, a.height)
}

// screen draws everything but a shell alone.
func (a *App) screen() []string {
	switch {
	case a.switcher != nil:
		return a.under(a.drawer())
	case a.finder != nil:
		rows := max(a.height*2/3, 8)
		return a.under(append(a.finder.View(rows), a.keysLine(a.finder.Hints())))
	}
	lines := a.placeLines()
	var over []string
	switch {
	case a.leaving:
		over = a.leavingPane()
	case a.help.on:
		return a.helpPage()
	}
	for len(over) > 0 && len(over) < 12 {
		over = append(over, "")
	}
	lines = append(lines[:max(len(lines)-len(over), 0)], over...)
	return append(lines, a.footer())
}

// placeLines draws the place that shows, without its foot.
func (a *App) placeLines() []string {
	t := a.theme
	var lines []string
	if a.at == 0 {
		lines = append(lines, t.Title(t.Accent.Render("meatus")+t.Rule.Render(" ─ ")+t.Strong.Render(a.name()), a.home.Summary(), a.width, fit.Spread))
	}
	lines = append(lines, a.places[a.at].View()...)
	rows := max(a.height-1-a.tourRows(), 0)
	for len(lines) < rows {
		lines = append(lines, "")
	}
	return append(lines[:rows], a.tourLines()...)
}

func (a *App) leavingPane() []string {
	t := a.theme
	lines := []string{t.Title(t.Accent.Render("leave"), "", a.width, fit.Spread), ""}
	n := a.liveShells()
	say := fmt.Sprintf("%d shells are live. Leaving ends them:", n)
	switch n {
	case 0:
		say = "Leaving ends this:"
		if a.engine.Jobs.Running() == 0 {
			say = "Leaving closes these doors:"
		}
	case 1:
		say = "A shell is live. Leaving ends it:"
	}
	lines = append(lines, "   "+say)
	for _, job := range a.engine.Jobs.All() {
		if !job.Over() {
			lines = append(lines, "     "+t.Accent.Render("◜ ")+job.Title.What+" "+job.Title.Of)
		}
	}
	for _, l := range a.engine.Tunnels.Lines() {
		lines = append(lines, "     "+t.Live.Render("⇄ ")+l.Drawn()+t.Faint.Render("  "+words.Count(l.Live, "live flow")))
	}
	for _, s := range a.open {
		if s.Live() {
			who, way := s.Where()
			lines = append(lines, "     "+t.Live.Render("━ ")+who+t.Faint.Render("  "+way+"  "+s.LastLine()))
		}
	}
	return lines
}

// footer is the line of keys, or what is to be said.
func (a *App) footer() string {
	t := a.theme
	if say := a.said(); say != "" {
		return " " + t.Accent.Render(fit.Cut(say, a.width-2))
	}
	return a.keysLine(a.hints())
}

// right is what stands at the right end of the foot: how far cargo is that is under way. In its own
// place it shows as a bar.
func (a *App) right() string {
	say := a.moving()
	if say == "" || places[a.at].Key == cargoKey {
		return ""
	}
	return a.theme.Live.Render(" "+say) + " "
}

// keysLine is a foot of hints.
func (a *App) keysLine(hints []theme.Hint) string {
	t := a.theme
	return fit.Spread(t.Rule.Render("─ ")+t.Keys(hints...)+" ", a.right(), a.width, t.Rule.Render("─"))
}

// said is what is to be said at the foot, "" for nothing.
func (a *App) said() string {
	switch noter, ok := a.places[a.at].(place.Noter); {
	case a.drawing != nil:
		return fmt.Sprintf("draw %s: enter with %s, p without, esc not at all", a.drawing.Of, a.drawing.Private)
	case a.leaving || a.help.on:
		return ""
	case a.answering:
		return ""
	case a.wayBack() != "":
		return a.wayBack()
	case a.notice != "" && (a.at != 0 || a.task.Task == nil):
		return a.notice
	case ok && noter.Note() != "":
		return noter.Note()
	case a.at != 0 || a.task.Task != nil: // on Routes it shows
		return a.needed()
	}
	return ""
}

// hints are the keys of what has focus, as many as fit, with the way to all of them.
func (a *App) hints() []theme.Hint {
	switch {
	case a.leaving:
		return []theme.Hint{{Key: "enter", Does: "end them and leave"}, {Key: "esc", Does: "stay"}}
	case a.answering:
		return a.ask.Hints()
	case a.at == 0 && a.task.Task != nil:
		if a.task.Typing() {
			return a.fitting(a.task.Table().Foot(), nil)
		}
		return a.fitting(a.task.Table().Foot(), a.always())
	}
	p := a.places[a.at]
	if p.Typing() {
		return a.fitting(p.Table().Foot(), nil)
	}
	return a.fitting(p.Table().Foot(), a.always())
}

// always are the hints that no foot is without: the ways to everything else.
func (a *App) always() []theme.Hint {
	return []theme.Hint{{Key: a.options.Leader, Does: "go to"}, {Key: ":", Does: "find an action"}, {Key: "?", Does: "keys"}}
}

// fitting are as many hints as fit beside those that are always there.
func (a *App) fitting(hints, always []theme.Hint) []theme.Hint {
	hints, always = a.keymap.Hints(slices.Clone(hints)), a.keymap.Hints(slices.Clone(always))
	for len(hints) > 0 && ansi.StringWidth(a.theme.Keys(append(slices.Clone(hints), always...)...)) > a.width-4 {
		hints = hints[:len(hints)-1]
	}
	return append(slices.Clone(hints), always...)
}

// drawer is the switcher, with its keys below it.
func (a *App) drawer() []string {
	drawer := a.switcher.View(max(a.height*2/3, 8), a.home.Summary())
	return append(drawer[:len(drawer)-1], a.keysLine(a.switcher.Hints(a.options.Leader)))
}

// under draws a drawer over the upper part of what shows.
func (a *App) under(drawer []string) []string {
	var below []string
	if a.inShell {
		below, _ = a.shell.View(a.waiting(), a.roundTrip())
	} else {
		below = append(a.placeLines(), a.footer())
	}
	// What shows is pushed down as far as there is room, and covered beyond that.
	blank := 0
	for blank < len(below) && strings.TrimSpace(ansi.Strip(below[len(below)-1-blank])) == "" {
		blank++
	}
	covered := max(min(len(drawer), len(below))-blank, 0)
	return append(drawer, below[covered:]...)
}
