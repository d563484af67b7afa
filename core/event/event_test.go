package event

import (
	"context"
	"slices"
	"sync"
	"testing"
)

type number struct {
	Note
	n int
}

type latest struct {
	Note
	n int
}

func (latest) Supersedes(before Event) bool { _, ok := before.(latest); return ok }

func TestAnInboxHasEverythingBeforeItEnds(t *testing.T) {
	var s Stream
	inbox := s.Subscribe()
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			for n := range 250 {
				s.Tell(number{n: n})
			}
		})
	}
	wg.Wait()
	s.Close()
	s.Tell(number{n: -1})
	got := 0
	for events := inbox.Take(context.Background()); events != nil; events = inbox.Take(context.Background()) {
		got += len(events)
	}
	if got != 1000 {
		t.Errorf("%d events were taken of 1000 that were told before the end", got)
	}
	if late := s.Subscribe().Take(context.Background()); late != nil {
		t.Errorf("an inbox made after the end has %v", late)
	}
}

func TestASupersedingEventReplacesTheOneBeforeIt(t *testing.T) {
	var s Stream
	inbox := s.Subscribe()
	for n := range 5 {
		s.Tell(latest{n: n})
	}
	s.Tell(number{n: 9})
	s.Tell(latest{n: 6})
	want := []Event{latest{n: 4}, number{n: 9}, latest{n: 6}}
	if got := inbox.Take(context.Background()); !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

func TestListenersHearBeforeInboxesHave(t *testing.T) {
	var s Stream
	heard := 0
	inbox := s.Subscribe()
	s.Attach(func(Event) { heard++ })
	s.Tell(number{})
	if inbox.Take(context.Background()); heard != 1 {
		t.Error("an inbox has an event that a listener has not heard")
	}
}

func TestTakingEndsWithTheContext(t *testing.T) {
	var s Stream
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if got := s.Subscribe().Take(ctx); got != nil {
		t.Errorf("got %v", got)
	}
}

func TestARecordIsOneLine(t *testing.T) {
	for _, c := range []struct {
		r    Record
		want string
	}{
		{Record{Session: "tide-db", Hop: "quay", Say: "connected"}, "tide-db: connected"},
		{Record{Hop: "quay", Say: "link ended", Failed: "no sign of life"}, "quay: link ended: no sign of life"},
		{Record{Say: "the screen was locked"}, "the screen was locked"},
	} {
		if got := c.r.Line(); got != c.want {
			t.Errorf("got %q, want %q", got, c.want)
		}
	}
}
