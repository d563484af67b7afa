package reach

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"strings"
	"testing"

	"meatus/core/estate"
)

// bay is a small estate: quay has an address outside and one in each of shore and reef, which a router joins;
// the database lets its port in from quay and from yesterday's bastion; hermit is where no way leads.
func bay() *estate.Snapshot {
	ip, cidr := netip.MustParseAddr, netip.MustParsePrefix
	everybody := cidr("0.0.0.0/0")
	out := estate.Rule{Protocol: "any", To: 65535, CIDR: everybody}
	tcp := func(port uint16, from string) estate.Rule {
		return estate.Rule{Inbound: true, Protocol: "tcp", From: port, To: port, CIDR: cidr(from)}
	}
	return &estate.Snapshot{
		Networks: []estate.Network{{ID: "n-s", Name: "shore"}, {ID: "n-r", Name: "reef"}, {ID: "n-d", Name: "deep"}, {ID: "n-p", Name: "point"}},
		Routers:  []estate.Router{{ID: "r", Name: "harbour", Networks: []string{"n-s", "n-r"}, Outside: true}},
		Peerings: []estate.Peering{{ID: "p-1", Networks: []string{"n-p", "n-r"}}},
		Groups: []estate.Group{
			{ID: "g-s", Name: "shore", Rules: []estate.Rule{tcp(22, "0.0.0.0/0"), out}},
			{ID: "g-r", Name: "reef", Rules: []estate.Rule{tcp(22, "10.61.4.1/32"), {Inbound: true, Protocol: "tcp", To: 65535, Group: "g-r"}, out}},
			{ID: "g-t", Name: "tide", Rules: []estate.Rule{tcp(5432, "10.61.4.9/32"), tcp(5432, "10.61.4.1/32")}},
			{ID: "g-d", Name: "deep"},
		},
		Instances: []estate.Instance{
			{ID: "i-q", Name: "quay", State: estate.Running, Groups: []string{"g-s"}, Addresses: []estate.Address{{IP: ip("10.61.0.10"), Network: "n-s"}, {IP: ip("10.61.4.1"), Network: "n-r"}, {IP: ip("203.0.113.10"), Outside: true}}},
			{ID: "i-1", Name: "gauge-1", State: estate.Running, Groups: []string{"g-r"}, Addresses: []estate.Address{{IP: ip("10.61.4.31"), Network: "n-r"}}},
			{ID: "i-t", Name: "tide-db", State: estate.Running, Groups: []string{"g-r", "g-t"}, Addresses: []estate.Address{{IP: ip("10.61.4.20"), Network: "n-r"}}},
			{ID: "i-2", Name: "gauge-2", State: estate.Stopped, Groups: []string{"g-r"}, Addresses: []estate.Address{{IP: ip("10.61.4.32"), Network: "n-r"}}},
			{ID: "i-h", Name: "hermit", State: estate.Running, Groups: []string{"g-d"}, Addresses: []estate.Address{{IP: ip("10.62.0.12"), Network: "n-d"}}},
			{ID: "i-p", Name: "spit", State: estate.Running, Groups: []string{"g-s"}, Addresses: []estate.Address{{IP: ip("10.63.0.2"), Network: "n-p"}}},
		},
	}
}

// An address that is not known is of the family of the one that it reaches.
func TestAnUnknownSourceHasAFamily(t *testing.T) {
	for rule, want := range map[string]map[string]bool{"0.0.0.0/0": {"203.0.113.80": true, "2001:db8::80": false}, "::/0": {"203.0.113.80": false, "2001:db8::80": true}} {
		for address, open := range want {
			s := bay()
			s.Groups = append(s.Groups, estate.Group{ID: "g-w", Name: "web", Rules: []estate.Rule{{Inbound: true, Protocol: "tcp", From: 443, To: 443, CIDR: netip.MustParsePrefix(rule)}}})
			s.Instances = append(s.Instances, estate.Instance{ID: "i-w", Name: "web", State: estate.Running, Groups: []string{"g-w"}, Addresses: []estate.Address{{IP: netip.MustParseAddr(address), Outside: true}}})
			for n := range s.Instances {
				if i := &s.Instances[n]; i.ID == "i-1" { // it has both families, and no address outside of its own
					i.Addresses = append(i.Addresses, estate.Address{IP: netip.MustParseAddr("fd00::31"), Network: "n-r"})
					i.Groups = append(i.Groups, "g-o")
				}
			}
			s.Groups = append(s.Groups, estate.Group{ID: "g-o", Rules: []estate.Rule{{Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix("::/0")}}})
			if a := NewJudge(s).Ask(From{Instance: s.Instance("i-1")}, s.Instance("i-w"), Port{"tcp", 443}); a.Open != open {
				t.Errorf("%s, reached at %s: open %v\n%s", rule, address, a.Open, a)
			}
		}
	}
}

