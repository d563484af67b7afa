package estates

import (
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/workspace"
	"meatus/tui/placetest"
)

// ruled shows the bay's estate at an instance.
func ruled(t *testing.T, session string) (*placetest.Driver, *Model) {
	t.Helper()
	d, _, m := bay(t)
	m.Select(session)
	return d, m
}

func TestRulesAreTriedAndLightUp(t *testing.T) {
	d, m := ruled(t, "sluice")
	d.Press("e")
	d.UntilSees("rules of sluice", "as they are", "❯", "sluice: lets in tcp 22 from 10.61.4.61/32", "Drop a rule or add one")
	d.Fits()
	d.Press("n")
	d.UntilSees("add to sluice: lets in tcp 22 from")
	d.Type("10.61.4.1")
	d.UntilSees("session sluice opens, at sluice at tcp 22") // while it is typed
	d.Fits()
	d.Press("enter")
	d.UntilSees("1 change tried", "+ sluice: lets in tcp 22 from 10.61.4.1/32")
	d.Press("n")
	d.Type("everybody")
	d.UntilSees("everybody who can come to its network gets there now", "sluice!")
	d.Press("esc")
	d.Until("it to be left", func() bool { return !strings.Contains(d.See(), "everybody who can come") })
	d.Press("n")
	d.Type("nowhere")
	d.UntilSees("nowhere is no address")
	d.Press("enter", "esc", "tab", "D")
	d.UntilSees("2 changes tried")
	d.Press("u")
	d.UntilSees("1 change tried")
	d.Press("X")
	d.Until("the file", func() bool {
		files, _ := filepath.Glob(filepath.Join(d.Engine.Workspace().Dir, "rules-*.txt"))
		if len(files) != 1 {
			return false
		}
		text, _ := os.ReadFile(files[0])
		return strings.HasSuffix(string(text), "\nadd to sluice: lets in tcp 22 from 10.61.4.1/32\n")
	})
	d.Press("esc")
	d.UntilSaid("esc again to drop 1 change")
	d.Press("enter", "enter") // another key takes that back
	d.Until("it to be applied", func() bool { return m.scratch == nil })
	d.UntilSees("● change rules bay", "add to sluice: lets in tcp 22 from 10.61.4.1/32")
	d.Services.ReadEstates()
	m.Select("sluice")
	d.UntilSees("sluice: lets in tcp 22 from 10.61.4.1/32")
	d.Press("e", "u")
	d.UntilSaid("u again to undo 1 change")
	d.Press("u")
	d.Until("it to be undone", func() bool {
		g, err := d.Engine.Workspace().Estates[0].Snapshot.GroupNamed("sluice")
		return err == nil && len(g.Rules) == 3
	})
	d.UntilSees("● undo rules bay") // it is over
	d.Press("u")
	d.UntilSaid("no change of its rules was made from here that stands")
	d.Press("esc")
	d.Until("the card", func() bool { return m.scratch == nil })
}

// The estate changes while one tries rules: what somebody else has made meanwhile is no edit any more.
func TestAnEstateThatChangesUnderAScratch(t *testing.T) {
	d, m := ruled(t, "sluice")
	d.Press("e", "n")
	d.Type("10.61.4.1")
	d.UntilSees("session sluice opens")
	d.Press("enter", "n")
	d.Type("10.61.4.9")
	d.UntilSees("sluice at tcp 22: now from 10.61.4.1/32, 10.61.4.9/32")
	d.Press("enter")
	d.UntilSees("2 changes tried")
	ws := d.Engine.Workspace()
	e, _ := ws.Source("bay")
	if _, err := (&estate.Source{Dir: ws.Dir, EstateSource: e}).AddRule(t.Context(), "g-sluice", m.scratch.edits[0].Rule, ""); err != nil {
		t.Fatal(err)
	}
	d.Services.ReadEstates()
	d.UntilSees("1 change tried", "sluice at tcp 22: now from 10.61.4.9/32")
	d.Press("esc", "esc", "*")
	d.UntilSees("10.61.4.1, quay", "tcp 22")
	d.Fits()
}

func TestWaysToAServiceAreShown(t *testing.T) {
	d, _ := ruled(t, "tide-db")
	d.Press("V")
	d.UntilSees("ways to tide-db, tcp 22")
	d.Press("c")
	d.UntilSees("which port, as 5432 or udp/53:")
	d.Type("5432")
	d.Press("enter")
	d.UntilSees("ways to tide-db, tcp 5432", "tide: lets in tcp 5432 from 10.61.4.1/32")
	d.Fits()
	d.Press("c")
	d.Type("udp/53")
	d.Press("enter")
	d.UntilSees("ways to tide-db, udp 53", "there is none", "let udp 53 in from 10.61.4.1, in group tide")
	d.Fits()
	d.Press("c")
	d.Type("much")
	d.Press("enter")
	d.UntilSaid("much is no port")
}

func TestWhoIsLetInIsDrawn(t *testing.T) {
	d, m := ruled(t, "quay")
	d.Press("*")
	d.UntilSees("what is open to whom", "everybody, from outside", "─▶ quay", "10.61.4.9, which no instance has", "whoever is in reef, 11 instances", "never from here")
	d.Fits()
	d.Press("|")
	d.UntilSees("unused for a week, the oldest first")
	d.Press("|", "down")
	d.UntilSees("lets in tcp 7-8080 from 10.61.4.1/32")
	d.Press("up", "e")
	d.UntilSees("rules of quay", "19 sessions shut, at quay at tcp 22", "quay at tcp 22: everybody no longer")
	d.Fits()
	d.Press("esc", "esc")
	d.Press("*")
	d.UntilSees("─▶ quay")
	d.Press("end", "enter")
	d.Until("an instance of the last", func() bool { return m.exposed == nil && m.Subject() == "archive" })
	d.Press("*", "esc")
	d.Until("the networks", func() bool { return m.exposed == nil })
}

