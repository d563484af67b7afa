package reach

import (
	"cmp"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"go4.org/netipx"

	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// Edit is a change of the rules: one that is added to a group, or dropped from it.
type Edit struct {
	Drop  bool        `json:"drop,omitempty"`
	Group string      `json:"group"` // its id
	Rule  estate.Rule `json:"rule"`
}

// Opposite is the edit that takes this one back.
func (e Edit) Opposite() Edit {
	e.Drop = !e.Drop
	return e
}

// mostEdits is how many edits a change file has at most.
const mostEdits = 1000

// ReadEdits reads a change file: lines as "add to shore: lets in tcp 443 from 198.51.100.7" and "drop from shore:
// lets in tcp 22 from everybody", where what stands behind # is a comment. Groups are named by their names or
// their ids. The error says in which line what is wrong.
func ReadEdits(text string, s *estate.Snapshot) ([]Edit, error) {
	var edits []Edit
	number := 0
	for line := range strings.Lines(text) {
		number++
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		e, err := ReadEdit(line, s)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", number, err)
		}
		if edits = append(edits, e); len(edits) > mostEdits {
			return nil, fmt.Errorf("line %d: there are more than %d changes", number, mostEdits)
		}
	}
	return edits, nil
}

// ReadEdit reads one line of a change file.
func ReadEdit(line string, s *estate.Snapshot) (e Edit, err error) {
	rest, add := strings.CutPrefix(line, "add to ")
	if !add {
		if rest, e.Drop = strings.CutPrefix(line, "drop from "); !e.Drop {
			return e, fmt.Errorf("%s begins with neither add to nor drop from", sanitize.Line(line, 60))
		}
	}
	at := strings.Index(rest, ": lets ")
	if at < 0 {
		return e, fmt.Errorf("%s says no rule: write it as: add to shore: lets in tcp 443 from 198.51.100.7", sanitize.Line(line, 60))
	}
	g, err := s.GroupNamed(strings.TrimSpace(rest[:at]))
	if err != nil {
		return e, err
	}
	e.Group = g.ID
	e.Rule, err = estate.ParseRule(rest[at+2:], func(name string) (string, error) {
		g, err := s.GroupNamed(name)
		return g.ID, err
	})
	return e, err
}

// Line is the edit as a line of a change file.
func (j *Judge) Line(e Edit) string {
	do := "add to "
	if e.Drop {
		do = "drop from "
	}
	return do + j.groupName(e.Group) + ": " + e.Rule.Sentence(j.groupName(e.Rule.Group))
}

// With is a judge of the same estate with its rules changed. It costs a look at the groups that change. It fails
// where a rule that is to be dropped is not there, or one that is to be added is.
func (j *Judge) With(edits []Edit) (*Judge, error) {
	again := *j
	again.groups = maps.Clone(j.groups)
	for _, e := range edits {
		old := again.groups[e.Group]
		if old == nil {
			return nil, fmt.Errorf("there is no group %s", sanitize.Line(e.Group, 60))
		}
		g := *old.Group
		at := slices.IndexFunc(g.Rules, e.Rule.Same)
		switch {
		case e.Drop && at < 0:
			return nil, fmt.Errorf("group %s has no rule that %s", j.groupName(e.Group), e.Rule.Sentence(j.groupName(e.Rule.Group)))
		case e.Drop:
			g.Rules = slices.Delete(slices.Clone(g.Rules), at, at+1)
		case at >= 0:
			return nil, fmt.Errorf("group %s has a rule that %s already", j.groupName(e.Group), e.Rule.Sentence(j.groupName(e.Rule.Group)))
		default:
			g.Rules = append(slices.Clip(g.Rules), e.Rule)
		}
		again.groups[e.Group] = newSet(&g)
	}
	return &again, nil
}

// Missing is the least that has to be added for something to get through, one rule after the other; nil where it
// does, ok is false where rules alone do not do it.
func (j *Judge) Missing(from From, to *estate.Instance, at netip.Addr, port Port) (edits []Edit, ok bool) {
	for range 3 {
		scratch, err := j.With(edits)
		if err != nil {
			return nil, false
		}
		a := scratch.AskAt(from, to, at, port)
		if a.Open {
			return edits, true
		}
		if a.Change == nil || a.Change.Group == "" {
			return nil, false
		}
		edits = append(edits, Edit{Group: a.Change.Group, Rule: a.Change.Rule})
	}
	return nil, false
}

// Probe is something that one wants to get through: a hop of a session, or a service behind one.
type Probe struct {
	Session string
	What    string // "quay at tcp 22", in words
	Tunnel  bool   // it is a service that a tunnel brings
	From    From
	To      *estate.Instance
	At      netip.Addr
	Port    Port
}

// Turned is a probe that opens, or shuts.
type Turned struct {
	Probe
	Open  bool   // it is open now, and was shut
	Proof Answer // as it is now
}

