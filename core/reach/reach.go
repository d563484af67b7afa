// Package reach judges who can get where in an estate: from an address outside or from an instance to an
// instance's port, by what its estate knows of networks, routers, peerings and groups of rules.
//
// It promises that an answer is a proof: the state, the way, the rules that let something out and in, each
// as a line that a person can follow; or at what it is shut, with the smallest change that would open it.
// Groups of rules are stateful: what answers needs no rule. What a judge of this kind can not see, such as a
// machine's own filters or whether something listens, it says nothing of. It reads a snapshot and asks nobody.
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

// Stage is what stands on the way to a port, in the order it is passed.
type Stage int

// The stages.
const (
	State Stage = iota // the instance runs
	Route              // there is a way to its network
	Out                // the rules of whoever asks let it out
	In                 // the instance's rules let it in
)

func (s Stage) String() string {
	return [...]string{"state", "route", "outbound rules", "inbound rules"}[s]
}

// Line is a line of a proof.
type Line struct {
	Stage Stage  `json:"-"`
	At    string `json:"at"` // the stage, in words
	Open  bool   `json:"open"`
	Say   string `json:"say"`
}

// Change is the smallest change that would open what is shut.
type Change struct {
	Group string      `json:"group,omitempty"` // the id of the group that the rule would be added to, "" for no rule
	Rule  estate.Rule `json:"rule,omitzero"`
	Say   string      `json:"say"` // in words to hand on
}

// Port is what is asked for at an instance.
type Port struct {
	Protocol string `json:"protocol"` // "tcp", "udp", ...
	Number   uint16 `json:"port"`
}

func (p Port) String() string { return fmt.Sprintf("%s %d", p.Protocol, p.Number) }

// From is where something comes from: an instance, or an address outside.
type From struct {
	Instance *estate.Instance // nil for an address outside
	Address  netip.Addr       // of that
}

// Answer is whether something gets through, and why.
type Answer struct {
	Open      bool       `json:"open"`
	Address   netip.Addr `json:"address,omitzero"` // of the instance, that is gone to
	Seen      netip.Addr `json:"seen,omitzero"`    // as which whoever comes is seen there, not valid where that is not known
	Everybody bool       `json:"everybody"`        // it is open to every address
	Proof     []Line     `json:"proof"`
	Change    *Change    `json:"change,omitempty"` // nil where it is open
	Others    []string   `json:"-"`                // rules that let others in at the port, as sentences, where it is shut at the inbound rules
	By        string     `json:"-"`                // who is let in by which group, short, where it is open: "everybody, by shore"
	stage     Stage      // at which it is shut
}

// Shut is the stage at which something does not get through.
func (a Answer) Shut() Stage { return a.stage }

// Instance is the one of an id, nil where there is none.
func (j *Judge) Instance(id string) *estate.Instance { return j.ids[id] }

// Judge judges by a snapshot, which is not to change. It is safe to use from many goroutines.
type Judge struct {
	s        *estate.Snapshot
	ids      map[string]*estate.Instance
	groups   map[string]*set
	members  map[string][]*estate.Instance // by group
	within   map[string]map[netip.Addr]bool
	networks map[string]*estate.Network
	joined   map[[2]string]string // two networks, the lesser id first: by what
	out      bool                 // some rule is about what is let out
	gateways map[string]string    // networks that a router joins with outside: its name
}

// NewJudge indexes a snapshot: one pass over it.
func NewJudge(s *estate.Snapshot) *Judge {
	j := &Judge{s: s, ids: make(map[string]*estate.Instance, len(s.Instances)), groups: make(map[string]*set, len(s.Groups)), members: map[string][]*estate.Instance{}, within: map[string]map[netip.Addr]bool{}, networks: map[string]*estate.Network{}, joined: map[[2]string]string{}, gateways: map[string]string{}}
	for i := range s.Groups {
		g := newSet(&s.Groups[i])
		j.groups[g.ID], j.out = g, j.out || len(g.out) > 0
	}
	for i := range s.Networks {
		j.networks[s.Networks[i].ID] = &s.Networks[i]
	}
	for i := range s.Instances {
		n := &s.Instances[i]
		j.ids[n.ID] = n
		if n.State == estate.Ended {
			continue
		}
		for _, id := range n.Groups {
			j.members[id] = append(j.members[id], n)
			if j.within[id] == nil {
				j.within[id] = map[netip.Addr]bool{}
			}
			for _, a := range n.Addresses {
				if !a.Outside { // a rule for a group is about the addresses that its members have themselves
					j.within[id][a.IP] = true
				}
			}
		}
	}
	join := func(ids []string, by string) {
		for _, a := range ids {
			for _, b := range ids {
				if a < b {
					j.joined[[2]string{a, b}] = by
				}
			}
		}
	}
	for _, r := range s.Routers {
		name := "router " + cmp.Or(r.Name, r.ID)
		join(r.Networks, name)
		if r.Outside {
			for _, id := range r.Networks {
				j.gateways[id] = name
			}
		}
	}
	for _, p := range s.Peerings {
		join(p.Networks, "peering "+p.ID)
	}
	return j
}

