package gate

import (
	"fmt"
	"slices"
)

// Shared is one cause that keeps one session or several shut.
type Shared struct {
	Hop      string // where it is, "" where that is another for each
	Gate     Gate
	First    string // the session that it was found at first
	Sessions int
}

// Say tells the cause once for all of its sessions.
func (s Shared) Say() string {
	say := fmt.Sprintf("%d sessions are shut for one reason: ", s.Sessions)
	if s.Hop != "" {
		say += s.Hop + ": "
	}
	say += fmt.Sprintf("%s: %s", s.Gate.Kind, s.Gate.Reason)
	if s.Gate.Remedy.Say != "" {
		say += "; " + s.Gate.Remedy.Say
	}
	return say
}

// Causes collects why sessions are shut, each cause once. Its zero value is empty.
type Causes struct {
	all []*Shared
	by  map[cause]*Shared
}

// cause tells causes apart by their words: what is shut for one machine's reason names it.
type cause struct {
	kind        Kind
	why, remedy string
}

// Add adds a report. It tells the cause as it is known with this session, nil where it is not
// shut at a gate.
func (c *Causes) Add(r Report) *Shared {
	g, at := r.Worst()
	if at < 0 || g.Verdict != Shut {
		return nil
	}
	key := cause{g.Kind, g.Reason, g.Remedy.Say}
	s := c.by[key]
	if s == nil {
		s = &Shared{Hop: r.Hops[at].Name, Gate: g, First: r.Session}
		if c.by == nil {
			c.by = map[cause]*Shared{}
		}
		c.by[key] = s
		c.all = append(c.all, s)
	}
	if s.Hop != r.Hops[at].Name {
		s.Hop = ""
	}
	s.Sessions++
	return s
}

// Shared are the causes that keep several sessions shut, those of the most sessions first.
func (c *Causes) Shared() []Shared {
	var all []Shared
	for _, s := range c.all {
		if s.Sessions > 1 {
			all = append(all, *s)
		}
	}
	slices.SortStableFunc(all, func(a, b Shared) int { return b.Sessions - a.Sessions })
	return all
}
