package book

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

const odd = `# mine
[defaults]
user = "nobody"   # rarely right

[site.reef]
user = "keeper"

[session.a] # the first
  host = "h"     # where it is
port=2022
key  = [ "one.pem",   # old
         "two.pem" ]

# between

[session.b]
site = "reef"
host = "b"
user = "warden" # for now`

func edited(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), FileName)
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return path
}

func TestAnEditTouchesNothingElse(t *testing.T) {
	for _, c := range []struct{ session, key, value, old, new string }{
		{"a", "host", "gate.lantern.example", `host = "h"     # where`, `host = "gate.lantern.example"     # where`},
		{"a", "port", "22", "port=2022\n", "port=22\n"},
		{"a", "key", "three.pem", "[ \"one.pem\",   # old\n         \"two.pem\" ]", `"three.pem"`},
		{"a", "key", "x.pem, y.pem", "[ \"one.pem\",   # old\n         \"two.pem\" ]", `["x.pem", "y.pem"]`},
		{"a", "user", "me", "\"two.pem\" ]\n", "\"two.pem\" ]\nuser = \"me\"\n"},
		{"a", "port", "", "port=2022\n", ""},
		{"a", "via", "b", "\"two.pem\" ]\n", "\"two.pem\" ]\nvia  = [\"b\"]\n"},
		{"b", "user", "", `user = "warden" # for now`, "# for now"},
		{"b", "port", "23", `# for now`, "# for now\nport = 23\n"},
		{"b", "dial", "", "", ""},
	} {
		path := edited(t, odd)
		if _, err := Set(path, c.session, c.key, c.value); err != nil {
			t.Errorf("%s of %s to %q: %v", c.key, c.session, c.value, err)
			continue
		}
		got, _ := os.ReadFile(path)
		if want := strings.Replace(odd, c.old, c.new, 1); string(got) != want {
			t.Errorf("%s of %s to %q: the file is\n%s\nwant\n%s", c.key, c.session, c.value, got, want)
		}
	}
}

func TestAnEditThatBringsAMistakeIsRefused(t *testing.T) {
	for _, c := range [][3]string{{"a", "port", "99999"}, {"a", "port", "x"}, {"a", "via", "nowhere"}, {"a", "via", "a"}, {"a", "host", ""}, {"a", "keepalive", "9"}, {"c", "host", "x"}, {"a", "agent", "yes"}} {
		path := edited(t, odd)
		if _, err := Set(path, c[0], c[1], c[2]); err == nil {
			t.Errorf("%q was taken", c)
		}
		if got, _ := os.ReadFile(path); string(got) != odd {
			t.Errorf("%q left its mark", c)
		}
	}
}

