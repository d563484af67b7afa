package needs

import (
	"fmt"
	"testing"

	"meatus/core/gate"
)

func TestACauseOfManySessionsIsOne(t *testing.T) {
	var c Causes
	gone := gate.Gate{Kind: gate.Port, Verdict: gate.Shut, Reason: "nothing answered at 203.0.113.10:22", Remedy: gate.Remedy{Say: "see whether it is up"}}
	open := gate.Gate{Kind: gate.Port, Verdict: gate.Open}
	for i := range 200 {
		r := gate.Report{Session: fmt.Sprint("gauge-", i), Hops: []gate.Hop{{Name: "quay", Gates: []gate.Gate{gone}}, {Name: fmt.Sprint("gauge-", i)}}}
		switch {
		case i%50 == 7: // the key of these is too open, each at its own hop
			r.Hops = []gate.Hop{{Name: "quay", Gates: []gate.Gate{open}}, {Name: r.Session, Gates: []gate.Gate{{Kind: gate.Key, Verdict: gate.Shut, Reason: "tide.pem has mode 0644"}}}}
		case i == 9:
			r.Hops[0].Gates[0] = open
		case i == 10:
			r = gate.Report{Session: r.Session, Broken: "no host"}
		}
		if s := c.Add(r, false); (s == nil) != (i == 9 || i == 10) || i > 0 && s != nil && s.Gate.Kind == gate.Port && s.First != "gauge-0" {
			t.Errorf("%d: %+v", i, s)
		}
	}
	all := c.Shared()
	if len(all) != 2 || all[0].Sessions != 194 || all[1].Sessions != 4 {
		t.Fatalf("%+v", all)
	}
	if say := all[0].Say(); say != "194 sessions are shut for one reason: quay: port: nothing answered at 203.0.113.10:22; see whether it is up" {
		t.Error(say)
	}
	if say := all[1].Say(); say != "4 sessions are shut for one reason: key: tide.pem has mode 0644" {
		t.Error(say)
	}
}
