package estate

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
)

// example is the document of docs/estate.md.
func example(t testing.TB) []byte {
	t.Helper()
	doc, err := os.ReadFile("../../docs/estate.md")
	if err != nil {
		t.Fatal(err)
	}
	_, rest, _ := strings.Cut(string(doc), "```json\n")
	text, _, _ := strings.Cut(rest, "```")
	return []byte(text)
}

func parsed(t testing.TB, text string) Snapshot {
	t.Helper()
	s, problems, err := Parse([]byte(text))
	if err != nil || len(problems) > 0 {
		t.Fatal(err, problems)
	}
	return s
}

func TestTheDocumentedExampleIsRead(t *testing.T) {
	s := parsed(t, string(example(t)))
	i := s.Instance("i-2f81")
	if i == nil || i.Name != "gauge-2" || i.State != Running || i.Checks != Passed || i.Addresses[0].IP.String() != "10.61.4.47" || i.Launched.IsZero() || i.Tags["role"] != "gauge" {
		t.Fatalf("%+v", i)
	}
	if len(s.Groups[0].Rules) != 3 || s.Groups[0].Rules[1].From != 8000 || len(s.Peerings) != 1 || len(s.Reservations) != 1 || len(s.Subnets) != 1 || !s.Routers[0].Outside || s.Images[0].Login != "keeper" || s.KeyPairs[0].Kind != "ecdsa" {
		t.Errorf("%+v", s)
	}
	want := []string{"reef: lets in tcp 22 from 10.61.4.0/24", "reef: lets in tcp 8000-8100 from whoever is in g-shore", "reef: lets out anything to everybody (0.0.0.0/0)"}
	if got := s.Sentences(i); strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("%q", got)
	}
}

