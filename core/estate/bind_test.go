package estate

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
)

// known is an estate with what sessions are bound to in these tests.
func known(t testing.TB) []Kept {
	t.Helper()
	s, problems, err := Parse([]byte(`{"estate": 1,
		"networks": [{"id": "n-1", "name": "reef", "cidrs": ["10.61.4.0/24"]}],
		"images": [{"id": "deb", "name": "debian-12", "family": "Debian"}, {"id": "own", "name": "own", "login": "keeper"}, {"id": "odd", "name": "odd", "login": "-oProxyCommand=x"}],
		"key_pairs": [{"name": "gauge", "fingerprint": "SHA256:aaa", "kind": "ed25519"}],
		"instances": [
			{"id": "i-1", "name": "gauge-1", "state": "running", "checks": "passed", "image": "deb", "key_pair": "gauge", "tags": {"role": "gauge"},
				"addresses": [{"ip": "2001:db8::31", "network": "n-1"}, {"ip": "10.61.4.31", "network": "n-1"}, {"ip": "203.0.113.31", "outside": true}]},
			{"id": "i-2", "name": "gauge-2", "state": "stopped", "image": "own", "tags": {"role": "gauge"}, "addresses": [{"ip": "10.61.4.32", "network": "n-1"}]},
			{"id": "i-3", "name": "gauge-2", "state": "ended", "tags": {"role": "gauge"}},
			{"id": "i-4", "name": "twin", "state": "running", "addresses": [{"ip": "10.61.4.40"}]},
			{"id": "i-5", "name": "twin", "state": "stopped", "image": "odd", "addresses": [{"ip": "10.61.4.41"}]},
			{"id": "i-6", "name": "bare", "state": "starting", "tags": {"role": "gauge"}},
			{"id": "i-7", "name": "odd name/\u00fc", "state": "running", "tags": {"role": "gauge"}, "addresses": [{"ip": "10.61.4.50"}]}
		]}`))
	if err != nil || len(problems) > 0 {
		t.Fatal(err, problems)
	}
	return []Kept{{Source: "bay", Read: time.Now(), Snapshot: s}}
}

func bind(t testing.TB, text string, all []Kept) *book.Book {
	t.Helper()
	b := book.Parse(book.FileName, []byte(text))
	if len(b.Problems) > 0 {
		t.Fatal(b.Problems)
	}
	return Bind(b, all, func(p KeyPair) string {
		if p.Fingerprint == "SHA256:aaa" {
			return "keys/gauge.pem"
		}
		return ""
	})
}

func TestSessionsTakeWhatTheirInstancesHave(t *testing.T) {
	b := bind(t, `
[site.reef]
user = "warden"
[session.one]
instance = "gauge-1"
[session.inside]
instance = "i-1"
address = "inside"
[session.net]
instance = "tag:role=gauge state=running !name=odd*"
address = "reef"
[session.sited]
site = "reef"
instance = "gauge-1"
[session.own]
instance = "gauge-2"
user = "root"
key = "keys/mine.pem"
[session.through]
instance = "gauge-1"
via = ["one"]
[session.injected]
instance = "i-5"
`, known(t))
	for _, c := range []struct{ name, host, user, key, from string }{
		{"one", "203.0.113.31", "debian", "keys/gauge.pem", "estate bay, outside"},
		{"inside", "10.61.4.31", "debian", "keys/gauge.pem", "estate bay, reef"},
		{"net", "10.61.4.31", "debian", "keys/gauge.pem", "estate bay, reef"},
		{"sited", "203.0.113.31", "warden", "keys/gauge.pem", "estate bay, outside"},
		{"own", "10.61.4.32", "root", "keys/mine.pem", "estate bay, reef"},
		{"through", "10.61.4.31", "debian", "keys/gauge.pem", "estate bay, reef"},
		{"injected", "10.61.4.41", "", "", "estate bay"},
	} {
		s := b.Session(c.name)
		host, from := s.Text("host")
		user, _ := s.Text("user")
		key, _ := s.Text("key")
		if s.Broken != nil || host != c.host || user != c.user || key != c.key || from.String() != c.from {
			t.Errorf("%s: host %s (%s), user %q, key %q, broken %v", c.name, host, from, user, key, s.Broken)
		}
	}
	if _, from := b.Session("one").Text("user"); from.String() != "estate bay, image debian-12" {
		t.Errorf("the login is from %s", from)
	}
	if b.Unbound().Session("one").Host.Set {
		t.Error("the book that was bound has changed")
	}
}

