package tui

import (
	"time"

	tea "charm.land/bubbletea/v2"
)

// restAfter is how long nothing is pressed before memory is given back that was needed for a moment alone.
const restAfter = 2 * time.Second

// rested says that it may be so long.
type rested struct{}

// rest looks once, after a while, whether the person rests.
func (a *App) rest() tea.Cmd {
	if a.resting {
		return nil
	}
	a.resting = true
	return tea.Tick(max(restAfter-time.Since(a.touched), time.Second), func(time.Time) tea.Msg { return rested{} })
}

// rested gives memory back where nothing was pressed for long enough, and looks again later otherwise.
func (a *App) rested() tea.Cmd {
	a.resting = false
	if time.Since(a.touched) < restAfter {
		return a.rest()
	}
	e := a.engine
	return func() tea.Msg {
		e.GiveBack()
		return nil
	}
}
