package meter

import (
	"runtime"
	"testing"
	"time"
)

var began = time.Date(2026, 10, 12, 9, 0, 0, 0, time.UTC)

func TestRatesAreWhatPassedBetweenTwoCounts(t *testing.T) {
	var s Series
	s.Count(began, 1000, 500, 0)
	s.Count(began.Add(time.Second), 3000, 500, 20*time.Millisecond)
	s.Count(began.Add(3*time.Second), 3000, 900, 40*time.Millisecond)
	got := s.Span(began, began.Add(4*time.Second), 4)
	if got[1].In != 2000 || got[1].Out != 0 || got[1].RoundTrip != 20*time.Millisecond || got[3].Out != 200 || got[3].RoundTrip != 40*time.Millisecond {
		t.Errorf("%+v", got)
	}
	if got[0].Known || got[2].Known || !got[3].Known {
		t.Errorf("known: %+v", got)
	}
}

func TestClocksThatStepAndCountersThatFallHarmNothing(t *testing.T) {
	var s Series
	s.Count(began, 1000, 0, 0)
	s.Count(began.Add(-time.Hour), 2000, 0, 0) // set back
	s.Count(began.Add(-time.Hour+time.Second), 2100, 0, 0)
	s.Count(began.Add(time.Second), 5, 0, 0) // another link of that name
	s.Count(began.Add(2*time.Second), 105, 0, 0)
	if got := s.Span(began, began.Add(3*time.Second), 3); got[2].In != 100 || got[0].Known || got[1].Known {
		t.Errorf("%+v", got)
	}
}

func TestADayOfSamplesStaysBoundedAndReachesBack(t *testing.T) {
	var s Series
	total := uint64(0)
	for i := range 24 * 3600 {
		total += 100
		s.Count(began.Add(time.Duration(i)*time.Second), total, 0, time.Millisecond)
	}
	end := began.Add(24 * time.Hour)
	for i, l := range s.levels {
		if len(l.samples) > levels[i].n || cap(l.samples) > 2*levels[i].n {
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
				series[n].Count(now, uint64(i)*100, uint64(i), time.Millisecond)
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
