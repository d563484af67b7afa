package policy_test

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"
	"testing"
	"time"

	"meatus/core/policy"
	"meatus/core/rights"
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
		"person a\nallow a to reef on moon":                   "2:20: \"moon\" is no day",
		"person a\nallow a to reef at 8-25":                   "2:20: \"8-25\" are no hours",
		"person a\nallow a to reef at 08:00-08:00":            "are no hours",
		"person a\nallow a to reef for ever":                  "is no time for a lease",
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

const leases = `
person mira   key ` + print1 + `
person oskar  token oskar@lantern.example
person runa   token runa@lantern.example
person anni   token anni@lantern.example
group keepers mira oskar
group wardens runa mira

allow keepers to tag:reef as keeper for 90s called night-watch
allow keepers to tide-db  as root keeper for 10m with reason end agreed-by wardens
allow anni    to site:harbour network:inner instance:i-7 as logs may files from 10.0.0.0/8 203.0.113.7 on mon-fri at 08:00-18:00
allow anni    to quay     as jump may tunnels for 8h with source
deny  oskar   to tide-db  as root on sat,sun
deny  oskar   to tide-db  as backup
deny  everyone to tag:closed as root
enrols wardens
`

func TestLoginsByLeases(t *testing.T) {
	p := parse(t, leases)
	monday, saturday := time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC), time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	reef, db := policy.Machine{Name: "reef-1", Tags: []string{"reef"}}, policy.Machine{Name: "tide-db"}
	inner := netip.MustParseAddr("10.2.3.4")
	for _, c := range []struct {
		who, login string
		m          policy.Machine
		from       netip.Addr
		at         time.Time
		rule       int // that decides, 0 for none
		allowed    bool
	}{
		{"mira", "keeper", reef, netip.Addr{}, monday, 9, true},
		{"mira", "root", reef, netip.Addr{}, monday, 0, false},
		{"mira", "", reef, netip.Addr{}, monday, 9, true}, // it may be reached, then
		{"oskar", "root", db, netip.Addr{}, monday, 10, true},
		{"oskar", "root", db, netip.Addr{}, saturday, 13, false},
		{"oskar", "keeper", db, netip.Addr{}, saturday, 10, true},
		{"oskar", "", db, netip.Addr{}, saturday, 10, true}, // a login alone is denied
		{"oskar", "backup", db, netip.Addr{}, monday, 14, false},
		{"anni", "logs", policy.Machine{Name: "x", Site: "harbour"}, inner, monday, 11, true},
		{"anni", "logs", policy.Machine{Name: "x", Networks: []string{"inner"}}, inner, monday, 11, true},
		{"anni", "logs", policy.Machine{Name: "x", Instance: "i-7"}, netip.MustParseAddr("::ffff:203.0.113.7"), monday, 11, true},
		{"anni", "logs", policy.Machine{Name: "x", Instance: "i-7"}, netip.MustParseAddr("203.0.113.8"), monday, 0, false},
		{"anni", "logs", policy.Machine{Name: "x", Site: "harbour"}, netip.Addr{}, monday, 0, false}, // nobody knows from where
		{"anni", "logs", policy.Machine{Name: "x", Site: "harbour"}, inner, saturday, 0, false},
		{"anni", "keeper", policy.Machine{Name: "x", Site: "harbour"}, inner, monday, 0, false},
		{"mira", "root", policy.Machine{Name: "tide-db", Tags: []string{"closed"}}, netip.Addr{}, monday, 15, false},
	} {
		d := p.Decide(c.who, policy.Question{Machine: c.m, Login: c.login, From: c.from, At: c.at})
		line := 0
		if d.Rule != nil {
			line = d.Rule.Line
		}
		if d.Allowed != c.allowed || line != c.rule {
			t.Errorf("%s as %q at %+v from %v at %v: %+v", c.who, c.login, c.m, c.from, c.at, d)
		}
	}
	d := p.Decide("oskar", policy.Question{Machine: db, Login: "root", At: monday})
	if got := d.Rule.Terms; got.Life != 10*time.Minute || got.May != rights.Shell || !got.Reason || !got.Ends || got.Source {
		t.Errorf("%+v", got)
	}
	if got := p.Agreers(d.Rule, "oskar"); fmt.Sprint(got) != "[mira runa]" {
		t.Errorf("%v", got)
	}
	if got := p.Agreers(d.Rule, "mira"); fmt.Sprint(got) != "[runa]" { // nobody agrees to one's own
		t.Errorf("%v", got)
	}
	if !p.Enrols("runa") || p.Enrols("oskar") {
		t.Error("who enrols")
	}
	if d := p.Decide("anni", policy.Question{Machine: policy.Machine{Name: "quay"}, Login: "jump", At: saturday}); !d.Allowed || d.Rule.Terms.May != rights.Tunnels || !d.Rule.Terms.Source || d.Rule.Terms.Life != 8*time.Hour {
		t.Errorf("%+v", d)
	}
}

