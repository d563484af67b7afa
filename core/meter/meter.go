// Package meter keeps what links and flows carried over time.
//
// Of a link it keeps one sample a second for an hour, one a minute for a day, and
// one in a quarter of an hour for four weeks; of a flow one a second for two
// minutes, one in 15 seconds for an hour and one in five minutes for a day.
//
// It promises bounded memory, whatever happens: some 190 KiB for each link that is
// watched and 16 KiB for each flow. A sample costs a few additions. Its methods are
// safe to call from many goroutines.
package meter

import (
	"encoding/binary"
	"math"
	"sync"
	"time"
)

// Sample is what was carried in a span of time. The round trips are those known in
// the span, 0 where none was.
type Sample struct {
	At          time.Time // the end of the span
	In, Out     float64   // bytes a second from the far side and to it
	RoundTrip   time.Duration
	Best, Worst time.Duration
	Known       bool // false for a span that nothing is known of
}

// add puts another sample of the same span to this one; n are those added before.
func (s *Sample) add(o Sample, n int) {
	k := float64(n)
	s.In, s.Out = (s.In*k+o.In)/(k+1), (s.Out*k+o.Out)/(k+1)
	switch {
	case s.RoundTrip == 0:
		s.RoundTrip, s.Best, s.Worst = o.RoundTrip, o.Best, o.Worst
	case o.RoundTrip != 0:
		s.RoundTrip += time.Duration(float64(o.RoundTrip-s.RoundTrip) / (k + 1))
		s.Best, s.Worst = min(s.Best, o.Best), max(s.Worst, o.Worst)
	}
	s.Known = true
}

// packed is a sample in 24 bytes. Its time is in hundredths of a second from the
// base of what it stands in, which reaches 248 days either way.
type packed struct {
	at                int32
	in, out           float32
	trip, best, worst uint32 // microseconds
}

func (s Sample) pack(base time.Time) packed {
	us := func(d time.Duration) uint32 { return uint32(max(min(d.Microseconds(), math.MaxUint32), 0)) }
	at := max(min(s.At.Round(0).Sub(base)/(10*time.Millisecond), math.MaxInt32), math.MinInt32)
	return packed{int32(at), float32(s.In), float32(s.Out), us(s.RoundTrip), us(s.Best), us(s.Worst)}
}

func (p packed) sample(base time.Time) Sample {
	us := func(n uint32) time.Duration { return time.Duration(n) * time.Microsecond }
	return Sample{At: base.Add(time.Duration(p.at) * 10 * time.Millisecond), In: float64(p.in), Out: float64(p.out), RoundTrip: us(p.trip), Best: us(p.best), Worst: us(p.worst), Known: true}
}

// packedSize is how long a sample is in a database.
const packedSize = 24

// Encode writes samples as they are kept in a database: 24 bytes each, little-endian,
// the time first, in hundredths of a second from base.
func Encode(samples []Sample, base time.Time) []byte {
	out := make([]byte, 0, len(samples)*packedSize)
	for _, s := range samples {
		p := s.pack(base)
		for _, v := range []uint32{uint32(p.at), math.Float32bits(p.in), math.Float32bits(p.out), p.trip, p.best, p.worst} {
			out = binary.LittleEndian.AppendUint32(out, v)
		}
	}
	return out
}

// Decode reads what [Encode] wrote. What is cut or no number is left out.
func Decode(data []byte, base time.Time) []Sample {
	var all []Sample
	for ; len(data) >= packedSize; data = data[packedSize:] {
		word := func(i int) uint32 { return binary.LittleEndian.Uint32(data[4*i:]) }
		p := packed{int32(word(0)), math.Float32frombits(word(1)), math.Float32frombits(word(2)), word(3), word(4), word(5)}
		if p.in >= 0 && p.out >= 0 && p.in <= math.MaxFloat32 && p.out <= math.MaxFloat32 {
			all = append(all, p.sample(base))
		}
	}
	return all
}

// shape is how long the spans of a level are, and how many are kept.
type shape struct {
	span time.Duration
	n    int
}

var (
	forLinks = []shape{{time.Second, 3600}, {time.Minute, 1440}, {15 * time.Minute, 2688}}
	forFlows = []shape{{time.Second, 120}, {15 * time.Second, 240}, {5 * time.Minute, 288}}
)

// KeptFor tells for which spans samples of links are kept, and how long each.
func KeptFor() map[time.Duration]time.Duration {
	kept := map[time.Duration]time.Duration{}
	for _, s := range forLinks {
		kept[s.span] = s.span * time.Duration(s.n)
	}
	return kept
}

// level is a ring of spans of one length.
type level struct {
	shape
	samples []packed
	next    int
	sum     Sample // of the span under way
	n       int
	pending int // samples not kept elsewhere yet
}

// Series is what one link or flow carried. The zero Series is an empty one of a link.
type Series struct {
	mu     sync.Mutex
	brief  bool
	base   time.Time
	levels []level
	id     int64
	in     uint64
	out    uint64
	last   time.Time
}

