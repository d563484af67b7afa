package walk

import (
	"context"
	"sync"
	"time"

	"meatus/core/gate"
)

// Event is something that happened to a walk or a link: one of [Trying],
// [Passed], [Ended], [Answered], [LoggedIn], [Sighted], [Learned], [Began],
// [Finished], [Waiting], [Touched], [LinkUp], [LinkDown] and [Pulse].
type Event interface{ isEvent() }

// Note makes what embeds it an event of a package above.
type Note struct{}

func (Note) isEvent() {}

// ID tells one walk, or one link, of a [Walker] from another.
type ID int64

// Trying says that a walk has come to a gate.
type Trying struct {
	Walk    ID
	Session string
	Hop     int
	Gate    gate.Kind
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
	Host    string
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

// Learned says that a host proved further keys of its own, which are recorded.
type Learned struct {
	Place
	Keys []string // algorithm and SHA-256 fingerprint
}

// Began says that a shell or command runs at the end of a route, and Finished
// that it has ended.
type (
	Began struct {
		Session, Hop, What string
	}
	Finished struct {
		Session, Hop, What string
		Took               time.Duration
		Ending             Ending
	}
)

// LinkUp says that a link is there.
type LinkUp struct{ Link LinkState }

// LinkDown says that a link is gone. Failure is nil where it was closed here.
type LinkDown struct {
	Link    LinkState
	Failure *gate.Failure
}

// Pulse tells how the live links fare. It comes at most once a second, and only
// when something changed.
type Pulse struct{ Links []LinkState }

// LinkState is what is known of a link at a moment.
type LinkState struct {
	ID        ID
	Below     ID     // the link it runs inside, 0 for a first hop
	Lane      int    // 0, or which further link to the same machine it is
	Hop       string // the session name of the machine it leads to
	Prefix    string // the way up to it, as [route.Route.Prefix] names it
	Since     time.Time
	RoundTrip time.Duration // of the last keepalive, 0 before the first answer
	In, Out   uint64        // bytes on the wire, from and to the machine
	Users     int           // shells, commands and links above
	Cipher    string
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

func (Trying) isEvent()   {}
func (Passed) isEvent()   {}
func (Ended) isEvent()    {}
func (LinkUp) isEvent()   {}
func (LinkDown) isEvent() {}
func (Pulse) isEvent()    {}
func (Answered) isEvent() {}
func (LoggedIn) isEvent() {}
func (Sighted) isEvent()  {}
func (Learned) isEvent()  {}
func (Began) isEvent()    {}
func (Finished) isEvent() {}

// Inbox collects events for one reader. A pulse replaces the one before it that
// was not read yet, so an inbox that is not read stays small.
type Inbox struct {
	mu     sync.Mutex
	events []Event
	wake   chan struct{}
}

func newInbox() *Inbox { return &Inbox{wake: make(chan struct{}, 1)} }

func (b *Inbox) put(e Event) {
	b.mu.Lock()
	if n := len(b.events); n > 0 {
		_, was := b.events[n-1].(Pulse)
		if _, is := e.(Pulse); is && was {
			b.events = b.events[:n-1]
		}
	}
	b.events = append(b.events, e)
	b.mu.Unlock()
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// Take waits for events and returns all there are, in the order they happened.
// It returns nil when ctx ends.
func (b *Inbox) Take(ctx context.Context) []Event {
	for {
		b.mu.Lock()
		events := b.events
		b.events = nil
		b.mu.Unlock()
		if len(events) > 0 {
			return events
		}
		select {
		case <-b.wake:
		case <-ctx.Done():
			return nil
		}
	}
}
