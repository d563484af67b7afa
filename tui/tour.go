package tui

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/prefs"
	"meatus/core/statefile"
	"meatus/core/workspace"
	"meatus/tui/fit"
)

// touring is the way through the bay: one step after another, each told in a line until it is
// done. It takes no key and hinders nothing.
type touring struct {
	on   bool
	step int
	seen map[string]bool // what the step that goes on has seen so far
}

// tourStep is one thing to try. Say has a letter's verb in braces where a key is meant.
type tourStep struct {
	say  string
	done func(a *App) bool
}

// tourSteps are the tour.
var tourSteps = []tourStep{
	{"This is a bay of machines behind the bastion quay. {check-all} checks them all, as far as their host keys.", func(a *App) bool {
		s, _ := a.engine.Board.State("gauge-3")
		return s.Verdict == gate.Shut
	}},
	{"Problems are listed above, the worst first. Go to tide-db with the arrows or {find}, and press {mend}: its key file's permissions are fixed.", func(a *App) bool {
		s, ok := a.engine.Board.State("tide-db")
		return ok && s.Judged && s.Verdict != gate.Shut
	}},
	{"enter connects to tide-db and opens a shell. It is the first connection: type yes to trust its host key.", func(a *App) bool {
		return a.shellAt("tide-db")
	}},
	{"This is a remote shell. {leader} leaves it: press it, then {routes} for Routes.", func(a *App) bool {
		return !a.inShell() && a.at() == 0 && a.liveShells() > 0
	}},
	{"gauge-2 was replaced and shows another key. Go to it and press {mend}: what does that mean? Type what is asked for.", func(a *App) bool {
		s, ok := a.engine.Board.State("gauge-2")
		return ok && s.Judged && s.Verdict != gate.Shut
	}},
	{"Anything can be found by its words: press {actions}, and type forward.", func(a *App) bool { return a.sawWhile("finder", layer[*findLayer](a.stack) != nil) }},
	{"tables has a port forward, but another program uses its local port. Go to it: {mend} proposes another port; then {tunnels} opens it.", func(a *App) bool {
		return len(a.engine.Tunnels.Of("tables")) > 0
	}},
	{"{watch} shows what is alive: each link on the way it goes, and what flows. {tab} goes to the chart.", func(a *App) bool { return places[a.at()].Name == "Watch" && !a.inShell() }},
	{"{keys} has every key file. {new} makes one there; {copy} and {import} are at the foot.", func(a *App) bool { return places[a.at()].Name == "Keys" && !a.inShell() }},
	{"spit lends a key to a shell. Open its shell from Routes, type reach gauge-1 there, and answer with {leader} a.", func(a *App) bool {
		return a.sawWhile("lent", a.lentOnce)
	}},
	{"{estate} has the bay's instances. On gauge-1, {another} launches another like it: enter, and enter again.", func(a *App) bool {
		return slices.ContainsFunc(a.engine.Workspace().Book.Sessions, func(s *book.Session) bool { return s.Bound != nil })
	}},
	{"Connect with enter: its console announced the fingerprint. Then, in {estate}, {remove} twice stops it, {mend} twice starts it: its session follows.", func(a *App) bool {
		return slices.ContainsFunc(a.engine.Workspace().Estates, func(k estate.Kept) bool {
			return slices.ContainsFunc(k.Changes, func(c estate.Change) bool { return c.Kind == estate.Restarted })
		})
	}},
	{"sluice is blocked by the firewall rules of its group. Go to it, and {mend}: allow it for an hour, or connect another way.", func(a *App) bool {
		s := a.engine.Workspace().Book.Session("sluice")
		return a.sawWhile("rule", len(a.engine.Grants()) > 0) || s != nil && strings.Join(s.Via.V, "") != "quay"
	}},
	{"sounder has no open port: it is connected to the gateway lightship. Connect with enter; the gates of both are shown.", func(a *App) bool {
		return a.shellAt("sounder")
	}},
	{"weir has no authorized keys: the issuer purser signs a certificate for a minute. Connect with enter, and see your rights in {leases}.", func(a *App) bool {
		return a.shellAt("weir") && places[a.at()].Name == "Leases" && !a.inShell()
	}},
	{"{trail} tells everything that you did, and what came of it.", func(a *App) bool { return places[a.at()].Name == "Trail" && !a.inShell() }},
}

func tourFile(w *workspace.Workspace) string {
	return filepath.Join(w.Dir, workspace.StateDir, "tour.json")
}

// beginTour goes on with the tour where it was left.
func (a *App) beginTour() {
	if err := statefile.Read(tourFile(a.engine.Workspace()), &a.tour.step); err != nil {
		a.notice = err.Error()
	}
	a.tour.on = a.tour.step < len(tourSteps)
}

// followTour sees whether the step is done, and goes on to the next.
func (a *App) followTour() tea.Cmd {
	t := &a.tour
	if !t.on || !tourSteps[t.step].done(a) {
		return nil
	}
	t.step++
	t.seen = nil
	say := "done: the tour goes on"
	if t.step == len(tourSteps) {
		t.on, say = false, "done: that was the tour. "+a.keymap.Press("help")+" lists the keys of a place, "+a.keymap.Press("actions")+" finds anything"
		a.resize(a.width, a.height)
	}
	if !a.inShell() { // there the next step shows at once
		a.notice = say
	}
	e, step, path := a.engine, t.step, tourFile(a.engine.Workspace())
	return func() tea.Msg {
		var kept int
		if err := statefile.Change(path, &kept, func() { kept = step }); err != nil {
			e.Tell("the tour's step is not remembered: " + err.Error())
		}
		return nil
	}
}

// leaveTour ends the tour; "meatus tour" goes on with it another time.
func (a *App) leaveTour() tea.Cmd {
	a.tour.on = false
	a.resize(a.width, a.height)
	a.notice = "the tour is left; meatus tour goes on with it"
	return nil
}

// sawWhile tells whether something was so at a moment of the step and is over now.
func (a *App) sawWhile(what string, now bool) bool {
	if now && a.tour.seen == nil {
		a.tour.seen = map[string]bool{}
	}
	if now {
		a.tour.seen[what] = true
	}
	return a.tour.seen[what] && (!now || what == "lent")
}

// shellAt tells whether a shell of a session is live.
func (a *App) shellAt(session string) bool {
	for _, s := range a.open {
		if s.Route.Session == session && s.Live() {
			return true
		}
	}
	return false
}

// tourSay is what the step says, "" where there is no tour.
func (a *App) tourSay() string {
	if !a.tour.on {
		return ""
	}
	pairs := []string{"{leader}", a.options.Leader, "{tab}", "tab"}
	for _, l := range prefs.Letters {
		pairs = append(pairs, "{"+l.Verb+"}", a.keymap.Shown(l.Key))
	}
	return fmt.Sprintf("tour %d of %d  %s", a.tour.step+1, len(tourSteps), strings.NewReplacer(pairs...).Replace(tourSteps[a.tour.step].say))
}

// tourRows is how many rows the tour has above the foot.
func (a *App) tourRows() int {
	if !a.tour.on || a.width == 0 {
		return 0
	}
	return 2
}

// tourLines draws the step.
func (a *App) tourLines() []string {
	if a.tourRows() == 0 {
		return nil
	}
	lines := fit.Wrap(a.tourSay(), max(a.width-4, 20))
	for len(lines) < a.tourRows() {
		lines = append(lines, "")
	}
	for i := range lines {
		lines[i] = "  " + a.theme.Accent.Render(lines[i])
	}
	return lines[:a.tourRows()]
}
