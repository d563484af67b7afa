package reach

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"meatus/core/estate"
)

// Opening is a range of ports that rules let somebody in at. Instances of the same groups share it.
type Opening struct {
	Protocol  string // "tcp", "any", ...
	From, To  uint16
	Everybody bool     // every address of a family is let in
	By        []string // the rules, as sentences
	who       *netipx.IPSet
}

// Exposed is an opening of an instance.
type Exposed struct {
	Instance *estate.Instance
	Outside  bool // it has an address that is reached from outside
	*Opening
}

// Ports are the ports in words: "tcp 22", "all tcp", "anything".
func (e *Opening) Ports() string {
	switch {
	case e.Protocol == "any" && e.From == 0 && e.To == 65535:
		return "anything"
	case e.From == 0 && e.To == 65535:
		return "all " + e.Protocol
	case e.From == e.To:
		return fmt.Sprintf("%s %d", e.Protocol, e.From)
	}
	return fmt.Sprintf("%s %d-%d", e.Protocol, e.From, e.To)
}

// Who are the addresses that are let in, as ranges; at most so many, and how many more there are.
func (e *Opening) Who(most int) (ranges []string, more int) {
	for _, p := range e.who.Prefixes() {
		if len(ranges) == most {
			more++
			continue
		}
		ranges = append(ranges, p.String())
	}
	return ranges, more
}

// Exposure tells for every running instance which ports of it are open to whom, those that are open to
// everybody from outside first. The rules of each group are gone through once.
func (j *Judge) Exposure() []Exposed {
	var running []*estate.Instance
	for i := range j.s.Instances {
		if n := &j.s.Instances[i]; n.State == estate.Running {
			running = append(running, n)
		}
	}
	slices.SortStableFunc(running, func(a, b *estate.Instance) int { return strings.Compare(named(a), named(b)) })
	of := map[string][]*Opening{} // by the groups that instances are in
	var ranked [3][]Exposed
	for _, n := range running {
		key := strings.Join(n.Groups, "\x00")
		openings, ok := of[key]
		if !ok {
			openings = j.openings(n.Groups)
			of[key] = openings
		}
		outside := slices.ContainsFunc(n.Addresses, func(a estate.Address) bool { return a.Outside })
		for _, o := range openings {
			rank := 2
			switch {
			case o.Everybody && outside:
				rank = 0
			case o.Everybody:
				rank = 1
			}
			ranked[rank] = append(ranked[rank], Exposed{n, outside, o})
		}
	}
	return slices.Concat(ranked[0], ranked[1], ranked[2])
}

// openings are those of instances in some groups, each range of ports that a rule names once, by their ports.
func (j *Judge) openings(groups []string) []*Opening {
	type key struct {
		protocol string
		from, to uint16
	}
	at := map[key]*Opening{}
	builders := map[*Opening]*netipx.IPSetBuilder{}
	var all []*Opening
	for _, id := range groups {
		g := j.groups[id]
		if g == nil {
			continue
		}
		for r := range g.in {
			rule := &g.in[r]
			if rule.From > rule.To {
				continue
			}
			k := key{rule.protocol, rule.From, rule.To}
			o := at[k]
			if o == nil {
				o = &Opening{Protocol: k.protocol, From: k.from, To: k.to}
				at[k], builders[o] = o, &netipx.IPSetBuilder{}
				all = append(all, o)
			}
			switch {
			case rule.Group != "":
				for a := range j.within[rule.Group] {
					if rule.families(a) {
						builders[o].Add(a)
					}
				}
			case rule.prefix.IsValid():
				builders[o].AddPrefix(rule.prefix)
				o.Everybody = o.Everybody || rule.prefix.Bits() == 0
			}
			o.By = append(o.By, j.told(rule.Rule, g.Group))
		}
	}
	for _, o := range all {
		o.who, _ = builders[o].IPSet() // prefixes of a snapshot are valid
	}
	all = slices.DeleteFunc(all, func(o *Opening) bool { return len(o.who.Ranges()) == 0 })
	slices.SortStableFunc(all, func(a, b *Opening) int {
		return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To), strings.Compare(a.Protocol, b.Protocol))
	})
	return all
}

// Holds tells whether an address is among those that are let in.
func (e *Opening) Holds(a netip.Addr) bool { return e.who.Contains(a) }
