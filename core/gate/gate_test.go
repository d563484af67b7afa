package gate

import (
	"encoding/json"
	"errors"
	"io"
	"testing"
)

func report(verdicts ...[]Verdict) Report {
	r := Report{Session: "tide-db"}
	for i, hop := range verdicts {
		h := Hop{Name: string(rune('a' + i))}
		for k, v := range hop {
			h.Gates = append(h.Gates, Gate{Kind: Kinds[k], Verdict: v, Seen: "x"})
		}
		r.Hops = append(r.Hops, h)
	}
	return r
}

func TestTheWorstGateDecides(t *testing.T) {
	cases := []struct {
		r    Report
		want Verdict
		hop  int
	}{
		{report([]Verdict{Open, Open}, []Verdict{Open, Open}), Open, 0},
		{report([]Verdict{Open, Open}, []Verdict{Untried, Open}), Untried, 0},
		{report([]Verdict{Open, Ajar}, []Verdict{Untried, Open}), Ajar, 0},
		{report([]Verdict{Open, Ajar}, []Verdict{Untried, Shut}), Shut, 1},
		{report([]Verdict{Shut}, []Verdict{Shut}), Shut, 0},
		{Report{Broken: "no host"}, Shut, -1},
		{Report{}, Untried, -1},
	}
	for i, c := range cases {
		if _, at := c.r.Worst(); c.r.Verdict() != c.want || at != c.hop {
			t.Errorf("case %d: %v at %d, want %v at %d", i, c.r.Verdict(), at, c.want, c.hop)
		}
	}
}

func TestSetKeepsTheOrderOfGates(t *testing.T) {
	r := Report{Hops: []Hop{{}}}
	shared := r.Hops[0]
	for _, k := range []Kind{Login, Address, Channel, Port, Login} {
		r.Set(0, Gate{Kind: k, Seen: "new"})
	}
	r.Set(7, Gate{Kind: Key}) // no such hop
	got := ""
	for _, g := range r.Hops[0].Gates {
		got += g.Kind.String() + " "
	}
	if got != "address port login channel " || len(shared.Gates) != 0 {
		t.Errorf("gates %q", got)
	}
}

func TestJSONIsAsPromised(t *testing.T) {
	r := Report{Session: "s", Hops: []Hop{{Name: "s", User: "u", Address: "h:22", Gates: []Gate{{Kind: Key, Verdict: Shut, Seen: "k", Reason: "r", Remedy: Remedy{Say: "m", Act: MendKey, Subject: "/secret/path"}}}}}}
	got, err := json.Marshal(r)
	want := `{"session":"s","verdict":"shut","hops":[{"name":"s","user":"u","address":"h:22","gates":[{"gate":"key","verdict":"shut","seen":"k","reason":"r","remedy":"m"}]}]}`
	if err != nil || string(got) != want {
		t.Errorf("got %s, %v\nwant %s", got, err, want)
	}
	if empty, _ := json.Marshal(Report{Session: "x", Broken: "why"}); string(empty) != `{"session":"x","verdict":"shut","hops":[],"broken":"why"}` {
		t.Errorf("a broken session: %s", empty)
	}
}

func TestAFailureNamesHopGateReasonAndRemedy(t *testing.T) {
	f := &Failure{Hop: "quay", Gate: Port, Cause: Refused, Why: "nothing listens", Detail: []string{"a", "b"}, Remedy: Remedy{Say: "check the port"}, Err: io.EOF}
	if got := f.Error(); got != "quay: port: nothing listens (a; b); check the port" {
		t.Errorf("got %q", got)
	}
	if !errors.Is(f, io.EOF) {
		t.Error("the cause is lost")
	}
	if g := f.Judged(); g.Verdict != Shut || g.Kind != Port || g.Reason != f.Why || len(g.Detail) != 2 {
		t.Errorf("judged %+v", g)
	}
}
