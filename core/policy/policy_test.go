package policy_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"meatus/core/policy"
)

const (
	print1 = "SHA256:47DEQpj8HBSa+/TImW+5JCeuQeRkm5NMpJWZG3hSuFU"
	print2 = "SHA256:n4bQgYhMfWWaL+qgxVrQFaO/TxsrC4Is0V1sFbDwCgg"
)

const bay = `
# The keepers of Lantern Bay.
person mira   key ` + print1 + `
person mira   key ` + print2 + `
person oskar  certificate oskar@lantern.example
person anni   token anni@lantern.example
group keepers mira oskar
group all-hands keepers anni

allow keepers   to gauge-* tide-db
allow all-hands to tag:web
allow anni      to tide-db   on mon-fri at 08:00-18:00
zone Europe/Lisbon
allow anni      to survey    on fri at 22:00-06:00
deny  oskar     to gauge-4
deny  everyone  to tag:closed
`

func parse(t testing.TB, text string) *policy.Policy {
	t.Helper()
	p, err := policy.Parse("bay.policy", []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestDecisions(t *testing.T) {
	p := parse(t, bay)
	at := func(text string) time.Time {
		when, err := time.Parse(time.RFC3339, text)
		if err != nil {
			t.Fatal(err)
		}
		return when
	}
	for _, c := range []struct {
		who     string
		what    policy.Machine
		when    string
		allowed bool
		line    int
	}{
		{"mira", policy.Machine{Name: "gauge-1"}, "2026-11-27T03:00:00Z", true, 10},
		{"mira", policy.Machine{Name: "gauge"}, "2026-11-27T03:00:00Z", false, 0},
		{"mira", policy.Machine{Name: "survey-web", Tags: []string{"web"}}, "2026-11-27T03:00:00Z", true, 11},
		{"anni", policy.Machine{Name: "gauge-1"}, "2026-11-27T03:00:00Z", false, 0},
		{"oskar", policy.Machine{Name: "gauge-4"}, "2026-11-27T03:00:00Z", false, 15},
		{"oskar", policy.Machine{Name: "gauge-3"}, "2026-11-27T03:00:00Z", true, 10},
		{"mira", policy.Machine{Name: "tide-db", Tags: []string{"closed"}}, "2026-11-27T03:00:00Z", false, 16},
		{"nobody", policy.Machine{Name: "tide-db"}, "2026-11-27T03:00:00Z", false, 0},
		{"anni", policy.Machine{Name: "tide-db"}, "2026-11-27T08:00:00Z", true, 12},
		{"anni", policy.Machine{Name: "tide-db"}, "2026-11-27T07:59:59Z", false, 0},
		{"anni", policy.Machine{Name: "tide-db"}, "2026-11-27T18:00:00Z", false, 0},
		{"anni", policy.Machine{Name: "tide-db"}, "2026-11-28T12:00:00Z", false, 0}, // a Saturday
		{"anni", policy.Machine{Name: "survey"}, "2026-11-28T05:59:00Z", true, 14},  // Friday's night
		{"anni", policy.Machine{Name: "survey"}, "2026-11-27T05:59:00Z", false, 0},  // Thursday's
		{"anni", policy.Machine{Name: "survey"}, "2026-07-03T21:30:00Z", true, 14},  // summer time there
		{"anni", policy.Machine{Name: "survey"}, "2026-11-27T21:30:00Z", false, 0},
	} {
		d := p.Decide(c.who, policy.Question{Machine: c.what, At: at(c.when)})
		line := 0
		if d.Rule != nil {
			line = d.Rule.Line
		}
		if d.Allowed != c.allowed || line != c.line || d.Why == "" {
			t.Errorf("%s to %+v at %s: %+v", c.who, c.what, c.when, d)
		}
	}
	if d := p.Decide("anni", policy.Question{Machine: policy.Machine{Name: "tide-db"}, At: at("2026-11-28T12:00:00Z")}); len(d.Near) != 1 || !strings.Contains(d.Why, "another time") {
		t.Errorf("%+v", d)
	}
	for mark, who := range map[policy.Mark]string{
		{Kind: policy.ByKey, Text: print2}: "mira", {Kind: policy.ByToken, Text: "anni@lantern.example"}: "anni",
		{Kind: policy.ByCertificate, Text: "anni@lantern.example"}: "", {Kind: policy.ByKey, Text: ""}: "",
	} {
		if got := p.Known(mark); got != who {
			t.Errorf("%+v: %q", mark, got)
		}
	}
}

func TestMistakesAreToldByTheirLine(t *testing.T) {
	for text, says := range map[string]string{
		"permit mira to reef":      "1: a line begins with",
		"\nperson":                 "2: something is missing",
		"person mira key SHA256:x": "1: \"SHA256:x\" is no fingerprint",
		"person mira password x":   "write it like: person NAME",
		"person to key " + print1:  "cannot be a name",
		"person a key " + print1 + "\nperson b key " + print1: "2: a is known by the same key",
		"person mira\ngroup mira mira":                        "2: \"mira\" is a person already, on line 1",
		"person a\ngroup g a\ngroup g a":                      "3: \"g\" is a group already, on line 2",
		"group g h\ngroup h g":                                "is in itself: g → h → g",
		"group g nobody":                                      "1: there is nobody called \"nobody\"",
		"allow nobody to reef":                                "1: there is nobody called \"nobody\"",
		"person a\nallow a reef":                              "2: who and what are missing",
		"person a\nallow a to":                                "2: who and what are missing",
		"person a\nallow a to on mon":                         "2: to what is missing",
		"person a\nallow a to reef on moon":                   "2: \"moon\" is no day",
		"person a\nallow a to reef at 8-25":                   "2: \"8-25\" are no hours",
		"person a\nallow a to reef at 08:00-08:00":            "are no hours",
		"person a\nallow a to reef for ever":                  "", // two more machines
		"person a\nallow a to reef on mon often":              "is not understood",
		"person a\nallow a to [":                              "is no pattern",
		"person a\nallow a to net:reef":                       "by name, by pattern, or by tag:NAME",
		"reads nobody":                                        "1: there is nobody",
		"reads":                                               "something is missing",
		"zone Atlantis":                                       "is no time zone",
		"zone Local":                                          "is no time zone",
		"person a\nlimit a":                                   "write it like: limit",
		"person a\nlimit a streams":                           "how many streams is missing",
		"person a\nlimit a streams 0":                         "\"0\" is no streams",
		"person a\nlimit a daily 10":                          "\"10\" is no daily",
		"person a\nlimit a streams 1 width 2":                 "\"width\" is no limit",
		"limit nobody streams 1":                              "there is nobody",
		"allow \033[31m to x":                                 "",
		"person a # key\nallow a to reef # that's it":         "",
	} {
		_, err := policy.Parse("p", []byte(text))
		if says == "" && strings.HasPrefix(text, "person") {
			if err != nil {
				t.Errorf("%q: %v", text, err)
			}
			continue
		}
		var mistakes policy.Mistakes
		if !errors.As(err, &mistakes) || !strings.Contains(err.Error(), says) || !strings.HasPrefix(err.Error(), "p:") || strings.Contains(err.Error(), "\033") {
			t.Errorf("%q: %v", text, err)
		}
	}
	// Every mistake is told, in the order of the lines.
	_, err := policy.Parse("p", []byte("x\nallow a to b\ny"))
	var mistakes policy.Mistakes
	if !errors.As(err, &mistakes) || len(mistakes) != 3 || mistakes[1].Line != 2 {
		t.Errorf("%v", err)
	}
}

func TestLimits(t *testing.T) {
	p := parse(t, bay+"limit keepers streams 20 daily 10GB\nlimit mira streams 4 connections 2\nlimit machine gauge-* tag:web streams 3\nlimit everyone streams 100\n")
	if got, want := p.LimitsOf("mira"), (policy.Limits{Connections: 2, Streams: 4, Daily: 10e9}); got != want {
		t.Errorf("%+v", got)
	}
	if got, want := p.LimitsOf("anni"), (policy.Limits{Streams: 100}); got != want {
		t.Errorf("%+v", got)
	}
	if got, want := p.LimitsAt(policy.Machine{Name: "gauge-1"}), (policy.Limits{Streams: 3}); got != want {
		t.Errorf("%+v", got)
	}
	if got := p.LimitsAt(policy.Machine{Name: "tide-db"}); got != (policy.Limits{}) {
		t.Errorf("%+v", got)
	}
}

func TestWhoReadsTheRecord(t *testing.T) {
	p := parse(t, bay+"reads keepers\n")
	for who, want := range map[string]bool{"mira": true, "oskar": true, "anni": false, "": false} {
		if p.Reads(who) != want {
			t.Errorf("%s: %v", who, !want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(bay)
	f.Add("limit machine x streams 1\nallow everyone to anything at 00:00-24:00")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := policy.Parse("p", []byte(text))
		if err != nil {
			return
		}
		for _, who := range p.People() {
			m := policy.Machine{Name: "gauge-1", Tags: []string{"web"}}
			d := p.Decide(who, policy.Question{Machine: m, At: time.Unix(0, 0)})
			if d.Allowed && (d.Rule == nil || d.Rule.Deny) {
				t.Errorf("allowed by %+v", d)
			}
			p.LimitsOf(who)
			p.LimitsAt(m)
		}
	})
}

// BenchmarkDecide is one decision by a policy of 10,000 lines.
func BenchmarkDecide(b *testing.B) {
	var text strings.Builder
	for i := range 1000 {
		fmt.Fprintf(&text, "person p%d certificate p%d@lantern.example\n", i, i)
	}
	for i := range 100 {
		fmt.Fprintf(&text, "group g%d", i)
		for j := range 50 {
			fmt.Fprintf(&text, " p%d", (i*37+j)%1000)
		}
		text.WriteString("\n")
	}
	for i := range 8900 {
		switch i % 4 {
		case 0:
			fmt.Fprintf(&text, "allow g%d to gauge-%d\n", i%100, i)
		case 1:
			fmt.Fprintf(&text, "allow p%d to tide-%d-*\n", i%1000, i)
		case 2:
			fmt.Fprintf(&text, "allow g%d to tag:t%d on mon-fri at 08:00-18:00\n", i%100, i%50)
		case 3:
			fmt.Fprintf(&text, "deny p%d to lamp-%d\n", i%1000, i)
		}
	}
	p := parse(b, text.String())
	m := policy.Machine{Name: "gauge-400", Tags: []string{"t3", "t9"}}
	at := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	b.ResetTimer()
	for i := range b.N {
		p.Decide(fmt.Sprintf("p%d", i%1000), policy.Question{Machine: m, At: at})
	}
}
