package remote

import (
	"fmt"
	"time"

	"meatus/core/event"
	"meatus/core/ring"
	"meatus/core/step"
)

// Began says that a shell or command runs at the end of a route.
type Began struct {
	Session, Hop string
	What         string // "shell" or "command"
}

// Finished says that a shell or command has ended.
type Finished struct {
	Session, Hop, What string
	Took               time.Duration
	Ending             Ending
}

// Lent says that a far side used a lent key, or was refused it.
type Lent struct {
	step.Place
	ring.Use
}

// By is who asked: the far side's machine, or a program here.
func (l Lent) By() string { return step.LendQuestion{Place: l.Place, Use: l.Use}.By() }

// Say words it for whoever lent the key.
func (l Lent) Say() string {
	if l.Refuse != nil {
		return fmt.Sprintf("%s was refused the use of %s: %v; asked %s", l.By(), l.Key, l.Refuse, l.For())
	}
	return fmt.Sprintf("%s used %s %s", l.By(), l.Key, l.For())
}

// NotTaken says that a program here wanted a key put into the ring, which was not taken.
type NotTaken struct{ ring.Declined }

// Say words it for whoever the ring belongs to.
func (n NotTaken) Say() string {
	return fmt.Sprintf("%s offered %s to the agent: refused, %v", n.From, n.What, n.Why)
}

// Drew says that a program at a far side draws on the display here, or was turned away.
type Drew struct {
	step.Place
	Err error // why it was turned away, nil where it was not
}

func (Began) IsEvent()    {}
func (Finished) IsEvent() {}
func (Lent) IsEvent()     {}
func (NotTaken) IsEvent() {}
func (Drew) IsEvent()     {}

// Record words the event.
func (e Began) Record() event.Record {
	return event.Record{Name: "began", Session: e.Session, Hop: e.Hop, Say: e.What + " began", Fields: map[string]any{"what": e.What}}
}

// Record words the event.
func (e Finished) Record() event.Record {
	r := event.Record{Name: "finished", Session: e.Session, Hop: e.Hop, Took: e.Took.Round(time.Millisecond),
		Say: fmt.Sprintf("%s ended, status %d", e.What, e.Ending.Status), Fields: map[string]any{"what": e.What, "status": e.Ending.Status}}
	if e.Ending.Signal != "" {
		r.Say, r.Fields["signal"] = e.What+" ended by signal "+e.Ending.Signal, e.Ending.Signal
	}
	if e.Ending.Turned != nil {
		r.Hop, r.Failed = step.WhyFailed(e.Ending.Turned)
	}
	if e.Ending.Err != nil {
		r.Say = e.What + " was lost"
		r.Hop, r.Failed = step.WhyFailed(e.Ending.Err)
	}
	return r
}

// Record words the event.
func (l Lent) Record() event.Record {
	r := event.Record{Name: "lent", Session: l.Session, Hop: l.Hop, Say: fmt.Sprintf("used %s %s, use %d", l.Key, l.For(), l.Count),
		Fields: map[string]any{"key": l.Key.SHA256, "use": l.Count, "refused": l.Refuse != nil}}
	if l.Refuse != nil {
		r.Say, r.Failed = fmt.Sprintf("asked for %s %s", l.Key, l.For()), l.Refuse.Error()
	}
	if l.From != "" {
		r.Say = l.From + " " + r.Say
	}
	return r
}

// Record words the event.
func (n NotTaken) Record() event.Record {
	return event.Record{Name: "not-taken", Hop: "here", Say: fmt.Sprintf("%s would have the ring hold %s", n.From, n.What), Failed: n.Why.Error()}
}

// Record words the event.
func (d Drew) Record() event.Record {
	r := event.Record{Name: "drew", Session: d.Session, Hop: d.Hop, Say: "a program there draws on the display here"}
	if d.Err != nil {
		r.Say, r.Failed = "a program there was refused the display here", d.Err.Error()
	}
	return r
}
