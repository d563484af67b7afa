package book

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

const bay = `# The bay.
[defaults]
keepalive = "45s"
user = "nobody"

[site.reef]
via  = ["quay"]
user = "keeper"

[[like]]
name = "gauge-*"
key  = "keys/gauge.pem"
port = 2022

[[like]]
name = "gauge-2"
port = 2222

[session.quay]
host = "203.0.113.10"
user = "warden"
key  = "keys/shore.pem"
dial = "127.0.0.1:40022"

[session.gauge-1]
site = "reef"
host = "10.61.4.31"

[session.gauge-2]
site = "reef"
host = "10.61.4.32"
user = "warden"
agent = "lend"
tunnels = [
  { bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }, # a note
  { roam  = "127.0.0.1:1080" },
]
`

func TestNearestLayerWinsAndSaysSo(t *testing.T) {
	b := Parse("sessions.toml", []byte(bay))
	if len(b.Problems) > 0 {
		t.Fatalf("problems: %v", b.Problems)
	}
	one, two, quay := b.Session("gauge-1"), b.Session("gauge-2"), b.Session("quay")
	for _, c := range []struct {
		what, got, want string
		origin          Origin
	}{
		{"gauge-1 user", one.User.V, "keeper", one.User.Origin},
		{"gauge-2 user", two.User.V, "warden", two.User.Origin},
		{"gauge-1 port", fmt.Sprint(one.Port.V), "2022", one.Port.Origin},
		{"gauge-2 port", fmt.Sprint(two.Port.V), "2222", two.Port.Origin},
		{"gauge-1 key", one.Keys.V[0], "keys/gauge.pem", one.Keys.Origin},
		{"gauge-1 keepalive", one.Keepalive.V.String(), "45s", one.Keepalive.Origin},
		{"gauge-1 via", one.Via.V[0], "quay", one.Via.Origin},
		{"quay port", fmt.Sprint(quay.Port.V), "22", quay.Port.Origin},
		{"quay agent", quay.Agent.V, "off", quay.Agent.Origin},
	} {
		if c.got != c.want {
			t.Errorf("%s = %q, want %q", c.what, c.got, c.want)
		}
	}
	for got, want := range map[string]string{
		one.User.Origin.String(): "site reef", two.User.Origin.String(): "session gauge-2",
		one.Port.Origin.String(): "like gauge-*", two.Port.Origin.String(): "like gauge-2",
		one.Keepalive.Origin.String(): "defaults", quay.Port.Origin.String(): "built in",
	} {
		if got != want {
			t.Errorf("origin %q, want %q", got, want)
		}
	}
	if at := one.User.Origin.Place; at != (Place{8, 8}) {
		t.Errorf("the reef's user stands at %v, want line 8 column 8", at)
	}
	if len(two.Tunnels.V) != 2 || two.Tunnels.V[0].Reach != "tide-db.internal:5432" {
		t.Errorf("tunnels %v", two.Tunnels.V)
	}
}

func TestAllMistakesAreToldAtOnce(t *testing.T) {
	text := `[defualts]
user = "x"
[site.reef]
vai = ["quay"]
[session.quay]
hsot = "203.0.113.10"
port = 70000
[session.a]
host = 12
[session.b]
site = "reaf"
host = "b"
[session.c]
host = "c"
via = ["qauy"]
[session.d]
host = "d"
via = ["e"]
[session.e]
host = "e"
via = "d"
[session.f]
host = "f
user = "lost"
[session.g]
host = "g"
keepalive = "9"
[session.good]
host = "good"
[session.good]
host = "again"
[session.h]
host = "keeper@h"
host = "h"
[[like]]
key = "k"
`
	b := Parse("sessions.toml", []byte(text))
	wants := []string{
		`1:2: [defualts] is no table`, `did you mean "defaults"?`,
		`4:1: unknown key "vai"`, `did you mean "via"?`,
		`6:1: unknown key "hsot"`, `did you mean "host"?`,
		`7:8: port: 70000 is no port`,
		`9:8: host: a text is wanted, not a number`,
		`15:8: c goes via "qauy", and there is no such session; did you mean "quay"?`,
		`circle: d → e → d`,
		`23:`, `not TOML`,
		`27:13: keepalive: "9" is no time`,
		`30:10: session "good" is given twice, first on line 28`,
		`33:8: host: "keeper@h" is no host`,
		`35:3: this like names no sessions`,
	}
	var all strings.Builder
	for _, p := range b.Problems {
		all.WriteString(p.Error() + "\n")
	}
	for _, want := range wants {
		if !strings.Contains(all.String(), want) {
			t.Errorf("not told: %s\ntold:\n%s", want, all.String())
		}
	}
	for _, name := range []string{"quay", "a", "c", "d", "e", "f", "g", "h"} {
		if s := b.Session(name); s == nil || s.Broken == nil {
			t.Errorf("%s is broken and does not say so", name)
		}
	}
}

func TestABrokenSessionLeavesTheOthersWhole(t *testing.T) {
	b := Parse("f", []byte("[session.bad]\nhost = \"\x01\n\n[session.good]\nhost = \"h\"\n[session.worse\nhost=1\n[session.fine]\nhost = \"i\"\n"))
	if b.Session("good").Broken != nil || b.Session("fine").Broken != nil {
		t.Errorf("problems %v", b.Problems)
	}
	if b.Session("bad").Broken == nil || len(b.Problems) != 2 {
		t.Errorf("problems %v", b.Problems)
	}
	broken := Parse("f", []byte("[site.a]\nuser = 3\n[session.in]\nsite=\"a\"\nhost=\"h\"\n[session.out]\nhost=\"h\"\n"))
	if broken.Session("in").Broken == nil || broken.Session("out").Broken != nil {
		t.Error("a site with a mistake breaks its own sessions and no others")
	}
}