// Shift is a range of ports of instances that others are let in at now, or no longer.
type Shift struct {
	Instances []*estate.Instance
	Outside   bool // one of them has an address that is reached from outside
	Ports     string
	Gained    []string // ranges of addresses
	Lost      []string
	Everybody int // 1 where everybody is let in now and was not, -1 the other way round
}

// Path is a way that is there now, or no longer.
type Path struct {
	To   *estate.Instance
	Open bool // there is one now, and was none
	Way  Way
}

// Effects are what edits do.
type Effects struct {
	Turned []Turned
	Shifts []Shift
	Paths  []Path
}

// mostPaths is how many instances are looked at for whether there is still a way to them.
const mostPaths = 20

// Compare tells what edits do, that after is with. finding finds ways, to whichever instance.
func (j *Judge) Compare(after *Judge, edits []Edit, probes []Probe, finding Finding) Effects {
	var e Effects
	touched := map[string]bool{}
	for _, edit := range edits {
		touched[edit.Group] = true
	}
	in := func(i *estate.Instance) bool {
		return i != nil && slices.ContainsFunc(i.Groups, func(id string) bool { return touched[id] })
	}
	for _, p := range probes {
		if !in(p.To) && !in(p.From.Instance) { // nothing about it changes
			continue
		}
		was, is := j.AskAt(p.From, p.To, p.At, p.Port), after.AskAt(p.From, p.To, p.At, p.Port)
		if was.Open != is.Open {
			e.Turned = append(e.Turned, Turned{p, is.Open, is})
		}
	}
	same := map[string][]*estate.Instance{} // by their groups
	var keys []string
	for i := range j.s.Instances {
		n := &j.s.Instances[i]
		if n.State == estate.Ended || !in(n) {
			continue
		}
		key := strings.Join(n.Groups, "\x00")
		if same[key] == nil {
			keys = append(keys, key)
		}
		same[key] = append(same[key], n)
	}
	looked := 0
	var front, later []Hop
	if len(keys) > 0 && finding.Means != nil {
		front, later = j.front(finding), after.front(finding)
	}
	for _, key := range keys {
		all := same[key]
		outside := slices.ContainsFunc(all, func(i *estate.Instance) bool {
			return slices.ContainsFunc(i.Addresses, func(a estate.Address) bool { return a.Outside })
		})
		for _, s := range shifts(j.openings(all[0].Groups), after.openings(all[0].Groups)) {
			s.Instances, s.Outside = all, outside
			e.Shifts = append(e.Shifts, s)
		}
		for _, i := range all {
			if looked++; looked > mostPaths || finding.Means == nil || i.State != estate.Running {
				continue
			}
			f := finding
			f.To, f.Port = i, Port{"tcp", sshPort}
			was, _ := j.ways(f, front, true)
			is, _ := after.ways(f, later, true)
			switch {
			case len(was) == 0 && len(is) > 0:
				e.Paths = append(e.Paths, Path{i, true, is[0]})
			case len(was) > 0 && len(is) == 0:
				e.Paths = append(e.Paths, Path{i, false, was[0]})
			}
		}
	}
	slices.SortStableFunc(e.Shifts, func(a, b Shift) int { return cmp.Compare(a.grave(), b.grave()) })
	return e
}

// grave puts what is open to everybody now first.
func (s Shift) grave() int {
	switch {
	case s.Everybody > 0 && s.Outside:
		return 0
	case s.Everybody > 0:
		return 1
	case len(s.Gained) > 0:
		return 2
	}
	return 3
}

// Who are the instances in words.
func (s Shift) Who() string {
	if len(s.Instances) > 3 {
		return fmt.Sprintf("%s and %s more", named(s.Instances[0]), words.Count(len(s.Instances)-1, "instance"))
	}
	var names []string
	for _, i := range s.Instances {
		names = append(names, named(i))
	}
	return strings.Join(names, ", ")
}

// String is the shift in words.
func (s Shift) String() string {
	say := s.Who() + " at " + s.Ports + ": "
	switch {
	case s.Everybody > 0 && s.Outside:
		return say + "everybody gets there now, from outside"
	case s.Everybody > 0:
		return say + "everybody who can come to its network gets there now"
	case s.Everybody < 0:
		say += "everybody no longer"
		if len(s.Gained) == 0 {
			return say
		}
		say += ", "
	case len(s.Lost) > 0:
		say += "no longer from " + some(s.Lost)
		if len(s.Gained) == 0 {
			return say
		}
		say += ", "
	}
	return say + "now from " + some(s.Gained)
}

// some are the first few of a list, and how many more there are.
func some(list []string) string {
	if len(list) > 4 {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:4], ", "), len(list)-4)
	}
	return strings.Join(list, ", ")
}

