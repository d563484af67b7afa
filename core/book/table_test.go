package book

import (
	"os"
	"slices"
	"strings"
	"testing"
)

const layered = `[defaults] # far
keepalive = "1m"

[site.reef]
user = "keeper" # them all

[[like]] # gauges
name = "gauge-*"
key = "keys/gauge.pem"

[[like]]
name = "*-1"

[session.gauge-1]
site = "reef"
host = "g"
key = ["keys/old.pem", "keys/gauge.pem"]
`

func TestSitesAndLikesAreEditedInPlace(t *testing.T) {
	for _, c := range []struct {
		table           Table
		key, value      string
		old, new, wrong string
	}{
		{Table{Layer: InSite, Name: "reef"}, "user", "warden", `user = "keeper" #`, `user = "warden" #`, ""},
		{Table{Layer: InSite, Name: "reef"}, "folder", "/srv", "# them all\n", "# them all\nfolder = \"/srv\"\n", ""},
		{Table{InLike, "gauge-*", 0}, "name", "g-*", `"gauge-*"`, `"g-*"`, ""},
		{Table{InLike, "*-1", 1}, "env", "A=1, B=x y", "name = \"*-1\"\n", "name = \"*-1\"\nenv  = [\"A=1\", \"B=x y\"]\n", ""},
		{Table{Layer: InDefaults}, "keepalive", "", "keepalive = \"1m\"\n", "", ""},
		{Table{Layer: InDefaults}, "backspace", "both", "", "", "not one of the words"},
		{Table{Layer: InSite, Name: "reef"}, "host", "h", "", "", "no meaning"},
		{Table{Layer: InSite, Name: "shore"}, "user", "h", "", "", "no site shore"},
		{Table{Layer: InSession, Name: "gauge-1"}, "tunnels", "bring 15432 from db:5432, roam 1080", "\"keys/gauge.pem\"]\n",
			"\"keys/gauge.pem\"]\ntunnels = [\n  { bring = \"127.0.0.1:15432\", reach = \"db:5432\" },\n  { roam = \"127.0.0.1:1080\" },\n]\n", ""},
		{Table{Layer: InSession, Name: "gauge-1"}, "tunnels", "bring it", "", "", "is no tunnel"},
		{Table{Layer: InSession, Name: "gauge-1"}, "reconnect", "25h", "", "", "no time to go on"},
	} {
		path := edited(t, layered)
		_, err := SetIn(path, c.table, c.key, c.value)
		if c.wrong != "" {
			if err == nil || !strings.Contains(err.Error(), c.wrong) {
				t.Errorf("%s of %s to %q: %v, want %q", c.key, c.table, c.value, err, c.wrong)
			}
			continue
		}
		got, _ := os.ReadFile(path)
		if want := strings.Replace(layered, c.old, c.new, 1); err != nil || string(got) != want {
			t.Errorf("%s of %s to %q: %v, the file is\n%s\nwant\n%s", c.key, c.table, c.value, err, got, want)
		}
	}
}

func TestDefaultsAreMadeWhenFirstSet(t *testing.T) {
	path := edited(t, "# mine\n[session.a]\nhost = \"h\"\n")
	b, err := SetIn(path, Table{Layer: InDefaults}, "user", "keeper")
	if err != nil || b.Session("a").User.V != "keeper" {
		t.Fatal(err)
	}
	if got, _ := os.ReadFile(path); string(got) != "# mine\n[session.a]\nhost = \"h\"\n\n[defaults]\nuser = \"keeper\"\n" {
		t.Errorf("the file is\n%s", got)
	}
}