func TestAddKeepsEveryByte(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	before := "# mine\n\n[session.quay] # the way in\nhost = \"203.0.113.10\"   # odd   blanks\r\n\n\n# end, no line break"
	if err := os.WriteFile(path, []byte(before), 0o640); err != nil {
		t.Fatal(err)
	}
	d := Draft{Name: "tide-db", Host: "10.61.4.20", User: "keeper", Port: 2022, Via: []string{"quay"}, Keys: []string{`keys/"odd".pem`}, Keepalive: "1m"}
	b, err := Add(path, d)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(path)
	if !strings.HasPrefix(string(text), before) {
		t.Errorf("what stood there was changed:\n%s", text)
	}
	s := b.Session("tide-db")
	if s == nil || s.Broken != nil || s.Port.V != 2022 || s.Keys.V[0] != d.Keys[0] || s.Keepalive.V != time.Minute || len(b.Problems) > 0 {
		t.Errorf("read back: %+v, %v", s, b.Problems)
	}
	if info, _ := os.Stat(path); info.Mode().Perm() != 0o640 {
		t.Errorf("mode became %o", info.Mode().Perm())
	}
	if _, err := Add(path, d); err == nil {
		t.Error("a taken name was written again")
	}
	if _, err := Add(path, Draft{Name: "x", Host: "a b"}); err == nil {
		t.Error("a draft that cannot be read back was written")
	}
	if again, _ := os.ReadFile(path); string(again) != string(text) {
		t.Error("a refused draft left its mark")
	}
}

func TestTwoProgramsAddAtOnce(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", FileName)
	var wg sync.WaitGroup
	errs := make([]error, 12)
	for i := range errs {
		wg.Go(func() { _, errs[i] = Add(path, Draft{Name: fmt.Sprint("s", i), Host: "h"}) })
	}
	wg.Wait()
	b, err := Read(path)
	if err = errors.Join(append(errs, err)...); err != nil {
		t.Fatal(err)
	}
	if len(b.Sessions) != len(errs) || len(b.Problems) > 0 {
		t.Errorf("%d sessions, want %d; %v", len(b.Sessions), len(errs), b.Problems)
	}
}

func TestAddSaysWhenItCannotWrite(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, FileName)
	if err := os.Mkdir(path, 0o700); err != nil { // a folder stands where the file should be
		t.Fatal(err)
	}
	if _, err := Add(path, Draft{Name: "s", Host: "h"}); err == nil {
		t.Error("no error")
	}
}

func TestNearest(t *testing.T) {
	for _, c := range [][3]string{{"hsot", "host user", "host"}, {"usr", "host user", "user"}, {"qauy", "quay tide-db", "quay"}, {"zzz", "quay", ""}} {
		if got := Nearest(c[0], strings.Fields(c[1])); got != c[2] {
			t.Errorf("Nearest(%q) = %q, want %q", c[0], got, c[2])
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(bay))
	f.Add([]byte("[session.a]\nhost = \"\n[x"))
	f.Fuzz(func(t *testing.T, text []byte) {
		for _, s := range Parse("f", text).Sessions {
			if s.Broken == nil && s.Host.V == "" {
				t.Errorf("session %q without host passes", s.Name)
			}
		}
	})
}

func BenchmarkParse10000(b *testing.B) {
	text := []byte(bay)
	for i := range 10000 {
		text = append(text, Draft{Name: fmt.Sprintf("s-%d", i), Site: "reef", Host: "10.61.4.1"}.Text()...)
	}
	b.SetBytes(int64(len(text)))
	for b.Loop() {
		Parse("f", text)
	}
}

func TestASiteComesIntoBeingByBeingUsed(t *testing.T) {
	path := edited(t, "[session.quay]\nhost = \"203.0.113.10\"\nsite = \"pier\"\n")
	b, err := Read(path)
	if err != nil || len(b.Problems) != 0 || !slices.Equal(b.Sites(), []string{"pier"}) || b.Session("quay").Broken != nil {
		t.Fatalf("%v, %v, sites %q", err, b.Problems, b.Sites())
	}
	if tables := b.Tables("quay"); len(tables) != 3 || tables[1] != (Table{Layer: InSite, Name: "pier"}) {
		t.Errorf("its tables are %v", tables)
	}
	b, err = RenameSite(path, "pier", "mole")
	if err != nil || !slices.Equal(b.Sites(), []string{"mole"}) {
		t.Fatalf("%v, sites %q", err, b.Sites())
	}
	// Its table is written when it gives a value.
	if b, err = SetIn(path, Table{Layer: InSite, Name: "mole"}, "user", "keeper"); err != nil || b.Session("quay").User.V != "keeper" {
		t.Fatal(err)
	}
	if text, _ := os.ReadFile(path); strings.Count(string(text), "[site.mole]") != 1 {
		t.Errorf("the file is\n%s", text)
	}
	if b, err = SetIn(path, Table{Layer: InSite, Name: "mole"}, "port", "2022"); err != nil || b.Session("quay").Port.V != 2022 {
		t.Error(err)
	}
}