// begin makes the levels.
func (s *Series) begin(now time.Time) {
	if s.levels != nil {
		return
	}
	shapes := forLinks
	if s.brief {
		shapes = forFlows
	}
	s.base = now.Round(0)
	for _, one := range shapes {
		s.levels = append(s.levels, level{shape: one})
	}
}

// Count takes counters at a time: bytes in and out since the link or flow with that
// id began, and its round trip. The first of an id only sets where counting begins; a
// time that does not go on is passed over. Where the wall clock is set, what comes
// after stands at the new time.
func (s *Series) Count(now time.Time, id int64, in, out uint64, roundTrip time.Duration) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.begin(now)
	passed := now.Sub(s.last).Seconds()
	first := s.last.IsZero() || id != s.id || passed <= 0 || in < s.in || out < s.out
	sample := Sample{At: now, In: float64(in-s.in) / passed, Out: float64(out-s.out) / passed, RoundTrip: roundTrip, Best: roundTrip, Worst: roundTrip, Known: true}
	s.id, s.in, s.out, s.last = id, in, out, now
	if first {
		return
	}
	s.levels[0].put(sample, s.base)
	for i := range s.levels[1:] {
		s.levels[i+1].gather(sample, passed, s.base)
	}
}

func (l *level) put(s Sample, base time.Time) {
	l.pending = min(l.pending+1, l.shape.n)
	if len(l.samples) < l.shape.n {
		l.samples = append(l.samples, s.pack(base))
		return
	}
	l.samples[l.next] = s.pack(base)
	l.next = (l.next + 1) % l.shape.n
}

// gather adds a sample of so many seconds to the span under way, and puts that away
// when it is over. Its rates are over the whole span, also where the link lived only
// for a part of it, so that what was carried adds up.
func (l *level) gather(s Sample, passed float64, base time.Time) {
	if l.n > 0 && s.At.Truncate(l.span) != l.sum.At.Truncate(l.span) {
		l.put(l.sum, base)
		l.sum, l.n = Sample{}, 0
	}
	part := min(passed/l.span.Seconds(), 1)
	in, out := l.sum.In+s.In*part, l.sum.Out+s.Out*part
	l.sum.add(s, l.n)
	l.sum.At, l.sum.In, l.sum.Out = s.At, in, out
	l.n++
}

// each calls do with every sample of the level, in the order they came, the span under
// way last.
func (l *level) each(base time.Time, do func(Sample)) {
	for i := range l.samples {
		do(l.samples[(l.next+i)%len(l.samples)].sample(base))
	}
	if l.n > 0 {
		do(l.sum)
	}
}

// Span is the series between two times as n samples of the same length, the oldest
// first, out of the finest level that reaches back so far. What nothing is known of
// is not Known; of several samples in one span the rates are averaged.
func (s *Series) Span(from, to time.Time, n int) []Sample {
	s.mu.Lock()
	defer s.mu.Unlock()
	out := make([]Sample, n)
	each := to.Sub(from) / time.Duration(max(n, 1))
	if each <= 0 || len(s.levels) == 0 {
		return out
	}
	at := s.reaching(to.Sub(from))
	for at < len(s.levels)-1 && each > 2*s.levels[at+1].span {
		at++
	}
	counts := make([]int, n)
	s.levels[at].each(s.base, func(sample Sample) {
		slot := int(sample.At.Sub(from) / each)
		if sample.At.Before(from) || slot >= n {
			return
		}
		out[slot].add(sample, counts[slot])
		counts[slot]++
	})
	for i := range out {
		// Where spans are hardly longer than samples, one of these may come a little late.
		if i > 0 && i < n-1 && !out[i].Known && out[i-1].Known && out[i+1].Known && each < 2*s.levels[at].span {
			out[i] = out[i+1]
		}
		out[i].At = from.Add(each * time.Duration(i+1))
	}
	return out
}

// Carried is how many bytes passed each way between two times, as far as is known.
func (s *Series) Carried(from, to time.Time) (in, out float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.levels) == 0 {
		return 0, 0
	}
	l := &s.levels[s.reaching(to.Sub(from))]
	l.each(s.base, func(sample Sample) {
		if !sample.At.Before(from) && !sample.At.After(to) {
			in += sample.In * l.span.Seconds()
			out += sample.Out * l.span.Seconds()
		}
	})
	return in, out
}

// reaching is the finest level that reaches back so far.
func (s *Series) reaching(back time.Duration) int {
	at := 0
	for at < len(s.levels)-1 && back > s.levels[at].span*time.Duration(s.levels[at].shape.n) {
		at++
	}
	return at
}

// Now is the rate of the last count, as long as it is not older than a few seconds.
func (s *Series) Now(now time.Time) (in, out float64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.levels) == 0 || len(s.levels[0].samples) == 0 || now.Sub(s.last) > 3*time.Second {
		return 0, 0
	}
	l := &s.levels[0]
	last := l.samples[(l.next+len(l.samples)-1)%len(l.samples)].sample(s.base)
	return last.In, last.Out
}