func TestTablesAreAddedRenamedAndTakenOut(t *testing.T) {
	path := edited(t, layered)
	if _, err := AddTable(path, Table{Layer: InSite, Name: "the shore"}); err == nil {
		t.Error("a site with a blank in its name")
	}
	if _, err := AddTable(path, Table{Layer: InSite, Name: "reef"}); err == nil {
		t.Error("a site twice")
	}
	if _, err := AddTable(path, Table{Layer: InLike, Name: "[a-"}); err == nil {
		t.Error("a like with a broken pattern")
	}
	b, err := AddTable(path, Table{Layer: InLike, Name: "tide-*"})
	if err != nil {
		t.Fatal(err)
	}
	if got := b.Tables("gauge-1"); len(got) != 5 || got[1].Name != "*-1" || got[2].Nth != 0 || got[3].Name != "reef" {
		t.Errorf("gauge-1 takes values from %v", got)
	}
	if _, err := RemoveTable(path, Table{Layer: InSite, Name: "reef"}); err == nil || !strings.Contains(err.Error(), "gauge-1 stands in it") {
		t.Errorf("removing a site in use: %v", err)
	}
	if b, err = RenameSite(path, "reef", "bank"); err != nil || b.Session("gauge-1").Site.V != "bank" || b.Session("gauge-1").User.V != "keeper" {
		t.Fatalf("renaming: %v", err)
	}
	if b, err = RemoveTable(path, Table{InLike, "gauge-*", 0}); err != nil {
		t.Fatal(err)
	}
	if got := b.Members(Table{InLike, "*-1", 0}); !slices.Equal(got, []string{"gauge-1"}) {
		t.Errorf("members %q", got)
	}
	got, _ := os.ReadFile(path)
	if !strings.Contains(string(got), "# gauges") || strings.Contains(string(got), "\"gauge-*\"") {
		t.Errorf("the file is\n%s", got)
	}
	for range 3 {
		if _, _, err := Undo(path); err != nil {
			t.Fatal(err)
		}
	}
	if got, _ := os.ReadFile(path); string(got) != layered {
		t.Errorf("after undoing the file is\n%s", got)
	}
}

func TestAKeyIsMovedEverywhere(t *testing.T) {
	path := edited(t, layered)
	b, err := MoveKey(path, "moving gauge.pem", func(s string) string {
		return strings.Replace(s, "keys/gauge.pem", "keys/new.pem", 1)
	})
	if err != nil || !slices.Equal(b.Session("gauge-1").Keys.V, []string{"keys/old.pem", "keys/new.pem"}) {
		t.Fatalf("%v", err)
	}
	if got, _ := os.ReadFile(path); string(got) != strings.ReplaceAll(layered, "keys/gauge.pem", "keys/new.pem") {
		t.Errorf("the file is\n%s", got)
	}
}

func TestTunnelsAsAPersonWritesThem(t *testing.T) {
	for _, line := range []string{"bring 15432 from db.internal:5432", "lend 0.0.0.0:9000 from 127.0.0.1:3000, roam 1080", "bring /run/a from /run/b idle 30m rate 2MB", "roam 1080 only *.internal 10.61.0.0/16:443 direct [::1]:80 *.example login keeper, roam 1081"} {
		list, err := ParseTunnels(line)
		if err != nil || TunnelsLine(list) != line {
			t.Errorf("%q became %q, %v", line, TunnelsLine(list), err)
		}
	}
	for _, line := range []string{"", "bring", "bring 1", "bring 1 to b:2", "roam 1 from b:2", "bring 70000 from b:2", "bring 1 from b", "fly 1 from b:2", "bring a b:1 from x:1", "roam 1080 *.internal", "roam 1080 only a/b", "roam 1080 only [x", "roam 1080 login a:b", "roam 1080 only x:0", "bring 1 from b:2 idle 1ms", "bring 1 from b:2 rate 5", "bring 1 from b:2 rate x", "bring 1 from b:2 only x"} {
		if list, err := ParseTunnels(line); err == nil {
			t.Errorf("%q became %v", line, list)
		}
	}
}

