package walk

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

// ID tells one walk, or one link, of a [Walker] from another.
type ID int64

// Trying says that a walk has come to a gate.
type Trying struct {
	Walk    ID
	Session string
	Hop     int
	Gate    gate.Kind
	Say     string // what it waits for there, "" for most
}

// Passed says that a walk has passed a gate.
type Passed struct {
	Walk    ID
	Session string
	Hop     int
	Gate    gate.Gate
}

// Ended says that a walk is over: Err is nil, or a [gate.Failure] at Hop.
type Ended struct {
	Walk    ID
	Session string
	Hop     int
	Err     error
	Took    time.Duration
}

// Answered says that a person was asked something and answered, or would not. It
// never holds the answer.
type Answered struct {
	Place
	What string // "the identity SHA256:…", "the passphrase of tide.pem"
	Yes  bool   // there was an answer, or it was yes
}

// LoggedIn says how a login got in.
type LoggedIn struct {
	Place
	Host    string // what the login is remembered by: the host, or the instance that the session is bound to
	Port    int
	Key     string // SHA-256 fingerprint of the key that was accepted last, or ""
	Version string // what the server's software calls itself, cleaned
	Banner  string // what it said before, cleaned, in lines
}

// Sighted says that a vouched host key was seen at an address.
type Sighted struct {
	Host    string
	Port    int
	Key     string // SHA-256 fingerprint
	Address string
}

// Learned says that a host proved further keys of its own, which are recorded, or could
// not prove some that it announced, which are not.
type Learned struct {
	Place
	Keys     []string // algorithm and SHA-256 fingerprint
	Unproven []string
}

// LinkUp says that a link is there.
type LinkUp struct{ Link LinkState }

// LinkDown says that a link is gone. Failure is nil where it was closed here.
type LinkDown struct {
	Link    LinkState
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
type Pulse struct{ Links []LinkState }

// LinkState is what is known of a link at a moment.
type LinkState struct {
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

func (Trying) IsEvent()   {}
func (Passed) IsEvent()   {}
func (Ended) IsEvent()    {}
func (LinkUp) IsEvent()   {}
func (LinkDown) IsEvent() {}
func (Froze) IsEvent()    {}
func (Thawed) IsEvent()   {}
func (Pulse) IsEvent()    {}
func (Answered) IsEvent() {}
func (LoggedIn) IsEvent() {}
func (Sighted) IsEvent()  {}
func (Learned) IsEvent()  {}

// Supersedes tells whether e replaces the event just before it.
func (Pulse) Supersedes(before event.Event) bool { _, ok := before.(Pulse); return ok }

// WhyFailed words an error for a record: at which hop, and why.
func WhyFailed(err error) (hop, why string) {
	var f *gate.Failure
	if errors.As(err, &f) {
		return f.Hop, fmt.Sprintf("%s: %s: %s", f.Gate, f.Cause, f.Why)
	}
	return "", err.Error()
}

// Record words the event.
func (e Ended) Record() event.Record {
	r := event.Record{Name: "walked", Session: e.Session, Say: "walked to its end", Took: e.Took}
	if e.Err != nil {
		r.Say = "did not get through"
		r.Hop, r.Failed = WhyFailed(e.Err)
	}
	return r
}

// Record words the event.
func (e Answered) Record() event.Record {
	say := "answered: "
	if !e.Yes {
		say = "not answered: "
	}
	return event.Record{Name: "asked", Session: e.Session, Hop: e.Hop, Say: say + e.What, Fields: map[string]any{"what": e.What, "yes": e.Yes}}
}

// Record words the event.
func (e Learned) Record() event.Record {
	r := event.Record{Name: "learned", Session: e.Session, Hop: e.Hop, Say: "announced host keys", Fields: map[string]any{"keys": e.Keys}}
	if len(e.Keys) > 0 {
		r.Say = "proved further host keys of its own: " + strings.Join(e.Keys, ", ")
	}
	if len(e.Unproven) > 0 {
		r.Failed = "it could not prove " + strings.Join(e.Unproven, ", ")
	}
	return r
}

// Record words the event.
func (e LinkUp) Record() event.Record {
	return event.Record{Name: "link-up", Hop: e.Link.Hop, Say: "link is up"}
}

// Record words the event.
func (e Froze) Record() event.Record {
	return event.Record{Name: "froze", Hop: e.Hop, Say: fmt.Sprintf("the link is frozen: no byte for %s", e.Silent.Round(time.Second)), Fields: map[string]any{"seconds": e.Silent.Seconds()}}
}

// Record words the event.
func (e Thawed) Record() event.Record {
	return event.Record{Name: "thawed", Hop: e.Hop, Took: e.After.Round(time.Second), Say: fmt.Sprintf("the link is alive again, after %s", e.After.Round(time.Second)), Fields: map[string]any{"seconds": e.After.Seconds()}}
}

// Record words the event.
func (e LinkDown) Record() event.Record {
	r := event.Record{Name: "link-down", Hop: e.Link.Hop, Took: time.Since(e.Link.Since).Round(time.Millisecond),
		Say: fmt.Sprintf("link ended, %d bytes in, %d out", e.Link.In, e.Link.Out), Fields: map[string]any{"in": e.Link.In, "out": e.Link.Out}}
	if e.Failure != nil {
		_, r.Failed = WhyFailed(e.Failure)
	}
	return r
}

// Record words the event.
func (e Touched) Record() event.Record {
	r := event.Record{Name: "checked", Session: e.Report.Session, Say: "checked as far as " + e.Depth.String() + ": " + e.Report.Verdict().String(),
		Fields: map[string]any{"depth": e.Depth.String(), "verdict": e.Report.Verdict().String()}}
	if e.Failure != nil {
		r.Hop, r.Failed = WhyFailed(e.Failure)
	}
	return r
}