func TestWhatPeopleMay(t *testing.T) {
	p := parse(t, leases)
	say := func(all []policy.Standing) string {
		var b strings.Builder
		for _, s := range all {
			b.WriteString(s.Say() + "\n")
		}
		return b.String()
	}
	machines := []policy.Machine{{Name: "tide-db"}, {Name: "reef-1", Tags: []string{"reef"}}}
	if got := say(p.WhoCan(machines[0])); got != `mira may log in as keeper at tide-db: always, for 10m, may shell, with a reason, agreed by one of wardens, shells end with it (line 10)
mira may log in as root at tide-db: always, for 10m, may shell, with a reason, agreed by one of wardens, shells end with it (line 10)
oskar may not log in as backup at tide-db: line 14 denies it
oskar may log in as keeper at tide-db: always, for 10m, may shell, with a reason, agreed by one of wardens, shells end with it (line 10)
oskar may log in as root at tide-db: always, for 10m, may shell, with a reason, agreed by one of wardens, shells end with it (line 10); not on sat,sun (line 13)
` {
		t.Errorf("%s", got)
	}
	if got := say(p.Can("anni", append(machines, policy.Machine{Name: "x", Site: "harbour"}))); got != "anni may log in as logs at x: on mon-fri at 08:00-18:00, from 10.0.0.0/8 or 203.0.113.7/32, for 1m, may files (line 11)\n" {
		t.Errorf("%s", got)
	}
	// What another policy changes, for whom.
	changed := func(from, to string) string {
		var b strings.Builder
		for _, c := range parse(t, to).Compare(parse(t, from), machines) {
			b.WriteString(c.Say() + "\n")
		}
		return b.String()
	}
	if got := changed(leases, "# a note\n"+strings.ReplaceAll(leases, "night-watch", "day-watch")); got != "" { // nothing but names and places
		t.Errorf("%s", got)
	}
	if got := changed(leases, strings.ReplaceAll(leases, "group wardens runa mira", "group wardens runa")); got != "" {
		t.Errorf("%s", got)
	}
	want := "oskar may no longer log in as keeper at reef-1; before: always, for 90s, may shell (rule night-watch)\n"
	if got := changed(leases, strings.ReplaceAll(leases, "allow keepers to tag:reef", "allow mira to tag:reef")); !strings.Contains(got, want) || !strings.Contains(got, "oskar may no longer reach reef-1") || strings.Contains(got, "mira") {
		t.Errorf("%s", got)
	}
	if got := changed(leases, strings.ReplaceAll(leases, "for 90s", "for 5m")); strings.Contains(got, "reach") || !strings.Contains(got, "mira may log in as keeper at reef-1 otherwise than before: always, for 5m") {
		t.Errorf("%s", got)
	}
	if got := changed(leases, leases+"deny mira to anything\nperson bo token bo@x\n"); !strings.Contains(got, "bo is known now, by token bo@x\n") || !strings.Contains(got, "mira may no longer log in as keeper at tide-db") {
		t.Errorf("%s", got)
	}
}

