package tui

import (
	"context"
	"fmt"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/trail"
)

// awayFor is how long nobody has to press a key to be told, with the next, what
// happened meanwhile.
const awayFor = 30 * time.Minute

// recapped is what happened since a time; asked says that a person wants to see it.
type recapped struct {
	recap trail.Recap
	asked bool
	err   error
}

// cameBack notes that somebody is there. Where nobody was for long, it finds out what
// happened meanwhile.
func (a *App) cameBack(now time.Time) tea.Cmd {
	was := a.touched
	if a.touched = now; was.IsZero() || now.Round(0).Sub(was.Round(0)) < awayFor {
		return nil
	}
	return a.recapSince(was, false)
}

func (a *App) recap(since time.Time) tea.Cmd { return a.recapSince(since, true) }

func (a *App) recapSince(since time.Time, asked bool) tea.Cmd {
	t, keeper := a.trail, a.keeper
	if t == nil {
		a.notice = "there is no trail to sum up"
		return nil
	}
	return func() tea.Msg {
		now := time.Now()
		r, err := t.Recap(context.Background(), since, now, keeper.Since(since, now))
		return recapped{r, asked, err}
	}
}

// takeRecap shows what happened: in Watch where that was asked for, else it is said
// where to see it, if there is anything.
func (a *App) takeRecap(msg recapped) tea.Cmd {
	if msg.err != nil {
		a.notice = msg.err.Error()
		return nil
	}
	a.watched.ShowRecap(msg.recap)
	if msg.asked || a.at == a.watched || len(msg.recap.Drops)+msg.recap.Refused == 0 {
		return nil
	}
	back := 0
	for _, d := range msg.recap.Drops {
		if !d.Back.IsZero() {
			back++
		}
	}
	say := fmt.Sprintf("while you were away links were lost: %d, of them back: %d. W on Routes tells", len(msg.recap.Drops), back)
	if len(msg.recap.Drops) == 0 {
		say = fmt.Sprintf("while you were away walks did not get through: %d. W on Routes tells", msg.recap.Refused)
	}
	a.notice = say
	if a.inShell {
		a.shell.Notice(say)
	}
	return nil
}
