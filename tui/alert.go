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
	say := session + " is back"
	if lost {
		say = session + " is lost" + why
	}
	switch s.Alert.V {
	case "bell":
		return tea.Raw(bell)
	case "notify": // what a terminal does not know it leaves out; the bell ends it
		return tea.Raw("\x1b]9;" + sanitize.Line(say, 200) + bell + bell)
	}
	return nil
}
