package workspace

import (
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/route"
	"meatus/lab/estatedoc"
)

// aReef is an estate as a document: quay lets everybody knock, the database lets quay in at 5432 alone, the lamp lets
// nobody in, and one range knocks at the pier.
const aReef = `{"estate": 1,
"networks": [{"id": "n", "name": "reef"}],
"groups": [
 {"id": "g-out", "rules": [{"direction": "out", "protocol": "any", "cidr": "0.0.0.0/0"}]},
 {"id": "g-q", "name": "shore", "rules": [{"direction": "in", "protocol": "tcp", "ports": "22", "cidr": "0.0.0.0/0"}]},
 {"id": "g-p", "name": "pier", "rules": [{"direction": "in", "protocol": "tcp", "ports": "22", "cidr": "198.51.100.0/24"}]},
 {"id": "g-r", "name": "reef", "rules": [{"direction": "in", "protocol": "tcp", "ports": "22", "cidr": "10.61.4.1/32"}]},
 {"id": "g-t", "name": "tide", "rules": [{"direction": "in", "protocol": "tcp", "ports": "5432", "cidr": "10.61.4.1/32"}]}],
"instances": [
 {"id": "i-q", "name": "quay", "state": "running", "groups": ["g-q", "g-out"], "addresses": [{"ip": "10.61.4.1", "network": "n"}, {"ip": "203.0.113.10", "outside": true}]},
 {"id": "i-p", "name": "pier", "state": "running", "groups": ["g-p", "g-out"], "addresses": [{"ip": "10.61.4.2", "network": "n"}, {"ip": "203.0.113.11", "outside": true}]},
 {"id": "i-g", "name": "gauge", "state": "running", "groups": ["g-r"], "addresses": [{"ip": "10.61.4.31", "network": "n"}]},
 {"id": "i-l", "name": "lamp", "state": "running", "groups": ["g-t"], "addresses": [{"ip": "10.61.4.60", "network": "n"}]},
 {"id": "i-s", "name": "sunk", "state": "stopped", "groups": ["g-r"], "addresses": [{"ip": "10.61.4.70", "network": "n"}]}]}`

const reefSessions = `[session.quay]
instance = "quay"
[session.pier]
host = "203.0.113.11"
[session.gauge]
host = "10.61.4.31"
via = ["quay"]
[session.lamp]
instance = "lamp"
via = ["quay"]
[session.sunk]
instance = "sunk"
via = ["quay"]
[session.inside]
host = "10.61.4.31"
[session.elsewhere]
host = "192.0.2.77"
[session.tables]
host = "203.0.113.10"
tunnels = [{ bring = "127.0.0.1:15432", reach = "10.61.4.60:5432" }, { bring = "127.0.0.1:15433", reach = "10.61.4.60:80" }]
`

// reef is a workspace with that estate, read.
func reef(t testing.TB) *Workspace {
	t.Helper()
	dir := t.TempDir()
	estatedoc.Write(t, dir, aReef)
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(estatedoc.Table("off")+reefSessions), 0o600); err != nil {
		t.Fatal(err)
	}
	b, err := book.Read(filepath.Join(dir, book.FileName))
	if err != nil || len(b.Estates) != 1 {
		t.Fatal(err)
	}
	if k, err := (&estate.Source{Dir: dir, EstateSource: b.Estates[0]}).Renew(t.Context(), time.Now()); err != nil || k.Failed != "" {
		t.Fatal(err, k.Failed)
	}
	w, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	w.Here = netip.MustParseAddr("192.0.2.1")
	return w
}

func planned(t testing.TB, w *Workspace, session string) route.Route {
	t.Helper()
	r, err := w.Planner().Plan(session)
	if err != nil {
		t.Fatal(err)
	}
	return r
}

