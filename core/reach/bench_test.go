package reach

import (
	"fmt"
	"net/netip"
	"testing"

	"meatus/core/estate"
)

// large is an estate of n instances, with a tenth as many groups of fifty rules each, in a hundredth as many
// networks that routers join.
func large(n int) *estate.Snapshot {
	s := &estate.Snapshot{}
	networks, groups := max(n/100, 1), max(n/10, 1)
	for i := range networks {
		s.Networks = append(s.Networks, estate.Network{ID: fmt.Sprint("n-", i)})
		s.Routers = append(s.Routers, estate.Router{ID: fmt.Sprint("r-", i), Networks: []string{fmt.Sprint("n-", i), fmt.Sprint("n-", (i+1)%networks)}, Outside: true})
	}
	for i := range groups {
		g := estate.Group{ID: fmt.Sprint("g-", i), Rules: []estate.Rule{{Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix("0.0.0.0/0")}}}
		for r := range 49 {
			rule := estate.Rule{Inbound: true, Protocol: "tcp", From: uint16(r * 100), To: uint16(r*100 + 20), CIDR: netip.PrefixFrom(netip.AddrFrom4([4]byte{10, byte(i), byte(r), 0}), 24)}
			if r%7 == 0 {
				rule.Group, rule.CIDR = fmt.Sprint("g-", (i+r)%groups), netip.Prefix{}
			}
			g.Rules = append(g.Rules, rule)
		}
		if i%100 == 0 { // a hundredth of the machines let everybody knock
			g.Rules = append(g.Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("0.0.0.0/0")})
		}
		s.Groups = append(s.Groups, g)
	}
	for i := range n {
		s.Instances = append(s.Instances, estate.Instance{ID: fmt.Sprint("i-", i), State: estate.Running, Groups: []string{fmt.Sprint("g-", i%groups), fmt.Sprint("g-", (i*7+1)%groups)},
			Addresses: []estate.Address{{IP: netip.AddrFrom4([4]byte{10, byte(i >> 16), byte(i >> 8), byte(i)}), Network: fmt.Sprint("n-", i/100%networks)}, {IP: netip.AddrFrom4([4]byte{198, byte(18 + i>>16), byte(i >> 8), byte(i)}), Outside: true}}})
	}
	return s
}

func BenchmarkIndex(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		s := large(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				NewJudge(s)
			}
		})
	}
}

func BenchmarkQuestion(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		s := large(n)
		j, i := NewJudge(s), 0
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				j.Ask(From{Instance: &s.Instances[i%n]}, &s.Instances[(i*13+5)%n], Port{"tcp", uint16(i % 5000)})
				i++
			}
		})
	}
}

func BenchmarkExposure(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		j := NewJudge(large(n))
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.ReportAllocs()
			for b.Loop() {
				j.Exposure()
			}
		})
	}
}
