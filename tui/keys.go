package tui

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/action"
	"meatus/tui/place"
	"meatus/tui/stack"
	"meatus/tui/switcher"
)

// awayFor is how long nobody has to press a key to be told, with the next, what
// happened meanwhile.
const awayFor = 30 * time.Minute

// key gives a key press to what has the input.
func (a *App) key(msg tea.KeyPressMsg) tea.Cmd {
	a.notice = ""
	a.confirming.Pressed()
	back := a.cameBack(time.Now())
	return tea.Batch(back, a.byHand(func() tea.Cmd { return a.keyNow(msg) }), a.rest())
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

// keyNow gives a key to the topmost layer: to its actions and those of the frame, and where none takes it to the layer
// itself.
func (a *App) keyNow(msg tea.KeyPressMsg) tea.Cmd {
	key, top := msg.String(), a.stack.Top()
	switch {
	case a.unseen():
		if (key == "ctrl+c" || key == "q") && a.liveShells() == 0 {
			return tea.Quit
		}
		return nil // what cannot be seen is not ended
	case key == a.options.Leader && !a.dialogOpen():
		return a.lead(msg)
	}
	if !top.Typing() {
		msg = a.keymap.Meant(msg)
	}
	cmd, done := top.Table().Do(msg)
	if !done && (top.Shape() == stack.Place || top.Shape().OnRoutes()) {
		cmd, done = a.frameTable().Do(msg)
	}
	if done {
		return cmd
	}
	if why := top.Table().WhyNot(msg); why != "" && !top.Typing() {
		a.notice = why
		return nil
	}
	return top.Update(msg)
}

// frameTable are the frame's own actions, where nothing is typed.
func (a *App) frameTable() action.Table {
	top := a.stack.Top()
	free := a.stack.IdleForCard() || top == a.shells
	among := free && !top.Shape().OnRoutes()
	home := top == a.home && free
	idle := func() bool {
		s, _ := a.engine.Board.State(a.home.Selected())
		return home && s.Walk == nil
	}
	when := func(holds bool) func() bool { return func() bool { return holds } }
	const typed = "something is typed"
	table := action.Table{
		action.On(":", "find an action", func() tea.Cmd { return a.find("") }).If(when(free), typed).Whole().Ranked(action.Movement),
		action.On("?", "all keys", a.showHelp).If(when(free), typed).Whole().Ranked(action.InHelp).Also("help shortcuts"),
		action.On("", "end the tour", a.leaveTour).If(func() bool { return a.tour.on }, "there is no tour; meatus tour begins it").Whole().Ranked(action.InHelp).Also("stop guide"),
		action.On("q", "quit Meatus", a.leave).If(when(home), "go to Routes first").Whole().Ranked(action.InHelp).Also("quit exit end close program"),
		action.On("ctrl+c", "", a.leave).If(idle, "").Ranked(action.Hidden),
	}
	for _, entry := range places {
		table = append(table, action.On(entry.Key, "go to "+entry.Name, func() tea.Cmd { return a.goToPlace(entry.Key, a.home.Selected()) }).If(when(among), "finish what is under way first").Whole().Ranked(action.InHelp).Also(entry.Does+" "+entry.Also))
	}
	return table
}

// cargoKey goes to the place of files.
const cargoKey = "Q"

// subjectFor is what a place is gone to at: the session that is chosen, and for files that of the shell
// that shows with the folder it says it is in.
func (a *App) subjectFor(key string) string {
	if s := a.shell.Shell(); key == cargoKey && a.inShell() && s != nil {
		return s.Route.Session + " " + s.Frame().Folder
	}
	return a.home.Selected()
}

// shellAction does something with the shell that shows, by its key behind the leader.
func (a *App) shellAction(key string) tea.Cmd {
	wish := a.shell.Do(key)
	if key == "b" {
		a.beside()
	}
	return a.shellWish(wish)
}

// lead opens the switcher; pressed twice, the leader goes to the far side.
func (a *App) lead(msg tea.KeyPressMsg) tea.Cmd {
	if a.tooSmall() {
		a.shell.Notice("too small for more than this shell")
		return nil
	}
	if open := layer[*switchLayer](a.stack); open != nil {
		a.stack.Drop(open)
		if a.inShell() && a.shell.Shell().Live() {
			a.shell.Send(msg)
		}
		return nil
	}
	if open := layer[*findLayer](a.stack); open != nil {
		a.stack.Drop(open)
	}
	if open := layer[*helpLayer](a.stack); open != nil {
		a.stack.Drop(open)
	}
	here := switcher.Place{At: places[a.at()].Key}
	if a.inShell() {
		here = switcher.Place{Shell: a.shell.Shell()}
	}
	l := &switchLayer{a: a, Model: switcher.New(a.theme, a.width, a.placesNow(), a.open, here)}
	l.Question, l.Shown = a.waits(), a.keymap.Shown
	return a.push(l)
}

// dialogOpen reports whether a dialog of the frame has to be answered first.
func (a *App) dialogOpen() bool {
	switch a.stack.Top().(type) {
	case *leaveLayer, *drawLayer:
		return true
	}
	return false
}

// leave ends the program, asking first where something is live.
func (a *App) leave() tea.Cmd {
	if a.liveShells() == 0 && len(a.engine.Tunnels.All()) == 0 && a.engine.Jobs.Running() == 0 {
		return tea.Quit
	}
	return a.push(&leaveLayer{a: a})
}

// paste gives what was pasted to the topmost layer. Nothing that cannot be seen takes it.
func (a *App) paste(msg tea.PasteMsg) tea.Cmd {
	if a.unseen() {
		return nil
	}
	return a.byHand(func() tea.Cmd { return a.stack.Top().Update(msg) })
}

// mouse gives the mouse to the topmost layer.
func (a *App) mouse(msg tea.MouseMsg) tea.Cmd {
	if a.unseen() {
		return nil
	}
	return a.byHand(func() tea.Cmd { return a.stack.Top().Update(msg) })
}
