package reach

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"meatus/core/estate"
)

const (
	// mostHops is how many machines a way goes through at most, before the one that is asked for.
	mostHops = 2
	// mostWays is how many ways are told, and mostMisses how many near misses.
	mostWays   = 20
	mostMisses = 3
	// mostTried is how many machines are looked behind on the way further from the target.
	mostTried = 100
	sshPort   = 22
)

// Means are what one could log in to a machine with.
type Means struct {
	Session string    `json:"session"` // that leads to it, "" for none
	Login   string    `json:"login"`   // "" where it is not known
	Key     string    `json:"key"`     // the file here, "" for none
	Used    time.Time `json:"used"`    // when the session was used last, zero for never
}

// Have tells whether one could log in.
func (m Means) Have() bool { return m.Session != "" || m.Login != "" && m.Key != "" }

// Hop is a machine on a way, with the proof that whoever stands before it gets to its port.
type Hop struct {
	Instance *estate.Instance `json:"-"`
	ID       string           `json:"id"`
	Name     string           `json:"name"`
	Port     Port             `json:"port"`
	Means    Means            `json:"means"` // of the target only where its own port is SSH's
	Answer   Answer           `json:"answer"`
}

// Way is a way from here to a port of an instance: its machines, the target last.
type Way struct {
	Hops []Hop `json:"hops"`
	wide int   // how many of its hops are open to everybody
}

// Finding is what is asked for.
type Finding struct {
	Here  netip.Addr // as which this machine is seen outside; not valid where that is not known
	To    *estate.Instance
	Port  Port
	Means func(*estate.Instance) Means
}

// Ways are the ways from here to a port, the best first: through the fewest machines, open to the fewest, with
// what is at hand to log in, used last. Where there is none, the nearest misses say what each lacks.
func (j *Judge) Ways(f Finding) (ways []Way, misses []Way) {
	here := f.Here
	if !here.IsValid() {
		here = anywhere[true] // rules for everybody alone let it in
	}
	type node struct {
		hop  Hop
		next []Hop // on to the target
	}
	visited := map[*estate.Instance]bool{f.To: true}
	level := []node{{hop: Hop{Instance: f.To, Port: f.Port}}}
	for depth := 0; len(level) > 0 && len(ways) == 0 && depth <= mostHops; depth++ {
		var further []node
		for _, n := range level {
			a := j.Ask(From{Address: here}, n.hop.Instance, n.hop.Port)
			n.hop.Answer = a
			way := Way{Hops: append([]Hop{j.hop(n.hop, f)}, n.next...)}
			switch {
			case a.Open:
				ways = append(ways, way)
			case a.stage >= In || depth == 0:
				misses = append(misses, way)
			}
			if depth == mostHops {
				continue
			}
			for _, before := range j.before(n.hop.Instance, n.hop.Port) {
				if visited[before] {
					continue
				}
				on := n.hop
				on.Answer = j.Ask(From{Instance: before}, n.hop.Instance, n.hop.Port)
				if !on.Answer.Open || !f.Means(before).Have() {
					continue
				}
				visited[before] = true
				further = append(further, node{Hop{Instance: before, Port: Port{"tcp", sshPort}}, append([]Hop{j.hop(on, f)}, n.next...)})
			}
		}
		slices.SortStableFunc(further, func(a, b node) int { return f.Means(b.hop.Instance).Used.Compare(f.Means(a.hop.Instance).Used) })
		level = further[:min(len(further), mostTried)]
	}
	for i := range ways {
		for _, h := range ways[i].Hops {
			if h.Answer.Everybody {
				ways[i].wide++
			}
		}
	}
	slices.SortStableFunc(ways, func(a, b Way) int {
		return cmp.Or(cmp.Compare(len(a.Hops), len(b.Hops)), cmp.Compare(a.wide, b.wide), b.Hops[0].Means.Used.Compare(a.Hops[0].Means.Used))
	})
	if len(ways) > 0 {
		return ways[:min(len(ways), mostWays)], nil
	}
	slices.SortStableFunc(misses, func(a, b Way) int { // those that lack the least first
		return cmp.Or(cmp.Compare(b.Hops[0].Answer.stage, a.Hops[0].Answer.stage), cmp.Compare(len(a.Hops), len(b.Hops)))
	})
	return nil, misses[:min(len(misses), mostMisses)]
}

// hop is a hop with what is told of it.
func (j *Judge) hop(h Hop, f Finding) Hop {
	h.ID, h.Name = h.Instance.ID, named(h.Instance)
	if h.Port == (Port{"tcp", sshPort}) {
		h.Means = f.Means(h.Instance)
	}
	return h
}

// before are the running instances with an address that some rule of an instance lets in at a port, which says
// not yet that they get there.
func (j *Judge) before(to *estate.Instance, port Port) []*estate.Instance {
	var ranges []netip.Prefix
	members := map[*estate.Instance]bool{}
	for _, id := range to.Groups {
		g := j.groups[id]
		if g == nil {
			continue
		}
		for i := range g.Rules {
			switch r := &g.Rules[i]; {
			case !r.Inbound || !r.About(port.Protocol, port.Number):
			case r.Group != "":
				for _, m := range j.members[r.Group] {
					members[m] = true
				}
			case r.CIDR.IsValid():
				ranges = append(ranges, r.CIDR.Masked())
			}
		}
	}
	var found []*estate.Instance
	for i := range j.s.Instances {
		n := &j.s.Instances[i]
		if n == to || n.State != estate.Running {
			continue
		}
		if members[n] || slices.ContainsFunc(n.Addresses, func(a estate.Address) bool {
			return slices.ContainsFunc(ranges, func(p netip.Prefix) bool { return p.Contains(a.IP) })
		}) {
			found = append(found, n)
		}
	}
	return found
}