func TestRulesAreAGate(t *testing.T) {
	w := reef(t)
	for _, c := range []struct {
		session string
		hop     int
		want    string // verdict, and what is seen or why; "" for no such gate
	}{
		{"quay", 0, "ajar: everybody is let in at tcp 22"},
		{"pier", 0, "shut: no rule of pier lets tcp 22 in from 192.0.2.1"},
		{"gauge", 0, "open: everybody, by shore"}, // whom quay is open to is quay's own matter
		{"gauge", 1, "open: 10.61.4.1, by reef"},
		{"lamp", 1, "shut: no rule of lamp lets tcp 22 in from 10.61.4.1"},
		{"sunk", 1, ""},      // its state tells
		{"inside", 0, ""},    // nobody knows how this machine stands inside
		{"elsewhere", 0, ""}, // of no estate
	} {
		g, ok := w.RulesGate(planned(t, w, c.session), c.hop)
		got := ""
		if ok {
			got = g.Verdict.String() + ": " + g.Reason
			if g.Reason == "" {
				got += g.Seen
			}
		}
		if got != c.want {
			t.Errorf("%s, hop %d: %q, want %q", c.session, c.hop, got, c.want)
		}
	}
	// What is known is old: the gate says so.
	old := w.Aged(estate.Kept{Source: "bay", Read: time.Date(2026, 11, 1, 12, 0, 0, 0, time.Local), Failed: "503", Snapshot: w.Estates[0].Snapshot})
	if g, _ := old.RulesGate(planned(t, old, "gauge"), 1); g.Seen != "10.61.4.1, by reef, as of 1 Nov 12:00" || !strings.Contains(strings.Join(g.Detail, "; "), "estate bay could not be read since: 503") {
		t.Errorf("of an estate that cannot be read: %+v", g)
	}
	// As whom this machine is seen is not known: what lets some in is not judged.
	w.Here = netip.Addr{}
	r := planned(t, w, "pier")
	if a, ok := w.AskHop(r, 0); ok && !a.From.Address.IsValid() {
		if g, _ := w.RulesGate(r, 0); g.Verdict != gate.Untried || !strings.Contains(strings.Join(g.Detail, "; "), "198.51.100.0/24") {
			t.Errorf("from an address that is not known: %+v", g)
		}
	}
	_, report := w.Check("tables", w.Knowledge())
	channel := report.Hops[0].Gates[len(report.Hops[0].Gates)-1]
	if channel.Kind != gate.Channel || channel.Verdict != gate.Ajar || channel.Reason != "the door to 10.61.4.60:80: no rule of lamp lets tcp 80 in from 10.61.4.1" || channel.Remedy.Subject != "10.61.4.60:80" {
		t.Errorf("the channel gate is %+v", channel)
	}
}

// A knock and the rules say otherwise: what is left is told, and that the estate's picture is old.
func TestAKnockIsHeldAgainstTheRules(t *testing.T) {
	w := reef(t)
	_, report := w.Check("lamp", w.Knowledge())
	report.Set(1, gate.Gate{Kind: gate.Port, Verdict: gate.Open, Seen: "22, answers as x"})
	for _, g := range report.Hops[1].Gates {
		if g.Kind == gate.Rules && (g.Verdict != gate.Ajar || !strings.Contains(g.Reason, "what is known of the estate is old")) {
			t.Errorf("it answers, and the rules' gate is %+v", g)
		}
	}
	f := &gate.Failure{Hop: "gauge", Gate: gate.Port, Cause: gate.NoAnswer}
	if got := w.Explain(planned(t, w, "gauge"), f); !strings.Contains(strings.Join(got.Detail, ""), "a machine that hangs") || len(f.Detail) > 0 {
		t.Errorf("no answer where the rules let in: %+v", got)
	}
	f = &gate.Failure{Hop: "gauge", Gate: gate.Port, Cause: gate.Refused}
	if got := w.Explain(planned(t, w, "gauge"), f); !strings.Contains(strings.Join(got.Detail, ""), "nothing listens there") {
		t.Errorf("refused where the rules let in: %+v", got)
	}
	f = &gate.Failure{Hop: "lamp", Gate: gate.Port, Cause: gate.NoAnswer}
	if got := w.Explain(planned(t, w, "lamp"), f); !strings.Contains(strings.Join(got.Detail, ""), "by estate bay, no rule of lamp lets tcp 22 in") || !strings.HasPrefix(got.Remedy.Say, "let tcp 22 in from 10.61.4.1") {
		t.Errorf("no answer where the rules are shut: %+v", got)
	}
	f = &gate.Failure{Hop: "lamp", Gate: gate.Login, Cause: gate.NoKeyAccepted}
	if got := w.Explain(planned(t, w, "lamp"), f); got != f {
		t.Errorf("another failure: %+v", got)
	}
}

