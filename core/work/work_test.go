package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/lab/await"
)

// told collects what a list tells.
type told struct {
	mu     sync.Mutex
	events []event.Event
}

func (t *told) tell(e event.Event) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.events = append(t.events, e)
}

func (t *told) all() []event.Event {
	t.mu.Lock()
	defer t.mu.Unlock()
	return slices.Clone(t.events)
}

// job is a job that a test leads.
type job struct {
	title Title
	run   func(ctx context.Context, tell func(Step)) error
}

func (j *job) Title() Title { return j.title }

func (j *job) Run(ctx context.Context, tell func(Step)) error { return j.run(ctx, tell) }

func untilStopped(ctx context.Context, _ func(Step)) error {
	<-ctx.Done()
	return ctx.Err()
}

func TestSeveralJobsGoOnAndEachIsStoppedAlone(t *testing.T) {
	var heard told
	l := NewList(heard.tell)
	defer l.Close()
	first := l.Begin(&job{Title{What: "first"}, untilStopped})
	second := l.Begin(&job{Title{What: "second"}, untilStopped})
	if l.Running() != 2 || len(l.All()) != 2 {
		t.Fatalf("%d run of %d", l.Running(), len(l.All()))
	}
	if !l.Stop(first) {
		t.Error("it did not run")
	}
	await.Until(t, "the end of the first", func() bool { s, _ := l.Get(first); return s.Over() })
	if s, ok := l.Get(first); !ok || !s.Stopped() {
		t.Errorf("it stands as %+v", s)
	}
	if s, _ := l.Get(second); s.Over() || l.Running() != 1 {
		t.Error("the second was stopped, too")
	}
	if l.Stop(first) || l.Stop(99) {
		t.Error("what does not run was stopped")
	}
}

func TestStepsAreToldWordedAndKept(t *testing.T) {
	var heard told
	l := NewList(heard.tell)
	broken := errors.New("the disk is full")
	id := l.Begin(&job{Title{What: "install", Of: "bay.pem", Session: "quay", Record: "installed"}, func(_ context.Context, tell func(Step)) error {
		tell(Step{Verdict: gate.Open, Say: "is in the list"})
		tell(Step{Verdict: gate.Open, Where: "found", Say: "one key"})
		tell(Step{Verdict: gate.Shut, Session: "reef", Where: "reef", Say: "not in", Err: broken})
		return broken
	}})
	await.Until(t, "its end", func() bool { s, _ := l.Get(id); return s.Over() })
	l.Close()
	var records []event.Record
	for _, e := range heard.all() {
		if r, ok := e.(interface{ Record() event.Record }); ok {
			records = append(records, r.Record())
		}
	}
	want := []event.Record{
		{Name: "installed", Session: "quay", Say: "is in the list"},
		{Name: "installed", Session: "quay", Say: "found: one key"},
		{Name: "installed", Session: "reef", Say: "not in", Failed: "the disk is full"},
		{Name: "installed", Session: "quay", Say: "install bay.pem", Failed: "the disk is full"},
	}
	if fmt.Sprint(records) != fmt.Sprint(want) {
		t.Errorf("recorded\n%+v, want\n%+v", records, want)
	}
	if s, _ := l.Get(id); len(s.Steps) != 3 || s.Err == nil || s.Stopped() {
		t.Errorf("kept %+v", s)
	}
}

func TestManyStepsAndJobsAreBounded(t *testing.T) {
	l := NewList(func(event.Event) {})
	going := l.Begin(&job{Title{What: "going"}, untilStopped})
	many := l.Begin(&job{Title{What: "many"}, func(_ context.Context, tell func(Step)) error {
		for range maxSteps + 50 {
			tell(Step{Say: "again"})
		}
		return nil
	}})
	await.Until(t, "its end", func() bool { s, _ := l.Get(many); return s.Over() })
	if s, _ := l.Get(many); len(s.Steps) != maxSteps {
		t.Errorf("%d steps are kept", len(s.Steps))
	}
	for range maxEnded + 20 {
		id := l.Begin(&job{Title{What: "short"}, func(context.Context, func(Step)) error { return nil }})
		await.Until(t, "its end", func() bool { s, ok := l.Get(id); return !ok || s.Over() })
	}
	if n := len(l.All()); n > maxEnded+1 {
		t.Errorf("%d jobs are kept", n)
	}
	if _, ok := l.Get(going); !ok {
		t.Error("one that runs was forgotten")
	}
	l.Close()
}

func TestAfterTheEndNothingRuns(t *testing.T) {
	l := NewList(func(event.Event) {})
	l.Close()
	id := l.Begin(&job{Title{What: "late"}, untilStopped})
	await.Until(t, "its end", func() bool { s, _ := l.Get(id); return s.Over() })
	l.Close()
}

func TestAnEndIsTold(t *testing.T) {
	l := NewList(func(event.Event) {})
	said := make(chan error, 1)
	broken := errors.New("broken")
	l.Begin(&Told{Job: &job{Title{What: "told"}, func(context.Context, func(Step)) error { return broken }}, Say: func(err error) { said <- err }})
	if err := <-said; !errors.Is(err, broken) {
		t.Errorf("said %v", err)
	}
	l.Close()
}
