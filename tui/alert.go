package tui

import (
	"fmt"

	tea "charm.land/bubbletea/v2"

	"meatus/core/event"
	"meatus/core/sanitize"
	"meatus/core/tunnel"
	"meatus/core/walk"
)

// alert tells by the terminal's own means that a session is lost, or is back, once for each,
// where the session wants that.
func (a *App) alert(e event.Event) tea.Cmd {
	session, lost, why := "", false, ""
	switch e := e.(type) {
	case tunnel.Lost:
		session, lost = e.Session, true
		if e.Why != nil {
			why = fmt.Sprintf(": %s at %s", e.Why.Cause, e.Why.Hop)
		}
	case walk.Waiting:
		if !e.Lost {
			return nil
		}
		session, lost = e.Session, true
		if e.Failure != nil {
			why = fmt.Sprintf(": %s at %s", e.Failure.Cause, e.Failure.Hop)
		}
	case tunnel.Came:
		session = e.Session
	case walk.Ended:
		if e.Err != nil {
			return nil
		}
		session = e.Session
	default:
		return nil
	}
	if a.lost[session] == lost {
		return nil
	}
	if delete(a.lost, session); lost {
		a.lost[session] = true
	}
	s := a.engine.Workspace().Book.Session(session)
	if s == nil {
		return nil
	}
	say, state := session+" is back", "back"
	if lost {
		say, state = session+" is lost"+why, "lost"
	}
	switch s.Alert.V {
	case "bell":
		return tea.Batch(tea.Raw(bell), a.runAlert(session, state, say))
	case "notify": // what a terminal does not know it leaves out; the bell ends it
		return tea.Batch(tea.Raw("\x1b]9;"+sanitize.Line(say, 200)+bell+bell), a.runAlert(session, state, say))
	}
	return nil
}

// runAlert runs the person's own command, nil where there is none.
func (a *App) runAlert(session, state, say string) tea.Cmd {
	alert, ctx, tell := a.options.Prefs.Alert, a.ctx, a.engine.Tell
	if len(alert.Command) == 0 {
		return nil
	}
	return func() tea.Msg {
		if err := alert.Run(ctx, session, state, say); err != nil && ctx.Err() == nil {
			tell(err.Error())
		}
		return nil
	}
}