func TestARoamingDoorsRulesAreReadAndWritten(t *testing.T) {
	const text = "[session.a]\nhost = \"a.example\"\ntunnels = [{ roam = \"127.0.0.1:1080\", only = [\"*.internal\", \"10.61.0.0/16\"], direct = [\"*.example\"], login = \"keeper\" }]\n"
	b := Parse("f", []byte(text))
	if len(b.Problems) > 0 {
		t.Fatal(b.Problems)
	}
	list := b.Session("a").Tunnels.V
	want := Tunnel{Roam: "127.0.0.1:1080", Only: "*.internal 10.61.0.0/16", Direct: "*.example", Login: "keeper"}
	if len(list) != 1 || list[0] != want {
		t.Errorf("%+v", list)
	}
	if got := "tunnels = " + tunnelsText(list); !strings.Contains(text, got) {
		t.Errorf("written as %s", got)
	}
	for _, wrong := range []string{`{ bring = "1", reach = "a:1", only = ["x"] }`, `{ roam = "1080", only = ["a b"] }`, `{ roam = "1080", only = [1] }`, `{ roam = "1080", only = ["a/b/c"] }`, `{ roam = "1080", only = "x", only = ["y"] }`} {
		if b := Parse("f", []byte("[session.a]\nhost = \"a\"\ntunnels = ["+wrong+"]\n")); len(b.Problems) == 0 {
			t.Errorf("%s is taken: %+v", wrong, b.Session("a").Tunnels)
		}
	}
}

func TestAValueIsJudgedWhileItIsTyped(t *testing.T) {
	b := Parse("f", []byte(layered))
	for _, c := range []struct {
		layer      Layer
		key, value string
		want       string
	}{
		{InSession, "port", "22", ""}, {InSession, "port", "70000", "is no port"}, {InSession, "port", "ab", "a number is wanted"},
		{InSession, "host", "a b", "is no host"}, {InSession, "user", "", ""}, {InSession, "keepalive", "3", "no time"},
		{InSession, "via", "gauge-1", ""}, {InSession, "via", "guage-1", `did you mean "gauge-1"`}, {InSession, "site", "reef", ""}, {InSession, "site", "ref", ""},
		{InSite, "colours", "red", "write"}, {InLike, "name", "[a", "no pattern"}, {InLike, "name", "a*", ""},
		{InSession, "tunnels", "roam 1080", ""}, {InSession, "tunnels", "bring", "no tunnel"}, {InSession, "env", "A=1, B", "sets no variable"},
	} {
		if got := b.WrongValue(c.layer, c.key, c.value); (got == "") != (c.want == "") || !strings.Contains(got, c.want) {
			t.Errorf("%s %q: %q, want %q", c.key, c.value, got, c.want)
		}
	}
}

func FuzzTunnels(f *testing.F) {
	f.Add("bring 15432 from db.internal:5432 idle 30m rate 2MB, roam 1080 only *.internal 10.61.0.0/16:443 direct [::1]:80 login keeper")
	f.Add("lend /run/a from [fe80::1]:80")
	f.Add("roam 0 only 0.0.0.0%00000000\x8c")
	f.Fuzz(func(t *testing.T, line string) {
		list, err := ParseTunnels(line)
		if err != nil {
			return
		}
		again, err := ParseTunnels(TunnelsLine(list))
		if err != nil || !slices.Equal(again, list) {
			t.Fatalf("%q is %+v, and again %+v, %v", line, list, again, err)
		}
		text := "[session.a]\nhost = \"a.example\"\ntunnels = " + tunnelsText(list) + "\n"
		b := Parse("f", []byte(text))
		if len(b.Problems) > 0 || !slices.Equal(b.Session("a").Tunnels.V, list) {
			t.Fatalf("%q is written as\n%s\n%v", line, text, b.Problems)
		}
	})
}

func TestAZoneIsTheNameOfAnInterface(t *testing.T) {
	for host, want := range map[string]bool{
		"fe80::1%eth0": true, "fe80::1%br-7.2": true, "fe80::1": true, "10.61.4.31": true, "::ffff:10.61.4.31": true,
		"10.61.4.31%eth0": false, "fe80::1%": false, "fe80::1%a b": false, "fe80::1%\x1b[31m": false, "fe80::1%\x8c": false, "fe80::1%$(id)": false, "a.example%eth0": false,
	} {
		if got := ValidHost(host); got != want {
			t.Errorf("%q: %v", host, got)
		}
	}
}
