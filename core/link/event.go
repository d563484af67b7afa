package link

import (
	"fmt"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/step"
	"time"
)

// ID tells one link, walk or program of a [Pool] from another.
type ID int64

// Up says that a link is there.
type Up struct{ Link State }

// Down says that a link is gone. Failure is nil where it was closed here.
type Down struct {
	Link    State
	Failure *gate.Failure
}

// Froze says that a link gives no sign of life, and has been silent for so long; Thawed
// that it does again, after so long.
type (
	Froze struct {
		Hop    string
		Silent time.Duration
	}
	Thawed struct {
		Hop   string
		After time.Duration
	}
)

// Pulse tells how the live links fare. It comes at most once a second, and only
// when something changed.
type Pulse struct{ Links []State }

// State is what is known of a link at a moment.
type State struct {
	ID        ID
	Below     ID            // the link it runs inside, 0 for a first hop
	Lane      int           // 0, or which further link to the same machine it is
	Hop       string        // the session name of the machine it leads to
	Key       route.LinkKey `json:"Prefix"` // the way up to it, by the name that programs of before it read
	Since     time.Time
	RoundTrip time.Duration // of the last keepalive, 0 before the first answer
	In, Out   uint64        // bytes on the wire, from and to the machine
	Users     int           // shells, commands and links above
	Cipher    string
	Gateway   bool   // it leads to no machine, but to a relay
	Software  string // what the machine's server calls itself (RFC 4253 section 4.2), as it sent it
	// Of all round trips of the link: smoothed with their spread, as RFC 6298
	// section 2 does, the best and the worst; 0 before the first answer.
	Smoothed, Spread, Best, Worst time.Duration
	PayIn, PayOut                 uint64    // bytes of its channels, without what wraps them
	Channels                      int       // open through it
	LastUse                       time.Time // when payload last passed, zero before
	Again                         int       // how often a link to there came back
	Packets                       Packets
	// Frozen says that a keepalive is overdue and nothing else came; LastIn is
	// when the last byte did.
	Frozen bool
	LastIn time.Time
}

// Packets are what the system counted for a first hop's connection: segments each
// way, and those that were sent again. It knows of none for a hop behind another.
type Packets struct{ In, Out, Resent uint32 }

func (Up) IsEvent()     {}
func (Down) IsEvent()   {}
func (Froze) IsEvent()  {}
func (Thawed) IsEvent() {}
func (Pulse) IsEvent()  {}

// Supersedes tells whether e replaces the event just before it.
func (Pulse) Supersedes(before event.Event) bool { _, ok := before.(Pulse); return ok }

// Record words the event.
func (e Up) Record() event.Record {
	return event.Record{Name: "link-up", Hop: e.Link.Hop, Say: "connected to the hop"}
}

// Record words the event.
func (e Froze) Record() event.Record {
	return event.Record{Name: "froze", Hop: e.Hop, Say: fmt.Sprintf("frozen: no data for %s", e.Silent.Round(time.Second)), Fields: map[string]any{"seconds": e.Silent.Seconds()}}
}

// Record words the event.
func (e Thawed) Record() event.Record {
	return event.Record{Name: "thawed", Hop: e.Hop, Took: e.After.Round(time.Second), Say: fmt.Sprintf("answers again, after %s", e.After.Round(time.Second)), Fields: map[string]any{"seconds": e.After.Seconds()}}
}

// Record words the event.
func (e Down) Record() event.Record {
	r := event.Record{Name: "link-down", Hop: e.Link.Hop, Took: time.Since(e.Link.Since).Round(time.Millisecond),
		Say: fmt.Sprintf("link ended, %d bytes in, %d out", e.Link.In, e.Link.Out), Fields: map[string]any{"in": e.Link.In, "out": e.Link.Out}}
	if e.Failure != nil {
		_, r.Failed = step.WhyFailed(e.Failure)
	}
	return r
}
