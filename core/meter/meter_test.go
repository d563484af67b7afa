package meter

import (
	"errors"
	"fmt"
	"runtime"
	"slices"
	"testing"
	"time"
)

var began = time.Date(2026, 10, 12, 9, 0, 0, 0, time.UTC)

func TestRatesAreWhatPassedBetweenTwoCounts(t *testing.T) {
	var s Series
	s.Count(began, 1, 1000, 500, 0)
	s.Count(began.Add(time.Second), 1, 3000, 500, 20*time.Millisecond)
	s.Count(began.Add(3*time.Second), 1, 3000, 900, 40*time.Millisecond)
	got := s.Span(began, began.Add(4*time.Second), 4)
	if got[1].In != 2000 || got[1].Out != 0 || got[1].RoundTrip != 20*time.Millisecond || got[3].Out != 200 || got[3].RoundTrip != 40*time.Millisecond {
		t.Errorf("%+v", got)
	}
	// The last count was of two seconds, so it stands for both.
	if got[0].Known || got[2].Out != 200 || !got[3].Known {
		t.Errorf("known: %+v", got)
	}
}

func TestClocksThatStepAndCountersThatFallHarmNothing(t *testing.T) {
	var s Series
	s.Count(began, 1, 1000, 0, 0)
	s.Count(began.Add(-time.Hour), 1, 2000, 0, 0) // set back
	s.Count(began.Add(-time.Hour+time.Second), 1, 2100, 0, 0)
	s.Count(began.Add(time.Second), 1, 5, 0, 0) // another link of that name
	s.Count(began.Add(2*time.Second), 1, 105, 0, 0)
	if got := s.Span(began, began.Add(3*time.Second), 3); got[2].In != 100 || got[0].Known || got[1].Known {
		t.Errorf("%+v", got)
	}
}

func TestADayOfSamplesStaysBoundedAndReachesBack(t *testing.T) {
	var s Series
	total := uint64(0)
	for i := range 24 * 3600 {
		total += 100
		s.Count(began.Add(time.Duration(i)*time.Second), 1, total, 0, time.Millisecond)
	}
	end := began.Add(24 * time.Hour)
	for i, l := range s.levels {
		if len(l.samples) > forLinks[i].n || cap(l.samples) > 2*forLinks[i].n {
			t.Errorf("level %d has %d samples", i, len(l.samples))
		}
	}
	for _, span := range []time.Duration{5 * time.Minute, time.Hour, 23 * time.Hour} {
		known := 0
		for _, sample := range s.Span(end.Add(-span), end, 100) {
			if sample.Known {
				known++
				if sample.In < 99 || sample.In > 101 {
					t.Fatalf("over %s: %+v", span, sample)
				}
			}
		}
		if known < 95 {
			t.Errorf("over %s only %d of 100 are known", span, known)
		}
	}
}

// BenchmarkDay counts a simulated day of 200 links, once a second each.
func BenchmarkDay(b *testing.B) {
	const links = 200
	for b.Loop() {
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		series := make([]Series, links)
		start := time.Now()
		for i := range 24 * 3600 {
			now := began.Add(time.Duration(i) * time.Second)
			for n := range series {
				series[n].Count(now, 1, uint64(i)*100, uint64(i), time.Millisecond)
			}
		}
		took := time.Since(start)
		runtime.GC()
		runtime.ReadMemStats(&after)
		b.ReportMetric(float64(after.HeapAlloc-before.HeapAlloc)/(1<<20), "MB")
		b.ReportMetric(took.Seconds()/(24*3600)*100, "%-of-a-core")
		runtime.KeepAlive(series)
	}
}

// memory is a store in memory that can be full.
type memory struct {
	rows []Row
	full error
}

func (m *memory) KeepSamples(rows []Row) error {
	if m.full == nil {
		m.rows = append(m.rows, rows...)
	}
	return m.full
}

func (m *memory) Samples(key string) ([]Row, error) {
	var of []Row
	for _, r := range m.rows {
		if r.Key == key {
			of = append(of, r)
		}
	}
	return of, nil
}

func (m *memory) Metered() (all []Metered, err error) {
	for _, r := range m.rows {
		if !slices.ContainsFunc(all, func(o Metered) bool { return o.Key == r.Key }) {
			all = append(all, Metered{r.Key, r.Name, r.Samples[len(r.Samples)-1].At})
		}
	}
	return all, nil
}

