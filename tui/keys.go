package tui

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/place"
	"meatus/tui/switcher"
)

// awayFor is how long nobody has to press a key to be told, with the next, what
// happened meanwhile.
const awayFor = 30 * time.Minute

// key gives a key press to what has focus.
func (a *App) key(msg tea.KeyPressMsg) tea.Cmd {
	a.notice = ""
	a.sure.Pressed()
	back := a.cameBack(time.Now())
	return tea.Batch(back, a.keyNow(msg), a.rest())
}

// cameBack notes that somebody is there. Where nobody was for long, every place is told.
func (a *App) cameBack(now time.Time) tea.Cmd {
	was := a.touched
	if a.touched = now; was.IsZero() || now.Round(0).Sub(was.Round(0)) < awayFor {
		return nil
	}
	var cmds []tea.Cmd
	for _, p := range a.places {
		cmds = append(cmds, p.Update(place.CameBack{Since: was}))
	}
	return tea.Batch(cmds...)
}

// keyNow gives a key to the first of those that may want it: a question of our own, the
// switcher, the shell, the core's question, the task, or the place.
func (a *App) keyNow(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	switch {
	case a.smallShell() && a.tooSmall():
		if key == a.options.Leader {
			a.shell.Notice("the window is too small for anything but this shell")
			return nil
		}
		return a.shellWish(a.shell.Update(msg))
	case a.tooSmall():
		if (key == "ctrl+c" || key == "q") && a.liveShells() == 0 {
			return tea.Quit
		}
		return nil // what cannot be seen is not ended
	case a.leaving:
		return a.answerLeaving(key)
	case a.drawing != nil:
		return a.answerDrawing(key)
	case key == a.options.Leader:
		a.lead(msg)
		return nil
	case a.switcher != nil:
		return a.switchKey(a.keymap.Meant(msg))
	case a.finder != nil:
		return a.finderKey(msg)
	case a.help.on:
		a.helpKey(key)
		return nil
	case a.inShell:
		return a.shellWish(a.shell.Update(msg))
	case a.answering:
		return a.answerKey(msg)
	case a.goBack(key):
		return nil
	}
	f := a.focused()
	if !f.Typing() {
		msg = a.keymap.Meant(msg)
	}
	if cmd, done := a.frameTable().Do(msg); done {
		return cmd
	}
	cmd, done := f.Table().Do(msg)
	if done {
		return cmd
	}
	if why := f.Table().WhyNot(msg); why != "" && !f.Typing() {
		a.notice = why
		return nil
	}
	return f.Update(msg)
}

// focus is a place or a task that has the keys.
type focus interface {
	Table() place.Table
	Typing() bool
	Update(tea.Msg) tea.Cmd
}

// focused is what has the keys where no shell and no question has them.
func (a *App) focused() focus {
	if a.at == 0 && a.task.Task != nil {
		return a.task.Task
	}
	return a.places[a.at]
}

// frameTable are the frame's own actions, where nothing is typed.
func (a *App) frameTable() place.Table {
	task := a.at == 0 && a.task.Task != nil
	free := func() bool { return !a.focused().Typing() }
	among := func() bool { return free() && !task }
	home := func() bool { return a.at == 0 && among() }
	idle := func() bool {
		s, _ := a.engine.Board.State(a.home.Selected())
		return home() && s.Walk == nil
	}
	const typed = "something is typed"
	table := place.Table{
		place.On(":", "anything by its words", func() tea.Cmd { return a.find("") }).If(free, typed).Whole().Ranked(place.Movement),
		place.On("?", "all keys", func() tea.Cmd { a.help = helping{on: true}; return nil }).If(free, typed).Whole().Ranked(place.InHelp).Also("help shortcuts"),
		place.On("", "leave the tour", a.leaveTour).If(func() bool { return a.tour.on }, "there is no tour; meatus tour begins it").Whole().Ranked(place.InHelp).Also("stop guide"),
		place.On("q", "leave Meatus", a.leave).If(home, "go to Routes first").Whole().Ranked(place.InHelp).Also("quit exit end close program"),
		place.On("ctrl+c", "", a.leave).If(idle, "").Ranked(place.Hidden),
	}
	for _, entry := range places {
		table = append(table, place.On(entry.Key, "go to "+entry.Name, func() tea.Cmd { return a.goToPlace(entry.Key, a.home.Selected()) }).If(among, "finish what is under way first").Whole().Ranked(place.InHelp).Also(entry.Does+" "+entry.Also))
	}
	return table
}

