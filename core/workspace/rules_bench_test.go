package workspace

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/reach"
)

// BenchmarkWhatIf is a change of one rule over 2,000 sessions of an estate of 20,000 instances, as the interface asks
// for it: once with what the sessions want looked up anew, and once with that known.
func BenchmarkWhatIf(b *testing.B) {
	dir := b.TempDir()
	var s strings.Builder
	s.WriteString("[estate.bay]\nkind = \"document\"\nfile = \"bay.json\"\n[session.quay]\ninstance = \"i-0\"\nuser = \"keeper\"\n")
	for i := range 2000 {
		fmt.Fprintf(&s, "[session.s-%d]\nhost = \"10.0.%d.%d\"\nvia = [\"quay\"]\nuser = \"keeper\"\n", i, (i+1)>>8, (i+1)&255)
	}
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(s.String()), 0o600); err != nil {
		b.Fatal(err)
	}
	w, err := Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	snapshot := estate.Snapshot{Networks: []estate.Network{{ID: "n"}}}
	for i := range 2000 {
		g := estate.Group{ID: fmt.Sprint("g-", i), Rules: []estate.Rule{{Protocol: "any", To: 65535, CIDR: netip.MustParsePrefix("0.0.0.0/0")}}}
		for r := range 49 {
			g.Rules = append(g.Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: uint16(r), To: uint16(r), CIDR: netip.MustParsePrefix("10.0.0.0/32")})
		}
		snapshot.Groups = append(snapshot.Groups, g)
	}
	for i := range 20000 {
		one := estate.Instance{ID: fmt.Sprint("i-", i), State: estate.Running, Groups: []string{fmt.Sprint("g-", i%2000)}, Addresses: []estate.Address{{IP: netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}), Network: "n"}}}
		if i == 0 {
			one.Addresses = append(one.Addresses, estate.Address{IP: netip.MustParseAddr("203.0.113.10"), Outside: true})
		}
		snapshot.Instances = append(snapshot.Instances, one)
	}
	w = w.Knowing(estate.Kept{Source: "bay", Read: w.Estates[0].Tried.AddDate(2026, 0, 0), Snapshot: snapshot})
	w.Here = netip.MustParseAddr("192.0.2.1")
	edits := []reach.Edit{{Drop: true, Group: "g-7", Rule: snapshot.Groups[7].Rules[23]}}
	if e, err := w.WhatIf("bay", edits, nil, nil); err != nil || len(e.Turned) == 0 {
		b.Fatal(e.Say(), err)
	}
	b.Run("anew", func(b *testing.B) {
		for b.Loop() {
			w.WhatIf("bay", edits, nil, nil)
		}
	})
	j, probes := w.Judge("bay"), w.Probes("bay")
	f := reach.Finding{Here: w.Seen(), Means: w.MeansOf(&w.Estates[0], nil)}
	b.Run("typed", func(b *testing.B) {
		for b.Loop() {
			after, err := j.With(edits)
			if err != nil {
				b.Fatal(err)
			}
			j.Compare(after, edits, probes, f)
		}
	})
}
