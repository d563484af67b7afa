package reach

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"strings"
	"testing"

	"meatus/core/estate"
)

func edits(t *testing.T, s *estate.Snapshot, text string) []Edit {
	t.Helper()
	all, err := ReadEdits(text, s)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func TestAChangeFileIsReadAndWritten(t *testing.T) {
	s := bay()
	j := NewJudge(s)
	text := "add to shore: lets in tcp 443 from 198.51.100.7/32\ndrop from shore: lets in tcp 22 from everybody (0.0.0.0/0)\nadd to tide: lets in all tcp from whoever is in reef\n"
	all := edits(t, s, "# a change\n\n"+strings.ReplaceAll(text, "\n", "  # why\n"))
	again := ""
	for _, e := range all {
		again += j.Line(e) + "\n"
	}
	if again != text {
		t.Errorf("written again it is\n%s", again)
	}
	for bad, want := range map[string]string{
		"add to shore: lets in tcp 22 from x":          "line 1",
		"\nadd to none: lets in tcp 22 from everybody": "line 2: there is no group none",
		"open shore": "neither add to nor drop from",
		"add to shore lets in tcp 22 from everybody":   "says no rule",
		"add to shore: lets in tcp 22 from 10.0.0.1/8": "bits set behind its length",
	} {
		if _, err := ReadEdits(bad, s); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	for _, bad := range []string{"add to shore: lets in tcp 22 from everybody", "drop from shore: lets in tcp 23 from everybody"} {
		if _, err := j.With(edits(t, s, bad)); err == nil {
			t.Errorf("%q is tried", bad)
		}
	}
}

func TestWhatAChangeDoes(t *testing.T) {
	s := bay()
	j := NewJudge(s)
	means := func(*estate.Instance) Means { return Means{Session: "x"} }
	finding := Finding{Here: netip.MustParseAddr("192.0.2.1"), Means: means}
	ip := netip.MustParseAddr
	probes := []Probe{
		{Session: "quay", What: "quay at tcp 22", From: From{Address: finding.Here}, To: s.Instance("i-q"), At: ip("203.0.113.10"), Port: Port{"tcp", 22}},
		{Session: "gauge-1", What: "quay at tcp 22", From: From{Address: finding.Here}, To: s.Instance("i-q"), At: ip("203.0.113.10"), Port: Port{"tcp", 22}},
		{Session: "gauge-1", What: "gauge-1 at tcp 22", From: From{Instance: s.Instance("i-q")}, To: s.Instance("i-1"), At: ip("10.61.4.31"), Port: Port{"tcp", 22}},
		{Session: "tables", Tunnel: true, What: "tide-db at tcp 5432", From: From{Instance: s.Instance("i-q")}, To: s.Instance("i-t"), At: ip("10.61.4.20"), Port: Port{"tcp", 5432}},
	}
	for text, want := range map[string][]string{
		"drop from shore: lets in tcp 22 from everybody":                                                {"2 sessions shut, at quay at tcp 22: quay, gauge-1", "there is no way to quay any more", "there is no way to spit any more", "quay, spit at tcp 22: everybody no longer"},
		"drop from shore: lets in tcp 22 from everybody\nadd to shore: lets in tcp 22 from 192.0.2.1":   {"there is no way to spit any more", "quay, spit at tcp 22: everybody no longer"},
		"drop from tide: lets in tcp 5432 from 10.61.4.1":                                               {"a port forward of session tables shuts, at tide-db at tcp 5432", "tide-db at tcp 5432: no longer from 10.61.4.1/32"},
		"add to reef: lets in tcp 80-90 from everybody":                                                 {"gauge-1, gauge-2 at tcp 80-90: everybody who can come to its network gets there now", "tide-db at tcp 80-90: everybody who can come to its network gets there now"},
		"add to shore: lets in anything from everybody":                                                 {"quay, spit at anything: everybody gets there now, from outside"},
		"add to deep: lets in tcp 22 from 10.61.4.1":                                                    {"hermit at tcp 22: now from 10.61.4.1/32"},
		"drop from tide: lets in tcp 5432 from 10.61.4.9\nadd to tide: lets in tcp 5432 from 10.61.4.8": {"tide-db at tcp 5432: no longer from 10.61.4.9/32, now from 10.61.4.8/32"},
		"add to tide: lets in tcp 22 from 10.61.4.1":                                                    nil, // the reef lets it in already
	} {
		all := edits(t, s, text)
		after, err := j.With(all)
		if err != nil {
			t.Fatal(err)
		}
		if got := j.Compare(after, all, probes, finding).Say(); !slices.Equal(got, want) {
			t.Errorf("%s\nsays %q\nwant %q", text, got, want)
		}
	}
	if n := len(s.Groups[0].Rules); n != 2 {
		t.Errorf("trying changed the estate: %d rules", n)
	}
}

// What opens or shuts by a change is what a judge of the changed estate says, over random estates and changes.
func TestAScratchJudgesAsTheChangedEstate(t *testing.T) {
	for seed := range uint64(300) {
		source := rand.New(rand.NewPCG(seed, 16))
		s := random(source)
		j := NewJudge(s)
		g := &s.Groups[source.IntN(len(s.Groups))]
		e := Edit{Group: g.ID, Rule: estate.Rule{Inbound: true, Protocol: "tcp", From: 20, To: 30, CIDR: netip.MustParsePrefix("10.0.0.0/9")}}
		if len(g.Rules) > 0 && source.IntN(2) == 0 {
			e = Edit{Drop: true, Group: g.ID, Rule: g.Rules[source.IntN(len(g.Rules))]}
		}
		after, err := j.With([]Edit{e})
		if err != nil {
			continue // a rule that is there twice, or already
		}
		changed := *s
		changed.Groups = slices.Clone(s.Groups)
		for i := range changed.Groups {
			if c := &changed.Groups[i]; c.ID == e.Group {
				if e.Drop {
					at := slices.IndexFunc(c.Rules, e.Rule.Same)
					c.Rules = slices.Delete(slices.Clone(c.Rules), at, at+1)
				} else {
					c.Rules = append(slices.Clone(c.Rules), e.Rule)
				}
			}
		}
		anew := NewJudge(&changed)
		anew.out = j.out // a source that tells of outbound rules goes on to, also where none is left
		for n := range s.Instances {
			for m := range s.Instances {
				port := Port{"tcp", uint16(20 + source.IntN(12))}
				from := From{Instance: &s.Instances[n]}
				if a, b := after.Ask(from, &s.Instances[m], port), anew.Ask(from, &s.Instances[m], port); fmt.Sprint(a) != fmt.Sprint(b) {
					t.Fatalf("seed %d: %s to %s at %s:\n%v\nanew\n%v", seed, s.Instances[n].ID, s.Instances[m].ID, port, a, b)
				}
			}
		}
	}
}

func TestWhatIsMissing(t *testing.T) {
	s := bay()
	j := NewJudge(s)
	all, ok := j.Missing(From{Instance: s.Instance("i-t")}, s.Instance("i-q"), netip.MustParseAddr("10.61.4.1"), Port{"tcp", 8080})
	if !ok || len(all) != 1 || j.Line(all[0]) != "add to shore: lets in tcp 8080 from 10.61.4.20/32" {
		t.Errorf("missing %v, %v", all, ok)
	}
	s.Groups[1].Rules = s.Groups[1].Rules[:2] // the reef lets nothing out
	j = NewJudge(s)
	if all, ok = j.Missing(From{Instance: s.Instance("i-t")}, s.Instance("i-q"), netip.MustParseAddr("10.61.4.1"), Port{"tcp", 8080}); !ok || len(all) != 2 {
		t.Errorf("out and in: %v, %v", all, ok)
	}
	if _, ok = j.Missing(From{Instance: s.Instance("i-q")}, s.Instance("i-h"), netip.Addr{}, Port{"tcp", 22}); ok {
		t.Error("rules alone make a way to where there is none")
	}
}

func TestArrowsToldApart(t *testing.T) {
	var got []string
	for _, a := range NewJudge(bay()).Arrows() {
		to := ""
		for _, i := range a.To {
			to += " " + i.Name
		}
		got = append(got, fmt.Sprintf("%s %s >%s", a.Who, a.Ports, to))
	}
	want := []string{
		"everybody, from outside tcp 22 > quay spit", "10.61.4.1, quay tcp 22 > gauge-1 tide-db", "10.61.4.1, quay tcp 5432 > tide-db",
		"10.61.4.9, which no instance has tcp 5432 > tide-db", "whoever is in reef, 3 instances all tcp > gauge-1 tide-db",
	}
	if !slices.Equal(got, want) {
		t.Errorf("%s", strings.Join(got, "\n"))
	}
}

func TestWhereAnInstanceGetsTo(t *testing.T) {
	s := bay()
	var got []string
	for _, r := range NewJudge(s).From(s.Instance("i-q")) {
		if got = append(got, r.To.Name+" "+strings.Join(r.Ports, ", ")); !r.Answer.Open {
			t.Errorf("%s is told without a proof", r.To.Name)
		}
	}
	if want := []string{"gauge-1 tcp 22", "spit tcp 22", "tide-db tcp 22, tcp 5432"}; !slices.Equal(got, want) {
		t.Errorf("from quay: %q", got)
	}
}

func FuzzReadEdits(f *testing.F) {
	s := bay()
	j := NewJudge(s)
	f.Add("add to shore: lets in tcp 443 from 198.51.100.7\n# x\ndrop from reef: lets out anything to everybody")
	f.Fuzz(func(t *testing.T, text string) {
		all, err := ReadEdits(text, s)
		if err != nil {
			return
		}
		for _, e := range all {
			if again, err := ReadEdit(j.Line(e), s); err != nil || !again.Rule.Same(e.Rule) || again.Group != e.Group || again.Drop != e.Drop {
				t.Fatalf("%q is read as %+v, %v", j.Line(e), again, err)
			}
		}
	})
}

func BenchmarkWhatIf(b *testing.B) {
	s := large(20000)
	j := NewJudge(s)
	var probes []Probe
	for i := range 2000 {
		probes = append(probes, Probe{Session: fmt.Sprint("s-", i), What: "it", From: From{Instance: &s.Instances[i*7]}, To: &s.Instances[i*9+5], Port: Port{"tcp", 22}})
	}
	all := []Edit{{Group: "g-7", Rule: estate.Rule{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("0.0.0.0/0")}}}
	f := Finding{Means: func(*estate.Instance) Means { return Means{Session: "x"} }}
	for b.Loop() {
		after, err := j.With(all)
		if err != nil {
			b.Fatal(err)
		}
		j.Compare(after, all, probes, f)
	}
}
