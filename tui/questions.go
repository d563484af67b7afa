package tui

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"
)

// bell is what a terminal rings for.
const bell = "\a"

// asked takes a question of the core, or its end. A question that the person waits for has the
// keys at once; any other announces itself and waits until they go to it.
func (a *App) asked(msg tea.Msg) tea.Cmd {
	turn := a.ask.Turn()
	if a.ask.Update(msg); a.ask.Turn() == turn { // another one is the first
		return nil
	}
	return a.nextQuestion()
}

// nextQuestion goes on with the question that is the first now, if there is one.
func (a *App) nextQuestion() tea.Cmd {
	a.answering = a.attends()
	switch {
	case !a.ask.Waiting():
		return nil
	case a.answering:
		a.selectAsked()
		return nil
	}
	return tea.Raw(bell)
}

// selectAsked selects the session that is asked for.
func (a *App) selectAsked() {
	if s := a.ask.Session(); s != "" && a.task.Task == nil {
		a.home.Select(s)
	}
}

// attends tells whether a person waits for the first question where it shows: what they began
// there asks, and they type nothing else. The use of a lent key is nothing that anybody waits
// for: what is typed when it comes is meant for something else.
func (a *App) attends() bool {
	if !a.ask.Waiting() || a.ask.Lend() || a.inShell || a.at != 0 || a.switcher != nil || a.finder != nil || a.leaving || a.help.on || a.drawing != nil || a.places[0].Typing() {
		return false
	}
	if a.task.Task != nil {
		return !a.task.Typing()
	}
	session := a.ask.Session()
	return session == a.home.Selected() || a.walks[session] != nil || a.home.Checking() || a.engine.Jobs.Running() > 0
}

// answer goes to the question that waits. From now on the keys are its.
func (a *App) answer() tea.Cmd {
	if !a.ask.Waiting() {
		return nil
	}
	from := a.raisedFrom
	if a.inShell {
		from = a.shell.Shell()
	}
	cmd := a.goTo(nil)
	a.raisedFrom, a.answering = from, true
	a.selectAsked()
	return cmd
}

// answerKey gives a key to the question that has them. What it was gone to from is gone back
// to by a key of its own: nothing that was meant for the question gets into a shell.
func (a *App) answerKey(msg tea.Msg) tea.Cmd {
	turn := a.ask.Turn()
	if a.ask.Update(msg); a.ask.Turn() == turn {
		return nil
	}
	cmd := a.nextQuestion()
	if !slices.Contains(a.open, a.raisedFrom) {
		a.raisedFrom = nil
	}
	return cmd
}

// wayBack says how to get back to where a question was gone to from, "" where one stays.
func (a *App) wayBack() string {
	if a.raisedFrom == nil || a.answering {
		return ""
	}
	who, _ := a.raisedFrom.Where()
	say := "enter goes back to " + who
	if a.notice != "" {
		say += " · " + a.notice
	}
	return say
}

// goBack goes back to the shell that a question was gone to from, by enter. Any other key
// means that the person stays.
func (a *App) goBack(key string) bool {
	back := a.raisedFrom
	if back == nil || a.answering {
		return false
	}
	a.raisedFrom = nil
	if key != "enter" || !slices.Contains(a.open, back) {
		return false
	}
	a.goTo(back)
	return true
}

// needed says, anywhere but where the question shows, that one waits.
func (a *App) needed() string {
	if !a.ask.Waiting() || a.answering {
		return ""
	}
	say := fmt.Sprintf("needs you: %s; %s a answers", a.ask.Who(), a.options.Leader)
	if n := a.ask.Count() - 1; n > 0 {
		say += fmt.Sprintf(" (%d more)", n)
	}
	return say
}
