package walk

import (
	"time"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/step"
)

// Trying says that a walk has come to a gate.
type Trying struct {
	Walk    link.ID
	Session string
	Hop     int
	Gate    gate.Kind
	Say     string // what it waits for there, "" for most
}

// Passed says that a walk has passed a gate.
type Passed struct {
	Walk    link.ID
	Session string
	Hop     int
	Gate    gate.Gate
}

// Ended says that a walk is over: Err is nil, or a [gate.Failure] at Hop.
type Ended struct {
	Walk    link.ID
	Session string
	Hop     int
	Err     error
	Took    time.Duration
}

func (Trying) IsEvent() {}
func (Passed) IsEvent() {}
func (Ended) IsEvent()  {}

// Record words the event.
func (e Ended) Record() event.Record {
	r := event.Record{Name: "walked", Session: e.Session, Say: "connected", Took: e.Took}
	if e.Err != nil {
		r.Say = "failed"
		r.Hop, r.Failed = step.WhyFailed(e.Err)
	}
	return r
}

// Record words the event.
func (e Touched) Record() event.Record {
	r := event.Record{Name: "checked", Session: e.Report.Session, Say: "checked as far as " + e.Depth.String() + ": " + e.Report.Verdict().String(),
		Fields: map[string]any{"depth": e.Depth.String(), "verdict": e.Report.Verdict().String()}}
	if e.Failure != nil {
		r.Hop, r.Failed = step.WhyFailed(e.Failure)
	}
	return r
}