func TestWhatWasCarriedOutlivesTheProgram(t *testing.T) {
	var carried uint64
	source := func() []Reading {
		return []Reading{{Key: "quay", Name: "quay", ID: 1, In: carried, RoundTrip: 18 * time.Millisecond}, {Key: "flow", Brief: true, ID: 2}}
	}
	var store memory
	first := NewKeeper(source, &store)
	for i := range 121 {
		first.Take(began.Add(time.Duration(i) * time.Second))
		carried += 1000
	}
	store.full = errors.New("no space left on device")
	first.Keep()
	if first.Err() == nil {
		t.Error("a full store is not told of")
	}
	store.full = nil
	first.Keep()
	first.Keep() // nothing new
	total := 0
	for _, r := range store.rows {
		if r.Key != "quay" {
			t.Errorf("kept of %s", r.Key)
		}
		total += len(r.Samples)
	}
	if total != 120+2 {
		t.Errorf("%d samples are kept", total)
	}
	again := NewKeeper(source, &store)
	now := began.Add(3 * time.Minute)
	if all := again.Since(began, now); len(all) != 1 || all[0].In < 119_000 || all[0].In > 121_000 {
		t.Errorf("before a link is up: %+v", all)
	}
	again.Take(now)
	got := again.Series("quay").Span(began, began.Add(2*time.Minute), 2)
	if got[1].In != 1000 || got[1].Worst != 18*time.Millisecond || !got[0].Known {
		t.Errorf("%+v", got)
	}
	if all := again.Since(began, now); len(all) != 1 || all[0].In < 119_000 || all[0].In > 121_000 {
		t.Errorf("%+v", all)
	}
}

func TestSeriesOfFlowsGoWithThem(t *testing.T) {
	live := []Reading{{Key: "a", Brief: true}, {Key: "b", Brief: true}}
	k := NewKeeper(func() []Reading { return live }, nil)
	k.Take(began)
	live = live[:1]
	k.Take(began.Add(time.Second))
	if k.Series("a") == nil || k.Series("b") != nil {
		t.Error("the series of a flow that ended is held, or of one that lives is not")
	}
	live = nil
	for i := range maxLinks + 50 {
		live = []Reading{{Key: fmt.Sprint("link ", i)}}
		k.Take(began.Add(time.Duration(i) * time.Minute))
	}
	if len(k.series) > maxLinks {
		t.Errorf("%d links are held", len(k.series))
	}
}

// TestAStepOfTheClockLosesNothing begins in every second of a minute: where a step falls
// among the minute's samples must not matter.
func TestAStepOfTheClockLosesNothing(t *testing.T) {
	for second := range 60 {
		var s Series
		at := began.Truncate(time.Minute).Add(time.Duration(second) * time.Second)
		carried := uint64(0)
		for i := range 100 {
			switch i {
			case 40:
				at = time.Unix(0, at.Add(-time.Hour).UnixNano()) // set back
			case 70:
				at = time.Unix(0, at.Add(2*time.Hour).UnixNano()) // and ahead
			}
			at = at.Add(time.Second)
			carried += 500
			s.Count(at, 1, carried, 0, 0)
		}
		known := 0
		for _, sample := range s.Span(at.Add(time.Second-3*time.Hour), at.Add(time.Second), 3*3600) { // a span ends before its end
			if sample.Known {
				known++
				if sample.In > 501 {
					t.Fatalf("from second %d: %+v", second, sample)
				}
			}
		}
		if known < 3 { // three stretches, a minute's samples each
			t.Errorf("from second %d: %d samples are known", second, known)
		}
		if in, _ := s.Now(at); in != 500 {
			t.Errorf("from second %d: the rate now is %g", second, in)
		}
	}
}

func FuzzDecode(f *testing.F) {
	f.Add(Encode([]Sample{{At: began, In: 5, Out: 6, RoundTrip: time.Second}}, began))
	f.Fuzz(func(t *testing.T, data []byte) {
		for _, s := range Decode(data, began) {
			if !(s.In >= 0) || !(s.Out >= 0) || s.RoundTrip < 0 {
				t.Errorf("%+v", s)
			}
		}
	})
}
