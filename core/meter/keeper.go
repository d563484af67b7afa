package meter

import (
	"context"
	"sync"
	"time"
)

// Reading is what a link or flow has carried so far.
type Reading struct {
	Key       string // names it, also in another run of the program
	Name      string // what it is called
	ID        int64  // tells one life of it from the next
	In, Out   uint64
	RoundTrip time.Duration // 0 where not known
	At        time.Time     // when this was read, now where zero
	Brief     bool          // a flow: its series goes with it and is not kept
}

// Row are samples of a link, as a [Store] keeps them.
type Row struct {
	Key, Name string
	Span      time.Duration // of each sample
	Samples   []Sample
}

// Store keeps samples over the program's end.
type Store interface {
	// KeepSamples adds samples, and lets those go that are older than a span of that
	// length is kept.
	KeepSamples(rows []Row) error
	// Samples are what is kept of a link, the oldest first.
	Samples(key string) ([]Row, error)
	// Metered are the links that samples are kept of.
	Metered() ([]Metered, error)
}

// Metered is a link that samples are kept of.
type Metered struct {
	Key, Name string
	Last      time.Time // of its last sample
}

// keepEvery is how often samples go to the store.
const keepEvery = time.Minute

// maxLinks is how many links' series are held. The one that was counted least
// recently goes first.
const maxLinks = 1000

// Keeper counts what a source tells once a second, and hands the samples of links to
// a store once a minute. It is safe to use from many goroutines.
type Keeper struct {
	source func() []Reading
	store  Store // may be nil

	mu     sync.Mutex
	series map[string]*counted
	err    error // of the store, the first
}

// counted is a series and whose it is.
type counted struct {
	Series
	name string
	seen time.Time // when it was last told of
}

// NewKeeper returns a keeper that has counted nothing. store may be nil.
func NewKeeper(source func() []Reading, store Store) *Keeper {
	return &Keeper{source: source, store: store, series: map[string]*counted{}}
}

// Run counts until the context ends, and then keeps what is not kept yet. told is told
// the first error of the store; counting goes on without it.
func (k *Keeper) Run(ctx context.Context, told func(error)) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	kept, said := time.Now(), false
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			k.Keep()
			return
		}
		now := time.Now()
		k.Take(now)
		if now.Sub(kept) >= keepEvery {
			kept = now
			k.Keep()
		}
		if err := k.Err(); err != nil && !said {
			said = true
			told(err)
		}
	}
}

// Err is the first error of the store, nil where there is none.
func (k *Keeper) Err() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.err
}

// Take counts what the source tells now.
func (k *Keeper) Take(now time.Time) {
	for _, r := range k.source() {
		k.mu.Lock()
		h := k.series[r.Key]
		k.mu.Unlock()
		if h == nil {
			h = k.begin(r, now)
		}
		at := r.At
		if at.IsZero() {
			at = now
		}
		h.Count(at, r.ID, r.In, r.Out, r.RoundTrip)
		k.mu.Lock()
		h.seen = now
		k.mu.Unlock()
	}
	k.forget(now)
}

// forget lets the series of flows go that have ended, and that of the link which was
// told of least recently where there are too many.
func (k *Keeper) forget(now time.Time) {
	k.mu.Lock()
	defer k.mu.Unlock()
	links, oldest := 0, ""
	for key, h := range k.series {
		gone := !h.seen.Equal(now)
		if h.brief {
			if gone {
				delete(k.series, key)
			}
			continue
		}
		links++
		if gone && (oldest == "" || h.seen.Before(k.series[oldest].seen)) {
			oldest = key
		}
	}
	if links > maxLinks && oldest != "" {
		delete(k.series, oldest)
	}
}

// begin makes a series, with what the store has of it.
func (k *Keeper) begin(r Reading, now time.Time) *counted {
	h := &counted{name: r.Name, seen: now}
	if h.brief = r.Brief; !r.Brief {
		k.restore(h, r.Key, now)
	}
	k.mu.Lock()
	k.series[r.Key] = h
	k.mu.Unlock()
	return h
}

func (k *Keeper) fail(err error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.err == nil {
		k.err = err
	}
}

// restore puts what a store has of a link into the series.
func (s *Series) restore(store Store, key string, now time.Time) error {
	rows, err := store.Samples(key)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.begin(now)
	for _, row := range rows {
		for i := range s.levels {
			if l := &s.levels[i]; l.span == row.Span {
				for _, sample := range row.Samples {
					l.put(sample, s.base)
				}
				l.pending = 0
			}
		}
	}
	return err
}

// Keep hands what is not kept yet to the store. What the store does not take is tried
// again the next time, as long as it is held.
func (k *Keeper) Keep() {
	if k.store == nil {
		return
	}
	k.mu.Lock()
	var rows []Row
	taken := map[*level]int{}
	for key, h := range k.series {
		if h.brief {
			continue
		}
		h.Series.mu.Lock()
		for i := range h.levels {
			l := &h.levels[i]
			if l.pending == 0 {
				continue
			}
			row := Row{Key: key, Name: h.name, Span: l.span}
			for n := len(l.samples) - l.pending; n < len(l.samples); n++ {
				row.Samples = append(row.Samples, l.samples[(l.next+n)%len(l.samples)].sample(h.base))
			}
			rows = append(rows, row)
			taken[l] = l.pending
			l.pending = 0
		}
		h.Series.mu.Unlock()
	}
	k.mu.Unlock()
	if len(rows) == 0 {
		return
	}
	if err := k.store.KeepSamples(rows); err != nil {
		k.fail(err)
		k.mu.Lock()
		for _, h := range k.series {
			h.Series.mu.Lock()
			for i := range h.levels {
				l := &h.levels[i]
				l.pending = min(l.pending+taken[l], len(l.samples))
			}
			h.Series.mu.Unlock()
		}
		k.mu.Unlock()
	}
}

// Series is what is held of a key, nil where that is nothing.
func (k *Keeper) Series(key string) *Series {
	k.mu.Lock()
	defer k.mu.Unlock()
	if h := k.series[key]; h != nil {
		return &h.Series
	}
	return nil
}

// Hauled is what one link carried in a time.
type Hauled struct {
	Key, Name string
	In, Out   float64 // bytes
}

// Since is what each link carried since a time, also in another run of the program,
// in no order.
func (k *Keeper) Since(from, now time.Time) []Hauled {
	k.mu.Lock()
	links := map[string]*counted{}
	for key, h := range k.series {
		if !h.brief {
			links[key] = h
		}
	}
	k.mu.Unlock()
	if k.store != nil {
		others, err := k.store.Metered()
		if err != nil {
			k.fail(err)
		}
		for _, o := range others {
			if links[o.Key] == nil && !o.Last.Before(from) {
				h := &counted{name: o.Name}
				k.restore(h, o.Key, now)
				links[o.Key] = h
			}
		}
	}
	var all []Hauled
	for key, h := range links {
		if in, out := h.Carried(from, now); in+out >= 1 {
			all = append(all, Hauled{key, h.name, in, out})
		}
	}
	return all
}

// restore puts what the store has of a link into a series that is empty.
func (k *Keeper) restore(h *counted, key string, now time.Time) {
	if k.store == nil {
		return
	}
	if err := h.Series.restore(k.store, key, now); err != nil {
		k.fail(err)
	}
}

// Past is the series of a link as a store has it, also of one that is not live.
func Past(store Store, key string, now time.Time) (*Series, error) {
	s := &Series{}
	return s, s.restore(store, key, now)
}
