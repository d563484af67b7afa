package tui

import (
	"fmt"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/fit"
	"meatus/tui/place"
)

// moving says in a few words how far the cargo is that is under way, "" where none is. It shows
// wherever a person is.
func (a *App) moving() string {
	all := a.engine.Jobs.Cargo()
	if len(all) == 0 {
		return ""
	}
	share, bytes := shareOf(all), 0.0
	var left float64
	waiting := false
	for _, m := range all {
		bytes += m.Rate
		left = max(left, m.Left.Seconds())
		waiting = waiting || m.Waiting
	}
	say := fmt.Sprintf("▷ %.0f %%", share*100)
	if len(all) > 1 {
		say = words.Count(len(all), "cargo") + " " + say
	}
	switch {
	case waiting:
		return say + ", the line is lost"
	case left >= 1:
		return say + " " + words.Bytes(bytes) + "/s, " + fit.Ago(time.Duration(left*float64(time.Second))) + " left"
	}
	return say + " " + words.Bytes(bytes) + "/s"
}

// placesNow are the places, that of files with how far its cargo is.
func (a *App) placesNow() []place.Entry {
	say := a.moving()
	if say == "" {
		return places
	}
	now := slices.Clone(places)
	for i := range now {
		if now[i].Key == cargoKey {
			now[i].Does = say
		}
	}
	return now
}

// shareOf is how much of all carries together is done, from 0 to 1.
func shareOf(all []work.Moving) float64 {
	sum := 0.0
	for _, m := range all {
		sum += m.Share()
	}
	return sum / float64(len(all))
}

// progressBar is how far the cargo is, as the terminal itself shows it; nil where none is under way.
func (a *App) progressBar() *tea.ProgressBar {
	all := a.engine.Jobs.Cargo()
	if len(all) == 0 {
		return nil
	}
	state := tea.ProgressBarDefault
	for _, m := range all {
		if m.Waiting {
			state = tea.ProgressBarWarning
		}
	}
	return tea.NewProgressBar(state, int(shareOf(all)*100))
}
