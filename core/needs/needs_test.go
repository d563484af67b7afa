package needs

import (
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/link"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/workspace"
)

func report(session, hop string, g gate.Gate) gate.Report {
	return gate.Report{Session: session, Hops: []gate.Hop{{Name: hop, Gates: []gate.Gate{g}}}}
}

// Everything is told once, the gravest first; what is for one reason is counted.
func TestTheGravestComesFirst(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	var causes Causes
	for _, r := range []gate.Report{
		report("gauge-3", "gauge-3", gate.Gate{Kind: gate.Port, Verdict: gate.Shut, Reason: "refused"}),
		report("gauge-2", "gauge-2", gate.Gate{Kind: gate.Identity, Verdict: gate.Shut, Reason: "another key", Remedy: gate.Remedy{Say: "settle it", Act: gate.Settle}}),
		report("quay", "quay", gate.Gate{Kind: gate.Key, Verdict: gate.Open}),
		report("lamp", "lamp", gate.Gate{Kind: gate.Channel, Verdict: gate.Ajar, Reason: "may draw"}),
	} {
		causes.Add(r, true)
	}
	loose := gate.Gate{Kind: gate.Key, Verdict: gate.Shut, Reason: "others can read it", Remedy: gate.Remedy{Say: "set mode 0600", Act: gate.MendKey, Subject: "/bay/keys/tide.pem"}}
	for _, session := range []string{"tide-db", "tide-web"} {
		causes.Add(report(session, session, loose), false)
	}
	causes.Add(gate.Report{Session: "torn", Broken: "it goes via itself"}, false)
	ending := &keyfile.Certificate{Cert: &ssh.Certificate{ValidBefore: uint64(now.Add(48 * time.Hour).Unix())}}
	endless := &keyfile.Certificate{Cert: &ssh.Certificate{ValidBefore: ssh.CertTimeInfinity}}
	all := Of(Sources{
		Causes: causes.All(),
		Keys: []workspace.Key{
			{Path: "/bay/keys/tide.pem", Uses: []string{"tide-db"}}, {Path: "/home/d/new.pem", Source: workspace.Downloaded},
			{Path: "/bay/keys/mast.pem", Cert: ending}, {Path: "/bay/keys/pier.pem", Cert: endless},
		},
		Links:   []link.State{{Hop: "quay", Frozen: true, LastIn: now}, {Hop: "mole"}},
		Lost:    map[string]string{"gauge-1": "cut off at quay"},
		Tunnels: []tunnel.Line{{Listener: "0.0.0.0:8080", Session: "tables", Beyond: true}, {Listener: "127.0.0.1:1"}},
		Asked:   "spit",
		Before:  []string{"quay", "gauge-1"},
		Recap:   trail.Recap{From: now, Drops: make([]trail.Drop, 2), Refused: 1},
		Now:     now,
	})
	var got []string
	for _, n := range all {
		got = append(got, kindNames[n.Kind]+" "+n.Of)
	}
	want := []string{"identity gauge-2", "exposed tide.pem", "lost gauge-1", "lost quay", "open 0.0.0.0:8080", "asked spit", "arrived new.pem", "certificate mast.pem", "failed gauge-3", "barred torn", "meanwhile since " + now.Local().Format("2 Jan 15:04"), "before last time"}
	if !slices.Equal(got, want) {
		t.Errorf("%q, want\n%q", got, want)
	}
	if n := all[1]; n.Sessions != 2 || n.Session != "tide-db" || n.Remedy != "set mode 0600" || n.New {
		t.Errorf("%+v", n)
	}
	if !causes.Shut() {
		t.Error("nothing is shut")
	}
}

// What was not there when one last looked is new, and comes before what was.
func TestWhatIsNewIsKnown(t *testing.T) {
	w, err := workspace.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	key := func(name string) workspace.Key {
		return workspace.Key{Path: "/d/" + name, Source: workspace.Downloaded}
	}
	now := time.Now()
	seen, err := ReadSeen(w)
	if err != nil || !seen.At.IsZero() {
		t.Fatalf("%+v, %v", seen, err)
	}
	first := Of(Sources{Keys: []workspace.Key{key("a.pem")}, Seen: seen, Now: now})
	if first[0].New {
		t.Error("everything is new at the first start")
	}
	if err := Remember(w, first, now); err != nil {
		t.Fatal(err)
	}
	if seen, err = ReadSeen(w); err != nil || len(seen.IDs) != 1 {
		t.Fatalf("%+v, %v", seen, err)
	}
	second := Of(Sources{Keys: []workspace.Key{key("a.pem"), key("b.pem")}, Seen: seen, Now: now})
	if second[0].Of != "b.pem" || !second[0].New || second[1].New {
		t.Errorf("%+v", second)
	}
	path := filepath.Join(w.Dir, workspace.StateDir, "needs.json")
	if err := os.WriteFile(path, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := ReadSeen(w); err == nil {
		t.Error("a damaged file is not told of")
	}
}
