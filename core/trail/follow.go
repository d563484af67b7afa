package trail

import (
	"context"
	"time"

	"meatus/core/contain"
	"meatus/core/event"
	"meatus/core/login"
	"meatus/core/route"
)

// kinds are the kinds of entries that events become, by the names of their records.
// Events that are not here are told and not kept.
var kinds = map[string]Kind{
	"walked": Walk, "diverted": Walk, "asked": Question, "began": Shell, "finished": End, "lent": Lend, "not-taken": Lend, "drew": Window,
	"learned": Vouch, "checked": Check, "enrolled": Vouch, "emergency": Vouch, "carried": Carry, "swept": Sweep, "asked-keys": Check, "link-up": Link, "froze": Link, "thawed": Link, "link-down": End,
	"open": Tunnel, "shut": Tunnel, "stuck": Tunnel, "rested": Tunnel, "wider": Tunnel, "up": Tunnel, "lost": Tunnel, "proven": Tunnel,
	"moved": Cargo, "estate": Estate, "acted": Estate, "launched": Estate, "rule": Estate,
}

// Follow writes what happens to walks, questions, shells, links and tunnels, until the
// inbox or ctx ends. Where that fails, on a full disk perhaps, told is told why, once;
// and nil when it is written again.
func (t *Trail) Follow(ctx context.Context, inbox *event.Inbox, told func(error)) {
	failing := false
	for events := inbox.Take(ctx); events != nil; events = inbox.Take(ctx) {
		for _, e := range events {
			wrote := false
			err := contain.Do("writing the trail", func() (err error) { wrote, err = t.take(e); return err })
			if !wrote && err == nil {
				continue
			}
			if (err != nil) != failing {
				failing = err != nil
				told(err)
			}
		}
	}
}

// take remembers what an event tells, and writes its entry. It tells whether there is one.
func (t *Trail) take(e event.Event) (wrote bool, err error) {
	if err := t.note(e); err != nil {
		return false, err
	}
	entry, ok := entryOf(e)
	if !ok {
		return false, nil
	}
	return true, t.Add(entry)
}

// note remembers what an event tells about logins and hosts.
func (t *Trail) note(e event.Event) error {
	switch e := e.(type) {
	case login.LoggedIn:
		return t.NoteLogin(e.Host, e.Port, e.User, route.Login{Session: e.Hop, Key: e.Key, Version: e.Version, When: time.Now()})
	case login.Sighted:
		return t.NoteSighting(e.Host, e.Port, e.Key, e.Address, time.Now())
	}
	return nil
}

// entryOf is the entry that an event leaves, if any.
func entryOf(e event.Event) (Entry, bool) {
	recorded, ok := e.(event.Recorded)
	if !ok {
		return Entry{}, false
	}
	r := recorded.Record()
	kind, ok := kinds[r.Name]
	if !ok || r.Name == "up" && r.Fields["again"] == 0 { // that a way comes for the first time is told by its tunnels
		return Entry{}, false
	}
	return Entry{Kind: kind, Session: r.Session, Hop: r.Hop, Say: r.Say, Took: r.Took, Failed: r.Failed, Event: r.Name, Fields: r.Fields}, true
}
