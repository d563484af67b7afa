// Package meter keeps what links carried over time: one sample a second for an
// hour, one a minute for a day, one in a quarter of an hour for four weeks.
//
// It promises bounded memory: some 190 KiB for each link that is watched, whatever
// happens. A sample costs three additions. Its methods are safe to call from many
// goroutines.
package meter

import (
	"sync"
	"time"
)

// Sample is what a link carried in a span of time.
type Sample struct {
	At        time.Time // the end of the span
	In, Out   float64   // bytes a second from the far side and to it
	RoundTrip time.Duration
	Known     bool // false for a span that nothing is known of
}

// level is a ring of spans of one length.
type level struct {
	span    time.Duration
	samples []packed
	next    int
	sum     Sample
	n       int
}

// packed is a sample in 24 bytes.
type packed struct {
	at        int64 // milliseconds since 1970
	in, out   float32
	roundTrip uint32 // microseconds
}

func (s Sample) pack() packed {
	return packed{s.At.UnixMilli(), float32(s.In), float32(s.Out), uint32(min(s.RoundTrip.Microseconds(), 1<<32-1))}
}

func (p packed) sample() Sample {
	return Sample{At: time.UnixMilli(p.at), In: float64(p.in), Out: float64(p.out), RoundTrip: time.Duration(p.roundTrip) * time.Microsecond, Known: true}
}

// The spans that are kept, and how many of each.
var levels = []struct {
	span time.Duration
	n    int
}{{time.Second, 3600}, {time.Minute, 1440}, {15 * time.Minute, 2688}}

// Series is what one link carried. The zero Series is empty.
type Series struct {
	mu     sync.Mutex
	levels []level
	in     uint64
	out    uint64
	last   time.Time
}

// Count takes a link's counters at a time: bytes in and out since it began, and its
// round trip. The first only sets where counting begins; a time that does not go on
// is passed over.
func (s *Series) Count(now time.Time, in, out uint64, roundTrip time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.levels == nil {
		for _, l := range levels {
			s.levels = append(s.levels, level{span: l.span})
		}
		s.in, s.out, s.last = in, out, now
		return
	}
	passed := now.Sub(s.last).Seconds()
	if passed <= 0 || in < s.in || out < s.out {
		s.in, s.out, s.last = in, out, now
		return
	}
	sample := Sample{At: now, In: float64(in-s.in) / passed, Out: float64(out-s.out) / passed, RoundTrip: roundTrip, Known: true}
	s.in, s.out, s.last = in, out, now
	s.levels[0].put(sample, levels[0].n)
	for i := range s.levels[1:] {
		s.levels[i+1].gather(sample, levels[i+1].n)
	}
}

func (l *level) put(s Sample, most int) {
	if len(l.samples) < most {
		l.samples = append(l.samples, s.pack())
		return
	}
	l.samples[l.next] = s.pack()
	l.next = (l.next + 1) % most
}

// gather adds a sample to the span under way, and puts that away when it is over.
func (l *level) gather(s Sample, most int) {
	if l.n > 0 && s.At.Truncate(l.span) != l.sum.At.Truncate(l.span) {
		n := float64(l.n)
		l.put(Sample{At: l.sum.At, In: l.sum.In / n, Out: l.sum.Out / n, RoundTrip: l.sum.RoundTrip / time.Duration(l.n), Known: true}, most)
		l.sum, l.n = Sample{}, 0
	}
	l.sum.At = s.At
	l.sum.In += s.In
	l.sum.Out += s.Out
	l.sum.RoundTrip += s.RoundTrip
	l.n++
}

// Span is the series between two times as n samples of the same length, the oldest
// first, out of the finest level that reaches back so far. What nothing is known of
// is not Known; of several samples in one span the rates are averaged and the worst
// round trip is taken.
func (s *Series) Span(from, to time.Time, n int) []Sample {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Sample, n)
	each := to.Sub(from) / time.Duration(max(n, 1))
	if each <= 0 || len(s.levels) == 0 {
		return out
	}
	at := 0
	for at < len(s.levels)-1 && (to.Sub(from) > levels[at].span*time.Duration(levels[at].n) || each > 2*levels[at+1].span) {
		at++
	}
	l := &s.levels[at]
	counts := make([]int, n)
	for i := range l.samples {
		sample := l.samples[(l.next+i)%len(l.samples)].sample()
		slot := int(sample.At.Sub(from) / each)
		if sample.At.Before(from) || slot >= n {
			continue
		}
		o := &out[slot]
		o.In += sample.In
		o.Out += sample.Out
		o.RoundTrip = max(o.RoundTrip, sample.RoundTrip)
		o.Known = true
		counts[slot]++
	}
	for i := range out {
		out[i].At = from.Add(each * time.Duration(i+1))
		if counts[i] > 1 {
			out[i].In /= float64(counts[i])
			out[i].Out /= float64(counts[i])
		}
	}
	return out
}
