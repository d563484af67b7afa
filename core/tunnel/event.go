package tunnel

import (
	"fmt"
	"time"

	"meatus/core/event"
	"meatus/core/gate"
)

// What is told of a tunnel: that its listener was opened or closed, that the server
// opens none over there (it is asked again), that it closes because no flow has lived
// for so long, and what became of trying the service behind it.
type (
	Opened struct {
		event.Note
		Session, What, Address string
	}
	Shut struct {
		event.Note
		Session, What string
	}
	Stuck struct {
		event.Note
		Session, What string
		Err           error
	}
	Rested struct {
		event.Note
		Session, What string
		After         time.Duration
	}
	Proven struct {
		event.Note
		Session, What string
		Proof         Proof
	}
)

// What is told of the way of a session's tunnels: that it is there, that it is lost or
// could not be walked, and that a machine allows no more channels on one link, so that
// there is a further one.
type (
	Came struct {
		event.Note
		Session string
		Again   int // how often it came back
	}
	Lost struct {
		event.Note
		Session string
		Err     error         // why it is not walked any more, nil while it is
		Why     *gate.Failure // why it was lost, nil where that is not known
	}
	Widened struct {
		event.Note
		Session, Hop string
		Links        int
	}
)

// Ended says that a flow has ended.
type Ended struct {
	event.Note
	Session string
	Flow    Flow
}

// Record words the event.
func (e Opened) Record() event.Record {
	return event.Record{Name: "open", Session: e.Session, Say: e.What + ", listening at " + e.Address, Fields: map[string]any{"tunnel": e.What, "door": e.Address}}
}

// Record words the event.
func (e Shut) Record() event.Record {
	return event.Record{Name: "shut", Session: e.Session, Say: e.What + " is closed", Fields: map[string]any{"tunnel": e.What}}
}

// Record words the event.
func (e Stuck) Record() event.Record {
	return event.Record{Name: "stuck", Session: e.Session, Say: e.What + " cannot be opened there", Failed: e.Err.Error(), Fields: map[string]any{"tunnel": e.What, "error": e.Err.Error()}}
}

// Record words the event.
func (e Rested) Record() event.Record {
	return event.Record{Name: "rested", Session: e.Session, Say: fmt.Sprintf("%s closes: not used for %s", e.What, e.After), Fields: map[string]any{"tunnel": e.What, "seconds": e.After.Seconds()}}
}

// Record words the event.
func (e Proven) Record() event.Record {
	r := event.Record{Name: "proven", Session: e.Session, Say: fmt.Sprintf("%s tested from the machine: %s, %s", e.What, e.Proof.Verdict, e.Proof.Say),
		Fields: map[string]any{"tunnel": e.What, "verdict": e.Proof.Verdict.String(), "seen": e.Proof.Say}}
	if e.Proof.Rule != "" {
		r.Fields["rule"] = e.Proof.Rule
	}
	switch {
	case e.Proof.Verdict == gate.Shut && e.Proof.Rule != "":
		r.Failed = "to hand on: " + e.Proof.Rule
	case e.Proof.Verdict == gate.Shut:
		r.Failed = "the service cannot be used"
	case e.Proof.Rule != "":
		r.Say += "; to hand on: " + e.Proof.Rule
	}
	return r
}

// Record words the event.
func (e Came) Record() event.Record {
	r := event.Record{Name: "up", Session: e.Session, Say: "connected", Fields: map[string]any{"again": e.Again}}
	if e.Again > 0 {
		r.Say += " again"
	}
	return r
}

// Record words the event.
func (e Lost) Record() event.Record {
	if e.Err != nil {
		return event.Record{Name: "lost", Session: e.Session, Say: "connection lost", Failed: e.Err.Error(), Fields: map[string]any{"error": e.Err.Error()}}
	}
	say, fields := "connection lost", map[string]any{}
	if e.Why != nil {
		say = fmt.Sprintf("connection lost at %s: %s", e.Why.Hop, e.Why.Cause)
		fields["hop"], fields["cause"] = e.Why.Hop, string(e.Why.Cause)
	}
	return event.Record{Name: "lost", Session: e.Session, Say: say + "; reconnecting, local ports stay open", Fields: fields}
}

// Record words the event.
func (e Widened) Record() event.Record {
	return event.Record{Name: "wider", Session: e.Session, Hop: e.Hop, Say: fmt.Sprintf("%s allows no more channels on a connection: %d connections now", e.Hop, e.Links), Fields: map[string]any{"hop": e.Hop, "links": e.Links}}
}

// Record words the event.
func (e Ended) Record() event.Record {
	f := e.Flow
	return event.Record{Name: "flow", Session: e.Session, Took: f.Took,
		Say:    fmt.Sprintf("%s to %s, %d bytes in, %d out, %s: %s", f.Who(), f.To, f.In, f.Out, f.Took.Round(time.Millisecond), f.How),
		Fields: map[string]any{"from": f.From, "program": f.Program, "to": f.To, "in": f.In, "out": f.Out, "seconds": f.Took.Seconds(), "how": f.How, "complete": f.Complete}}
}