// set is a group of rules, ready to be asked.
type set struct {
	*estate.Group
	in, out []rule
}

// rule is a rule with its protocol by one name, and its range masked.
type rule struct {
	*estate.Rule
	protocol string
	prefix   netip.Prefix
}

func newSet(g *estate.Group) *set {
	s := &set{Group: g}
	for i := range g.Rules {
		r := rule{Rule: &g.Rules[i], protocol: g.Rules[i].Proto()}
		if r.CIDR.IsValid() {
			r.prefix = r.CIDR.Masked()
		}
		if r.Inbound {
			s.in = append(s.in, r)
		} else {
			s.out = append(s.out, r)
		}
	}
	return s
}

// about is [estate.Rule.About] for a protocol by its one name.
func (r *rule) about(p Port) bool {
	if r.protocol != "any" && r.protocol != p.Protocol {
		return false
	}
	return p.Protocol == "icmp" || p.Protocol == "icmpv6" || r.From <= p.Number && p.Number <= r.To
}

// families tells whether a rule for a group is about the family of an address.
func (r *rule) families(a netip.Addr) bool { return r.Family == 0 || (r.Family == 4) == a.Is4() }

// plain is the port with its protocol by the one name that rules have it by.
func (p Port) plain() Port {
	p.Protocol = estate.Rule{Protocol: p.Protocol}.Proto()
	return p
}

// Ask judges whether something gets from an end to a port of an instance, at whichever of its addresses. Nobody
// in particular is asked for where an end is neither an instance nor a valid address: rules for everybody alone
// let it in.
func (j *Judge) Ask(from From, to *estate.Instance, port Port) Answer {
	return j.AskAt(from, to, netip.Addr{}, port)
}

// AskAt is [Judge.Ask] for one address of the instance, any where it is not valid.
func (j *Judge) AskAt(from From, to *estate.Instance, at netip.Addr, port Port) Answer {
	port = port.plain()
	if from.Instance == nil && !from.Address.IsValid() {
		from.Address = anywhere[!at.Is6()]
	}
	if to.State != estate.Running {
		return j.shut(State, nil, fmt.Sprintf("%s is %s", named(to), to.State), Change{Say: "start " + named(to)})
	}
	running := []Line{line(State, true, named(to)+" runs")}
	if from.Instance != nil && from.Instance.State != estate.Running {
		return j.shut(State, running, fmt.Sprintf("%s is %s", named(from.Instance), from.Instance.State), Change{Say: "start " + named(from.Instance)})
	}
	var best *Answer
	for _, pair := range j.pairs(from, to) {
		if at.IsValid() && pair.to.IP != at {
			continue
		}
		a := j.through(from, to, port, pair, running)
		if a.Open {
			return a
		}
		if best == nil || a.stage > best.stage {
			best = &a
		}
	}
	if best == nil {
		return j.shut(Route, running, "no address of "+named(to)+" can be come to from there", j.joining(from, to))
	}
	return *best
}

// pair is a way from an address to one of the instance's.
type pair struct {
	seen netip.Addr // not valid where it is not known
	to   estate.Address
	say  string
	far  bool // it goes on into another network
}

