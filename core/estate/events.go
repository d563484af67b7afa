package estate

import (
	"fmt"

	"meatus/core/event"
)

// Noticed is a change that was seen when a source was read.
type Noticed struct {
	event.Note
	Change
	Session string // that is bound to the instance, "" for none
}

// Record words it.
func (n Noticed) Record() event.Record {
	return event.Record{Name: "estate", Session: n.Session, Hop: n.Name, Say: n.Say, Fields: map[string]any{"source": n.Source, "id": n.ID, "change": string(n.Kind)}}
}

// Unread says that a source cannot be read, or with Why "" that it can be again.
type Unread struct {
	event.Note
	Source, Why string
}

// Record words it.
func (f Unread) Record() event.Record {
	r := event.Record{Name: "estate", Hop: f.Source, Say: fmt.Sprintf("estate %s is read again", f.Source), Fields: map[string]any{"source": f.Source}}
	if f.Why != "" {
		r.Say, r.Failed = fmt.Sprintf("estate %s cannot be read; what was known of it stays", f.Source), f.Why
	}
	return r
}

// Cut says what became of a launch that was cut short.
type Cut struct {
	event.Note
	Source, Say string
}

// Record words it.
func (c Cut) Record() event.Record {
	return event.Record{Name: "estate", Hop: c.Source, Say: c.Say, Fields: map[string]any{"source": c.Source}}
}

// GrantsChanged says that another rule stands for a time, or one no longer.
type GrantsChanged struct{ event.Note }

// TakenBack says that a rule was taken back whose time was over, or why it could not be.
type TakenBack struct {
	event.Note
	Grant Grant
	Why   string // "" where it was
}

// Record words it.
func (t TakenBack) Record() event.Record {
	r := event.Record{Name: "rule", Session: t.Grant.Session, Hop: t.Grant.Source, Say: "no longer " + t.Grant.Sentence(), Fields: map[string]any{"source": t.Grant.Source, "group": t.Grant.Group}}
	if t.Why != "" {
		r.Say, r.Failed = "taking back: "+t.Grant.Sentence(), t.Why
	}
	return r
}
