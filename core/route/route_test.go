package route

import (
	"crypto/ed25519"
	"encoding/json"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/vouch"
)

const sessions = `
[site.reef]
via  = ["quay"]
user = "keeper"

[session.gatehouse]
host = "gate.lantern.example"
user = "warden"

[session.quay]
host = "203.0.113.10"
user = "warden"
via  = "gatehouse"
key  = ["keys/shore.pem", "~/other.pem"]
dial = "127.0.0.1:40022"

[session.tide-db]
site = "reef"
host = "10.61.4.20"
port = 2022
key  = "/abs/tide.pem"

[session.deep]
host = "10.61.9.9"
via  = ["quay", "tide-db"]

[session.mole]
host  = "mole.lantern.example"
user  = "warden"
proxy = "socks5://keeper@127.0.0.1:1080"

[session.either]
host  = "10.61.4.30"
proxy = "http://127.0.0.1:3128"
via   = ["quay|mole", "tide-db | deep"]

[session.broken]
host = 1

[session.behind-broken]
host = "h"
via  = ["broken"]
`

func planner(t *testing.T) Planner {
	t.Helper()
	return Planner{Source: book.Parse(book.FileName, []byte(sessions)), Dir: t.TempDir()}
}

func names(r Route) string {
	var all []string
	for _, h := range r.Hops {
		all = append(all, h.Name)
	}
	return strings.Join(all, " ")
}

func TestHopsComeInOrder(t *testing.T) {
	p := planner(t)
	for session, want := range map[string]string{
		"gatehouse": "gatehouse",
		"quay":      "gatehouse quay",
		"tide-db":   "gatehouse quay tide-db",
		"deep":      "gatehouse quay tide-db deep", // listed hops are reached as they are listed
	} {
		r, err := p.Plan(session)
		if err != nil || names(r) != want {
			t.Errorf("%s: %q, %v, want %q", session, names(r), err, want)
		}
	}
}

func TestAlternativesMakeSeveralWays(t *testing.T) {
	p := planner(t)
	r, err := p.Plan("either")
	if err != nil {
		t.Fatal(err)
	}
	var all []string
	for _, way := range r.Ways() {
		all = append(all, names(way)+" "+way.Hops[0].Instead)
		if h := way.Target(); h.Way != "via tide-db" || h.Proxy.Scheme != "" {
			t.Errorf("the machine, on %s: %+v", names(way), h)
		}
	}
	if got := strings.Join(all, "; "); got != "gatehouse quay tide-db either ; mole tide-db either gatehouse, quay; gatehouse quay deep either tide-db; mole deep either gatehouse, quay, tide-db" {
		t.Errorf("ways: %s", got)
	}
	if by := r.Others[0].Hops[0].Proxy; by.Scheme != "socks5" || by.User != "keeper" {
		t.Errorf("mole is reached by %+v", by)
	}
	other := r.Turned(r.Others[1].End())
	if names(other) != "gatehouse quay deep either" || len(other.Others) != 3 || names(other.Others[0]) != names(r) || names(other.Turned(r.End())) != names(r) {
		t.Errorf("turned: %s, others %d", names(other), len(other.Others))
	}
	changed := r.AtEnd(func(h *Hop) { h.User = "another" })
	if changed.Others[2].Target().User != "another" || r.Target().User == "another" || r.Others[2].Target().User == "another" {
		t.Error("a change at the end is not made on every way, or in the route itself")
	}
	if got := r.UpTo(1); names(got) != "gatehouse quay" || len(got.Others) > 0 {
		t.Errorf("up to quay: %s", names(got))
	}
}

func TestTheWaysOfManyAlternativesAreBounded(t *testing.T) {
	text := "[session.a]\nhost = \"a\"\n[session.b]\nhost = \"b\"\n[session.x]\nhost = \"x\"\nvia = [" + strings.Repeat("\"a | b\", ", 40) + "]\n"
	r, err := Planner{Source: book.Parse(book.FileName, []byte(text))}.Plan("x")
	if err != nil || len(r.Ways()) != MaxWays || len(r.Hops) != 41 {
		t.Errorf("%d ways of %d hops, %v", len(r.Ways()), len(r.Hops), err)
	}
}