// What is wrong is told with its place, left out, and hides nothing else.
func TestMistakesAreToldWithTheirPlace(t *testing.T) {
	for text, want := range map[string]string{
		`{"estate": 2}`: "estate: the form of the document is 2; this program reads 1",
		`{}`:            "estate: the form of the document is 0",
		``:              "1:1: the document ends before it is whole",
		`{"estate": 1,
 "instances": [ {"id": "a", } ]}`: "2:29: ",
		`{"estate": 1} x`:                   "1:",
		`{"estate": 1, "instances": {}}`:    "a list is wanted at instances, not object",
		`{"estate": "1"}`:                   "a number is wanted at estate, not string",
		`<html>`:                            "1:1: ",
		`{"estate": 1, "instances": [{"id"`: "the document ends before it is whole",
	} {
		_, _, err := Parse([]byte(text))
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	s, problems, err := Parse([]byte(`{"estate": 1, "networks": [{"id": "reef", "cidrs": ["10.61.4.0/40"]}], "instances": [
		{"name": "no id", "state": "running"}, {"id": "a", "name": "x\u001b[31m\ny", "state": "asleep", "checks": "fine", "launched": "yesterday"},
		{"id": "a", "state": "running"}, {"id": "b", "state": "running", "addresses": [{"ip": "10.0.0.256"}, {"ip": "fe80::1%eth0"}, {"ip": "::ffff:10.1.1.1", "network": "moon"}]}],
		"groups": [{"id": "g", "rules": [{"direction": "up"}, {"direction": "in", "ports": "9-8", "cidr": "0.0.0.0/0"}, {"direction": "in"}, {"direction": "in", "ports": "22", "cidr": "x"}]}],
		"peerings": [{"networks": ["a"]}], "reservations": [{"ip": "?"}], "subnets": [{"cidr": "10.0.0.0"}]}`))
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []string{
		"networks[0].cidrs", "instances[0].id", "instances[1].name", "instances[1].state", "instances[1].checks", "instances[1].launched", "instances[2].id",
		"instances[3].addresses[0].ip", "instances[3].addresses[1].ip", "instances[3].addresses[2].network", "groups[0].rules[0].direction", "groups[0].rules[1].ports",
		"groups[0].rules[2]", "groups[0].rules[3].cidr", "peerings[0].networks", "reservations[0].ip", "subnets[0].cidr",
	} {
		found := false
		for _, p := range problems {
			found = found || p.At == at
		}
		if !found {
			t.Errorf("nothing is told of %s: %v", at, problems)
		}
	}
	if len(s.Instances) != 2 || s.Instances[0].State != UnknownState || strings.ContainsAny(s.Instances[0].Name, "\x1b\n") || s.Instances[1].Addresses[0].IP.String() != "10.1.1.1" {
		t.Errorf("%+v", s.Instances)
	}
}

// A document that is cut at any byte is refused, or is whole.
func TestACutDocumentIsRefused(t *testing.T) {
	text := []byte(strings.TrimSpace(string(example(t))))
	for n := range text {
		if _, _, err := Parse(text[:n]); err == nil {
			t.Fatalf("cut at %d of %d it is read", n, len(text))
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(string(example(f)))
	f.Add(`{"estate": 1, "instances": [{"id": "a", "addresses": [{"ip": "::1"}]}]}`)
	f.Fuzz(func(t *testing.T, text string) {
		s, _, err := Parse([]byte(text))
		if err != nil {
			return
		}
		out, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		var again Snapshot
		if err := json.Unmarshal(out, &again); err != nil {
			t.Fatalf("what was kept cannot be read again: %v", err)
		}
		if got := Changes(&s, &again); len(got) > 0 {
			t.Fatalf("what was kept is another: %v", got)
		}
	})
}

func TestQueriesChoose(t *testing.T) {
	s := parsed(t, `{"estate": 1, "networks": [{"id": "n1", "name": "reef"}], "images": [{"id": "m", "name": "debian-12"}], "groups": [{"id": "g1", "name": "shore"}], "instances": [
		{"id": "i1", "name": "gauge-1", "state": "running", "tags": {"role": "gauge", "owner": "night shift"}, "addresses": [{"ip": "10.61.4.31", "network": "n1"}], "groups": ["g1"], "image": "m", "key_pair": "gauge"},
		{"id": "i2", "name": "gauge-2", "state": "stopped", "checks": "failing"}, {"id": "i3", "name": "a[b]c/d", "state": "running"}]}`)
	for query, want := range map[string]string{
		"": "i1 i2 i3", "gauge-1": "i1", "i2": "i2", "gauge-*": "i1 i2", "gauge-?": "i1 i2", "state=running": "i1 i3", "!state=running": "i2", "state=running !tag:role=gauge": "i3",
		"tag:role=gauge": "i1", `tag:owner="night shift"`: "i1", "tag:owner=*": "i1", "network=reef": "i1", "network=n1": "i1", "group=shore": "i1", "image=debian*": "i1",
		"key=gauge": "i1", "address=10.61.4.*": "i1", "checks=failing": "i2", "a[b]c/d": "i3", "a*": "i3", "name=gauge-2 id=i1": "",
	} {
		q, err := ParseQuery(query)
		if err != nil {
			t.Errorf("%q: %v", query, err)
			continue
		}
		var got []string
		for _, i := range q.Find("bay", &s) {
			got = append(got, i.ID)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %q, want %q", query, got, want)
		}
	}
	for query, want := range map[string]string{`state=running "x`: "column 15: a quote has no end", "  colour=red": `column 3: "colour" is nothing`, "tag:=x": "column 1: which tag?", "!": "column 1: "} {
		if _, err := ParseQuery(query); err == nil || !strings.HasPrefix(err.Error(), want) {
			t.Errorf("%q: %v, want %q", query, err, want)
		}
	}
}

func FuzzQuery(f *testing.F) {
	f.Add(`!tag:role=gauge state="a b" x*`)
	s := Snapshot{Instances: []Instance{{ID: "i1", Name: "gauge-1"}}}
	f.Fuzz(func(t *testing.T, text string) {
		q, err := ParseQuery(text)
		if err != nil {
			if e := err.(*QueryError); e.Column < 1 || e.Column > len([]rune(text))+1 {
				t.Fatalf("column %d of %q", e.Column, text)
			}
			return
		}
		q.Find("bay", &s)
	})
}

func TestChangesAreTold(t *testing.T) {
	before := parsed(t, `{"estate": 1, "instances": [
		{"id": "a", "name": "gauge-2", "state": "stopped", "addresses": [{"ip": "10.61.4.32"}, {"ip": "203.0.113.5", "outside": true}]},
		{"id": "b", "name": "old", "state": "running"}, {"id": "c", "name": "lamp", "state": "running", "checks": "passed", "groups": ["g"]}, {"id": "d", "name": "pier", "state": "running", "addresses": [{"ip": "10.1.1.1"}]}]}`)
	after := parsed(t, `{"estate": 1, "instances": [
		{"id": "a", "name": "gauge-2", "state": "running", "addresses": [{"ip": "10.61.4.47"}, {"ip": "203.0.113.5", "outside": true}]},
		{"id": "c", "name": "lamp-1", "state": "stopping", "checks": "failing"}, {"id": "d", "name": "pier", "state": "running"}, {"id": "e", "name": "new", "state": "starting"}]}`)
	var got []string
	for _, c := range Changes(&before, &after) {
		got = append(got, string(c.Kind)+": "+c.Say)
	}
	want := []string{
		"restarted: gauge-2 was stopped and started: 10.61.4.32 became 10.61.4.47", "state: lamp-1 is stopping, was running", "checks: lamp-1 has checks that say failing, said passed",
		"renamed: lamp-1 was called lamp", "regrouped: lamp-1 is in no group, was in g", "moved: pier has another address: 10.1.1.1 is gone", "launched: new is new: starting", "gone: old is gone",
	}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("told\n%s\nwant\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	if all := Changes(&after, &after); len(all) > 0 {
		t.Errorf("nothing changed, and told is %v", all)
	}
}

// sources is an estate that text describes, of a workspace in a folder.
func sources(t *testing.T, text string) (dir string, e book.EstateSource) {
	t.Helper()
	b := book.Parse(book.FileName, []byte("[estate.bay]\nkind = \"document\"\n"+text))
	if len(b.Problems) > 0 || len(b.Estates) != 1 {
		t.Fatalf("%v, %+v", b.Problems, b.Estates)
	}
	return t.TempDir(), b.Estates[0]
}

// A source that fails leaves what was known, with the reason; one that is there again goes on.
func TestAFailingSourceLeavesWhatWasKnown(t *testing.T) {
	dir, e := sources(t, "file = \"bay.json\"\n")
	path := filepath.Join(dir, "bay.json")
	write := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	at := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	renew := func() Kept {
		t.Helper()
		at = at.Add(time.Minute)
		k, err := (&Source{Dir: dir, EstateSource: e}).Renew(t.Context(), at)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	if k := renew(); !k.Read.IsZero() || !strings.Contains(k.Failed, "bay.json") {
		t.Errorf("%+v", k)
	}
	write(`{"estate": 1, "instances": [{"id": "a", "name": "gauge-1", "state": "running"}]}`)
	if k := renew(); k.Failed != "" || len(k.Snapshot.Instances) != 1 || len(k.Changes) != 0 {
		t.Errorf("%+v", k)
	}
	write(`{"estate": 1, "inst`)
	k := renew()
	if !strings.Contains(k.Failed, "ends before it is whole") || len(k.Snapshot.Instances) != 1 || !k.Read.Before(k.Tried) {
		t.Errorf("%+v", k)
	}
	write(`{"estate": 1, "instances": [{"id": "a", "name": "gauge-1", "state": "stopped"}]}`)
	if k := renew(); k.Failed != "" || len(k.Changes) != 1 || k.Changes[0].Source != "bay" || k.Changes[0].Seen != at {
		t.Errorf("%+v", k)
	}
	if again, err := Recall(dir, "bay"); err != nil || again.Snapshot.Instances[0].State != Stopped || len(again.Changes) != 1 {
		t.Errorf("%+v, %v", again, err)
	}
}

func TestACommandIsASource(t *testing.T) {
	dir, e := sources(t, "command = [\"sh\", \"-c\", \"cat bay.json; exit ${BAY-0}\"]\n")
	if err := os.WriteFile(filepath.Join(dir, "bay.json"), []byte(`{"estate": 1}`), 0o600); err != nil {
		t.Fatal(err)
	}
	if k, err := (&Source{Dir: dir, EstateSource: e}).Renew(t.Context(), time.Now()); err != nil || k.Failed != "" || k.Read.IsZero() {
		t.Errorf("%+v, %v", k, err)
	}
	t.Setenv("BAY", "7")
	if k, err := (&Source{Dir: dir, EstateSource: e}).Renew(t.Context(), time.Now()); err != nil || !strings.Contains(k.Failed, "sh: exit status 7") {
		t.Errorf("%+v, %v", k, err)
	}
}

// An address gives a document to who has the token, says when nothing has changed, and leads
// nobody elsewhere.
func TestAnAddressIsASource(t *testing.T) {
	answer := func(w http.ResponseWriter, r *http.Request) {}
	elsewhere := 0
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { elsewhere++ }))
	defer other.Close()
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { answer(w, r) }))
	defer server.Close()
	dir, e := sources(t, fmt.Sprintf("url = %q\ntoken_file = \"token\"\n", server.URL+"/bay.json"))
	token := filepath.Join(dir, "token")
	if err := os.WriteFile(token, []byte("ebb-and-flow\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	fails := func(want string) {
		t.Helper()
		k, err := (&Source{Dir: dir, EstateSource: e}).Renew(t.Context(), time.Now())
		if err != nil || !strings.Contains(k.Failed, want) {
			t.Errorf("%q, %v; want %q", k.Failed, err, want)
		}
		if strings.Contains(k.Failed, "ebb-and-flow") {
			t.Errorf("the token is told: %q", k.Failed)
		}
	}
	fails("others can read the token")
	if err := os.Chmod(token, 0o600); err != nil {
		t.Fatal(err)
	}
	answer = func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer ebb-and-flow" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		if w.Header().Set("ETag", `"1"`); r.Header.Get("If-None-Match") == `"1"` {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		fmt.Fprint(w, `{"estate": 1, "instances": [{"id": "a", "state": "running"}]}`)
	}
	for range 2 { // the second time it has not changed
		if k, err := (&Source{Dir: dir, EstateSource: e}).Renew(t.Context(), time.Now()); err != nil || k.Failed != "" || len(k.Snapshot.Instances) != 1 {
			t.Errorf("%+v, %v", k, err)
		}
	}
	for status, want := range map[int]string{401: "the token is not taken", 403: "the token is not taken", 404: "it answers 404", 500: "it answers 500"} {
		answer = func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }
		fails(want)
	}
	answer = func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Retry-After", "120")
		w.WriteHeader(http.StatusTooManyRequests)
	}
	fails("asked again after 2m0s")
	answer = func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, "<html>sign in</html>") }
	fails("a page, not with a document")
	answer = func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, other.URL, http.StatusFound) }
	fails("no token goes along")
	if elsewhere > 0 {
		t.Error("it was followed elsewhere")
	}
	server.Close()
	fails("connection refused")
	if k, err := Recall(dir, "bay"); err != nil || len(k.Snapshot.Instances) != 1 {
		t.Errorf("what was known is gone: %+v, %v", k, err)
	}
}