func TestExpectations(t *testing.T) {
	p := parse(t, leases)
	known := func(name string) (policy.Machine, bool) {
		return policy.Machine{Name: name, Tags: []string{"reef"}}, name == "reef-1"
	}
	for text, say := range map[string]string{
		"expect mira may keeper at reef-1":                                         "",
		"expect keepers may keeper at reef-1":                                      "",
		"expect everyone may keeper at reef-1":                                     "anni may not log in as keeper at reef-1: no rule allows it",
		"expect anni may NOT root at tide-db":                                      "",
		"expect oskar may NOT root at tide-db":                                     "x:1: expect oskar may NOT root at tide-db: it does not hold, since oskar may log in",
		"expect oskar may root at tide-db":                                         "",
		"expect oskar may NOT root at tide-db when sat 12:00":                      "",
		"expect oskar may root at tide-db when sat 12:00":                          "it does not hold",
		"expect oskar may root at tide-db when mon 00:00":                          "",
		"expect oskar may NOT backup at tide-db":                                   "",
		"expect anni may logs at x site:harbour from 10.1.1.1":                     "",
		"expect anni may logs at x site:harbour":                                   "it does not hold",
		"expect anni may NOT logs at x network:inner from 10.1.1.1 when fri 18:00": "",
		"expect mira may NOT root at db tag:closed\nexpect mira may reach tide-db": "",
		"expect nobody may root at x":                                              "knows nobody called \"nobody\"",
		"expect mira root at x":                                                    "x:1: it is not understood",
		"expect mira may root at x when moon 12:00":                                "is no day",
		"expect mira may root at x from here":                                      "is no address",
		"expect mira may root at x wherever":                                       "x:1: it is not understood",
	} {
		e, err := policy.ParseExpectations("x", []byte(text))
		if err == nil {
			err = e.Judge(p, known)
		}
		if (err == nil) != (say == "") || err != nil && !strings.Contains(err.Error(), say) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

// What is expected of a standing is what decisions come to at every minute of a week.
func TestExpectationsAgreeWithEveryMinute(t *testing.T) {
	const text = "person a token x\nzone Europe/Lisbon\nallow a to m as l on mon-wed at 22:00-06:00\nzone UTC\nallow a to m as l on wed at 05:00-09:30\ndeny a to m as l on tue at 01:00-02:00\n"
	p := parse(t, text)
	begin := time.Date(2026, 1, 4, 0, 0, 0, 0, time.UTC)
	some := 0
	for minute := range 7 * 24 * 60 {
		at := begin.Add(time.Duration(minute) * time.Minute)
		allowed := p.Decide("a", policy.Question{Machine: policy.Machine{Name: "m"}, Login: "l", At: at}).Allowed
		if allowed {
			some++
		}
		e, err := policy.ParseExpectations("x", []byte(fmt.Sprintf("expect a may %s l at m when %s", map[bool]string{true: "", false: "NOT"}[allowed], strings.ToLower(at.Format("Mon 15:04")))))
		if err != nil {
			t.Fatal(err)
		}
		if err := e.Judge(p, nil); err != nil {
			t.Fatal(err)
		}
	}
	if some < 20*60 || some > 30*60 {
		t.Errorf("%d minutes", some)
	}
}

func TestMistakesOfLeases(t *testing.T) {
	for text, says := range map[string]string{
		"allow a to reef as":                                                 "is not understood",
		"allow a to reef as root as keeper":                                  "\"as\" is said twice",
		"allow a to reef for 5m":                                             "for no login",
		"allow a to reef as root for 5s":                                     "is no time for a lease",
		"allow a to reef as root for 25h":                                    "is no time for a lease",
		"allow a to reef as root for ever":                                   "is no time for a lease",
		"allow a to reef as root may fly":                                    "is nothing that a login may do",
		"allow a to reef as root may shell files":                            "a shell can move files",
		"allow a to reef as root with love":                                  "comes with reason, source or end",
		"allow a to reef as root agreed-by nobody":                           "there is nobody called \"nobody\"",
		"allow a to reef as root called x\nallow a to reef as root called x": "is called x, too",
		"deny a to reef as root for 5m":                                      "a deny rule has no terms",
		"allow a to reef as root from here":                                  "is no address",
		"allow a to reef as root@x":                                          "is no login",
		"allow a to colour:red as root":                                      "machines are meant by name",
		"enrols nobody":                                                      "there is nobody called",
	} {
		_, err := policy.Parse("p", []byte("person a token x\n"+text))
		if err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func BenchmarkDecideALogin(b *testing.B) {
	var text strings.Builder
	for i := range 500 {
		fmt.Fprintf(&text, "person p%d token p%d@x\n", i, i)
	}
	for i := range 50 {
		fmt.Fprintf(&text, "group g%d", i)
		for j := range 10 {
			fmt.Fprintf(&text, " p%d", i*10+j)
		}
		text.WriteString("\n")
	}
	for i := range 10_000 {
		switch i % 4 {
		case 0:
			fmt.Fprintf(&text, "allow g%d to tag:t%d as keeper for 60s on mon-fri at 06:00-22:00\n", i%50, i%97)
		case 1:
			fmt.Fprintf(&text, "allow p%d to m%d as root for 10m with reason agreed-by g%d\n", i%500, i%1000, i%50)
		case 2:
			fmt.Fprintf(&text, "allow g%d to m%d-* as logs may files\n", i%50, i%300)
		default:
			fmt.Fprintf(&text, "deny g%d to m%d as root on sat,sun\n", i%50, i%1000)
		}
	}
	p, err := policy.Parse("p", []byte(text.String()))
	if err != nil {
		b.Fatal(err)
	}
	at := time.Date(2026, 11, 27, 12, 0, 0, 0, time.UTC)
	m := policy.Machine{Name: "m501", Tags: []string{"t3", "t50"}}
	for i := 0; b.Loop(); i++ {
		p.Decide(fmt.Sprintf("p%d", i%500), policy.Question{Machine: m, Login: "root", At: at})
	}
}