func TestASessionWithoutItsInstanceSaysWhy(t *testing.T) {
	const text = "[session.s]\ninstance = %q\n"
	for instance, why := range map[string]string{
		"nobody":      "no instance fits nobody; it may have been ended",
		"twin":        "2 instances fit twin: i-4 (twin, running), i-5 (twin, stopped); name the one by its id",
		"bare":        "bare has no address: it is starting",
		"colour=blue": `"colour" is nothing that instances are chosen by`,
	} {
		s := bind(t, fmt.Sprintf(text, instance), known(t)).Session("s")
		if s.Broken == nil || !strings.Contains(s.Broken.Say, why) || s.Broken.Line != 2 {
			t.Errorf("%s: %v", instance, s.Broken)
		}
	}
	for why, all := range map[string][]Kept{
		"the file names no estate":                                   nil,
		"of estate bay nothing is known, it was never read: refused": {{Source: "bay", Failed: "refused"}},
	} {
		if s := bind(t, fmt.Sprintf(text, "gauge-1"), all).Session("s"); s.Broken == nil || !strings.Contains(s.Broken.Say, why) {
			t.Errorf("%s: %v", why, s.Broken)
		}
	}
	if s := bind(t, fmt.Sprintf(text, "gauge-2"), known(t)).Session("s"); s.Broken != nil || s.Bound.ID != "i-2" {
		t.Errorf("one that has ended is in the way of the one that took its name: %v", s.Broken)
	}
}

func TestAFleetsSessionsComeAndGoWithTheInstances(t *testing.T) {
	const text = `
[session.quay]
host = "203.0.113.10"
[session.reef-gauge-2]
host = "10.61.4.99"
via = ["reef-gauge-1"]
[[fleet]]
query = "tag:role=gauge"
called = "reef-*"
via = ["quay"]
user = "keeper"
note = "by the fleet"
[[fleet]]
query = "name=gauge-1"
via = ["reef-gauge-2", "gauge-1"]
`
	all := known(t)
	b := bind(t, text, all)
	if got := strings.Join(b.Names(), " "); got != "quay reef-gauge-2 reef-gauge-1 reef-bare reef-odd-name-ü gauge-1" {
		t.Errorf("there are %s", got)
	}
	s := b.Session("reef-gauge-1")
	if s.Fleet == nil || s.Host.V != "10.61.4.31" || s.User.V != "keeper" || s.Note.V != "by the fleet" || s.Keys.V[0] != "keys/gauge.pem" || s.Via.Origin.String() != "fleet" {
		t.Errorf("%+v, from %s", s, s.Via.Origin)
	}
	var out strings.Builder
	if err := b.Export(&out, "csv", false); err != nil || strings.Contains(out.String(), "\nreef-gauge-1,") {
		t.Errorf("what a fleet makes is exported as if it were written: %v\n%s", err, out.String())
	}
	if err := s.Written(); err == nil || !strings.Contains(err.Error(), "reef-gauge-1 is made by the fleet on line 7") {
		t.Errorf("who edits it is told %v", err)
	}
	if b.Session("reef-gauge-2").Host.V != "10.61.4.99" {
		t.Error("a written session did not take the place of the fleet's")
	}
	if b.Session("reef-bare").Broken == nil || b.Session("gauge-1").Broken == nil {
		t.Error("one without an address, or one that goes in a circle, can be used")
	}
	all[0].Snapshot.Instances = all[0].Snapshot.Instances[1:]
	if got := strings.Join(Bind(b.Unbound(), all, func(KeyPair) string { return "" }).Names(), " "); strings.Contains(got, "gauge-1") && !strings.HasPrefix(got, "quay reef-gauge-2 reef-bare") {
		t.Errorf("then there are %s", got)
	}
	if mistaken := bind(t, "[[fleet]]\nquery = \"colour=blue\"\n", all); len(mistaken.Problems) != 1 || mistaken.Problems[0].Line != 2 {
		t.Errorf("a query that means nothing: %v", mistaken.Problems)
	}
}

func BenchmarkFleet(b *testing.B) {
	all := []Kept{{Source: "bay", Read: time.Now(), Snapshot: parsed(b, string(large(20_000)))}}
	text := "[session.quay]\nhost = \"203.0.113.10\"\n[[fleet]]\nquery = \"name=gauge-1???\"\nvia = [\"quay\"]\n[[fleet]]\nquery = \"name=gauge-2???\"\nvia = [\"quay\"]\n"
	book := book.Parse(book.FileName, []byte(text))
	for b.Loop() {
		if n := len(Bind(book, all, func(KeyPair) string { return "" }).Sessions); n != 2001 {
			b.Fatal(n)
		}
	}
}
