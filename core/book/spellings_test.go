package book

import (
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
)

const usualSpelling = `[defaults]
user = "keeper"

[site.bay]
port = 2022

[[like]]
name = "gauge-*"
via = "quay"

[session.quay]
host = "203.0.113.7"
site = "bay"

[session.gauge-1]
host = "10.61.4.11"
tunnels = [
  { bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" },
  { roam = "127.0.0.1:1080", only = ["*.internal", "10.61.0.0/16"], share = true },
]
`

// The same sessions in every way that TOML 1.0 has for tables.
var otherSpellings = map[string]string{
	"tunnels with headers": `[[session.gauge-1.tunnels]]
bring = "127.0.0.1:15432"
reach = "tide-db.internal:5432"

[[session.gauge-1.tunnels]]
roam = "127.0.0.1:1080"
only = ["*.internal", "10.61.0.0/16"]
share = true

[session.gauge-1]
host = "10.61.4.11"
[defaults]
user = "keeper"
[site.bay]
port = 2022
[[like]]
name = "gauge-*"
via = "quay"
[session.quay]
host = "203.0.113.7"
site = "bay"
`,
	"inline tables under a header": `[defaults]
user = "keeper"
[site]
bay = { port = 2022 }
[[like]]
name = "gauge-*"
via = "quay"
[session]
quay = { host = "203.0.113.7", site = "bay" }
gauge-1 = { host = "10.61.4.11", tunnels = [{ bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }, { roam = "127.0.0.1:1080", only = ["*.internal", "10.61.0.0/16"], share = true }] }
`,
	"dotted keys at the top": `defaults.user = "keeper"
site.bay.port = 2022
like = [{ name = "gauge-*", via = "quay" }]
session.quay.host = "203.0.113.7"
session.gauge-1.host = "10.61.4.11"
session.quay.site = "bay"
session.gauge-1.tunnels = [{ bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }, { roam = "127.0.0.1:1080", only = ["*.internal", "10.61.0.0/16"], share = true }]
`,
	"one inline table": `defaults = { user = "keeper" }
like = [{ name = "gauge-*", via = "quay" }]
site.bay = { port = 2022 }
session = { quay = { host = "203.0.113.7", site = "bay" }, gauge-1.host = "10.61.4.11", gauge-1.tunnels = [{ bring = "127.0.0.1:15432", reach = "tide-db.internal:5432" }, { roam = "127.0.0.1:1080", only = ["*.internal", "10.61.0.0/16"], share = true }] }
`,
	"dotted keys under a header": `[defaults]
user = "keeper"
[site]
bay.port = 2022
[[like]]
name = "gauge-*"
via = "quay"
[session]
quay.host = "203.0.113.7"
quay.site = "bay"
gauge-1.host = "10.61.4.11"
[[session.gauge-1.tunnels]]
bring = "127.0.0.1:15432"
reach = "tide-db.internal:5432"
[[session.gauge-1.tunnels]]
roam = "127.0.0.1:1080"
only = ["*.internal", "10.61.0.0/16"]
share = true
`,
}

func TestEverySpellingOfTablesSaysTheSame(t *testing.T) {
	type said struct {
		host, user, via string
		port            int
		tunnels         []Tunnel
	}
	read := func(text string) map[string]said {
		b := Parse("sessions.toml", []byte(text))
		if len(b.Problems) > 0 {
			t.Errorf("%+v", b.Problems)
		}
		all := map[string]said{}
		for _, s := range b.Sessions {
			all[s.Name] = said{s.Host.V, s.User.V, strings.Join(s.Via.V, ","), s.Port.V, s.Tunnels.V}
		}
		return all
	}
	want := read(usualSpelling)
	if len(want) != 2 || len(want["gauge-1"].tunnels) != 2 || want["quay"].port != 2022 {
		t.Fatalf("%+v", want)
	}
	for name, text := range otherSpellings {
		t.Run(name, func(t *testing.T) {
			if got := read(text); !reflect.DeepEqual(got, want) {
				t.Errorf("%+v, not %+v", got, want)
			}
		})
	}
}

