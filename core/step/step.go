// Package step is one hop of a route while its gates are passed: what is told of it, who may be asked for it, and how
// long a gate may take. Dialling (core/dial) and logging in (core/login) work on a [Step]; what comes of it is a link
// (core/link).
package step

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"meatus/core/contain"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/sanitize"
)

// Step is one hop whose gates are being passed. All fields are set before it is used, and not changed after.
type Step struct {
	Route  route.Route // that the hop is of
	Index  int         // of the hop, from 0
	Hop    route.Hop
	Asker  Asker
	Events *event.Stream
	Limit  time.Duration // how long a gate may take without a person

	// Hear is told of every gate: delta is -1 for the gate of the hop before, which this one found out about, else 0;
	// trying says that the gate is come to, and not yet judged.
	Hear func(delta int, g gate.Gate, trying bool)
	// Quiet tells whether nobody may be asked.
	Quiet func() bool
	// Ctx ends when the hop is given up. Its cause may be a [gate.Failure].
	Ctx context.Context
	// Go runs something for as long as what comes of the step lives.
	Go func(f func())
}

// Before is the hop before it, nil for the first.
func (s *Step) Before() *route.Hop {
	if s.Index == 0 {
		return nil
	}
	return &s.Route.Hops[s.Index-1]
}

// Place names the hop, for questions and events.
func (s *Step) Place() Place {
	return Place{Session: s.Route.Session, Hop: s.Hop.Name, Index: s.Index, Address: s.Hop.Address(), User: s.Hop.User}
}

// Say tells an event to whoever listens.
func (s *Step) Say(e event.Event) { s.Events.Tell(e) }

// Tell tells of a gate of this hop.
func (s *Step) Tell(g gate.Gate) { s.Hear(0, g, false) }

// Trying tells that a gate is come to.
func (s *Step) Trying(k gate.Kind) { s.Hear(0, gate.Gate{Kind: k}, true) }

// Passed tells that a gate is open, with what was seen there.
func (s *Step) Passed(k gate.Kind, seen string) {
	s.Tell(gate.Gate{Kind: k, Verdict: gate.Open, Seen: seen})
}

// FoundAt passes the address gate.
func (s *Step) FoundAt(seen string) {
	s.Tell(s.Hop.InPlace(gate.Gate{Kind: gate.Address, Verdict: gate.Open, Seen: seen}))
}

// Fail is a failure of this hop at a gate.
func (s *Step) Fail(k gate.Kind, c gate.Cause, seen, why, remedy string, err error) *gate.Failure {
	return Fail(s.Hop, k, c, seen, why, remedy, err)
}

// Fail is a failure of a hop at a gate.
func Fail(h route.Hop, k gate.Kind, c gate.Cause, seen, why, remedy string, err error) *gate.Failure {
	return &gate.Failure{Hop: h.Name, Gate: k, Cause: c, Seen: seen, Why: why, Remedy: gate.Remedy{Say: remedy}, Err: err}
}

// OrCancelled turns an error of a step that was given up meanwhile into why it was.
func (s *Step) OrCancelled(err error, at gate.Kind) error {
	if s.Ctx.Err() == nil {
		return err
	}
	var f *gate.Failure
	if errors.As(context.Cause(s.Ctx), &f) {
		return f
	}
	return &gate.Failure{Hop: s.Hop.Name, Gate: at, Cause: gate.Cancelled, Seen: "stopped", Why: "the walk was stopped here", Err: context.Canceled}
}

// Contained calls what belongs to the step. A panic in it is a failure at a gate.
func (s *Step) Contained(at gate.Kind, f func() error) error { return Contained(s.Hop, at, f) }

// Contained calls what belongs to the link to a hop. A panic in it is a failure at a gate.
func Contained(h route.Hop, at gate.Kind, f func() error) error {
	err := contain.Do("the link to "+h.Name, f)
	var fault *contain.Panic
	if errors.As(err, &fault) {
		return Fail(h, at, gate.Unexpected, "a fault of this program", fault.Error(), "connect again; if it comes back, send the report", fault)
	}
	return err
}

// Answered says that a person was asked something and answered, or would not. It
// never holds the answer.
type Answered struct {
	Place
	What string // "the identity SHA256:…", "the passphrase of tide.pem"
	Yes  bool   // there was an answer, or it was yes
}

// IsEvent marks it as an event.
func (Answered) IsEvent() {}

// Record words the event.
func (e Answered) Record() event.Record {
	say := "answered: "
	if !e.Yes {
		say = "not answered: "
	}
	return event.Record{Name: "asked", Session: e.Session, Hop: e.Hop, Say: say + e.What, Fields: map[string]any{"what": e.What, "yes": e.Yes}}
}

// Ask puts a question while the time of a gate stands still, and tells that it was put. It returns nil where there was
// an answer, and else the failure at the gate.
func (s *Step) Ask(p *Patience, k gate.Kind, at Place, what string, put func(ctx context.Context) error) *gate.Failure {
	if s.Quiet() {
		put = func(context.Context) error { return Nobody{Remedy: "check it yourself, so that it can ask"} }
	}
	resume := p.Pause()
	defer resume()
	// The connection may end while a person thinks; the question ends with it.
	err := put(s.Ctx)
	s.Say(Answered{at, what, err == nil})
	var nobody Nobody
	switch {
	case err == nil:
		return nil
	case errors.As(err, &nobody):
		remedy := nobody.Remedy
		if remedy == "" {
			remedy = "run it where a person can answer"
		}
		return s.Fail(k, gate.CannotAsk, what, "there is nobody to ask for "+what, remedy, err)
	case s.Ctx.Err() != nil:
		var f *gate.Failure
		if errors.As(s.OrCancelled(err, k), &f) {
			return f
		}
	}
	return s.Fail(k, gate.Cancelled, "no answer given", "you gave no answer for "+what, "walk the route again when you have it", err)
}

// Words is an error's text without the library's preamble, cleaned: part
// of it may be the other side's.
func Words(err error) string {
	text := strings.TrimPrefix(err.Error(), "ssh: handshake failed: ")
	return sanitize.Line(strings.TrimPrefix(text, "ssh: "), 160)
}

// WhyFailed words an error for a record: at which hop, and why.
func WhyFailed(err error) (hop, why string) {
	var f *gate.Failure
	if errors.As(err, &f) {
		return f.Hop, fmt.Sprintf("%s: %s: %s", f.Gate, f.Cause, f.Why)
	}
	return "", err.Error()
}
