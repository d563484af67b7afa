package needs

import (
	"slices"

	"meatus/core/gate"
)

// Causes collects why sessions are ajar or shut, each cause once. Its zero value is empty.
type Causes struct {
	all  []*Cause
	by   map[Key]*Cause
	shut bool
}

// Key tells causes apart by their words: what is shut for one machine's reason names it.
type Key struct {
	kind        gate.Kind
	verdict     gate.Verdict
	why, remedy string
	found       bool
}

// KeyOf is the key of a gate that was found by walking, or judged from here.
func KeyOf(g gate.Gate, found bool) Key {
	return Key{g.Kind, g.Verdict, g.Reason, g.Remedy.Say, found}
}

// Add adds a report; found says that its machines were looked at. It tells the cause as it is known with this session,
// nil where it is not shut at a gate.
func (c *Causes) Add(r gate.Report, found bool) *gate.Shared {
	c.shut = c.shut || r.Verdict() == gate.Shut
	g, at := r.Worst()
	hop := ""
	switch {
	case r.Broken != "":
		g = gate.Gate{Kind: gate.Address, Verdict: gate.Shut, Reason: r.Broken}
	case at < 0 || g.Verdict < gate.Ajar:
		return nil
	default:
		hop = r.Hops[at].Name
	}
	key := KeyOf(g, found)
	one := c.by[key]
	if one == nil {
		one = &Cause{Shared: gate.Shared{Hop: hop, Gate: g, First: r.Session}, Found: found, broken: r.Broken != ""}
		if c.by == nil {
			c.by = map[Key]*Cause{}
		}
		c.by[key] = one
		c.all = append(c.all, one)
	}
	if one.Hop != hop {
		one.Hop = ""
	}
	one.Sessions++
	if g.Verdict != gate.Shut || r.Broken != "" {
		return nil
	}
	return &one.Shared
}

// Shared are the causes that keep several sessions shut at a gate, those of the most sessions first.
func (c *Causes) Shared() []gate.Shared {
	var all []gate.Shared
	for _, one := range c.all {
		if one.Sessions > 1 && one.Gate.Verdict == gate.Shut && !one.broken {
			all = append(all, one.Shared)
		}
	}
	slices.SortStableFunc(all, func(a, b gate.Shared) int { return b.Sessions - a.Sessions })
	return all
}

// All are the causes, in the order they were added.
func (c *Causes) All() []Cause {
	all := make([]Cause, len(c.all))
	for i, one := range c.all {
		all[i] = *one
	}
	return all
}

// Shut tells whether a session is shut.
func (c *Causes) Shut() bool { return c.shut }
