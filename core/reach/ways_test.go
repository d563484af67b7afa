package reach

import (
	"net/netip"
	"strings"
	"testing"
	"time"

	"meatus/core/estate"
)

// drawn are ways in words.
func drawn(ways []Way) string {
	var all []string
	for _, w := range ways {
		say := "here"
		for _, h := range w.Hops {
			say += " > " + h.Name
		}
		all = append(all, say)
	}
	return strings.Join(all, "; ")
}

func TestWaysAreFoundTheBestFirst(t *testing.T) {
	s := bay()
	// A second bastion that one address alone gets to, and that was used last.
	s.Groups = append(s.Groups, estate.Group{ID: "g-n", Name: "narrow", Rules: []estate.Rule{{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("198.51.100.7/32")}, {Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix("0.0.0.0/0")}}})
	s.Groups[1].Rules = append(s.Groups[1].Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("10.61.4.2/32")})
	s.Instances = append(s.Instances, estate.Instance{ID: "i-n", Name: "narrows", State: estate.Running, Groups: []string{"g-n"}, Addresses: []estate.Address{{IP: netip.MustParseAddr("10.61.4.2"), Network: "n-r"}, {IP: netip.MustParseAddr("203.0.113.11"), Outside: true}}})
	means := func(i *estate.Instance) Means {
		return Means{Login: "keeper", Key: "keys/" + i.Name + ".pem", Used: time.Time{}}
	}
	find := func(here, to string, port uint16, means func(*estate.Instance) Means) (ways, misses []Way) {
		t.Helper()
		f := Finding{To: s.Instance(to), Port: Port{"tcp", port}, Means: means}
		if here != "" {
			f.Here = netip.MustParseAddr(here)
		}
		return NewJudge(s).Ways(f)
	}
	for _, c := range []struct {
		here, to string
		port     uint16
		want     string
	}{
		{"198.51.100.7", "i-q", 22, "here > quay; here > narrows > quay"},
		{"198.51.100.7", "i-1", 22, "here > narrows > gauge-1; here > quay > gauge-1"}, // the narrower first
		{"", "i-1", 22, "here > quay > gauge-1"},                                       // as nobody knows who
		{"198.51.100.7", "i-t", 5432, "here > quay > tide-db; here > narrows > gauge-1 > tide-db"},
		{"198.51.100.7", "i-h", 22, ""},
	} {
		ways, misses := find(c.here, c.to, c.port, means)
		if got := drawn(ways); got != c.want {
			t.Errorf("from %q to %s:%d: %s\nwant %s; misses %s", c.here, c.to, c.port, got, c.want, drawn(misses))
		}
		for _, w := range ways {
			for _, h := range w.Hops {
				if !h.Answer.Open || len(h.Answer.Proof) == 0 {
					t.Errorf("%s is told without a proof", h.Name)
				}
			}
		}
	}
	// Nobody could log in at quay: the way by it is none.
	ways, _ := find("192.0.2.1", "i-1", 22, func(i *estate.Instance) Means { return Means{} })
	if len(ways) > 0 {
		t.Errorf("ways without a login: %s", drawn(ways))
	}
	// The bastion lets nobody in from here: what it lacks is told.
	s.Groups[0].Rules[0].CIDR = netip.MustParsePrefix("203.0.113.77/32")
	ways, misses := find("192.0.2.1", "i-1", 22, means)
	if len(ways) > 0 || drawn(misses) != "here > quay > gauge-1; here > narrows > gauge-1; here > gauge-1" || !strings.Contains(misses[0].Hops[0].Answer.String(), "→ let tcp 22 in from 192.0.2.1") {
		t.Errorf("ways %s, misses %s", drawn(ways), drawn(misses))
	}
}

func BenchmarkWays(b *testing.B) {
	s := large(20000)
	j := NewJudge(s)
	i := 0
	for b.Loop() {
		j.Ways(Finding{To: &s.Instances[i*37%20000], Port: Port{"tcp", 700}, Means: func(*estate.Instance) Means { return Means{Session: "x"} }})
		i++
	}
}