// pairs are the ways by address that there are, those inside first.
func (j *Judge) pairs(from From, to *estate.Instance) []pair {
	var all []pair
	if from.Instance == nil {
		for _, b := range to.Addresses {
			if b.Outside && b.IP.Is4() == from.Address.Is4() {
				all = append(all, pair{from.Address, b, fmt.Sprintf("%s is reached from outside", b.IP), true})
			}
		}
		return all
	}
	for _, b := range to.Addresses {
		if b.Outside {
			continue
		}
		for _, a := range from.Instance.Addresses {
			if a.Outside || a.IP.Is4() != b.IP.Is4() {
				continue
			}
			if say, ok := j.joins(a.Network, b.Network); ok {
				all = append(all, pair{a.IP, b, say, a.Network != b.Network})
			}
		}
	}
	slices.SortStableFunc(all, func(a, b pair) int { // the shortest way first
		return cmp.Compare(map[bool]int{true: 1}[a.far], map[bool]int{true: 1}[b.far])
	})
	for _, b := range to.Addresses {
		if !b.Outside {
			continue
		}
		own, gateway := netip.Addr{}, ""
		for _, a := range from.Instance.Addresses {
			switch {
			case a.IP.Is4() != b.IP.Is4():
			case a.Outside:
				own = a.IP
				gateway = cmp.Or(gateway, "its address outside")
			case gateway == "":
				gateway = j.gateways[a.Network]
			}
		}
		if gateway != "" {
			say := fmt.Sprintf("%s goes outside by %s, and %s is reached from there", named(from.Instance), gateway, b.IP)
			all = append(all, pair{own, b, say, true})
		}
	}
	return all
}

// joins tells by what two networks are one, or joined.
func (j *Judge) joins(a, b string) (say string, ok bool) {
	switch {
	case a == b && a != "":
		return "both are in network " + j.networkName(a), true
	case a == "" || b == "":
		return "", false
	}
	by, ok := j.joined[[2]string{min(a, b), max(a, b)}]
	return fmt.Sprintf("%s joins network %s with %s", by, j.networkName(a), j.networkName(b)), ok
}

// joining is what would make a way where there is none.
func (j *Judge) joining(from From, to *estate.Instance) Change {
	if from.Instance == nil {
		return Change{Say: "give " + named(to) + " an address outside, or go by a machine that has one"}
	}
	name := func(i *estate.Instance) string {
		for _, a := range i.Addresses {
			if a.Network != "" && !a.Outside {
				return j.networkName(a.Network)
			}
		}
		return "that of " + named(i)
	}
	return Change{Say: fmt.Sprintf("join network %s with %s, by a router or a peering", name(from.Instance), name(to))}
}

// through judges one way by address.
func (j *Judge) through(from From, to *estate.Instance, port Port, p pair, before []Line) Answer {
	proof := append(slices.Clone(before), line(Route, true, p.say))
	switch {
	case from.Instance == nil:
	case !j.out:
		proof = append(proof, line(Out, true, "nothing is told of outbound rules: anything is let out"))
	default:
		rule, group := j.find(from.Instance, false, port, p.to.IP, p.to.IP, p.to.Outside)
		if rule == nil {
			change := j.adding(from.Instance, estate.Rule{Protocol: port.Protocol, From: port.Number, To: port.Number, CIDR: single(p.to.IP)})
			a := j.shut(Out, proof, fmt.Sprintf("no rule of %s lets %s out to %s", named(from.Instance), port, p.to.IP), change)
			a.Address, a.Seen = p.to.IP, p.seen
			return a
		}
		proof = append(proof, line(Out, true, j.told(rule, group)))
	}
	rule, group := j.find(to, true, port, p.seen, p.to.IP, p.to.Outside)
	if rule == nil {
		change := Change{Say: "let " + port.String() + " in from the address that it is seen as there, which is not known here"}
		who := "an address that is not known here"
		if p.seen.IsValid() {
			who = p.seen.String()
			change = j.adding(to, estate.Rule{Inbound: true, Protocol: port.Protocol, From: port.Number, To: port.Number, CIDR: single(p.seen)})
		}
		a := j.shut(In, proof, fmt.Sprintf("no rule of %s lets %s in from %s", named(to), port, who), change)
		a.Address, a.Seen, a.Others = p.to.IP, p.seen, j.others(to, port)
		return a
	}
	proof = append(proof, line(In, true, j.told(rule, group)))
	return Answer{Open: true, Address: p.to.IP, Seen: p.seen, Proof: proof, By: j.who(rule) + ", by " + cmp.Or(group.Name, group.ID), Everybody: rule.Group == "" && rule.CIDR.Bits() == 0}
}

// find is the rule of an instance's groups that lets something in from an address, or out to it: the
// narrowest, nil for none. Only rules for everybody, of the family of the address that is reached, let in an address that
// is not valid. An address outside is in no group.
func (j *Judge) find(i *estate.Instance, inbound bool, port Port, other, reached netip.Addr, outside bool) (*estate.Rule, *estate.Group) {
	var best *rule
	var of *estate.Group
	for _, id := range i.Groups {
		g := j.groups[id]
		if g == nil {
			continue
		}
		rules := g.out
		if inbound {
			rules = g.in
		}
		for n := range rules {
			if r := &rules[n]; r.about(port) && j.fits(r, other, reached, outside) && (best == nil || width(r.Rule) < width(best.Rule)) {
				best, of = r, g.Group
			}
		}
	}
	if best == nil {
		return nil, nil
	}
	return best.Rule, of
}