func TestAnAnswerIsAProof(t *testing.T) {
	s := bay()
	j := NewJudge(s)
	anyone := From{Address: netip.MustParseAddr("198.51.100.7")}
	at := func(id string) From { return From{Instance: s.Instance(id)} }
	for _, c := range []struct {
		from From
		to   string
		port uint16
		open bool
		want string
	}{
		{anyone, "i-q", 22, true, "● quay runs\n● 203.0.113.10 is reached from outside\n● shore: lets in tcp 22 from everybody (0.0.0.0/0)\n"},
		{anyone, "i-q", 80, false, "╳ no rule of quay lets tcp 80 in from 198.51.100.7\n→ let tcp 80 in from 198.51.100.7, in group shore, which 2 instances are in: it opens them all\n"},
		{anyone, "i-1", 22, false, "╳ no address of gauge-1 can be come to from there\n→ give gauge-1 an address outside, or go by a machine that has one\n"},
		{at("i-q"), "i-1", 22, true, "● both are in network reef\n● shore: lets out anything to everybody (0.0.0.0/0)\n● reef: lets in tcp 22 from 10.61.4.1/32\n"},
		{at("i-q"), "i-t", 5432, true, "● tide: lets in tcp 5432 from 10.61.4.1/32\n"},
		{at("i-1"), "i-t", 5432, true, "● reef: lets in all tcp from whoever is in reef\n"},
		{at("i-q"), "i-2", 22, false, "╳ gauge-2 is stopped\n→ start gauge-2\n"},
		{at("i-p"), "i-1", 22, false, "● peering p-1 joins network point with reef\n● shore: lets out anything to everybody (0.0.0.0/0)\n╳ no rule of gauge-1 lets tcp 22 in from 10.63.0.2\n"},
		{at("i-p"), "i-t", 5432, false, "→ let tcp 5432 in from 10.63.0.2, in group tide, which tide-db alone is in\n"},
		{at("i-q"), "i-h", 22, false, "→ join network shore with deep, by a router or a peering\n"},
		{at("i-h"), "i-q", 22, false, "no address of quay can be come to"},
		{at("i-1"), "i-q", 22, true, "● both are in network reef\n"},
	} {
		a := j.Ask(c.from, s.Instance(c.to), Port{"tcp", c.port})
		if a.Open != c.open || !strings.Contains(a.String(), c.want) {
			t.Errorf("%s:%d: open %v\n%s\nwant %s", c.to, c.port, a.Open, a, c.want)
		}
		if a.Open == (a.Change != nil) {
			t.Errorf("%s:%d: the change is %+v", c.to, c.port, a.Change)
		}
	}
	if a := j.Ask(anyone, s.Instance("i-q"), Port{"tcp", 22}); !a.Everybody {
		t.Error("what everybody may is not told as that")
	}
}

// What the change of a shut answer says opens it, where it is a rule.
func TestTheSmallestChangeOpensIt(t *testing.T) {
	opened := 0
	for seed := range uint64(2000) {
		r := rand.New(rand.NewPCG(seed, 7))
		s := random(r)
		from, to, port := question(r, s)
		a := NewJudge(s).Ask(from, to, port)
		if a.Open || a.Change.Group == "" {
			continue
		}
		for i := range s.Groups {
			if s.Groups[i].ID == a.Change.Group {
				s.Groups[i].Rules = append(s.Groups[i].Rules, a.Change.Rule)
			}
		}
		again := NewJudge(s).Ask(from, to, port)
		if !again.Open && again.stage <= a.stage {
			t.Fatalf("seed %d: %s\nthen %s", seed, a, again)
		}
		opened++
	}
	if opened < 200 {
		t.Errorf("%d changes were tried", opened)
	}
}

// The judge agrees with one that tries every pair of addresses and every rule.
func TestTheJudgeAgreesWithBruteForce(t *testing.T) {
	open := 0
	for seed := range uint64(20000) {
		r := rand.New(rand.NewPCG(seed, 11))
		s := random(r)
		from, to, port := question(r, s)
		a, want := NewJudge(s).Ask(from, to, port), brute(s, from, to, port)
		if a.Open != want {
			t.Fatalf("seed %d: judged open %v, by trying %v\n%s\n%+v", seed, a.Open, want, a, s)
		}
		if want {
			open++
		}
	}
	if open < 1000 || open > 15000 {
		t.Errorf("%d of 20000 are open: the estates try too little", open)
	}
}

