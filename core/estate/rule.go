package estate

import (
	"errors"
	"fmt"
	"net/netip"
	"strconv"
	"strings"

	"meatus/core/sanitize"
)

// everybody are the ranges that a rule for everybody has.
var everybody = netip.PrefixFrom(netip.IPv4Unspecified(), 0)

// ParseRule reads a rule as [Rule.Sentence] has it: "lets in tcp 22 from 198.51.100.7", "lets out anything to
// everybody", "lets in all udp from whoever is in reef". group finds the id of a group by what it is called.
func ParseRule(text string, group func(name string) (id string, err error)) (Rule, error) {
	var r Rule
	said := strings.Join(strings.Fields(text), " ")
	wrong := func(why string) (Rule, error) {
		return Rule{}, fmt.Errorf("%s: %s; write it as: lets in tcp 22 from 198.51.100.7", sanitize.Line(said, 100), why)
	}
	rest, in := strings.CutPrefix(said, "lets in ")
	between := " from "
	if !in {
		var out bool
		if rest, out = strings.CutPrefix(said, "lets out "); !out {
			return wrong("it begins with neither lets in nor lets out")
		}
		between = " to "
	}
	what, who, ok := strings.Cut(rest, between)
	if !ok {
		return wrong("it does not say" + between + "whom")
	}
	r.Inbound, r.To = in, 65535
	switch name, ports, _ := strings.Cut(what, " "); {
	case what == "anything":
		r.Protocol = "any"
	case name == "all":
		r.Protocol = protocol(ports)
	default:
		r.Protocol = protocol(name)
		from, to, several := strings.Cut(ports, "-")
		if !several {
			to = from
		}
		a, err := strconv.ParseUint(from, 10, 16)
		b, bad := strconv.ParseUint(to, 10, 16)
		if err != nil || bad != nil || a > b {
			return wrong(sanitize.Line(ports, 40) + " is no port and no range of ports")
		}
		r.From, r.To = uint16(a), uint16(b)
	}
	if !plainProtocol(r.Protocol) {
		return wrong(sanitize.Line(what, 40) + " is no protocol with its ports")
	}
	switch name, named := strings.CutPrefix(who, "whoever is in "); {
	case named:
		id, err := group(name)
		if err != nil {
			return wrong(err.Error())
		}
		r.Group = id
	case who == "everybody":
		r.CIDR = everybody
	default:
		addresses := strings.TrimSuffix(strings.TrimPrefix(who, "everybody ("), ")")
		cidr, err := ParseFrom(addresses)
		if err != nil {
			return wrong(err.Error())
		}
		r.CIDR = cidr
	}
	return r, nil
}

// plainProtocol tells whether a word can be a protocol: a name, or a number (IANA).
func plainProtocol(s string) bool {
	return s != "" && len(s) <= 20 && !strings.ContainsFunc(s, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-')
	})
}

// Same tells whether two rules do the same. One for a group that names no family is the same as one that does.
func (r Rule) Same(other Rule) bool {
	if r.Family == 0 || other.Family == 0 {
		r.Family, other.Family = 0, 0
	}
	return r.plain() == other.plain()
}

// plain is the rule with what can be written in several ways written in one.
func (r Rule) plain() Rule {
	r.Protocol = r.Proto()
	if r.CIDR.IsValid() {
		r.CIDR = r.CIDR.Masked()
	}
	return r
}

// GroupNamed is the group of a name or an id.
func (s *Snapshot) GroupNamed(want string) (Group, error) {
	g, why := named(s.Groups, "group", want, func(g Group) string { return g.ID }, func(g Group) string { return g.Name })
	if why != "" {
		return g, errors.New(why)
	}
	return g, nil
}
