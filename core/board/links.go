package board

import (
	"maps"
	"slices"
	"time"

	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/route"
	"meatus/core/tunnel"
)

// pastSeconds is how far back a link's traffic is kept.
const pastSeconds = 8

// Link is a live link with its recent traffic. It does not change.
type Link struct {
	State link.State
	Past  []float64 // bytes each second, both ways, the newest last

	bytes uint64    // when it was last measured
	at    time.Time // when that was
}

// Rate is the traffic of the last second, in bytes.
func (l *Link) Rate() float64 {
	if len(l.Past) == 0 {
		return 0
	}
	return l.Past[len(l.Past)-1]
}

// Links are the live links at a moment. They do not change.
type Links struct {
	byKey   map[route.LinkKey]*Link
	bare    map[route.LinkKey]*Link // by the key of the same way with nothing lent at its end
	ordered []*Link                 // by age
}

// All are the links, the oldest first.
func (l *Links) All() []*Link { return l.ordered }

// At is the live link of a key, exactly that or one that lends at its end; nil where
// there is none.
func (l *Links) At(key route.LinkKey) *Link {
	if found := l.byKey[key]; found != nil {
		return found
	}
	return l.bare[key.Bare()]
}

// Frozen is the first frozen link among those of some keys, nil where none is.
func (l *Links) Frozen(keys []route.LinkKey) *Link {
	for _, p := range keys {
		if at := l.byKey[p]; at != nil && at.State.Frozen {
			return at
		}
	}
	return nil
}

// RoundTrip is that of the live link of a key, 0 where it is not known.
func (l *Links) RoundTrip(key route.LinkKey) time.Duration {
	if at := l.byKey[key]; at != nil {
		return at.State.RoundTrip
	}
	return 0
}

// Links are the live links now.
func (b *Board) Links() *Links {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.links
}

// linksLocked puts changed links in the place of those that were handed out.
func (b *Board) linksLocked(do func(all map[route.LinkKey]*Link)) {
	all := maps.Clone(b.links.byKey)
	if all == nil {
		all = map[route.LinkKey]*Link{}
	}
	do(all)
	next := &Links{byKey: all, bare: map[route.LinkKey]*Link{}, ordered: slices.Collect(maps.Values(all))}
	slices.SortFunc(next.ordered, func(a, b *Link) int { return int(a.State.ID - b.State.ID) })
	for key, l := range all {
		next.bare[key.Bare()] = l
	}
	b.links = next
	b.countLiveLocked()
}

// take notes how a link fares.
func take(all map[route.LinkKey]*Link, s link.State) {
	was := all[s.Key]
	if was == nil || was.State.ID != s.ID {
		all[s.Key] = &Link{State: s, bytes: s.In + s.Out, at: time.Now()}
		return
	}
	now := *was
	now.State = s
	all[s.Key] = &now
}

// countLiveLocked finds the sessions whose machine a live link leads to.
func (b *Board) countLiveLocked() {
	b.liveNow = nil // what was handed out stays as it was
	if len(b.links.bare)+len(b.running) == 0 {
		return
	}
	live := make(map[uint64]bool, len(b.links.bare))
	for key := range b.links.bare {
		live[b.hash(key)] = true
	}
	for i := range b.sessions {
		if r := b.running[b.sessions[i].name]; r != nil && b.sessions[i].leadsElsewhere(r.target) || b.sessions[i].target != 0 && live[b.sessions[i].target] {
			b.liveNow = append(b.liveNow, i)
		}
	}
}

// Live are the live sessions, by their place in the file. It is not to be changed.
func (b *Board) Live() []int {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.liveNow
}

// Tally counts some sessions, by their place in the file.
func (b *Board) Tally(sessions []int) Counts {
	b.mu.RLock()
	defer b.mu.RUnlock()
	c := Counts{Sessions: len(sessions)}
	for _, i := range sessions {
		if i >= len(b.sessions) {
			continue
		}
		if b.sessions[i].verdict == gate.Shut {
			c.Shut++
		}
		if _, live := slices.BinarySearch(b.liveNow, i); live {
			c.Live++
		}
	}
	return c
}

// measure measures the links' traffic. It tells whether there are any.
func (b *Board) measure(now time.Time) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if len(b.links.byKey) == 0 {
		return false
	}
	b.linksLocked(func(all map[route.LinkKey]*Link) {
		for prefix, l := range all {
			passed := now.Sub(l.at).Seconds()
			if passed <= 0.2 {
				continue
			}
			next, bytes := *l, l.State.In+l.State.Out
			past := append(slices.Clone(l.Past), float64(bytes-l.bytes)/passed)
			next.Past = past[max(len(past)-pastSeconds, 0):]
			next.bytes, next.at = bytes, now
			all[prefix] = &next
		}
	})
	return true
}

// lookAtOpen publishes the open tunnels and live shells, where they have changed or may
// have. It tells whether there are any, or were.
func (b *Board) lookAtOpen(anyway bool) bool {
	b.mu.Lock()
	due := b.stale || anyway && len(b.tunnels)+len(b.running) > 0
	b.stale = false
	b.mu.Unlock()
	if !due {
		return false
	}
	tunnels := map[string][]tunnel.Line{}
	for _, l := range b.lines() {
		tunnels[l.Session] = append(tunnels[l.Session], l)
	}
	running := map[string]*Running{}
	for _, shell := range b.shells() {
		r := shell.Way
		one := running[r.Session]
		if one == nil {
			one = &Running{}
			running[r.Session] = one
		}
		one.Shells++
		one.Lent, one.Windows = shell.Lent, shell.Windows
		one.Links = r.Links()
	}
	for _, one := range running {
		one.target = b.hash(one.Links[len(one.Links)-1])
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	was := len(b.tunnels) + len(b.running)
	b.tunnels, b.running = tunnels, running
	b.countLiveLocked()
	return was+len(tunnels)+len(running) > 0
}