// brute tries every pair of addresses against every rule.
func brute(s *estate.Snapshot, from From, to *estate.Instance, port Port) bool {
	if to.State != estate.Running || from.Instance != nil && from.Instance.State != estate.Running {
		return false
	}
	inGroup := func(id string, a netip.Addr) bool {
		for _, i := range s.Instances {
			for _, g := range i.Groups {
				for _, b := range i.Addresses {
					if g == id && b.IP == a && !b.Outside {
						return true
					}
				}
			}
		}
		return false
	}
	told := false
	for _, g := range s.Groups {
		for _, r := range g.Rules {
			told = told || !r.Inbound
		}
	}
	let := func(i *estate.Instance, inbound bool, a netip.Addr, outside bool) bool {
		if !inbound && !told {
			return true
		}
		for _, id := range i.Groups {
			for _, g := range s.Groups {
				for _, r := range g.Rules {
					if g.ID != id || r.Inbound != inbound {
						continue
					}
					if r.Protocol != "any" && r.Protocol != port.Protocol || port.Number < r.From || port.Number > r.To {
						continue
					}
					if r.Group != "" && a.IsValid() && !outside && inGroup(r.Group, a) || r.Group == "" && (a.IsValid() && r.CIDR.Contains(a) || !a.IsValid() && r.CIDR.Bits() == 0) {
						return true
					}
				}
			}
		}
		return false
	}
	same := func(a, b string) bool {
		if a == "" || b == "" {
			return false
		}
		for _, r := range s.Routers {
			if has(r.Networks, a) && has(r.Networks, b) {
				return true
			}
		}
		for _, p := range s.Peerings {
			if has(p.Networks, a) && has(p.Networks, b) {
				return true
			}
		}
		return a == b
	}
	for _, b := range to.Addresses {
		if from.Instance == nil {
			if b.Outside && let(to, true, from.Address, true) {
				return true
			}
			continue
		}
		if !let(from.Instance, false, b.IP, b.Outside) {
			continue
		}
		if !b.Outside {
			for _, a := range from.Instance.Addresses {
				if !a.Outside && same(a.Network, b.Network) && let(to, true, a.IP, false) {
					return true
				}
			}
			continue
		}
		seen, way := netip.Addr{}, false
		for _, a := range from.Instance.Addresses {
			if a.Outside {
				seen, way = a.IP, true
			}
			for _, r := range s.Routers {
				way = way || !a.Outside && r.Outside && has(r.Networks, a.Network)
			}
		}
		if way && let(to, true, seen, true) {
			return true
		}
	}
	return false
}

func has(all []string, one string) bool {
	for _, s := range all {
		if s == one {
			return true
		}
	}
	return false
}

// random is a small estate in which much is possible.
func random(r *rand.Rand) *estate.Snapshot {
	s := &estate.Snapshot{}
	pick := func(n int) int { return r.IntN(n) }
	for n := range 3 {
		s.Networks = append(s.Networks, estate.Network{ID: fmt.Sprint("n", n)})
	}
	if pick(2) == 0 {
		s.Routers = append(s.Routers, estate.Router{ID: "r", Networks: []string{"n0", "n1"}, Outside: pick(2) == 0})
	}
	if pick(3) == 0 {
		s.Peerings = append(s.Peerings, estate.Peering{ID: "p", Networks: []string{"n2", "n1"}})
	}
	cidrs := []string{"0.0.0.0/0", "10.0.0.0/8", "10.0.1.0/24", "10.0.0.1/32", "203.0.113.0/24", "198.51.100.7/32"}
	for n := range 1 + pick(3) {
		g := estate.Group{ID: fmt.Sprint("g", n)}
		for range 2 + pick(5) {
			rule := estate.Rule{Inbound: pick(2) == 0, Protocol: []string{"tcp", "udp", "any"}[pick(3)], From: uint16(pick(4)), To: uint16(pick(5))}
			if pick(2) == 0 {
				rule.Protocol, rule.From, rule.To = "any", 0, 65535
			}
			if pick(3) == 0 {
				rule.Group = fmt.Sprint("g", pick(3))
			} else {
				rule.CIDR = netip.MustParsePrefix(cidrs[pick(len(cidrs))])
			}
			g.Rules = append(g.Rules, rule)
		}
		s.Groups = append(s.Groups, g)
	}
	for n := range 4 {
		i := estate.Instance{ID: fmt.Sprint("i", n), State: estate.Running}
		if pick(12) == 0 {
			i.State = estate.Stopped
		}
		for range 1 + pick(2) {
			network := pick(3)
			i.Addresses = append(i.Addresses, estate.Address{IP: netip.AddrFrom4([4]byte{10, 0, byte(network), byte(1 + n*2 + pick(2))}), Network: fmt.Sprint("n", network)})
		}
		if pick(2) == 0 {
			i.Addresses = append(i.Addresses, estate.Address{IP: netip.AddrFrom4([4]byte{203, 0, 113, byte(10 + n)}), Outside: true})
		}
		for _, g := range s.Groups {
			if pick(2) == 0 {
				i.Groups = append(i.Groups, g.ID)
			}
		}
		s.Instances = append(s.Instances, i)
	}
	return s
}

