package reach

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"meatus/core/estate"
	"meatus/core/words"
)

// Rank is how far what rules let in reaches: the lesser, the more exposed.
type Rank int

// The ranks.
const (
	FromOutside Rank = iota // everybody, and one of the instances has an address that is reached from outside
	Everybody               // everybody who can come to the network
	Range                   // a range of addresses
	Machine                 // one address
	Members                 // whoever is in a group
)

// Arrow is what one rule lets in: who, at which ports, to which running instances.
type Arrow struct {
	Rank  Rank
	Who   string           // in words: "everybody", "10.61.4.1, quay", "whoever is in reef"
	Of    *estate.Instance // who that is, where it is one instance; nil else
	To    []*estate.Instance
	Group string // the id of the group that has the rule
	Rule  estate.Rule
	Ports string
}

// Arrows are what the rules let in, one for each rule of a group that a running instance is in: those to everybody
// first, and those of one who together.
func (j *Judge) Arrows() []Arrow {
	holders := map[netip.Addr]*estate.Instance{}
	for i := range j.s.Instances {
		if n := &j.s.Instances[i]; n.State != estate.Ended {
			for _, a := range n.Addresses {
				holders[a.IP] = n
			}
		}
	}
	var all []Arrow
	for g := range j.s.Groups {
		group := j.groups[j.s.Groups[g].ID]
		var to []*estate.Instance
		outside := false
		for _, n := range j.members[group.ID] {
			if n.State == estate.Running {
				to = append(to, n)
				outside = outside || slices.ContainsFunc(n.Addresses, func(a estate.Address) bool { return a.Outside })
			}
		}
		if len(to) == 0 {
			continue
		}
		slices.SortStableFunc(to, func(a, b *estate.Instance) int { return strings.Compare(named(a), named(b)) })
		for i := range group.in {
			r := &group.in[i]
			if r.From > r.To || r.Group == "" && !r.prefix.IsValid() {
				continue
			}
			a := Arrow{Rank: Range, Who: r.prefix.String(), To: to, Group: group.ID, Rule: *r.Rule, Ports: (&Opening{Protocol: r.protocol, From: r.From, To: r.To}).Ports()}
			switch {
			case r.Group != "":
				a.Rank, a.Who = Members, fmt.Sprintf("whoever is in %s, %s", j.groupName(r.Group), words.Count(len(j.members[r.Group]), "instance"))
			case r.prefix.Bits() == 0 && outside:
				a.Rank, a.Who = FromOutside, "everybody, from outside"
			case r.prefix.Bits() == 0:
				a.Rank, a.Who = Everybody, "everybody who comes to the network"
			case r.prefix.IsSingleIP():
				a.Rank, a.Of = Machine, holders[r.prefix.Addr()]
				a.Who = r.prefix.Addr().String() + ", which no instance has"
				if a.Of != nil {
					a.Who = r.prefix.Addr().String() + ", " + named(a.Of)
				}
			}
			all = append(all, a)
		}
	}
	slices.SortStableFunc(all, func(a, b Arrow) int {
		return cmp.Or(cmp.Compare(a.Rank, b.Rank), strings.Compare(a.Who, b.Who), cmp.Compare(a.Rule.From, b.Rule.From), strings.Compare(a.Group, b.Group))
	})
	return all
}

// Reached is an instance that another gets to.
type Reached struct {
	To     *estate.Instance
	Ports  []string
	Answer Answer // the proof for the first of them
}

// From tells where an instance gets to: which others, at which ports.
func (j *Judge) From(from *estate.Instance) []Reached {
	var all []Reached
	for n := range j.s.Instances {
		to := &j.s.Instances[n]
		if to == from || to.State != estate.Running {
			continue
		}
		r := Reached{To: to}
		for _, id := range to.Groups {
			g := j.groups[id]
			if g == nil {
				continue
			}
			for i := range g.in {
				rule := &g.in[i]
				ports := (&Opening{Protocol: rule.protocol, From: rule.From, To: rule.To}).Ports()
				if slices.Contains(r.Ports, ports) || !slices.ContainsFunc(from.Addresses, func(a estate.Address) bool { return j.fits(rule, a.IP, a.IP, a.Outside) }) {
					continue
				}
				port := Port{rule.protocol, rule.From}
				if rule.protocol == "any" {
					port.Protocol = "tcp"
				}
				if a := j.Ask(From{Instance: from}, to, port); a.Open {
					if r.Ports = append(r.Ports, ports); len(r.Ports) == 1 {
						r.Answer = a
					}
				}
			}
		}
		if len(r.Ports) > 0 {
			all = append(all, r)
		}
	}
	slices.SortStableFunc(all, func(a, b Reached) int { return strings.Compare(named(a.To), named(b.To)) })
	return all
}