// large is a document of n instances, with groups, rules and networks in proportion.
func large(n int) []byte {
	var b strings.Builder
	b.WriteString(`{"estate": 1, "networks": [`)
	for i := range max(n/100, 1) {
		fmt.Fprintf(&b, `%s{"id": "n%d", "name": "net-%d", "cidrs": ["10.%d.0.0/16"]}`, comma(i), i, i, i%250)
	}
	b.WriteString(`], "groups": [`)
	for i := range n / 10 {
		fmt.Fprintf(&b, `%s{"id": "g%d", "name": "group-%d", "rules": [`, comma(i), i, i)
		for r := range 50 {
			fmt.Fprintf(&b, `%s{"direction": "in", "protocol": "tcp", "ports": "%d", "cidr": "10.%d.0.0/16"}`, comma(r), 1000+r, r)
		}
		b.WriteString(`]}`)
	}
	b.WriteString(`], "instances": [`)
	for i := range n {
		fmt.Fprintf(&b, `%s{"id": "i-%d", "name": "gauge-%d", "state": "running", "checks": "passed", "tags": {"role": "gauge"}, "addresses": [{"ip": "10.%d.%d.%d", "network": "n%d"}], "groups": ["g%d"], "launched": "2026-11-20T06:10:00Z"}`,
			comma(i), i, i, i%250, i/250%250, i%250, i%max(n/100, 1), i%max(n/10, 1))
	}
	b.WriteString(`]}`)
	return []byte(b.String())
}

