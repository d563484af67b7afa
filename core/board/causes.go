package board

import (
	"slices"
	"strings"

	"meatus/core/gate"
	"meatus/core/needs"
	"meatus/core/tunnel"
)

// cause is why sessions are ajar or shut. Sessions that are for the same reason share one.
type cause struct {
	hop   string
	gate  gate.Gate
	found bool
}

// causeLocked keeps why a session is ajar or shut, of a report of it.
func (b *Board) causeLocked(s *session, r gate.Report) {
	g, at := r.Worst()
	if s.cause = nil; at < 0 || g.Verdict < gate.Ajar {
		return
	}
	found := false
	for _, f := range s.found {
		found = found || f.hop == at && f.gate.Kind == g.Kind
	}
	key := needs.KeyOf(g, found)
	c := b.causes[key]
	if c == nil {
		g.Detail = nil
		c = &cause{hop: r.Hops[at].Name, gate: g, found: found}
		b.causes[key] = c
	}
	if c.hop != r.Hops[at].Name {
		c.hop = ""
	}
	s.cause = c
}

// Causes are why sessions are ajar or shut, each once, in the order of the first session of each.
func (b *Board) Causes() []needs.Cause {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var all []needs.Cause
	at := map[*cause]int{}
	for i := range b.sessions {
		c := b.sessions[i].cause
		if c == nil || b.sessions[i].verdict < gate.Ajar {
			continue
		}
		n, ok := at[c]
		if !ok {
			n = len(all)
			at[c] = n
			all = append(all, needs.Cause{Shared: gate.Shared{Hop: c.hop, Gate: c.gate, First: b.sessions[i].name}, Found: c.found})
		}
		all[n].Sessions++
	}
	return all
}

// Losses are the sessions whose way is lost and walked again, with why.
func (b *Board) Losses() map[string]string {
	b.mu.RLock()
	defer b.mu.RUnlock()
	lost := map[string]string{}
	for i := range b.sessions {
		if l := b.sessions[i].live; l != nil && l.lost != nil {
			lost[b.sessions[i].name] = string(l.lost.Failure.Cause) + " at " + l.lost.Failure.Hop
		}
	}
	return lost
}

// OpenTunnels are all open tunnels.
func (b *Board) OpenTunnels() []tunnel.Line {
	b.mu.RLock()
	defer b.mu.RUnlock()
	var all []tunnel.Line
	for _, lines := range b.tunnels {
		all = append(all, lines...)
	}
	slices.SortFunc(all, func(a, b tunnel.Line) int { return strings.Compare(a.Listener, b.Listener) })
	return all
}
