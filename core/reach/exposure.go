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

// Exposed is a range of ports of an instance with who can come to it.
type Exposed struct {
	Instance  *estate.Instance
	Protocol  string // "tcp", "any", ...
	From, To  uint16
	Everybody bool     // every address of a family is let in
	Outside   bool     // and it has an address that is reached from outside
	By        []string // the rules, as sentences
	who       *netipx.IPSet
}

// Ports are the ports in words: "tcp 22", "all tcp", "anything".
func (e Exposed) Ports() string {
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
func (e Exposed) Who(most int) (ranges []string, more int) {
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
// everybody from outside first. It costs one pass over the rules of each instance's groups.
func (j *Judge) Exposure() []Exposed {
	sets := map[string]*netipx.IPSet{} // of groups
	for id, addresses := range j.within {
		var b netipx.IPSetBuilder
		for a := range addresses {
			b.Add(a)
		}
		sets[id], _ = b.IPSet() // it cannot fail: single addresses are valid
	}
	var all []Exposed
	for i := range j.s.Instances {
		n := &j.s.Instances[i]
		if n.State == estate.Running {
			all = append(all, j.exposed(n, sets)...)
		}
	}
	slices.SortStableFunc(all, func(a, b Exposed) int {
		return cmp.Or(cmp.Compare(b.rank(), a.rank()), strings.Compare(named(a.Instance), named(b.Instance)), cmp.Compare(a.From, b.From))
	})
	return all
}

// rank puts what everybody can come to first.
func (e Exposed) rank() int {
	switch {
	case e.Everybody && e.Outside:
		return 2
	case e.Everybody:
		return 1
	}
	return 0
}

// exposed are the ports of one instance, each range of ports that a rule names once.
func (j *Judge) exposed(n *estate.Instance, sets map[string]*netipx.IPSet) []Exposed {
	type key struct {
		protocol string
		from, to uint16
	}
	at := map[key]int{}
	var all []Exposed
	var builders []*netipx.IPSetBuilder
	outside := slices.ContainsFunc(n.Addresses, func(a estate.Address) bool { return a.Outside })
	for _, id := range n.Groups {
		g := j.groups[id]
		if g == nil {
			continue
		}
		for r := range g.Rules {
			rule := &g.Rules[r]
			if !rule.Inbound || rule.From > rule.To {
				continue
			}
			k := key{rule.Proto(), rule.From, rule.To}
			i, ok := at[k]
			if !ok {
				i = len(all)
				at[k] = i
				all = append(all, Exposed{Instance: n, Protocol: k.protocol, From: k.from, To: k.to, Outside: outside})
				builders = append(builders, &netipx.IPSetBuilder{})
			}
			switch {
			case rule.Group != "":
				if set := sets[rule.Group]; set != nil {
					builders[i].AddSet(set)
				}
			case rule.CIDR.IsValid():
				builders[i].AddPrefix(rule.CIDR.Masked())
				all[i].Everybody = all[i].Everybody || rule.CIDR.Bits() == 0
			}
			all[i].By = append(all[i].By, j.told(rule, g))
		}
	}
	out := all[:0]
	for i := range all {
		all[i].who, _ = builders[i].IPSet() // prefixes of a snapshot are valid
		if len(all[i].who.Ranges()) > 0 {
			out = append(out, all[i])
		}
	}
	return out
}

// Holds tells whether an address is among those that are let in.
func (e Exposed) Holds(a netip.Addr) bool { return e.who.Contains(a) }
