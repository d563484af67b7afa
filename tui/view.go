package tui

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/contain"
	"meatus/tui/fit"
	"meatus/tui/stack"
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
	case a.unseen():
		v.Content = a.smallView()
	case a.stack.Top() == a.shells:
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
		if l := a.engine.Board.Links().Frozen(s.Way().Links()); l != nil {
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
	return a.engine.Board.Links().RoundTrip(r.End())
}

func (a *App) tooSmall() bool { return a.width < LeastWidth || a.height < LeastHeight }

// The least window that a shell is drawn in.
const (
	leastShellWidth  = 20
	leastShellHeight = 4
)

// unseen reports whether the window is too small for what has the input to be seen; a shell needs less than the rest.
func (a *App) unseen() bool {
	if a.stack.Top() == a.shells {
		return a.width < leastShellWidth || a.height < leastShellHeight
	}
	return a.tooSmall()
}

// smallView is what matters most, where there is no room for more: what waits for the person, and the chosen session.
func (a *App) smallView() string {
	var lines []string
	for _, say := range []string{a.waiting(), a.home.Line(), fmt.Sprintf("%dx%d is too small for more: %dx%d has room. Nothing has stopped.", a.width, a.height, LeastWidth, LeastHeight)} {
		if say != "" {
			lines = append(lines, fit.Wrap(say, max(a.width, 10))...)
		}
	}
	return fit.Block(lines, a.width, a.height)
}

// screen draws everything but a shell alone.
func (a *App) screen() []string {
	top := a.stack.Top()
	switch top.Shape() {
	case stack.Drawer:
		return a.pushedDown(top.View())
	case stack.Page:
		return top.View()
	case stack.Dialog:
		lines, over := a.placeLines(), top.View()
		return append(append(lines[:max(len(lines)-len(over), 0)], over...), a.footer(top))
	}
	return append(a.placeLines(), a.footer(top))
}

// under is the place or the task that shows beneath everything else.
func (a *App) under() stack.Layer {
	for _, l := range slices.Backward(a.stack.Layers()) {
		if s := l.Shape(); s == stack.Place || s.OnRoutes() && l != a.question {
			return l
		}
	}
	return a.home
}

// placeLines draws the place that shows, without its foot.
func (a *App) placeLines() []string {
	t := a.theme
	var lines []string
	if a.at() == 0 {
		lines = append(lines, t.Title(t.Accent.Render("meatus")+t.Rule.Render(" ─ ")+t.Strong.Render(a.name()), a.home.Summary(), a.width, fit.Spread))
	}
	lines = append(lines, a.places[a.at()].View()...)
	rows := max(a.height-1-a.tourRows(), 0)
	for len(lines) < rows {
		lines = append(lines, "")
	}
	return append(lines[:rows], a.tourLines()...)
}

// footer is the line of keys of a layer, or what is to be said.
func (a *App) footer(l stack.Layer) string {
	t := a.theme
	if say := a.said(l); say != "" {
		return " " + t.Accent.Render(fit.Cut(say, a.width-2))
	}
	return a.keysLine(a.hints(l))
}

// right is what stands at the right end of the foot: how far cargo is that is under way. In its own
// place it shows as a bar.
func (a *App) right() string {
	say := a.moving()
	if say == "" || places[a.at()].Key == cargoKey {
		return ""
	}
	return a.theme.Live.Render(" "+say) + " "
}

// keysLine is a foot of hints.
func (a *App) keysLine(hints []theme.Hint) string {
	t := a.theme
	return fit.Spread(t.Rule.Render("─ ")+t.Keys(hints...)+" ", a.right(), a.width, t.Rule.Render("─"))
}

// said is what is to be said at the foot while a layer has the input, "" for nothing.
func (a *App) said(l stack.Layer) string {
	task := l.Shape().OnRoutes()
	switch {
	case l == a.question:
		return ""
	case l.Shape() == stack.Dialog:
		return l.Note()
	case a.notice != "" && !task:
		return a.notice
	case l.Note() != "":
		return l.Note()
	case l != a.home || !a.ask.Waiting(): // on Routes a question shows
		return a.needed()
	}
	return ""
}

// hints are the keys of a layer, as many as fit, with the way to all of them.
func (a *App) hints(l stack.Layer) []theme.Hint {
	if l == a.question || l.Shape() == stack.Dialog || l.Typing() {
		return a.fitting(l.Table().Foot(), nil)
	}
	return a.fitting(l.Table().Foot(), a.always())
}

// roomyFoot is from how many columns on a foot names all the ways to everything else.
const roomyFoot = 80

// always are the hints that no foot is without: the ways to everything else.
func (a *App) always() []theme.Hint {
	if a.width < roomyFoot {
		return []theme.Hint{{Key: "?", Does: "keys"}}
	}
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

// pushedDown draws a drawer over the upper part of what shows beneath it.
func (a *App) pushedDown(drawer []string) []string {
	var below []string
	if a.inShell() {
		below = a.shells.View()
	} else {
		below = append(a.placeLines(), a.footer(a.beneathDrawer()))
	}
	// What shows is pushed down as far as there is room, and covered beyond that.
	blank := 0
	for blank < len(below) && strings.TrimSpace(ansi.Strip(below[len(below)-1-blank])) == "" {
		blank++
	}
	covered := max(min(len(drawer), len(below))-blank, 0)
	return append(drawer, below[covered:]...)
}

// beneathDrawer is the layer under the drawer that is topmost.
func (a *App) beneathDrawer() stack.Layer { return a.stack.Beneath(a.stack.Top()) }