func comma(i int) string {
	if i == 0 {
		return ""
	}
	return ","
}

func BenchmarkParse(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		text := large(n)
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			b.ReportAllocs()
			for b.Loop() {
				if _, problems, err := Parse(text); err != nil || len(problems) > 0 {
					b.Fatal(err, problems)
				}
			}
		})
	}
}

func BenchmarkChanges(b *testing.B) {
	for _, n := range []int{2000, 20000} {
		one, two := parsed(b, string(large(n))), parsed(b, string(large(n)))
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				Changes(&one, &two)
			}
		})
	}
}

func BenchmarkQuery(b *testing.B) {
	s := parsed(b, string(large(20000)))
	q, err := ParseQuery("state=running tag:role=gauge network=net-3")
	if err != nil {
		b.Fatal(err)
	}
	for b.Loop() {
		if len(q.Find("bay", &s)) == 0 {
			b.Fatal("nothing is found")
		}
	}
}

func TestAWaitThatASourceAsksForIsBounded(t *testing.T) {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	for header, want := range map[string]time.Duration{
		"": 0, "120": 2 * time.Minute, " 5 ": 5 * time.Second, "-5": 0, "99999999999999": 0, "86400": time.Hour, "soon": 0,
		"Thu, 26 Nov 2026 08:10:00 GMT": 10 * time.Minute, "Thu, 26 Nov 2026 07:00:00 GMT": 0,
	} {
		if got := retryAfter(header, now); got != want {
			t.Errorf("%q: %s, want %s", header, got, want)
		}
	}
}