func TestTheLastTwentyEditsCanBeUndone(t *testing.T) {
	path := edited(t, odd)
	for i := range 25 {
		if _, err := Set(path, "a", "port", fmt.Sprint(3000+i)); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 20 {
		what, b, err := Undo(path) // each of them finds it on disk, as after a restart
		if err != nil || what != "port of a" || b.Session("a").Port.V != 3023-i {
			t.Fatalf("undo %d: %q, port %d, %v", i, what, b.Session("a").Port.V, err)
		}
	}
	if _, _, err := Undo(path); err == nil {
		t.Error("a twenty-first edit was undone")
	}
}

func TestUndoLeavesForeignChangesAlone(t *testing.T) {
	path := edited(t, odd)
	if _, err := Set(path, "a", "port", "23"); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(path)
	foreign := append(text, "\n# by hand\n"...)
	if err := os.WriteFile(path, foreign, 0o600); err != nil {
		t.Fatal(err)
	}
	if _, _, err := Undo(path); !errors.Is(err, ErrMoved) {
		t.Errorf("got %v", err)
	}
	if got, _ := os.ReadFile(path); string(got) != string(foreign) {
		t.Error("what was written by hand is gone")
	}
}

func TestWhatAValueWouldBeWithoutIt(t *testing.T) {
	b := Parse("f", []byte(odd))
	far := b.Far("b")
	if value, origin := far.Text("user"); value != "keeper" || origin.String() != "site reef" {
		t.Errorf("b's user would be %q from %s", value, origin)
	}
	if value, origin := b.Session("b").Text("user"); value != "warden" || origin.String() != "session b" {
		t.Errorf("b's user is %q from %s", value, origin)
	}
	for key, want := range map[string]string{"site": "", "host": "h", "port": "2022", "key": "one.pem, two.pem", "keepalive": "30s", "agent": "off", "user": "nobody", "dial": ""} {
		if got, _ := b.Session("a").Text(key); got != want {
			t.Errorf("a's %s is %q, want %q", key, got, want)
		}
	}
}

func FuzzSet(f *testing.F) {
	f.Add(odd, "host", "x")
	f.Add("[session.a]\nhost='h'", "via", "a,b")
	f.Fuzz(func(t *testing.T, text, key, value string) {
		if len(text) > 4096 || Parse("f", []byte(text)).Session("a") == nil {
			return
		}
		path := edited(t, text)
		if _, err := Set(path, "a", Fields[len(key)%len(Fields)], value); err != nil {
			if got, _ := os.ReadFile(path); string(got) != text {
				t.Errorf("a refused edit left its mark: %v", err)
			}
		}
	})
}

func TestDiffNamesWhatChanged(t *testing.T) {
	before := Parse("f", []byte(odd))
	for text, want := range map[string]string{
		odd: "",
		strings.Replace(odd, "# mine", "# ours", 1):                     "",
		strings.Replace(odd, "port=2022", "port=2023", 1):               "changed: a",
		strings.Replace(odd, "[session.b]", "[session.c]", 1):           "new: c; gone: b",
		strings.Replace(odd, `user = "nobody"`, `user = "somebody"`, 1): "changed: a",
		strings.Replace(odd, `host = "b"`, `host = 1`, 1):               "changed: b",
		odd + "\n[oops]\n": "1 mistakes, before it was 0",
	} {
		if got := Diff(before, Parse("f", []byte(text))); got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

func TestRenameTakesEveryViaAlong(t *testing.T) {
	text := "[site.reef]\nvia = [\"quay\"] # only way\n[session.quay] # in\nhost = \"quay\"\n[session.b]\nhost = \"quay\"\nvia = [ \"x\", \"quay\" ]\n[session.x]\nhost = \"h\"\nvia = \"quay\"\n"
	path := edited(t, text)
	b, err := Rename(path, "quay", "pier.1")
	if err != nil {
		t.Fatal(err)
	}
	got, _ := os.ReadFile(path)
	want := "[site.reef]\nvia = [\"pier.1\"] # only way\n[session.\"pier.1\"] # in\nhost = \"quay\"\n[session.b]\nhost = \"quay\"\nvia = [ \"x\", \"pier.1\" ]\n[session.x]\nhost = \"h\"\nvia = \"pier.1\"\n"
	if string(got) != want || b.Session("pier.1") == nil || len(b.Problems) > 0 {
		t.Errorf("the file is\n%s\nwant\n%s", got, want)
	}
	for _, name := range []string{"b", "a b", "here", ""} {
		if _, err := Rename(path, "x", name); err == nil {
			t.Errorf("x was renamed to %q", name)
		}
	}
}

func TestAlternativesAreKnownEverywhere(t *testing.T) {
	text := "[session.quay]\nhost = \"quay\"\n[session.mole]\nhost = \"mole\"\n[session.b]\nhost = \"b\"\nvia = [\"quay|mole\"]\n"
	path := edited(t, text)
	if _, err := Remove(path, "mole"); err == nil || !strings.Contains(err.Error(), "b goes through it") {
		t.Errorf("mole was removed: %v", err)
	}
	b, err := Rename(path, "mole", "pier")
	if got, _ := os.ReadFile(path); err != nil || !strings.Contains(string(got), "via = [\"quay | pier\"]") || len(b.Problems) > 0 {
		t.Errorf("%v; the file is\n%s", err, got)
	}
	for value, say := range map[string]string{"quay | qauy": "no such session", "quay|b": "circle", "quay |": "no such session"} {
		if _, err := Set(path, "b", "via", value); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("via %q: %v", value, err)
		}
	}
}

func TestAProxyIsJudgedWhereItIsWritten(t *testing.T) {
	for uri, want := range map[string]string{
		"http://keeper@proxy.lantern.example:3128": "http://keeper@proxy.lantern.example:3128", "socks5://[2001:db8::1]:1080/": "socks5://[2001:db8::1]:1080", "off": "", "": "",
	} {
		if p, err := ParseProxy(uri); err != nil || p.String() != want {
			t.Errorf("%q: %q, %v", uri, p, err)
		}
	}
	for _, uri := range []string{"proxy:3128", "ftp://h:1", "http://h", "http://h:0", "http://h:99999", "http://a:b@h:1", "http://h:1/x", "http://h:1?q", "http://-h:1", "http://\x1b@h:1", "http://%0a@h:1"} {
		if p, err := ParseProxy(uri); err == nil {
			t.Errorf("%q is %+v", uri, p)
		}
	}
}

func TestRemoveLeavesTheRest(t *testing.T) {
	path := edited(t, odd)
	if _, err := Remove(path, "a"); err != nil {
		t.Fatal(err)
	}
	got, _ := os.ReadFile(path)
	want := strings.Replace(odd, "[session.a] # the first\n  host = \"h\"     # where it is\nport=2022\nkey  = [ \"one.pem\",   # old\n         \"two.pem\" ]\n", "# the first\n# where it is\n", 1)
	if string(got) != want {
		t.Errorf("the file is\n%s\nwant\n%s", got, want)
	}
	if what, b, err := Undo(path); what != "removing a" || err != nil || b.Session("a") == nil {
		t.Errorf("undo: %q, %v", what, err)
	}
	if _, err := Set(path, "b", "via", "a"); err != nil {
		t.Fatal(err)
	}
	if _, err := Remove(path, "a"); err == nil || !strings.Contains(err.Error(), "b goes through it") {
		t.Errorf("got %v", err)
	}
}

func TestACopySaysTheSame(t *testing.T) {
	path := edited(t, odd)
	b, err := Copy(path, "a", "a2")
	if err != nil {
		t.Fatal(err)
	}
	for _, key := range Fields {
		x, _ := b.Session("a").Text(key)
		if y, _ := b.Session("a2").Text(key); x != y {
			t.Errorf("%s: %q became %q", key, x, y)
		}
	}
	if text, _ := os.ReadFile(path); !strings.HasPrefix(string(text), odd) {
		t.Error("what was there changed")
	}
	if _, err := Copy(path, "a", "b"); err == nil {
		t.Error("a session was copied over another")
	}
}

func TestAnEditIsUndoneAndDoneAgain(t *testing.T) {
	path := filepath.Join(t.TempDir(), FileName)
	first := "[session.quay]\nhost = \"203.0.113.10\"\n"
	if err := os.WriteFile(path, []byte(first), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := NextUndo(path); err == nil {
		t.Error("there is something to undo")
	}
	for _, port := range []string{"2022", "2222"} {
		if _, err := Set(path, "quay", "port", port); err != nil {
			t.Fatal(err)
		}
	}
	has := func(want string) {
		t.Helper()
		text, err := os.ReadFile(path)
		if err != nil || !strings.Contains(string(text), want) {
			t.Errorf("it is %q, %v", text, err)
		}
	}
	step, err := NextUndo(path)
	if err != nil || !slices.Equal(step.Sessions, []string{"quay"}) || !strings.Contains(step.Words(), "port of quay") {
		t.Errorf("%+v, %v", step, err)
	}
	for _, c := range []struct {
		do   func(string) (string, *Book, error)
		want string
	}{{Undo, "2022"}, {Undo, first}, {Redo, "2022"}, {Redo, "2222"}, {Undo, "2022"}} {
		if _, b, err := c.do(path); err != nil || b == nil {
			t.Fatal(err)
		}
		has(c.want)
	}
	// Another edit is the end of what could be done again.
	if _, err := Set(path, "quay", "port", "22022"); err != nil {
		t.Fatal(err)
	}
	if _, err := NextRedo(path); err == nil {
		t.Error("there is something to do again")
	}
	if _, _, err := Redo(path); err == nil {
		t.Error("something was done again")
	}
	has("22022")
	// So is one by other means, for both.
	if _, _, err := Undo(path); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, []byte(first+"user = \"warden\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for name, do := range map[string]func(string) (string, *Book, error){"undo": Undo, "redo": Redo} {
		if _, _, err := do(path); !errors.Is(err, ErrMoved) {
			t.Errorf("%s: %v", name, err)
		}
	}
	has("warden")
}
