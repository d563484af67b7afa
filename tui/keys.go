package tui

import (
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/switcher"
	"meatus/tui/theme"
)

// key gives a key press to what has focus: the switcher, a question of our own,
// the core's question, the line being written, the shell, or Routes.
func (a *App) key(msg tea.KeyPressMsg) tea.Cmd {
	key := msg.String()
	a.notice = ""
	away := a.cameBack(time.Now())
	if away != nil {
		return tea.Batch(away, a.keyNow(msg, key))
	}
	return a.keyNow(msg, key)
}

// keyNow is key, once it is known how long nobody was there.
func (a *App) keyNow(msg tea.KeyPressMsg, key string) tea.Cmd {
	if a.tooSmall() {
		if (key == "ctrl+c" || key == "q") && a.liveShells() == 0 {
			return tea.Quit
		}
		return nil // what cannot be seen is not ended
	}
	if a.leaving {
		return a.answerLeaving(key)
	}
	if a.toDraw != nil {
		return a.answerDrawing(key)
	}
	if key == a.options.Leader {
		a.lead(msg)
		return nil
	}
	switch {
	case a.switcher != nil:
		if key == "esc" || key == "ctrl+c" {
			a.switcher = nil
			return nil
		}
		to, chosen := a.switcher.Update(msg)
		switch {
		case !chosen:
			return nil
		case to.At != "":
			a.switcher = nil
			return a.goToPlace(to.At)
		case to.Do != "":
			a.switcher = nil
			if a.shell.Do(to.Do); to.Do == "b" {
				a.beside()
			}
			return nil
		}
		a.switcher = nil
		a.goTo(to.Shell)
		return nil
	case a.at != nil:
		return a.take(a.at.Update(msg))
	case a.inShell:
		return a.take(a.shell.Update(msg), nil)
	case a.help:
		a.help = false
		return nil
	case a.ask.Waiting():
		cmd := a.ask.Update(msg)
		a.raise()
		return cmd
	case a.task != nil:
		return a.take(a.task.Update(msg))
	}
	return a.routesKey(msg)
}

// lead opens the switcher; pressed twice, the leader goes to the far side.
func (a *App) lead(msg tea.KeyPressMsg) {
	if a.switcher == nil {
		here := switcher.Place{At: "0"}
		for key, p := range a.places() {
			if a.at == p {
				here.At = key
			}
		}
		if a.inShell {
			here = switcher.Place{Shell: a.shell.Shell()}
		}
		a.switcher = switcher.New(a.theme, a.width, a.open, here)
		return
	}
	a.switcher = nil
	if a.inShell && a.shell.Shell().Live() {
		a.shell.Send(msg)
	}
}

// routesKey takes the frame's own keys on Routes.
func (a *App) routesKey(msg tea.KeyPressMsg) tea.Cmd {
	if a.routes.Finding() {
		return a.take(a.routes.Update(msg))
	}
	switch msg.String() {
	case "?":
		a.help = true
		return nil
	case "n":
		return a.write()
	case "r":
		return a.readAgain(true)
	case "h", "K", "g", "W":
		return a.goToPlace(msg.String())
	case "q":
		return a.leave()
	case "esc":
		if a.look.cancel != nil {
			a.look.cancel()
			return nil
		}
	case "ctrl+c":
		if !a.routes.Walking(a.routes.Selected()) {
			return a.leave()
		}
	}
	return a.take(a.routes.Update(msg))
}

// leave ends the program, asking first where shells are live.
func (a *App) leave() tea.Cmd {
	if a.liveShells() == 0 && len(a.tunnels.All()) == 0 {
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
	case a.switcher != nil || a.leaving:
		return nil
	case a.at != nil:
		return a.take(a.at.Update(msg))
	case a.inShell:
		return a.take(a.shell.Update(msg), nil)
	case a.ask.Waiting():
		return a.ask.Update(msg)
	case a.task != nil:
		return a.take(a.task.Update(msg))
	}
	return nil
}

func (a *App) mouse(msg tea.Msg) tea.Cmd {
	switch {
	case a.switcher != nil || a.leaving || a.help:
		return nil
	case a.inShell:
		return a.take(a.shell.Update(msg), nil)
	case a.at != nil:
		return a.take(a.at.Update(msg))
	case a.task != nil || a.ask.Waiting():
		return nil
	}
	return a.take(a.routes.Update(msg))
}

// allKeys is what "?" shows: for each place its keys in words.
func (a *App) allKeys() []keyGroup {
	leader := a.options.Leader
	return []keyGroup{
		{"Routes", []theme.Hint{
			{Key: "↑ ↓  pgup pgdn", Does: "choose a session"},
			{Key: "/", Does: "find"}, {Key: "enter", Does: "walk and open a shell"},
			{Key: "w", Does: "wait until it is up"}, {Key: "s  t  T", Does: "to its shell; its tunnels; another"}, {Key: "c  C", Does: "check it, all of them"}, {Key: "v  R", Does: "how far, and how often"}, {Key: "space o", Does: "mark it; order"}, {Key: "esc", Does: "stop"},
			{Key: "m  M", Does: "mend it; all ways to"}, {Key: "i  a", Does: "settle its identity; ask which key opens it"}, {Key: "l  b  S", Does: "lend to one shell; better way; sweep"}, {Key: "h K g W", Does: "hosts, keys, ring, watch"}, {Key: "x  X", Does: "draw them all, it alone"}, {Key: "d", Does: "details of what is wrong"},
			{Key: "n  e  u", Does: "new, edit it, undo an edit"}, {Key: "r", Does: "read the sessions again"}, {Key: "q", Does: "leave"},
		}},
		{"Shell", []theme.Hint{
			{Key: leader, Does: "go elsewhere"}, {Key: leader + " twice", Does: "send it through"},
			{Key: "shift+pgup pgdn", Does: "scroll back"}, {Key: "wheel", Does: "scroll back"}, {Key: "mouse", Does: "select and copy; shift where a program has it"},
			{Key: leader + " /", Does: "search"}, {Key: leader + " v w l", Does: "select, write, log"}, {Key: leader + " b o [ ]", Does: "two side by side"},
			{Key: "anything else", Does: "goes to the far side"},
		}},
		{"Marks", []theme.Hint{
			{Key: "● open", Does: "holds"}, {Key: "◐ ajar", Does: "holds, but something is off"},
			{Key: "╳ shut", Does: "will fail, or failed"}, {Key: "○ untried", Does: "not known from here"},
			{Key: "━ live", Does: "a link is up"}, {Key: "╍ frozen", Does: "it does not answer"}, {Key: "─ known", Does: "its identity is vouched"}, {Key: "┈ new", Does: "never visited"},
		}},
	}
}

type keyGroup struct {
	name  string
	hints []theme.Hint
}