// others are the rules of an instance that let somebody in at a port, as sentences.
func (j *Judge) others(i *estate.Instance, port Port) []string {
	var all []string
	for _, id := range i.Groups {
		if g := j.groups[id]; g != nil {
			for n := range g.in {
				if r := &g.in[n]; r.about(port) && len(all) < mostOthers {
					all = append(all, j.told(r.Rule, g.Group))
				}
			}
		}
	}
	return all
}

// mostOthers is how many rules that let others in are told.
const mostOthers = 8

// fits reports whether a rule applies to an address, or to an invalid one and the address that it reaches.
func (j *Judge) fits(r *rule, a, reached netip.Addr, outside bool) bool {
	switch {
	case r.Group != "":
		return a.IsValid() && !outside && r.families(a) && j.within[r.Group][a]
	case !r.prefix.IsValid():
		return false
	case !a.IsValid():
		return r.prefix.Bits() == 0 && (!reached.IsValid() || r.prefix.Addr().Is4() == reached.Unmap().Is4())
	}
	return r.prefix.Contains(a)
}

// width is how many addresses a rule is about, in bits: a group is narrow, and everybody is widest.
func width(r *estate.Rule) int {
	if r.Group != "" {
		return 1
	}
	return r.CIDR.Addr().BitLen() - r.CIDR.Bits()
}

// adding is the change that adds a rule to a group of an instance: the one with the fewest members.
func (j *Judge) adding(i *estate.Instance, r estate.Rule) Change {
	way := map[bool]string{true: "in from ", false: "out to "}[r.Inbound] + r.CIDR.Addr().String()
	port := Port{r.Protocol, r.From}
	id := ""
	for _, g := range i.Groups {
		if j.groups[g] != nil && (id == "" || len(j.members[g]) < len(j.members[id])) {
			id = g
		}
	}
	if id == "" {
		return Change{Rule: r, Say: fmt.Sprintf("put %s into a group that lets %s %s", named(i), port, way)}
	}
	say := fmt.Sprintf("let %s %s, in group %s", port, way, j.groupName(id))
	switch n := len(j.members[id]); n {
	case 1:
		say += ", which " + named(i) + " alone is in"
	default:
		say += fmt.Sprintf(", which %s are in: it opens them all", words.Count(n, "instance"))
	}
	return Change{Group: id, Rule: r, Say: say}
}

func (j *Judge) networkName(id string) string {
	if n := j.networks[id]; n != nil {
		return cmp.Or(n.Name, id)
	}
	return id
}

// GroupName is what a group is called, its id where it has no name.
func (j *Judge) GroupName(id string) string { return j.groupName(id) }

func (j *Judge) groupName(id string) string {
	if g := j.groups[id]; g != nil {
		return cmp.Or(g.Name, g.ID)
	}
	return id
}

// told is a rule in words, with its group.
func (j *Judge) told(r *estate.Rule, g *estate.Group) string {
	return cmp.Or(g.Name, g.ID) + ": " + r.Sentence(j.groupName(r.Group))
}

// who is who a rule lets in, short.
func (j *Judge) who(r *estate.Rule) string {
	switch {
	case r.Group != "":
		return "all in " + j.groupName(r.Group)
	case r.CIDR.Bits() == 0:
		return "everybody"
	case r.CIDR.IsSingleIP():
		return r.CIDR.Addr().String()
	}
	return r.CIDR.Masked().String()
}

func (j *Judge) shut(at Stage, before []Line, say string, change Change) Answer {
	return Answer{Proof: append(slices.Clone(before), line(at, false, say)), Change: &change, stage: at}
}

func line(at Stage, open bool, say string) Line { return Line{at, at.String(), open, say} }

func named(i *estate.Instance) string { return cmp.Or(i.Name, i.ID) }

func single(a netip.Addr) netip.Prefix { return netip.PrefixFrom(a, a.BitLen()) }

// String is the proof as text, a line each.
func (a Answer) String() string {
	var b strings.Builder
	for _, l := range a.Proof {
		fmt.Fprintf(&b, "%s %s\n", map[bool]string{true: "●", false: "╳"}[l.Open], l.Say)
	}
	if a.Change != nil {
		fmt.Fprintf(&b, "→ %s\n", a.Change.Say)
	}
	return b.String()
}
