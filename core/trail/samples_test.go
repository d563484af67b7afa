package trail

import (
	"context"
	"strings"
	"testing"
	"time"

	"meatus/core/gate"
	"meatus/core/meter"
	"meatus/core/walk"
	"meatus/lab/await"
)

func TestSamplesAreKeptAndGoWithAge(t *testing.T) {
	tr := open(t)
	now := time.Now().Truncate(time.Second)
	row := func(span time.Duration, ages ...time.Duration) meter.Row {
		r := meter.Row{Key: "warden@quay\n", Name: "quay", Span: span}
		for _, age := range ages {
			r.Samples = append(r.Samples, meter.Sample{At: now.Add(-age), In: 1000, Out: 10, RoundTrip: 18 * time.Millisecond, Best: 17 * time.Millisecond, Worst: 30 * time.Millisecond, Known: true})
		}
		return r
	}
	if err := tr.KeepSamples([]meter.Row{row(time.Second, 3*time.Hour), row(time.Second, 2*time.Second, time.Second), row(time.Minute, 3*time.Hour), row(15*time.Minute, 40*24*time.Hour)}); err != nil {
		t.Fatal(err)
	}
	rows, err := tr.Samples("warden@quay\n")
	if err != nil || len(rows) != 2 || len(rows[0].Samples) != 2 || rows[1].Span != time.Minute {
		t.Fatalf("%+v, %v", rows, err)
	}
	s := rows[0].Samples[1]
	if !s.At.Equal(now.Add(-time.Second)) || s.In != 1000 || s.Best != 17*time.Millisecond || s.Worst != 30*time.Millisecond {
		t.Errorf("%+v", s)
	}
	if links, err := tr.Metered(); err != nil || len(links) != 1 || links[0].Name != "quay" {
		t.Errorf("%+v, %v", links, err)
	}
}

func TestStaysAndWhatWasLostAreToldFromTheTrail(t *testing.T) {
	tr := open(t)
	morning := time.Now().Add(-6 * time.Hour).Truncate(time.Second).UTC()
	at := func(hours float64) time.Time { return morning.Add(time.Duration(hours * float64(time.Hour))) }
	for _, e := range []Entry{
		{At: at(0), Kind: Link, Hop: "quay", Event: "link-up"},
		{At: at(0.5), Kind: Shell, Session: "gauge-1", Event: "began", Fields: map[string]any{"what": "shell"}},
		{At: at(1), Kind: Shell, Session: "gauge-1", Event: "began", Fields: map[string]any{"what": "shell"}},
		{At: at(2), Kind: End, Session: "gauge-1", Event: "finished", Fields: map[string]any{"what": "shell"}, Took: time.Hour},
		{At: at(3), Kind: End, Hop: "quay", Event: "link-down", Took: 3 * time.Hour, Failed: "no sign of life"},
		{At: at(3.5), Kind: Link, Hop: "quay", Event: "link-up"},
		{At: at(4), Kind: Walk, Session: "gauge-2", Say: "did not get through", Failed: "identity"},
	} {
		if err := tr.Add(e); err != nil {
			t.Fatal(err)
		}
	}
	got, err := tr.Stays(context.Background(), at(0), at(5))
	if err != nil {
		t.Fatal(err)
	}
	want := []Stay{
		{Where: "gauge-1", What: "shell", From: at(0.5), To: at(5), Open: true},
		{Where: "gauge-1", What: "shell", From: at(1), To: at(2)},
		{Where: "quay", What: "link", From: at(0), To: at(3), Lost: true},
		{Where: "quay", What: "link", From: at(3.5), To: at(5), Open: true},
	}
	if len(got) != len(want) {
		t.Fatalf("%+v", got)
	}
	for i := range want {
		if want[i].Who = got[i].Who; got[i] != want[i] {
			t.Errorf("%+v, wanted %+v", got[i], want[i])
		}
	}
	r, err := tr.Recap(context.Background(), at(2.5), at(5), []meter.Hauled{{Name: "a", In: 1}, {Name: "b", In: 9}})
	if err != nil || len(r.Drops) != 1 || !r.Drops[0].Back.Equal(at(3.5)) || r.Refused != 1 || r.Carried[0].Name != "b" {
		t.Errorf("%+v, %v", r, err)
	}
}

// TestAFullTrailIsToldOnceAndWorksAgain fills the database.
func TestAFullTrailIsToldOnceAndWorksAgain(t *testing.T) {
	tr := open(t)
	walker := walk.New(walk.Config{})
	defer walker.Close()
	ctx, cancel := context.WithCancel(context.Background())
	told := make(chan error, 10)
	done := make(chan struct{})
	inbox := walker.Events.Subscribe()
	go func() { defer close(done); tr.Follow(ctx, inbox, func(err error) { told <- err }) }()
	defer func() { cancel(); <-done }()
	pages := func(most string) {
		if _, err := tr.db.Exec("pragma max_page_count = " + most); err != nil {
			t.Fatal(err)
		}
	}
	pages("1") // it stays as large as it is
	long := &gate.Failure{Why: strings.Repeat("a long reason ", 40)}
	for range 200 {
		walker.Events.Tell(walk.Ended{Session: "gauge-1", Err: long})
	}
	if err := <-told; err == nil || !strings.Contains(err.Error(), "full") {
		t.Errorf("told %v", err)
	}
	if err := tr.KeepSamples([]meter.Row{{Key: "a", Span: time.Second, Samples: make([]meter.Sample, 4000)}}); err == nil || !strings.Contains(err.Error(), "what links carried") {
		t.Errorf("keeping samples: %v", err)
	}
	pages("100000")
	walker.Events.Tell(walk.Ended{Session: "after", Err: long})
	if err := <-told; err != nil {
		t.Errorf("told %v where it is written again", err)
	}
	await.Until(t, "what waited to be written", func() bool {
		entries, err := tr.Read(ctx, Filter{Session: "after"})
		return err == nil && len(entries) == 1
	})
}