// shifts are the ranges of ports at which others are let in. Each range that a rule names is cut where another
// begins or ends, so that each piece is compared as it is; pieces beside each other that shift alike are one.
func shifts(before, after []*Opening) []Shift {
	protocols := map[string]bool{}
	for _, o := range slices.Concat(before, after) {
		protocols[o.Protocol] = true
	}
	var all []Shift
	for _, protocol := range slices.Sorted(maps.Keys(protocols)) {
		cuts := map[int]bool{0: true, 65536: true}
		for _, o := range slices.Concat(before, after) {
			if o.Protocol == protocol || o.Protocol == "any" {
				cuts[int(o.From)], cuts[int(o.To)+1] = true, true
			}
		}
		at := slices.Sorted(maps.Keys(cuts))
		var last Shift
		from, to := 0, -1
		end := func() {
			if to >= from && (len(last.Gained) > 0 || len(last.Lost) > 0) {
				last.Ports = (&Opening{Protocol: protocol, From: uint16(from), To: uint16(to)}).Ports()
				all = append(all, last)
			}
		}
		for n := range at[:len(at)-1] {
			was, is := who(before, protocol, at[n]), who(after, protocol, at[n])
			s := Shift{Gained: without(is, was), Lost: without(was, is)}
			if protocol != "any" { // what is so for every protocol is told once
				all, now := who(before, "any", at[n]), who(after, "any", at[n])
				if slices.Equal(s.Gained, without(now, all)) && slices.Equal(s.Lost, without(all, now)) {
					s = Shift{}
				}
			}
			switch {
			case len(s.Gained)+len(s.Lost) == 0:
			case everyAddress(is) && !everyAddress(was):
				s.Everybody = 1
			case everyAddress(was) && !everyAddress(is):
				s.Everybody = -1
			}
			if n > 0 && s.Everybody == last.Everybody && slices.Equal(s.Gained, last.Gained) && slices.Equal(s.Lost, last.Lost) {
				to = at[n+1] - 1
				continue
			}
			end()
			last, from, to = s, at[n], at[n+1]-1
		}
		end()
	}
	return all
}

// who are the addresses that are let in at a port.
func who(openings []*Opening, protocol string, port int) *netipx.IPSet {
	var b netipx.IPSetBuilder
	for _, o := range openings {
		if (o.Protocol == protocol || o.Protocol == "any") && int(o.From) <= port && port <= int(o.To) {
			b.AddSet(o.who)
		}
	}
	set, _ := b.IPSet() // sets are valid
	return set
}

// without are the ranges of one set that are not in another.
func without(set, other *netipx.IPSet) []string {
	var b netipx.IPSetBuilder
	b.AddSet(set)
	b.RemoveSet(other)
	rest, _ := b.IPSet() // sets are valid
	var all []string
	for _, p := range rest.Prefixes() {
		if all = append(all, p.String()); len(all) == mostRanges {
			break
		}
	}
	return all
}

// mostRanges is how many ranges of addresses are told of one shift.
const mostRanges = 50

// everyAddress tells whether a set is all of a family of addresses.
func everyAddress(set *netipx.IPSet) bool {
	return set.ContainsPrefix(netip.PrefixFrom(netip.IPv4Unspecified(), 0)) || set.ContainsPrefix(netip.PrefixFrom(netip.IPv6Unspecified(), 0))
}

// turning are the sessions that open or shut at one thing.
type turning struct {
	Turned
	sessions []string
}

// turned are the probes that open or shut, those at one thing together.
func (e Effects) turned() []turning {
	type at struct {
		what         string
		tunnel, open bool
	}
	where := map[at]int{}
	var all []turning
	for _, t := range e.Turned {
		key := at{t.What, t.Tunnel, t.Open}
		i, ok := where[key]
		if !ok {
			i = len(all)
			where[key] = i
			all = append(all, turning{Turned: t})
		}
		if !slices.Contains(all[i].sessions, t.Session) {
			all[i].sessions = append(all[i].sessions, t.Session)
		}
	}
	return all
}

// Say are the effects in words, a line each, the gravest first.
func (e Effects) Say() []string {
	var all []string
	for _, s := range e.Shifts {
		if s.Everybody > 0 {
			all = append(all, s.String())
		}
	}
	for _, t := range e.turned() {
		say := ""
		switch n := len(t.sessions); {
		case t.Tunnel && n == 1:
			say = "a port forward of session " + t.sessions[0]
		case t.Tunnel:
			say = fmt.Sprintf("doors of %s", words.Count(n, "session"))
		case n == 1:
			say = "session " + t.sessions[0]
		default:
			say = words.Count(n, "session")
		}
		does := map[bool]string{true: "open", false: "shut"}[t.Open]
		if len(t.sessions) == 1 {
			does += "s"
		}
		say += " " + does + ", at " + t.What
		if len(t.sessions) > 1 {
			say += ": " + some(t.sessions)
		}
		all = append(all, say)
	}
	for _, p := range e.Paths {
		say := "there is no way to " + named(p.To) + " any more"
		if p.Open {
			say = "there is a way to " + named(p.To) + " now: " + p.Way.String()
		}
		all = append(all, say)
	}
	for _, s := range e.Shifts {
		if s.Everybody <= 0 {
			all = append(all, s.String())
		}
	}
	return all
}

// String is the way by its machines.
func (w Way) String() string {
	say := "here"
	for _, h := range w.Hops {
		say += " ── " + h.Name
	}
	return say
}
