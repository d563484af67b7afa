package mend

import (
	"testing"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/walk"
)

// Blocked gates come before those with a warning, each with its remedies; open ones are no problems.
func TestProblemsOfACheckedSession(t *testing.T) {
	w := place(t, 0)
	r, report := w.Check("tide-db", w.Knowledge())
	report.Set(0, gate.Gate{Kind: gate.Identity, Verdict: gate.Ajar, Reason: "its console tells another key"})
	all := Problems(w, walk.Touched{Report: report, Route: r})
	if len(all) != 2 || all[0].Gate.Kind != gate.Key || all[0].Hop != "tide-db" || all[1].Gate.Kind != gate.Identity || len(all[1].Ways) != 0 {
		t.Fatalf("%+v", all)
	}
	if way := all[0].Ways[0]; way.Say != "set mode 0600 on tide.pem" || !way.Done() || all[0].Command(way) != "" {
		t.Errorf("%+v", way)
	}
	if all := Problems(w, walk.Touched{Report: gate.Report{Session: "tide-db", Broken: "torn"}}); len(all) != 0 {
		t.Errorf("%+v", all)
	}
}

// A remedy that takes time or asks a cloud has a command of its own, in which a name is one word.
func TestRemediesWithACommandOfTheirOwn(t *testing.T) {
	p := Problem{Session: "tide db", Hop: "tide db", instance: "i-0a12"}
	for act, want := range map[gate.Act]string{
		gate.Start:   "meatus estate start id=i-0a12",
		gate.AskKeys: "meatus key find --at 'tide db'",
		gate.Settle:  "",
	} {
		if got := p.Command(Way{Act: act}); got != want {
			t.Errorf("%v: %s", act, got)
		}
	}
	for _, way := range Ways(Case{Workspace: place(t, 0), Route: route.Route{Session: "x", Hops: []route.Hop{{Name: "x"}}}, Gate: gate.Gate{Remedy: gate.Remedy{Say: "set mode 0600 on vouched.toml", Act: gate.MendFile, Subject: "/no/such"}}}) {
		if _, err := way.Do(); err == nil {
			t.Errorf("%+v was done to a file that is not there", way)
		}
	}
}

// A remedy is applied only as it was shown: what changed between the list and the answer has it refused.
func TestARemedyThatIsNotOfNowIsRefused(t *testing.T) {
	w := place(t, 0)
	r, report := w.Check("tide-db", w.Knowledge())
	p := Problems(w, walk.Touched{Report: report, Route: r})[0]
	find := func(say string) Way {
		for _, way := range p.Ways {
			if way.Say == say {
				return way
			}
		}
		t.Fatalf("no %q among %+v", say, p.Ways)
		return Way{}
	}
	mode, other := find("set mode 0600 on tide.pem"), find("use the key gauge.pem")
	for _, way := range []Way{mode, other} {
		if _, ok := p.Again(reopened(t, w.Dir), way); !ok {
			t.Errorf("%q is refused, and nothing has changed", way.Say)
		}
	}
	if _, err := book.Set(w.SessionsPath(), "tide-db", "key", "keys/other.pem"); err != nil {
		t.Fatal(err)
	}
	if _, ok := p.Again(reopened(t, w.Dir), other); ok {
		t.Error("another key was named meanwhile, and it is replaced")
	}
	if _, err := mode.Do(); err != nil {
		t.Fatal(err)
	}
	if _, ok := p.Again(reopened(t, w.Dir), mode); ok {
		t.Error("the mode was set meanwhile, and is set once more")
	}
	if _, err := book.Remove(w.SessionsPath(), "tide-db"); err != nil {
		t.Fatal(err)
	}
	if _, ok := p.Again(reopened(t, w.Dir), other); ok {
		t.Error("the session is gone, and it is changed")
	}
}
