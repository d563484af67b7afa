package tui

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/tui/shells"
)

// arrived brings a new shell, failed says why there is none.
type (
	arrived struct {
		session string
		route   route.Route
		shell   *shell.Shell
	}
	failed struct {
		session string
		failure *gate.Failure
	}
)

// failureOf is the gate that a walk failed at.
func failureOf(r route.Route, err error) *gate.Failure {
	var f *gate.Failure
	if errors.As(err, &f) {
		return f
	}
	return &gate.Failure{Hop: r.Target().Name, Gate: gate.Channel, Cause: gate.Unexpected, Why: err.Error(), Err: err}
}

func (a *App) fail(msg failed) {
	delete(a.walks, msg.session)
	delete(a.restoring, msg.session)
	a.engine.Board.Failed(msg.session, msg.failure)
	if a.inShell() && msg.failure.Cause != gate.Cancelled {
		a.shell.Notice(fmt.Sprintf("%s is blocked at %s, %s", msg.session, msg.failure.Hop, msg.failure.Gate))
	}
}

// arrive takes a new shell, and shows it where the person still looks for it.
func (a *App) arrive(msg arrived) tea.Cmd {
	delete(a.walks, msg.session)
	a.engine.Board.Arrived(msg.session)
	s := &shells.Shell{ID: a.stack.NewID(), Route: msg.route, Shell: msg.shell}
	a.open = append(a.open, s)
	if a.restored(s) {
		return tea.Batch(s.Wait(), a.clock())
	}
	there := a.at() == a.walkedFrom[msg.session]
	if a.at() == 0 {
		there = a.home.Selected() == msg.session
	}
	if open := layer[*switchLayer](a.stack); open != nil {
		open.SetShells(a.open)
	}
	switch {
	case a.stack.Idle() && !a.ask.Waiting() && there:
		cmd := a.goTo(s)
		a.tellRefused(msg.shell)
		return tea.Batch(cmd, s.Wait(), a.clock())
	case a.stack.Top() != a.home || a.home.Typing():
		a.wait(arrival{say: msg.session + " is open", still: func() bool { return slices.Contains(a.open, s) && s != a.shell.Shell() }, show: func() tea.Cmd { return a.goTo(s) }})
	}
	return tea.Batch(s.Wait(), a.clock())
}

// tellRefused says what is to be known at a new shell, and what of the session's wishes it
// does not have.
func (a *App) tellRefused(s *shell.Shell) {
	var say []string
	if warning := s.Route().Target().Warning(); warning != "" {
		say = append(say, warning)
	}
	if names := s.Refused(); len(names) > 0 {
		say = append(say, "the server does not take "+strings.Join(names, ", "))
	}
	if err := s.NoWindows(); err != nil { // it is not the server's fault
		say = append(say, "without windows: "+err.Error())
	}
	if len(say) > 0 {
		a.shell.Notice(strings.Join(say, "; "))
	}
}

// beside shows another shell beside those that show; after the last of them, the one that has the
// keys alone.
func (a *App) beside() {
	shown := a.shell.Shown()
	next := slices.IndexFunc(a.open, func(s *shells.Shell) bool { return !slices.Contains(shown, s) })
	switch {
	case len(a.open) < 2:
		a.shell.Notice("there is no other shell; open one on Routes")
	case next < 0 || !a.shell.PutBeside(a.open[next]):
		a.shell.PutBeside(nil)
	}
}

func (a *App) shellOf(id int) *shells.Shell {
	for _, s := range a.open {
		if s.ID == id {
			return s
		}
	}
	return nil
}

// shellWish does what the shells' place asks of the frame.
func (a *App) shellWish(wish tea.Msg) tea.Cmd {
	switch wish := wish.(type) {
	case shells.Copy:
		return a.copy(wish.Text)
	case shells.Run:
		return func() tea.Msg { return noticed(wish()) }
	case shells.OpenLink:
		return a.openLink(wish.Link)
	case shells.Closed:
		return a.putAway(wish.ID)
	case shells.Again:
		s := a.shellOf(wish.ID)
		if s == nil {
			return nil
		}
		cmd := a.putAway(wish.ID)
		if r, err := a.engine.Workspace().Planner().Plan(s.Route.Session); err == nil {
			return tea.Batch(cmd, a.goTo(nil), a.walk(r, false))
		}
		return cmd
	}
	return nil
}

// noticed is said in the shells.
type noticed string

// openLink has a link of a far side opened by the program that a person has named for that; where
// they named none, it is not opened.
func (a *App) openLink(link string) tea.Cmd {
	links, ctx, e := a.options.Prefs.Links, a.ctx, a.engine
	if len(links.Command) == 0 {
		a.shell.Notice("not opened: [links] command in settings.toml says with what")
		return nil
	}
	return func() tea.Msg {
		if err := links.Open(ctx, link); err != nil {
			e.Tell(err.Error())
		}
		return nil
	}
}

// putAway forgets an ended shell.
func (a *App) putAway(id int) tea.Cmd {
	for i, s := range a.open {
		if s.ID == id {
			s.Close()
			a.open = slices.Delete(a.open, i, i+1)
			a.shell.Forget(s)
			break
		}
	}
	if a.shell.Shell() == nil {
		return a.goTo(nil)
	}
	return nil
}

// tellDrew shows that a program of a far side draws here, or was turned away.
func (a *App) tellDrew(e remote.Drew) {
	say := fmt.Sprintf("a program at %s draws on your display, and sees all of it", e.Hop)
	if e.Err != nil {
		say = fmt.Sprintf("a program at %s was not let draw here: %v", e.Hop, e.Err)
	}
	a.say(say)
}

// tellLent shows that a lent key was used, wherever the person is.
func (a *App) tellLent(e remote.Lent) {
	say := e.Say()
	a.lentOnce = true
	if a.inShell() && a.home.Better(e) {
		say += "; it goes with nothing lent, too: " + a.options.Leader + " 0, then " + a.keymap.Press("better")
	}
	a.say(say)
}

// liveShells counts the shells that have not ended.
func (a *App) liveShells() int {
	n := 0
	for _, s := range a.open {
		if s.Live() {
			n++
		}
	}
	return n
}