func TestMistakesInOtherSpellingsAreToldWhereTheyStand(t *testing.T) {
	for text, want := range map[string]string{
		"[session]\nhost = \"a\"\n":                                                                "2:1 [session] is no table",
		"[session]\nx = { host = \"a\", hosst = \"b\" }\n":                                         "2:19 unknown key \"hosst\"",
		"session.x.host = \"a\"\nsession.x.host = \"b\"\n":                                         "2:11 \"host\" is given twice, first on line 1",
		"session.x = { host = \"a\" }\n[session.x]\nhost = \"b\"\n":                                "2:10 session \"x\" is given twice, first on line 1",
		"[session.x]\nhost = \"a\"\nhost.b = 1\n":                                                  "3:1 \"host\" has no keys of its own",
		"[session.x]\nhost = \"a\"\n[[session.x.tunnels]]\nbring = 5\n":                            "4:1 tunnels: \"bring\" is no part of a tunnel",
		"[session.x]\nhost = \"a\"\n[[session.x.tunnels]]\nreach = \"a:1\"\n":                      "3:3 tunnels: it is no tunnel",
		"[session.x]\nhost = \"a\"\ntunnels = []\n[[session.x.tunnels]]\nroam = \"127.0.0.1:1\"\n": "4:3 \"tunnels\" is given twice, first on line 3",
		"[[session.x.tunnels]]\nroam = \"127.0.0.1:1\"\n":                                          "1:11 session \"x\" has no host",
		"like = { name = \"a\" }\n":                                                                "1:1 [like] is no table",
		"like = [1]\n":                                                                             "1:1 a table is wanted in the list like",
		"tide = 1\n":                                                                               "1:1 \"tide\" stands before any table",
	} {
		b := Parse("sessions.toml", []byte(text))
		found := false
		var all []string
		for _, p := range b.Problems {
			say := strings.TrimPrefix(p.Error(), "sessions.toml:")
			all = append(all, say)
			found = found || strings.HasPrefix(strings.Replace(say, ": ", " ", 1), want)
		}
		if !found {
			t.Errorf("%q: %q, not %q", text, all, want)
		}
	}
}

// Edits keep tunnels under headers of their own together with their session, and leave alone what they cannot edit.
func TestOtherSpellingsAreEdited(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	const text = "[session.a]\nhost = \"10.0.0.1\"\n\n# the database\n[[session.a.tunnels]]\nbring = \"127.0.0.1:1\"\nreach = \"db:1\"\n[[session.a.tunnels]]\nroam = \"127.0.0.1:2\"\n\n[session.b]\nhost = \"10.0.0.2\"\n"
	begin := func(text string) {
		if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	now := func() string {
		got, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		if p := Parse("", got).Problems; len(p) > 0 {
			t.Errorf("%s\n%+v", got, p)
		}
		return string(got)
	}
	begin(text)
	if _, err := Set(path, "a", "user", "keeper"); err != nil {
		t.Fatal(err)
	}
	if got := now(); !strings.Contains(got, "host = \"10.0.0.1\"\nuser = \"keeper\"\n\n# the database") {
		t.Errorf("%s", got)
	}
	b, err := Set(path, "a", "tunnels", "roam 3")
	if err != nil || len(b.Session("a").Tunnels.V) != 1 || strings.Contains(now(), "[[") {
		t.Errorf("%v\n%s", err, now())
	}
	begin(text)
	if b, err = Copy(path, "a", "c"); err != nil || !reflect.DeepEqual(b.Session("c").Tunnels.V, b.Session("a").Tunnels.V) {
		t.Errorf("%v\n%s", err, now())
	}
	begin(text)
	if b, err = SetAll(path, []string{"a", "b"}, []Setting{{"user", "w"}}); err != nil || b.Session("a").User.V != "w" || len(b.Session("a").Tunnels.V) != 2 {
		t.Errorf("%v\n%s", err, now())
	}
	begin(text)
	if _, err := Remove(path, "a"); err != nil || strings.Contains(now(), "session.a") || !strings.Contains(now(), "# the database") {
		t.Errorf("%v\n%s", err, now())
	}
	begin("[session]\na = { host = \"10.0.0.1\" }\nb = { host = \"10.0.0.2\", via = \"a\" }\n")
	if _, err := Set(path, "a", "user", "keeper"); err == nil || !strings.Contains(err.Error(), "inline table") {
		t.Errorf("%v", err)
	}
	begin("[session]\nquay = { host = \"10.0.0.1\", site = \"bay\" }\n[site.bay]\nport = 22\n")
	if b, err := RenameSite(path, "bay", "reef"); err != nil || b.Session("quay").Site.V != "reef" {
		t.Errorf("%v\n%s", err, now())
	}
}