func TestASessionIsMadeOfAWay(t *testing.T) {
	d, m := ruled(t, "sluice")
	d.Press("V")
	d.UntilSees("ways to sluice", "here ── quay ── archive ── sluice", "here ── quay ── mast ── sluice", "1 of 2, tab the next")
	d.Press("tab")
	d.UntilSees("mast: session mast", "sluice: lets in tcp 22 from 10.61.4.61/32")
	d.Press("n")
	d.UntilSaid("n again to write session sluice-2, via mast")
	d.Press("n")
	d.Until("the session", func() bool {
		s := d.Engine.Workspace().Book.Session("sluice-2")
		return s != nil && s.Bound != nil && strings.Join(s.Via.V, "") == "mast"
	})
	d.UntilSees("ways to sluice")
	d.Press("V")
	d.UntilSees("from sluice", "── quay  tcp 22")
	d.Press("V", "V")
	d.UntilSees("ways to sluice")
	d.Press("esc")
	d.Until("its card", func() bool { return m.ways == nil && len(d.Went) == 0 })
	m.Select("@mast")
	m.Show()
	d.Do(m.Show())
	d.UntilSees("ways to mast")
	d.Press("V")
	d.UntilSees("from mast", "── sluice  tcp 22")
}

// BenchmarkScratchKeyToFrame is a key typed into a rule that is tried, to the frame, with 20,000 instances and 2,000 groups.
func BenchmarkScratchKeyToFrame(b *testing.B) {
	d := placetest.Workspace(b, "[session.quay]\nhost = \"203.0.113.10\"\n")
	m := New(d.Services).(*Model)
	m.SetSize(160, 47)
	kept := &estate.Kept{Source: "bay"}
	for i := range 2000 {
		g := estate.Group{ID: fmt.Sprint("g-", i), Name: fmt.Sprint("role-", i)}
		for r := range 50 {
			g.Rules = append(g.Rules, estate.Rule{Inbound: true, Protocol: "tcp", From: uint16(r), To: uint16(r), CIDR: netip.MustParsePrefix("10.0.0.0/8")})
		}
		kept.Snapshot.Groups = append(kept.Snapshot.Groups, g)
	}
	for i := range 20000 {
		kept.Snapshot.Instances = append(kept.Snapshot.Instances, estate.Instance{ID: fmt.Sprint("i-", i), State: estate.Running, Groups: []string{fmt.Sprint("g-", i%2000)}})
	}
	var areas []estate.Area
	for a := range 200 {
		area := estate.Area{Network: &estate.Network{ID: fmt.Sprint("net-", a)}, Parent: -1, Source: kept}
		for i := range 100 {
			area.Spots = append(area.Spots, estate.Spot{Source: kept, Instance: &kept.Snapshot.Instances[a*100+i]})
		}
		areas = append(areas, area)
	}
	m.take(areas)
	m.scratch = &scratch{source: "bay", judge: reach.NewJudge(&kept.Snapshot), marks: map[string]lit{}}
	m.typeRule()
	for b.Loop() {
		for _, c := range "10.61.4.1" {
			m.Update(tea.KeyPressMsg{Code: c, Text: string(c)})
			m.View()
		}
		for range 9 {
			m.Update(tea.KeyPressMsg{Code: tea.KeyBackspace})
			m.View()
		}
	}
	b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/18, "ns/key")
}

// What is chosen of the key pairs and of the rules stays chosen where they are found anew in another order, and where it is
// gone, nothing is.
func TestWhatIsChosenStaysWhereRulesAndKeyPairsChange(t *testing.T) {
	_, m := ruled(t, "quay")
	pair := func(name string) estate.Use { return estate.Use{Source: "bay", KeyPair: estate.KeyPair{Name: name}} }
	m.Update(usesFound{[]estate.Use{pair("shore"), pair("tide")}})
	m.Update(usesFound{[]estate.Use{pair("gauge"), pair("tide"), pair("shore")}})
	if u, ok := m.use(); !ok || u.Name != "shore" {
		t.Errorf("key pair %q is chosen", u.Name)
	}
	m.Update(usesFound{[]estate.Use{pair("gauge"), pair("tide")}})
	if u, ok := m.use(); ok {
		t.Errorf("key pair %q is taken for the one that is gone", u.Name)
	}
	arrow := func(who string) workspace.LetsIn {
		return workspace.LetsIn{Source: "bay", Arrow: reach.Arrow{Who: who}}
	}
	m.showExposed()
	m.Update(exposing{[]workspace.LetsIn{arrow("quay"), arrow("reef")}})
	m.Update(exposing{[]workspace.LetsIn{arrow("everybody"), arrow("quay")}})
	if x, ok := m.arrow(); !ok || x.Who != "quay" {
		t.Errorf("the rule of %q is chosen", x.Who)
	}
	m.Update(exposing{[]workspace.LetsIn{arrow("everybody")}})
	if x, ok := m.arrow(); ok {
		t.Errorf("the rule of %q is taken for the one that is gone", x.Who)
	}
}
