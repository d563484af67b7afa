// Package event is the stream of what happens in one program: typed values, told by
// whoever does something, and read by whoever shows, keeps or acts on them.
//
// It promises that telling never blocks, that every inbox has the events in the order
// in which they were told, and that an inbox has all of them before it ends. An event
// costs one append for each inbox; an inbox that is not read grows, except by events
// that supersede the one before them.
package event

import (
	"context"
	"sync"
	"time"
)

// Event is something that happened. Packages declare their own kinds.
type Event interface{ IsEvent() }

// Note makes what embeds it an event.
type Note struct{}

// IsEvent marks an event.
func (Note) IsEvent() {}

// Superseding is an event that makes the one of its kind just before it worthless.
type Superseding interface {
	Event
	Supersedes(before Event) bool
}

// Record is an event as it is told to a person, kept, and read by a program: one
// wording, and the same in fields.
type Record struct {
	Name         string         // of the kind of event, one word: "up", "finished"
	Session, Hop string         // where, "" where it is of none
	Say          string         // what happened, one line, without where
	Took         time.Duration  // 0 where it took no time
	Failed       string         // why it failed, "" where it did not
	Fields       map[string]any // by the names that docs/holding.md and docs/workspace.md give
}

// Line is the record in one line, with where it happened in front.
func (r Record) Line() string {
	say := r.Say
	if r.Failed != "" {
		say += ": " + r.Failed
	}
	switch {
	case r.Session != "":
		return r.Session + ": " + say
	case r.Hop != "":
		return r.Hop + ": " + say
	}
	return say
}

// Recorded is an event that is told to a person or kept.
type Recorded interface {
	Event
	Record() Record
}

// Stream passes events on. Its zero value is ready. It is safe to use from many
// goroutines.
type Stream struct {
	mu        sync.Mutex
	inboxes   []*Inbox
	listeners []func(Event)
	closed    bool
}

// Subscribe returns an inbox that gets every event from now on, until Close.
func (s *Stream) Subscribe() *Inbox {
	s.mu.Lock()
	defer s.mu.Unlock()
	b := &Inbox{wake: make(chan struct{}, 1), closed: s.closed}
	s.inboxes = append(s.inboxes, b)
	return b
}

// Attach has f called with every event from now on, before any inbox has it. f is
// called by the goroutine that tells, perhaps under its locks: it may change what it
// owns, and nothing else.
func (s *Stream) Attach(f func(Event)) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.listeners = append(s.listeners, f)
}

// Tell passes an event on.
func (s *Stream) Tell(e Event) { s.Passed(e) }

// Passed is [Stream.Tell] that tells whether the event was passed on: after Close it is not.
func (s *Stream) Passed(e Event) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return false
	}
	for _, f := range s.listeners {
		f(e)
	}
	for _, b := range s.inboxes {
		b.put(e)
	}
	return true
}

// Close ends every inbox once what was told is taken. It may be called twice.
func (s *Stream) Close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.closed = true
	for _, b := range s.inboxes {
		b.end()
	}
}

// Inbox collects events for one reader.
type Inbox struct {
	mu     sync.Mutex
	events []Event
	closed bool
	wake   chan struct{}
}

func (b *Inbox) put(e Event) {
	b.mu.Lock()
	if n := len(b.events); n > 0 {
		if s, ok := e.(Superseding); ok && s.Supersedes(b.events[n-1]) {
			b.events = b.events[:n-1]
		}
	}
	b.events = append(b.events, e)
	b.mu.Unlock()
	b.signal()
}

func (b *Inbox) end() {
	b.mu.Lock()
	b.closed = true
	b.mu.Unlock()
	b.signal()
}

func (b *Inbox) signal() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// Take waits for events and returns all there are, in the order in which they were
// told. It returns nil when the stream is closed and everything was taken, or when ctx
// ends.
func (b *Inbox) Take(ctx context.Context) []Event {
	for {
		b.mu.Lock()
		events, closed := b.events, b.closed
		b.events = nil
		b.mu.Unlock()
		if len(events) > 0 || closed {
			return events
		}
		select {
		case <-b.wake:
		case <-ctx.Done():
			return nil
		}
	}
}
