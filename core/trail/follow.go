package trail

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/walk"
)

// Follow writes what happens to walks, questions, shells and links, until ctx
// ends. Where that fails, on a full disk perhaps, told is told why, once; and nil when
// it is written again.
func (t *Trail) Follow(ctx context.Context, inbox *walk.Inbox, told func(error)) {
	failing := false
	for events := inbox.Take(ctx); events != nil; events = inbox.Take(ctx) {
		for _, event := range events {
			err := t.note(event)
			e, ok := entry(event)
			if ok && err == nil {
				err = t.Add(e)
			}
			if !ok && err == nil {
				continue
			}
			if (err != nil) != failing {
				failing = err != nil
				told(err)
			}
		}
	}
}

// note remembers what an event tells about logins and hosts.
func (t *Trail) note(event walk.Event) error {
	switch ev := event.(type) {
	case walk.LoggedIn:
		return t.NoteLogin(ev.Host, ev.Port, ev.User, route.Login{Session: ev.Hop, Key: ev.Key, Version: ev.Version, When: time.Now()})
	case walk.Sighted:
		return t.NoteSighting(ev.Host, ev.Port, ev.Key, ev.Address, time.Now())
	}
	return nil
}

// entry is the line an event leaves, if any.
func entry(event walk.Event) (Entry, bool) {
	switch ev := event.(type) {
	case walk.Ended:
		e := Entry{Kind: Walk, Session: ev.Session, Say: "walked to its end", Took: ev.Took}
		if ev.Err != nil {
			e.Say = "did not get through"
			e.fail(ev.Err)
		}
		return e, true
	case walk.Answered:
		say := "answered: "
		if !ev.Yes {
			say = "not answered: "
		}
		return Entry{Kind: Question, Session: ev.Session, Hop: ev.Hop, Say: say + ev.What}, true
	case walk.Began:
		return Entry{Kind: Shell, Session: ev.Session, Hop: ev.Hop, Say: ev.What + " began"}, true
	case walk.Finished:
		e := Entry{Kind: End, Session: ev.Session, Hop: ev.Hop, Say: fmt.Sprintf("%s ended, status %d", ev.What, ev.Ending.Status), Took: ev.Took.Round(time.Millisecond)}
		if ev.Ending.Signal != "" {
			e.Say = ev.What + " ended by signal " + ev.Ending.Signal
		}
		if ev.Ending.Err != nil {
			e.Say = ev.What + " was lost"
			e.fail(ev.Ending.Err)
		}
		return e, true
	case walk.Lent:
		e := Entry{Kind: Lend, Session: ev.Session, Hop: ev.Hop, Say: fmt.Sprintf("used %s %s, use %d", ev.Key, ev.For(), ev.Count)}
		if ev.Refuse != nil {
			e.Say = fmt.Sprintf("asked for %s %s", ev.Key, ev.For())
			e.Failed = ev.Refuse.Error()
		}
		if ev.From != "" {
			e.Say = ev.From + " " + e.Say
		}
		return e, true
	case tunnel.Opened:
		return Entry{Kind: Tunnel, Session: ev.Session, Say: ev.What + ", the door is " + ev.Address}, true
	case tunnel.Shut:
		return Entry{Kind: Tunnel, Session: ev.Session, Say: ev.What + " closed"}, true
	case tunnel.Stuck:
		return Entry{Kind: Tunnel, Session: ev.Session, Say: ev.What + " cannot be opened there", Failed: ev.Err.Error()}, true
	case tunnel.Rested:
		return Entry{Kind: Tunnel, Session: ev.Session, Say: fmt.Sprintf("%s closes: nothing ran through it for %s", ev.What, ev.After)}, true
	case tunnel.Widened:
		return Entry{Kind: Tunnel, Session: ev.Session, Hop: ev.Hop, Say: fmt.Sprintf("%s allows no more channels on a link: %d links now", ev.Hop, ev.Links)}, true
	case tunnel.Came:
		if ev.Again == 0 {
			return Entry{}, false
		}
		return Entry{Kind: Tunnel, Session: ev.Session, Say: "the tunnels' way is there again"}, true
	case tunnel.Lost:
		e := Entry{Kind: Tunnel, Session: ev.Session, Say: "the tunnels' way is lost"}
		if ev.Err != nil {
			e.Failed = ev.Err.Error()
		}
		return e, true
	case tunnel.Proven:
		e := Entry{Kind: Tunnel, Session: ev.Session, Say: ev.What + " tried from there: " + ev.Proof.Say}
		if ev.Proof.Verdict == gate.Shut {
			e.Failed = ev.Proof.Rule
		}
		return e, true
	case walk.Drew:
		e := Entry{Kind: Window, Session: ev.Session, Hop: ev.Hop, Say: "a program there draws on the display here"}
		if ev.Err != nil {
			e.Say, e.Failed = "a program there was not let draw here", ev.Err.Error()
		}
		return e, true
	case walk.Learned:
		return Entry{Kind: Vouch, Session: ev.Session, Hop: ev.Hop, Say: "proved further host keys of its own: " + strings.Join(ev.Keys, ", ")}, true
	case walk.Touched:
		e := Entry{Kind: Check, Session: ev.Report.Session, Say: "checked as far as " + ev.Depth.String() + ": " + ev.Report.Verdict().String()}
		if ev.Failure != nil {
			e.fail(ev.Failure)
		}
		return e, true
	case walk.LinkUp:
		return Entry{Kind: Link, Hop: ev.Link.Hop, Say: linkUp}, true
	case walk.LinkDown:
		e := Entry{Kind: End, Hop: ev.Link.Hop, Say: fmt.Sprintf(linkEnded+", %d bytes in, %d out", ev.Link.In, ev.Link.Out), Took: time.Since(ev.Link.Since).Round(time.Millisecond)}
		if ev.Failure != nil {
			e.fail(ev.Failure)
		}
		return e, true
	}
	return Entry{}, false
}

// fail notes why, and where on the way.
func (e *Entry) fail(err error) {
	e.Failed = err.Error()
	var f *gate.Failure
	if errors.As(err, &f) {
		e.Hop, e.Failed = f.Hop, fmt.Sprintf("%s: %s: %s", f.Gate, f.Cause, f.Why)
	}
}
