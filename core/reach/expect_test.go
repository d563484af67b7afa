package reach

import (
	"net/netip"
	"strings"
	"testing"

	"meatus/core/estate"
)

func TestExpectationsAreHeldToTheEstate(t *testing.T) {
	s := bay()
	j := NewJudge(s)
	for text, want := range map[string]string{
		"quay reaches tide-db:5432":                              "",
		"quay reaches tide-db:80":                                "quay does not reach tide-db:tcp 80",
		"hermit does not reach gauge-1:22":                       "",
		"gauge-1 does not reach tide-db:5432":                    "gauge-1 reaches tide-db:tcp 5432",
		"only quay reaches gauge-1:22":                           "tide-db reaches gauge-1:tcp 22, too",
		"only outside reaches hermit:22":                         "an address outside, as 198.51.100.1, does not reach hermit",
		"outside does not reach tide-db:5432":                    "",
		"outside does not reach quay:22 # it is":                 "an address outside, as 198.51.100.1, reaches quay:tcp 22",
		"only quay reaches hermit:22":                            "quay does not reach hermit",
		"198.51.100.7 reaches quay:22":                           "",
		"only 198.51.100.7 reaches quay:22":                      "an address outside, as 198.51.100.1, reaches quay:tcp 22, too",
		"nobody reaches quay:22":                                 "no instance is nobody",
		"colour=red reaches quay:22":                             "is nothing that instances are chosen by",
		"name=gauge-* !state=stopped reaches network=reef:udp/7": "does not reach",
	} {
		all, err := ReadExpectations("\n# of the bay\n" + text + "\n")
		if err != nil || len(all) != 1 || all[0].Line != 3 {
			t.Fatalf("%q: %+v, %v", text, all, err)
		}
		why, proof := all[0].Broken("bay", j)
		if want == "" && why != "" || !strings.Contains(why, want) {
			t.Errorf("%q: %q, want %q\n%s", text, why, want, proof)
		}
		if why != "" && !strings.HasPrefix(want, "no instance") && !strings.HasPrefix(want, "is nothing") && len(proof.Proof) == 0 {
			t.Errorf("%q is broken without a proof", text)
		}
	}
	for _, bad := range []string{"quay", "quay reaches tide-db", "quay reaches tide-db:99999", "only quay does not reach tide-db:1", "a reaches b:udp/x\x1b"} {
		if _, err := ReadExpectations(bad); err == nil || !strings.HasPrefix(err.Error(), "line 1: ") || strings.Contains(err.Error(), "\x1b") {
			t.Errorf("%q: %v", bad, err)
		}
	}
}

func TestExposureTellsWhatEverybodyCanComeTo(t *testing.T) {
	s := bay()
	all := NewJudge(s).Exposure()
	if first := all[0]; first.Instance.Name != "quay" || !first.Everybody || !first.Outside || first.Ports() != "tcp 22" {
		t.Errorf("the first is %+v", first)
	}
	for _, e := range all {
		if e.Instance.Name == "gauge-2" {
			t.Error("an instance that does not run is exposed")
		}
		if e.Instance.Name == "tide-db" && e.From == 5432 {
			if who, more := e.Who(1); more != 1 || len(who) != 1 || !e.Holds(netip.MustParseAddr("10.61.4.9")) || e.Holds(netip.MustParseAddr("10.61.4.31")) {
				t.Errorf("it is open to %v and %d more", who, more)
			}
		}
	}
	backwards := &estate.Snapshot{Groups: []estate.Group{{ID: "g", Rules: []estate.Rule{{Inbound: true, Protocol: "tcp", From: 9, To: 1, CIDR: netip.MustParsePrefix("0.0.0.0/0")}, {Inbound: true, Protocol: "99", Group: "g"}, {Inbound: true}}}},
		Instances: []estate.Instance{{ID: "i", State: estate.Running, Groups: []string{"g", "none"}}}}
	if all := NewJudge(backwards).Exposure(); len(all) != 0 {
		t.Errorf("rules that hold nothing expose %+v", all)
	}
}

func FuzzExpectations(f *testing.F) {
	f.Add("only quay reaches tide-db:udp/53 # x")
	s := bay()
	j := NewJudge(s)
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ReadExpectations(text)
		if err != nil {
			return
		}
		for _, e := range all {
			if why, _ := e.Broken("bay", j); strings.ContainsAny(why, "\x1b\n") {
				t.Errorf("%q", why)
			}
		}
	})
}