func TestAnOldKeyIsAjar(t *testing.T) {
	dir := t.TempDir()
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "old.pem")
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	when := time.Now().Add(-40*24*time.Hour - time.Hour)
	if err := os.Chtimes(path, when, when); err != nil {
		t.Fatal(err)
	}
	for age, want := range map[string]gate.Verdict{"off": gate.Open, "41d": gate.Open, "39d": gate.Ajar} {
		text := "[defaults]\nkey_age = \"" + age + "\"\n[session.a]\nhost = \"a\"\nkey = \"old.pem\"\n"
		r, err := Planner{Source: book.Parse(book.FileName, []byte(text)), Dir: dir}.Plan("a")
		if err != nil {
			t.Fatal(err)
		}
		g := KeyGate(r.Target(), KeySheets{})
		if g.Verdict != want || want == gate.Ajar && g.Reason != "the file is 40 days old, and key_age, from defaults, is 39 days" {
			t.Errorf("with %s: %+v", age, g)
		}
	}
	for _, age := range []string{"1y", "0d", "-1d", "365", "d", "99999999d"} {
		if _, err := book.ParseAge(age); err == nil {
			t.Errorf("%q is an age", age)
		}
	}
}

func TestAProxyHasAGateOfItsOwn(t *testing.T) {
	dir := t.TempDir()
	login := filepath.Join(dir, "proxy.login")
	if err := os.WriteFile(login, []byte("keeper:tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for uri, want := range map[string]gate.Verdict{
		"http://keeper@127.0.0.1:3128": gate.Untried, "https://keeper@proxy.lantern.example:443": gate.Untried,
		"http://keeper@proxy.lantern.example:3128": gate.Ajar, "socks5://203.0.113.9:1080": gate.Ajar, // a login is in the file
	} {
		by, err := book.ParseProxy(uri)
		if err != nil {
			t.Fatal(err)
		}
		h := Hop{Name: "quay", Destination: Destination{Proxy: by}}
		if by.User == "" {
			h.ProxyFile = login
		}
		if g := ProxyGate(h); g.Verdict != want || want == gate.Ajar && g.Remedy.Say == "" {
			t.Errorf("%s: %+v", uri, g)
		}
	}
	if err := os.Chmod(login, 0o604); err != nil {
		t.Fatal(err)
	}
	if g := ProxyGate(Hop{Destination: Destination{Proxy: book.Proxy{Scheme: "https", Address: "h:1"}, ProxyFile: login}}); g.Verdict != gate.Shut || g.Remedy.Act != gate.MendFile {
		t.Errorf("a login that others can read: %+v", g)
	}
}

func TestEveryValueSaysWhereItIsFrom(t *testing.T) {
	p := planner(t)
	r, err := p.Plan("tide-db")
	if err != nil {
		t.Fatal(err)
	}
	h := r.Target()
	if h.User != "keeper" || h.From("user").String() != "site reef" || h.From("port").String() != "session tide-db" || h.From("keepalive").String() != "built in" {
		t.Errorf("user %s from %s, port from %s", h.User, h.From("user"), h.From("port"))
	}
	if h.Address() != "10.61.4.20:2022" || h.Knock() != h.Address() || h.Keys[0] != "/abs/tide.pem" {
		t.Errorf("hop %+v", h)
	}
	quay := r.Hops[1]
	home, _ := os.UserHomeDir()
	if quay.Knock() != "127.0.0.1:40022" || quay.Keys[0] != filepath.Join(p.Dir, "keys/shore.pem") || quay.Keys[1] != filepath.Join(home, "other.pem") {
		t.Errorf("quay %+v", quay)
	}
}

func TestSharedWaysHaveOneName(t *testing.T) {
	p := planner(t)
	a, _ := p.Plan("tide-db")
	b, _ := p.Plan("deep")
	if a.Link(1) != b.Link(1) || a.Link(2) != b.Link(2) || a.Link(1) == a.Link(2) {
		t.Error("the same way up to quay has two names, or two ways have one")
	}
	c := a
	c.Hops = append([]Hop(nil), a.Hops...)
	c.Hops[1].User = "other"
	if c.Link(2) == a.Link(2) {
		t.Error("another login is taken for the same way")
	}
}

// Keys of links are compared, say what is lent, and are told to other programs.
func TestALinkKeyNamesTheWayAndWhatIsLent(t *testing.T) {
	p := planner(t)
	r, _ := p.Plan("tide-db")
	for i, k := range r.Links() {
		if k != r.Link(i) {
			t.Errorf("hop %d has two keys, %q and %q", i, k, r.Link(i))
		}
	}
	lends := func(change func(h *Hop)) Route {
		return r.AtEnd(func(h *Hop) { h.Agent, h.Lends, h.LendUses = "lend", []string{"/keys/a b"}, 2; change(h) })
	}
	first := lends(func(*Hop) {})
	if first.End() == r.End() || first.End().Bare() != r.End() || first.End().Lent().Uses != 2 {
		t.Errorf("%q, bare %q", first.End(), first.End().Bare())
	}
	if last := len(r.Hops) - 1; last > 0 && first.Link(last-1) != r.Link(last-1) {
		t.Error("what is lent at the end changes the way before it")
	}
	for name, change := range map[string]func(h *Hop){
		"another number of uses": func(h *Hop) { h.LendUses = 3 },
		"another time":           func(h *Hop) { h.LendFor = time.Hour },
		"other keys":             func(h *Hop) { h.Lends = []string{"/keys/a", "b"} },
		"other hosts":            func(h *Hop) { h.LendsTo = []string{"reef*"} },
		"to be asked first":      func(h *Hop) { h.Agent = "ask" },
	} {
		if other := lends(change); other.End() == first.End() || other.End().String() == first.End().String() {
			t.Errorf("%s shares a link", name)
		}
	}
	// Words of one field cannot be taken for those of another.
	one := r.AtEnd(func(h *Hop) { h.Alone = "x\nlane 1" })
	two := r.AtEnd(func(h *Hop) { h.Alone, h.Lane = "x", 1 })
	if one.End() == two.End() || r.AtEnd(func(h *Hop) { h.Keys = []string{"a,b"} }).End() == r.AtEnd(func(h *Hop) { h.Keys = []string{"a", "b"} }).End() {
		t.Error("two ways have one key")
	}
	text, err := json.Marshal(map[string]LinkKey{"at": first.End()})
	told := map[string]LinkKey{}
	if err == nil {
		err = json.Unmarshal(text, &told)
	}
	if err != nil || told["at"].String() != first.End().String() || (LinkKey{}) == told["at"] {
		t.Errorf("%s: %v", text, err)
	}
}

func TestWhatCannotBePlannedSaysWhy(t *testing.T) {
	p := planner(t)
	var problem book.Problem
	for _, session := range []string{"broken", "behind-broken"} {
		if _, err := p.Plan(session); !errors.As(err, &problem) || problem.Session != "broken" {
			t.Errorf("%s: %v", session, err)
		}
	}
	if _, err := p.Plan("tide-bd"); !errors.Is(err, ErrNoSession) || !strings.Contains(err.Error(), "did you mean tide-db?") {
		t.Errorf("an unknown session: %v", err)
	}
}

func TestADraftInheritsLikeASession(t *testing.T) {
	p := planner(t)
	r, err := p.Draft(book.Draft{Name: "new", Host: "10.61.4.21", Site: "reef"})
	if err != nil || names(r) != "gatehouse quay new" || r.Target().User != "keeper" {
		t.Errorf("%q as %s, %v", names(r), r.Target().User, err)
	}
	if _, err := p.Draft(book.Draft{Name: "new", Host: "h", Via: []string{"nowhere"}}); err == nil {
		t.Error("a hop that is not there was planned")
	}
}

func TestCheckJudgesWhatThisMachineKnows(t *testing.T) {
	p := planner(t)
	r, err := p.Plan("tide-db")
	if err != nil {
		t.Fatal(err)
	}
	tide := filepath.Join(p.Dir, "tide.pem")
	if err := os.WriteFile(tide, []byte("not a key"), 0o600); err != nil {
		t.Fatal(err)
	}
	r.Hops[2].Keys = []string{tide}
	record := vouch.Open(filepath.Join(p.Dir, "vouched.toml"))
	report := r.Check(Knowledge{Vouched: record})
	verdicts := func() map[string]gate.Verdict {
		all := map[string]gate.Verdict{}
		for _, h := range report.Hops {
			for _, g := range h.Gates {
				all[h.Name+" "+g.Kind.String()] = g.Verdict
				if g.Verdict >= gate.Ajar && (g.Reason == "" || g.Remedy.Say == "") {
					t.Errorf("%s %s is %s without words", h.Name, g.Kind, g.Verdict)
				}
			}
		}
		return all
	}
	for name, want := range map[string]gate.Verdict{
		"gatehouse key": gate.Untried, "quay key": gate.Shut, "tide-db key": gate.Shut,
		"tide-db address": gate.Untried, "tide-db identity": gate.Untried, "tide-db login": gate.Untried,
	} {
		if got := verdicts()[name]; got != want {
			t.Errorf("%s is %s, want %s", name, got, want)
		}
	}
	if err := os.WriteFile(record.Path(), []byte("broken"), 0o600); err != nil {
		t.Fatal(err)
	}
	report = r.Check(Knowledge{Vouched: record})
	if verdicts()["tide-db identity"] != gate.Shut {
		t.Error("a record that cannot be read leaves the identity open")
	}
}
