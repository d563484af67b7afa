package reach

import (
	"cmp"
	"net/netip"
	"slices"
	"time"

	"meatus/core/estate"
)

const (
	// mostWays is how many ways are told, and mostMisses how many near misses.
	mostWays   = 20
	mostMisses = 3
	// mostTried is how many machines are looked at as the first on a way, and as the one between.
	mostTried = 100
	sshPort   = 22
)

// Means are what one could log in to a machine with.
type Means struct {
	Session string    `json:"session"`       // that leads to it, "" for none
	Login   string    `json:"login"`         // "" where it is not known
	Key     string    `json:"key"`           // the file here, "" for none
	Used    time.Time `json:"used,omitzero"` // when the session was used last, zero for never
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
// what is at hand to log in, used last. None goes through a machine that it could leave out. Where there is none,
// the nearest misses say what each lacks.
func (j *Judge) Ways(f Finding) (ways []Way, misses []Way) {
	return j.ways(f, j.front(f), false)
}

// ways is [Judge.Ways] with the machines at the front; with one it ends at the first way that there is.
func (j *Judge) ways(f Finding, front []Hop, one bool) (ways []Way, misses []Way) {
	here := From{Address: f.Here}
	last := func(a Answer) Hop { return j.hop(Hop{Instance: f.To, Port: f.Port, Answer: a}, f) }
	ssh := func(i *estate.Instance, a Answer) Hop {
		return j.hop(Hop{Instance: i, Port: Port{"tcp", sshPort}, Answer: a}, f)
	}
	take := func(hops ...Hop) {
		way := Way{Hops: hops}
		for _, h := range hops {
			if h.Answer.Everybody {
				way.wide++
			}
		}
		if slices.ContainsFunc(hops, func(h Hop) bool { return !h.Answer.Open }) {
			misses = append(misses, way)
		} else {
			ways = append(ways, way)
		}
	}
	direct := j.Ask(here, f.To, f.Port)
	take(last(direct))
	on := map[*estate.Instance]bool{}
	for _, first := range front {
		if one && len(ways) > 0 {
			return ways, nil
		}
		if first.Instance == f.To {
			continue
		}
		a := j.Ask(From{Instance: first.Instance}, f.To, f.Port)
		on[first.Instance] = a.Open
		if a.Open || a.stage >= In {
			take(ssh(first.Instance, first.Answer), last(a))
		}
	}
	if one && len(ways) > 0 {
		return ways, nil
	}
	for _, between := range j.middle(f, on) {
		if one && len(ways) > 0 {
			break
		}
		a := j.Ask(From{Instance: between}, f.To, f.Port)
		if !a.Open {
			continue
		}
		for _, first := range front {
			if !on[first.Instance] && first.Instance != f.To { // else the one between is not needed
				take(ssh(first.Instance, first.Answer), ssh(between, j.Ask(From{Instance: first.Instance}, between, Port{"tcp", sshPort})), last(a))
			}
		}
		if b := j.Ask(here, between, Port{"tcp", sshPort}); b.stage >= In { // it is no first machine, but nearly
			take(ssh(between, b), last(a))
		}
	}
	return best(ways, misses)
}

// middle are the machines between the first and the target that one could log in to, those that were used last first;
// none of the first.
func (j *Judge) middle(f Finding, first map[*estate.Instance]bool) []*estate.Instance {
	var all []*estate.Instance
	for _, i := range j.before(f.To, f.Port) {
		if _, is := first[i]; !is && f.Means(i).Have() {
			all = append(all, i)
		}
	}
	slices.SortStableFunc(all, func(a, b *estate.Instance) int { return f.Means(b).Used.Compare(f.Means(a).Used) })
	return all[:min(len(all), mostTried)]
}

// best are the best of some ways; the nearest misses where there is none.
func best(ways, misses []Way) ([]Way, []Way) {
	slices.SortStableFunc(ways, func(a, b Way) int {
		return cmp.Or(cmp.Compare(len(a.Hops), len(b.Hops)), cmp.Compare(a.wide, b.wide), b.used().Compare(a.used()))
	})
	if len(ways) > 0 {
		return ways[:min(len(ways), mostWays)], nil
	}
	slices.SortStableFunc(misses, func(a, b Way) int { // those that lack the least first
		return cmp.Or(cmp.Compare(b.lacks(), a.lacks()), cmp.Compare(len(a.Hops), len(b.Hops)))
	})
	return nil, misses[:min(len(misses), mostMisses)]
}

// used is when a machine on the way was used last.
func (w Way) used() (last time.Time) {
	for _, h := range w.Hops {
		if h.Means.Used.After(last) {
			last = h.Means.Used
		}
	}
	return last
}

// lacks is the stage at which a way is shut; what is shut at a later one lacks less.
func (w Way) lacks() Stage {
	least := In
	for _, h := range w.Hops {
		if !h.Answer.Open {
			least = min(least, h.Answer.stage)
		}
	}
	return least
}

// front are the machines that one gets to from here at the port of SSH, and could log in to, each with the answer;
// those that are open to the fewest and were used last come first.
func (j *Judge) front(f Finding) []Hop {
	var all []Hop
	here, port := f.Here, Port{"tcp", sshPort}
	if !here.IsValid() {
		here = anywhere[true]
	}
	lets := map[string]bool{} // whether a group lets this machine in
	for id, g := range j.groups {
		lets[id] = slices.ContainsFunc(g.in, func(r rule) bool { return r.about(port) && j.fits(&r, here, here, true) })
	}
	for n := range j.s.Instances {
		i := &j.s.Instances[n]
		if !slices.ContainsFunc(i.Groups, func(id string) bool { return lets[id] }) || i.State != estate.Running || !slices.ContainsFunc(i.Addresses, func(a estate.Address) bool { return a.Outside }) {
			continue
		}
		if a := j.Ask(From{Address: f.Here}, i, port); a.Open && f.Means(i).Have() {
			all = append(all, Hop{Instance: i, Answer: a})
		}
	}
	slices.SortStableFunc(all, func(a, b Hop) int {
		wide := map[bool]int{true: 1}
		return cmp.Or(cmp.Compare(wide[a.Answer.Everybody], wide[b.Answer.Everybody]), f.Means(b.Instance).Used.Compare(f.Means(a.Instance).Used))
	})
	return all[:min(len(all), mostTried)]
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
		for i := range g.in {
			switch r := &g.in[i]; {
			case !r.about(port.plain()):
			case r.Group != "":
				for _, m := range j.members[r.Group] {
					members[m] = true
				}
			case r.prefix.IsValid():
				ranges = append(ranges, r.prefix)
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