// switchKey gives a key to the switcher.
func (a *App) switchKey(msg tea.KeyPressMsg) tea.Cmd {
	if key := msg.String(); key == "esc" || key == "ctrl+c" {
		a.switcher = nil
		return nil
	}
	switch msg.String() {
	case ":":
		return a.find("")
	case "?":
		a.switcher, a.help = nil, helping{on: true}
		return nil
	}
	to, chosen := a.switcher.Update(msg)
	if !chosen {
		return nil
	}
	a.switcher = nil
	switch {
	case to.Answer:
		return a.answer()
	case to.At != "":
		return a.goToPlace(to.At, a.subjectFor(to.At))
	case to.Do != "":
		return a.shellAction(to.Do)
	}
	return a.goTo(to.Shell)
}

// cargoKey goes to the place of files.
const cargoKey = "Q"

// subjectFor is what a place is gone to at: the session that is chosen, and for files that of the shell
// that shows with the folder it says it is in.
func (a *App) subjectFor(key string) string {
	if s := a.shell.Shell(); key == cargoKey && a.inShell && s != nil {
		return s.Route.Session + " " + s.Frame().Folder
	}
	return a.home.Selected()
}

// shellAction does something with the shell that shows, by its key behind the leader.
func (a *App) shellAction(key string) tea.Cmd {
	if a.shell.Do(key); key == "b" {
		a.beside()
	}
	return nil
}

// lead opens the switcher; pressed twice, the leader goes to the far side.
func (a *App) lead(msg tea.KeyPressMsg) {
	a.finder = nil
	if a.switcher == nil {
		here := switcher.Place{At: places[a.at].Key}
		if a.inShell {
			here = switcher.Place{Shell: a.shell.Shell()}
		}
		a.switcher = switcher.New(a.theme, a.width, a.placesNow(), a.open, here)
		a.switcher.Question, a.switcher.Shown = a.ask.Who(), a.keymap.Shown
		return
	}
	a.switcher = nil
	if a.inShell && a.shell.Shell().Live() {
		a.shell.Send(msg)
	}
}

// leave ends the program, asking first where something is live.
func (a *App) leave() tea.Cmd {
	if a.liveShells() == 0 && len(a.engine.Tunnels.All()) == 0 && a.engine.Jobs.Running() == 0 {
		return tea.Quit
	}
	a.leaving = true
	return nil
}

func (a *App) answerLeaving(key string) tea.Cmd {
	switch key {
	case "enter", "y":
		return tea.Quit
	case "esc", "n", "q", "ctrl+c":
		a.leaving = false
	}
	return nil
}

func (a *App) paste(msg tea.PasteMsg) tea.Cmd {
	switch {
	case a.finder != nil:
		a.finder.Paste(msg)
		return nil
	case a.switcher != nil || a.leaving || a.help.on || a.drawing != nil:
		return nil
	case a.inShell:
		return a.shellWish(a.shell.Update(msg))
	case a.answering:
		return a.answerKey(msg)
	case a.at == 0 && a.task.Task != nil:
		return a.task.Update(msg)
	}
	return a.places[a.at].Update(msg)
}

func (a *App) mouse(msg tea.MouseMsg) tea.Cmd {
	switch {
	case a.switcher != nil || a.finder != nil || a.leaving || a.help.on:
		return nil
	case a.inShell:
		return a.shellWish(a.shell.Update(msg))
	case a.answering || a.at == 0 && a.task.Task != nil:
		return nil
	}
	if p, ok := a.places[a.at].(place.Clicker); ok {
		return p.Click(msg)
	}
	return nil
}