func question(r *rand.Rand, s *estate.Snapshot) (From, *estate.Instance, Port) {
	from := From{Address: netip.MustParseAddr([]string{"198.51.100.7", "192.0.2.9", "203.0.113.200"}[r.IntN(3)])}
	if r.IntN(3) > 0 {
		from = From{Instance: &s.Instances[r.IntN(4)]}
	}
	return from, &s.Instances[r.IntN(4)], Port{[]string{"tcp", "udp"}[r.IntN(2)], uint16(r.IntN(4))}
}

// Odd estates neither mislead the judge nor stop it: groups in circles, two networks of one range, an address in no
// network, protocols that nobody knows, and ten thousand rules in one group.
func TestOddEstatesAreJudged(t *testing.T) {
	ip, all := netip.MustParseAddr, netip.MustParsePrefix("0.0.0.0/0")
	out := estate.Rule{Protocol: "any", To: 65535, CIDR: all}
	s := &estate.Snapshot{
		Networks: []estate.Network{{ID: "a"}, {ID: "b"}},
		Groups: []estate.Group{
			{ID: "x", Rules: []estate.Rule{{Inbound: true, Protocol: "tcp", To: 65535, Group: "y"}, out}},
			{ID: "y", Rules: []estate.Rule{{Inbound: true, Protocol: "tcp", To: 65535, Group: "x"}, out}},
			{ID: "odd", Rules: []estate.Rule{{Inbound: true, Protocol: "251", To: 65535, CIDR: all}, {Inbound: true, Protocol: "icmp", From: 8, To: 0, CIDR: all}, {Inbound: true, CIDR: netip.MustParsePrefix("10.9.9.9/8")}, out}},
			{ID: "many", Rules: []estate.Rule{out}},
		},
	}
	for i := range 10000 {
		s.Groups[3].Rules = append(s.Groups[3].Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: uint16(i), To: uint16(i), CIDR: netip.PrefixFrom(netip.AddrFrom4([4]byte{11, byte(i >> 8), byte(i), 1}), 32)})
	}
	add := func(id, network, address string, groups ...string) {
		s.Instances = append(s.Instances, estate.Instance{ID: id, State: estate.Running, Groups: groups, Addresses: []estate.Address{{IP: ip(address), Network: network}}})
	}
	add("x1", "a", "10.0.0.1", "x")
	add("y1", "a", "10.0.0.2", "y")
	add("y2", "b", "10.0.0.2", "y") // the same address in a network of its own
	add("o", "a", "10.0.0.3", "odd")
	add("m", "a", "10.0.0.4", "many")
	add("none", "", "10.0.0.5", "x")
	s.Groups[3].Rules = append(s.Groups[3].Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: 7, To: 7, CIDR: netip.MustParsePrefix("10.0.0.1/32")})
	j := NewJudge(s)
	for _, c := range []struct {
		from, to string
		port     Port
		open     bool
	}{
		{"x1", "y1", Port{"tcp", 22}, true}, {"y1", "x1", Port{"tcp", 22}, true}, {"x1", "x1", Port{"tcp", 22}, false}, // in circles
		{"x1", "y2", Port{"tcp", 22}, false}, {"y2", "x1", Port{"tcp", 22}, false}, // nothing joins the two networks
		{"x1", "o", Port{"251", 0}, true}, {"x1", "o", Port{"icmp", 0}, true}, {"x1", "o", Port{"tcp", 22}, false},
		{"x1", "o", Port{"tcp", 0}, true}, // a rule without a protocol, with host bits
		{"x1", "m", Port{"tcp", 7}, true}, {"x1", "m", Port{"tcp", 8}, false},
		{"none", "y1", Port{"tcp", 22}, false},
	} {
		if a := j.Ask(From{Instance: s.Instance(c.from)}, s.Instance(c.to), c.port); a.Open != c.open {
			t.Errorf("%s to %s at %s is judged\n%v", c.from, c.to, c.port, a)
		}
	}
	if n := len(j.Exposure()) + len(j.Arrows()); n == 0 {
		t.Error("nothing is exposed")
	}
}
