package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/prefs"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/finder"
	"meatus/tui/place"
	"meatus/tui/sheet"
	"meatus/tui/shells"
	"meatus/tui/stack"
)

// find opens the finder over everything that can be done here and now.
func (a *App) find(words string) tea.Cmd {
	names := a.engine.Workspace().Book.Names()
	lower := make([]string, len(names))
	for i, n := range names {
		lower[i] = strings.ToLower(n)
	}
	session := func(i int) finder.Item {
		return finder.Item{Say: names[i], Of: "session", Do: func() tea.Cmd { return a.goToPlace("0", names[i]) }}
	}
	if open := layer[*switchLayer](a.stack); open != nil {
		a.stack.Drop(open)
	}
	return a.push(&findLayer{a: a, Model: finder.New(a.theme, a.width, words, a.actions(), lower, session)})
}

// actions are everything that can be done: with what shows, from anywhere, in the other places,
// with the live shells, and the settings.
func (a *App) actions() []finder.Item {
	var items []finder.Item
	if who := a.waits(); who != "" && !a.answering() {
		items = append(items, finder.Item{Say: "go to what waits for you", Of: who, Key: a.options.Leader + " a", Also: "answer question needs you", Do: a.answer})
	}
	if a.inShell() {
		items = append(items, a.shellItems()...)
	} else {
		items = append(items, a.itemsOf(a.under(), places[a.at()].Name)...)
	}
	task := a.under().Shape().OnRoutes()
	for _, act := range a.frameTable().Actions() {
		item := a.item(act, "", "")
		if a.inShell() {
			item.Key = a.options.Leader + " " + item.Key
		}
		items = append(items, item)
	}
	for _, s := range a.open {
		if who, way := s.Where(); s.Live() {
			items = append(items, finder.Item{Say: "to the shell of " + who, Of: way, Also: "live terminal switch", Do: func() tea.Cmd { return a.goTo(s) }})
		}
	}
	for i, p := range a.places {
		if i == a.at() && !a.inShell() && !task {
			continue
		}
		items = append(items, a.elsewhere(i, p)...)
	}
	return append(items, a.settings()...)
}

// itemsOf are the actions of a place or task that shows.
func (a *App) itemsOf(f stack.Layer, name string) []finder.Item {
	subject := f.Subject()
	var items []finder.Item
	for _, act := range f.Table().Actions() {
		item := a.item(act, name, subject)
		item.Here = true
		items = append(items, item)
	}
	return items
}

func (a *App) item(act action.Action, name, subject string) finder.Item {
	of := subject
	if act.All || subject == "" {
		of = name
	}
	hint := act.Hint()
	return finder.Item{Say: hint.Does, Of: of, Key: a.keymap.Shown(hint.Key), Also: act.Synonyms, WhyNot: act.WhyNot(), Do: func() tea.Cmd { return act.Do(tea.KeyPressMsg{}) }}
}

// elsewhere are the actions of a place that does not show. What is about the place as a whole is
// done there at once; for what is about something chosen, it has to be chosen first.
func (a *App) elsewhere(i int, p stack.Layer) []finder.Item {
	var items []finder.Item
	for _, act := range p.Table().Actions() {
		hint := act.Hint()
		if strings.HasPrefix(hint.Key, "esc") || hint.Key == "enter" && i != 0 {
			continue
		}
		key := a.keymap.Shown(hint.Key)
		items = append(items, finder.Item{Say: hint.Does, Of: "in " + places[i].Name, Key: places[i].Key + " " + key, Also: act.Synonyms, Do: func() tea.Cmd {
			cmd := a.goToPlace(places[i].Key, a.home.Selected())
			if act.All {
				return tea.Batch(cmd, act.Do(tea.KeyPressMsg{}))
			}
			a.notice = "choose what to do it to, then " + key + ": " + hint.Does
			return cmd
		}})
	}
	return items
}

// shellItems are what can be done with the shell that shows.
func (a *App) shellItems() []finder.Item {
	who, _ := a.shell.Shell().Where()
	var items []finder.Item
	for _, act := range shells.Actions() {
		items = append(items, finder.Item{Say: act.Does, Of: who, Key: a.options.Leader + " " + act.Key, Also: act.Also, Here: true, Do: func() tea.Cmd {
			return a.shellAction(act.Key)
		}})
	}
	return items
}

// settings are the values of the selected session, and the person's own settings of the program.
func (a *App) settings() []finder.Item {
	var items []finder.Item
	if session := a.home.Selected(); session != "" {
		for _, field := range book.FieldsOf(book.InSession) {
			items = append(items, finder.Item{Say: "set " + field, Of: session, Also: "change value setting", Do: func() tea.Cmd {
				return a.show(func(s *place.Services) stack.Layer { return sheet.At(s, session, field) })
			}})
		}
	}
	path := prefs.Path()
	for _, name := range prefs.Names() {
		also := "preferences configuration settings"
		if strings.HasPrefix(name, "look.") {
			also += " theme appearance dark light mode colours"
		}
		items = append(items, finder.Item{Say: "set " + name, Of: prefs.FileName, Also: also, Do: func() tea.Cmd {
			a.notice = name + " is set in " + workspace.Short(path) + ", which is on the clipboard; " + prefs.Can(name)
			return a.copy(path)
		}})
	}
	return items
}