func TestWhatASessionLacks(t *testing.T) {
	w := reef(t)
	a, _ := w.AskHop(planned(t, w, "lamp"), 1)
	l, ok := w.Lacks(a)
	if !ok || l.Of != "lamp at tcp 22" || !slices.Equal(l.Lines, []string{"add to tide: lets in tcp 22 from 10.61.4.1/32"}) {
		t.Fatalf("%+v, %v", l, ok)
	}
	e, err := w.WhatIf("bay", l.Edits, nil, nil)
	if err != nil || !slices.Contains(e.Say(), "session lamp opens, at lamp at tcp 22") {
		t.Errorf("%q, %v", e.Say(), err)
	}
	e, err = w.WhatIf("bay", []reach.Edit{{Drop: true, Group: "g-t", Rule: estate.Rule{Inbound: true, Protocol: "tcp", From: 5432, To: 5432, CIDR: netip.MustParsePrefix("10.61.4.1/32")}}}, nil, nil)
	if err != nil || !slices.Contains(e.Say(), "a port forward of session tables shuts, at lamp at tcp 5432") {
		t.Errorf("%q, %v", e.Say(), err)
	}
	if _, err := w.WhatIf("none", nil, nil, nil); err == nil {
		t.Error("an estate that is not there is changed")
	}
}

// A session of a way names those before it that lead so far, and makes the others.
func TestSessionsOfAWay(t *testing.T) {
	w := reef(t)
	j := w.Judge("bay")
	hops := func(ids ...string) (w reach.Way) {
		for _, id := range ids {
			w.Hops = append(w.Hops, reach.Hop{Instance: j.Instance(id), ID: id, Name: j.Instance(id).Name, Means: reach.Means{Session: j.Instance(id).Name}})
		}
		return w
	}
	if drafts, last := w.Drafts("bay", hops("i-q", "i-g")); len(drafts) > 0 || last != "gauge" {
		t.Errorf("a way that there is: %+v, %s", drafts, last)
	}
	drafts, last := w.Drafts("bay", hops("i-p", "i-l"))
	if len(drafts) != 1 || drafts[0].Instance != "i-l" || !slices.Equal(drafts[0].Via, []string{"pier"}) || last != "lamp-2" {
		t.Errorf("by the pier: %+v, %s", drafts, last)
	}
	drafts, _ = w.Drafts("bay", hops("i-p", "i-g", "i-l"))
	if len(drafts) != 2 || !slices.Equal(drafts[1].Via, []string{drafts[0].Name}) {
		t.Errorf("by two: %+v", drafts)
	}
}

func TestWhatIsUsed(t *testing.T) {
	w := reef(t)
	at := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	used := w.UsedAt("bay", map[string]time.Time{"gauge": at, "tables": at.Add(time.Hour)})
	j := w.Judge("bay")
	tcp := func(port uint16) estate.Rule {
		return estate.Rule{Inbound: true, Protocol: "tcp", From: port, To: port}
	}
	for _, c := range []struct {
		id   string
		port uint16
		want time.Time
	}{{"i-g", 22, at}, {"i-g", 80, time.Time{}}, {"i-l", 5432, at.Add(time.Hour)}, {"i-q", 22, at.Add(time.Hour)}, {"i-p", 22, time.Time{}}} {
		if got := used(j.Instance(c.id), tcp(c.port)); !got.Equal(c.want) {
			t.Errorf("%s at %d was used %s, want %s", c.id, c.port, got, c.want)
		}
	}
}

func TestWhatIsLetInAndNotUsed(t *testing.T) {
	w := reef(t)
	now := time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)
	visits := map[string]time.Time{"quay": now.AddDate(0, 0, -1), "gauge": now.AddDate(0, 0, -9)}
	told := func(meant func(*estate.Kept, *estate.Instance) bool, unused bool) (all []string) {
		for _, l := range w.LetIn(visits, meant, unused, now) {
			all = append(all, l.Called+" "+l.Ports)
		}
		return all
	}
	if got := told(nil, false); len(got) != 4 || got[0] != "shore tcp 22" {
		t.Errorf("everybody first: %q", got)
	}
	if got := told(nil, true); !slices.Equal(got, []string{"pier tcp 22", "tide tcp 5432", "reef tcp 22"}) {
		t.Errorf("unused, the oldest first: %q", got)
	}
	if got := told(func(_ *estate.Kept, i *estate.Instance) bool { return i.Name == "gauge" }, true); !slices.Equal(got, []string{"reef tcp 22"}) {
		t.Errorf("of gauge alone: %q", got)
	}
}
