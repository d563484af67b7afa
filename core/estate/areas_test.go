package estate

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

func TestNetworksAreAreasThatHangFromTheirWays(t *testing.T) {
	s, _, err := Parse([]byte(`{"estate": 1,
		"networks": [{"id": "n-1", "name": "shore"}, {"id": "n-2", "name": "reef"}, {"id": "n-3", "name": "deep"}, {"id": "n-4", "name": "alone"}],
		"instances": [
			{"id": "q", "name": "quay", "state": "running", "addresses": [{"ip": "203.0.113.10", "outside": true}, {"ip": "10.0.0.10", "network": "n-1"}]},
			{"id": "a", "name": "gauge-1", "state": "running", "addresses": [{"ip": "10.61.4.31", "network": "n-2"}]},
			{"id": "b", "name": "gauge-2", "state": "ended", "addresses": [{"ip": "10.61.4.32", "network": "n-2"}]},
			{"id": "c", "name": "sounder", "state": "running", "addresses": [{"ip": "10.62.0.2", "network": "n-3"}]},
			{"id": "d", "name": "hermit", "state": "running", "addresses": [{"ip": "10.63.0.2", "network": "n-4"}]},
			{"id": "e", "name": "adrift", "state": "starting"}
		]}`))
	if err != nil {
		t.Fatal(err)
	}
	all := []Kept{{Source: "bay", Read: time.Now(), Snapshot: s}}
	b := bind(t, `
[session.quay]
host = "203.0.113.10"
[session.one]
instance = "gauge-1"
via = ["quay"]
[session.again]
host = "10.61.4.31"
via = ["quay"]
[session.sounder]
instance = "sounder"
via = ["one"]
`, all)
	tell := func(q string) string {
		query, err := ParseQuery(q)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, a := range Areas(all, b, query) {
			say := fmt.Sprintf("%s%s", strings.Repeat(">", a.Depth), a.Name())
			if a.Reached {
				say += " by " + a.Through
			}
			for _, s := range a.Spots {
				say += fmt.Sprintf(" %s%v", s.Instance.Name, s.Sessions)
			}
			out = append(out, say)
		}
		return strings.Join(out, "; ")
	}
	for q, want := range map[string]string{
		"":            "shore by  quay[quay]; >reef by quay gauge-1[one again]; >>deep by one sounder[sounder]; alone hermit[]; no network adrift[]",
		"gauge-*":     "reef by quay gauge-1[one again]",
		"state=ended": "reef gauge-2[]",
	} {
		if got := tell(q); got != want {
			t.Errorf("%q: %s\nwant %s", q, got, want)
		}
	}
}

func TestAreasInACircleAreDrawnOnce(t *testing.T) {
	all := known(t)
	b := bind(t, "[session.x]\ninstance = \"i-1\"\nvia = [\"y\"]\n[session.y]\ninstance = \"i-4\"\nvia = [\"z\"]\n[session.z]\nhost = \"10.61.4.32\"\n", all)
	n := 0
	for _, a := range Areas(all, b, Query{}) {
		n += len(a.Spots)
	}
	if n != 6 {
		t.Errorf("%d instances are drawn, want 6", n)
	}
}

func BenchmarkAreas(b *testing.B) {
	all := []Kept{{Source: "bay", Read: time.Now(), Snapshot: parsed(b, string(large(20_000)))}}
	book := bind(b, "[session.quay]\nhost = \"203.0.113.10\"\n[[fleet]]\nquery = \"name=gauge-1???\"\nvia = [\"quay\"]\n", all)
	for b.Loop() {
		if len(Areas(all, book, Query{})) != 200 {
			b.Fatal("areas are missing")
		}
	}
}
