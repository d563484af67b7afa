package tui

import (
	"fmt"
	"meatus/tui/shells"

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
	switch attends := a.attends(); {
	case attends && !a.answering():
		a.selectAsked()
		return a.stack.Push(a.question)
	case attends:
		a.selectAsked()
		return nil
	}
	a.stack.Remove(a.question)
	if !a.ask.Waiting() {
		return nil
	}
	return tea.Raw(bell)
}

// selectAsked selects the session that is asked for.
func (a *App) selectAsked() {
	if s := a.ask.Session(); s != "" && a.task() == nil {
		a.home.Select(s)
	}
}

// attends tells whether a person waits for the first question where it shows: what they began
// there asks, and they type nothing else. The use of a lent key is nothing that anybody waits
// for: what is typed when it comes is meant for something else.
func (a *App) attends() bool {
	top := a.stack.Top()
	if top == a.question {
		top = a.stack.Beneath(top)
	}
	switch {
	case !a.ask.Waiting() || a.ask.Lend() || top.Typing():
		return false
	case top != a.home: // a task whose work asks
		return top.Shape().OnRoutes()
	}
	session := a.ask.Session()
	return session == a.home.Selected() || a.walks[session] != nil || a.home.Checking() || a.engine.Jobs.Running() > 0
}

// answer goes to the question that waits, or else to what has come by itself. From now on the keys are its.
func (a *App) answer() tea.Cmd {
	if !a.ask.Waiting() {
		return a.goToArrival()
	}
	var from *shells.Shell
	switch back := layer[*backLayer](a.stack); {
	case a.inShell():
		from = a.shell.Shell()
	case a.answering():
		from = a.question.from
	case back != nil:
		from = back.to
	}
	cmd := a.goTo(nil)
	if !a.answering() {
		cmd = tea.Batch(cmd, a.stack.Push(a.question))
	}
	a.question.from = from
	a.selectAsked()
	return cmd
}

// needed says, anywhere but where the question shows, that one waits.
func (a *App) needed() string {
	if a.answering() {
		return ""
	}
	if !a.ask.Waiting() {
		if n := a.firstArrival(); n != nil && n.waits {
			return fmt.Sprintf("needs you: %s; %s a goes to it", n.say, a.options.Leader)
		}
		return ""
	}
	say := fmt.Sprintf("needs you: %s; %s a answers", a.ask.Who(), a.options.Leader)
	if n := a.ask.Count() - 1; n > 0 {
		say += fmt.Sprintf(" (%d more)", n)
	}
	return say
}
