package tui

import (
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/prefs"
	"meatus/core/workspace"
	"meatus/lab/labtest"
	"meatus/tui/action"
	"meatus/tui/finder"
	"meatus/tui/shells"
)

var renew = flag.Bool("renew", false, "write docs/keys.md and the golden screens anew")

// opened are the tables of every place, and of the tasks that its keys open, by name.
func opened(t *testing.T, a *driver) (names []string, tables map[string]action.Table) {
	tables = map[string]action.Table{}
	add := func(name string, table action.Table) {
		names = append(names, name)
		tables[name] = table
	}
	for i, e := range places {
		a.do(a.goToPlace(e.Key, "gauge-1"))
		if e.Key == cargoKey { // its folders show once those of the last time are known
			a.until("the folders", func() bool {
				return slices.ContainsFunc(a.places[i].Table(), func(act action.Action) bool { return act.Help().Desc == "start the transfer" })
			})
		}
		add(e.Name, a.places[i].Table())
	}
	for name, key := range map[string]string{"a session's values": "e", "its port forwards": "p", "lending": "l", "new port forward": "P"} {
		a.goToPlace("0", "gauge-1")
		a.press(key)
		if a.task() == nil {
			t.Fatalf("%s opens no task:\n%s", key, a.see())
		}
		tables["task: "+name] = a.task().Table()
		a.stack.CutAbove(a.home)
	}
	for _, name := range []string{"a session's values", "its port forwards", "lending"} {
		names = append(names, "task: "+name)
	}
	return names, tables
}

// Every key of every table is one of the letters, or one that moves, confirms or leaves; and
// what can not be done says why.
func TestALetterMeansOneThingEverywhere(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	letters := map[string]bool{}
	for _, l := range prefs.Letters {
		if letters[l.Key] {
			t.Errorf("%s is two letters", l.Key)
		}
		letters[l.Key] = true
	}
	_, tables := opened(t, a)
	for name, table := range tables {
		for _, act := range append(table, a.frameTable()...) {
			for _, k := range act.Keys() {
				if len([]rune(k)) == 1 && !letters[k] && !strings.ContainsAny(k, "kjq=123456789") {
					t.Errorf("%s: %s (%s) is no letter of the table", name, k, act.Help().Desc)
				}
			}
			if act.Rank <= action.InHelp && !act.Applies() && act.WhyNot() == "" {
				t.Errorf("%s: %s does not say why not", name, act.Help().Desc)
			}
		}
	}
}

func TestDocsListEveryKey(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	names, tables := opened(t, a)
	var b strings.Builder
	b.WriteString("# Keys\n\nWritten by `go test ./tui -run DocsListEveryKey -renew` from the program's own tables.\n\n")
	b.WriteString("A letter means one thing wherever it means anything. `[keys]` in `settings.toml` of the\nconfiguration folder gives a verb another key: `mend = \"f2\"`. enter, esc, tab, the arrows and what is\ntyped into a line stay as they are. What removes, ends or closes asks first.\n\n")
	b.WriteString("| Key | Verb | Means |\n|---|---|---|\n")
	for _, l := range prefs.Letters {
		fmt.Fprintf(&b, "| `%s` | `%s` | %s |\n", l.Key, l.Verb, l.Means)
	}
	write := func(name string, table action.Table) {
		fmt.Fprintf(&b, "\n## %s\n\n| Key | Does | Also found as |\n|---|---|---|\n", name)
		for _, act := range table {
			if act.Rank != action.Hidden {
				fmt.Fprintf(&b, "| `%s` | %s | %s |\n", act.Help().Key, act.Help().Desc, act.Synonyms)
			}
		}
	}
	for _, name := range names {
		write(strings.TrimPrefix(name, "task: "), tables[name])
	}
	a.goToPlace("0", "")
	write("Everywhere", a.frameTable())
	fmt.Fprintf(&b, "\n## In a shell, behind the leader\n\n| Key | Does | Also found as |\n|---|---|---|\n")
	for _, act := range shells.Actions() {
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", act.Key, act.Does, act.Also)
	}
	const path = "../docs/keys.md"
	if *renew {
		if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	text, err := os.ReadFile(path)
	if err != nil || string(text) != b.String() {
		t.Errorf("docs/keys.md is not what the tables say (%v): renew it", err)
	}
}

// A person's own keys do what is meant by them, and are what the foot shows.
func TestKeysOfOnesOwn(t *testing.T) {
	a := open(t, bay(t, 3), 160, 40)
	a.keymap = action.NewKeymap(map[string]string{"edit": "n", "new": "ctrl+e", "keys": "f4"})
	a.home.Select("gauge-1")
	if see := a.see(); !strings.Contains(see, "n edit") || !strings.Contains(see, "ctrl+e new session") {
		t.Errorf("the foot shows other keys:\n%s", see)
	}
	a.press("n")
	if see := a.see(); !strings.Contains(see, "session sheet ─ gauge-1") {
		t.Errorf("n does not edit:\n%s", see)
	}
	a.press("esc", "e") // nothing is on it any more
	if a.task() != nil || a.notice != "" {
		t.Errorf("e does something:\n%s", a.see())
	}
	a.give(tea.KeyPressMsg{Code: tea.KeyF4})
	if places[a.at()].Name != "Keys" {
		t.Errorf("f4 goes to %s", places[a.at()].Name)
	}
}

// Everything in every table is found by its own words and by each of its synonyms, and what is
// chosen in the finder is done.
func TestEveryActionIsFoundByItsWords(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	for i, e := range places {
		a.goToPlace(e.Key, "gauge-1")
		for _, act := range a.places[i].Table().Actions() {
			for _, words := range append(strings.Fields(act.Synonyms), act.Help().Desc) {
				a.find(words)
				at := slices.IndexFunc(layer[*findLayer](a.stack).Items(), func(i finder.Item) bool { return i.Here && i.Say == act.Help().Desc })
				if at < 0 || words == act.Help().Desc && at > 2 {
					t.Errorf("%s: %q finds %q at %d", e.Name, words, act.Help().Desc, at)
				}
				a.press("esc")
			}
		}
	}
	a.goToPlace("0", "gauge-2")
	for _, c := range []struct{ words, shows string }{
		{"forwarding agent", "agent forwarding for one shell"}, {"chmod", "mend"}, {"gau", "gauge-2"}, {"keepalive", "set keepalive"},
		{"journal", "go to Trail"}, {"authorized_keys", "install"}, {"xyzzy", "Nothing is called that"}, {"port-forward", "new port forward"}, {"authorized", "install"}, {"csv", "write the flows"}, {"ground", "set look.ground"},
	} {
		a.press(":")
		for _, r := range c.words {
			a.press(string(r))
		}
		if see := a.see(); !strings.Contains(see, c.shows) {
			t.Errorf("%q does not show %q:\n%s", c.words, c.shows, see)
		}
		a.press("esc")
	}
	a.press(":", "r", "e", "n", "a", "m", "e", "enter")
	if see := a.see(); !strings.Contains(see, "rename") || a.task() == nil || !a.task().Typing() {
		t.Errorf("renaming was not begun:\n%s", see)
	}
	a.press("esc", "esc")
	a.press(":", "s", "h", "e", "l", "l", "enter") // open shell is first
	a.until("a walk", func() bool {
		return a.walks["gauge-2"] != nil || a.ask.Waiting() || a.inShell() || strings.Contains(a.see(), "blocked")
	})
}

// Who knows the trade and not this program finds everything that the tour does by the words of the
// trade, among the first few.
func TestTheTourIsFoundByTheWordsOfTheTrade(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	a.home.Select("gauge-1")
	for words, does := range map[string]string{
		"test all": "check all", "connect": "open shell", "login": "open shell", "fix permissions": "fix the problem", "host key changed": "fix the problem", "known hosts": "go to Hosts",
		"retry": "wait and retry", "wrong user": "all remedies", "revert": "undo an edit", "redo": "redo an edit", "change user": "edit", "port forward": "new port forward",
		"socks proxy": "new port forward", "close tunnel": "port forwards, one by one", "traffic": "go to Watch", "monitor": "go to Watch", "disconnect": "end it", "diagram": "draw a map of all",
		"private key files": "go to Keys", "generate key": "new key", "authorized keys": "install", "rotate": "rotate", "fingerprint": "find a key", "permission denied publickey": "find the accepted key",
		"agent forwarding": "agent forwarding for one shell", "ssh agent": "go to Ring", "audit account": "search the account for stray keys", "background tasks": "go to Jobs", "several command": "run a command on marked sessions",
		"bulk edit": "edit marked sessions", "jump": "sessions through this bastion", "history": "go to Trail", "duplicate": "copy the session", "delete": "remove", "bastion": "sessions through this bastion", "help": "all keys", "quit": "quit Meatus",
		"username": "edit", "dynamic": "new port forward", "dynamic forward": "new port forward", "desktop": "new port forward", "rdp": "new port forward", "vnc": "new port forward", "browser": "new port forward", "x11": "new port forward",
		"display": "new port forward", "graphical": "new port forward", "public ip": "go to Estate", "stop instance": "go to Estate", "save session": "new session", "save tunnel": "port forwards, one by one",
		"log in without a password": "go to Keys", "upload my public key": "go to Keys", "editor": "go to Cargo", "sftp": "go to Cargo", "upload file": "go to Cargo", "certificate": "go to Leases",
	} {
		a.find(strings.TrimPrefix(words, "ssh "))
		items := layer[*findLayer](a.stack).Items()
		at := slices.IndexFunc(items, func(i finder.Item) bool { return i.Say == does || does == "end it" && strings.HasPrefix(i.Say, "end ") })
		if at < 0 || at > 7 {
			var first []string
			for _, i := range items[:min(len(items), 5)] {
				first = append(first, i.Say)
			}
			t.Errorf("%q finds %q at %d, behind %q", words, does, at, first)
		}
		a.press("esc")
	}
}

// What cannot be done is listed with the reason, and not done.
func TestTheFinderSaysWhyNot(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	a.home.Select("gauge-1")
	a.press(":")
	for _, r := range "another shell" {
		a.press(string(r))
	}
	if see := a.see(); !strings.Contains(see, "not now: it has no live shell; enter opens one") {
		t.Errorf("it is not said why not:\n%s", see)
	}
	a.press("enter")
	if layer[*findLayer](a.stack) == nil || a.inShell() {
		t.Error("it was done")
	}
	a.press("esc", "s") // the key alone says it, too
	if !strings.Contains(a.see(), "it has no live shell") {
		t.Errorf("the key does not say why it does nothing:\n%s", a.see())
	}
}

// identityChanged tells whether the alarm of a changed identity stands at a session.
func identityChanged(a *driver, session string) bool {
	s, ok := a.engine.Board.State(session)
	return ok && s.Failure != nil && s.Failure.Gate == gate.Identity
}

// Every action of every place and of the tasks is begun once through the finder; none of them is a
// fault of the program, and what destroys asks first.
func TestEveryActionIsDoneThroughTheFinder(t *testing.T) {
	l := labtest.Open(t)
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	ws.Downloads = l.Downloads()
	a := openWith(t, ws, Options{Name: "Lantern Bay", Dialer: l.Dialer()}, 160, 47)
	sessions, err := os.ReadFile(ws.SessionsPath())
	if err != nil {
		t.Fatal(err)
	}
	begin := func(name string, act action.Action) {
		t.Helper()
		if a.find(""); layer[*findLayer](a.stack) == nil {
			t.Fatalf("%s: there is no finder", name)
		}
		items := layer[*findLayer](a.stack).Items()
		at := slices.IndexFunc(items, func(i finder.Item) bool {
			return i.Here && (i.Say == act.Help().Desc || i.Key == act.Help().Key && i.Key != "")
		})
		if at < 0 {
			t.Errorf("%s: %q is not offered", name, act.Help().Desc)
			a.press("esc")
			return
		}
		a.press(slices.Repeat([]string{"down"}, at)...)
		a.press("enter")
		if whyNot := items[at].WhyNot; (layer[*findLayer](a.stack) != nil) != (whyNot != "") {
			t.Errorf("%s: %q (%q) leaves the finder open: %v", name, act.Help().Desc, whyNot, layer[*findLayer](a.stack) != nil)
		}
		if strings.Contains(a.see(), "by a fault of this program") {
			t.Errorf("%s: %q:\n%s", name, act.Help().Desc, a.see())
		}
	}
	calm := func() { // back to the place with nothing under way
		for range 4 {
			a.press("esc")
		}
		a.stack.CutAbove(a.home)
		a.walks = map[string]context.CancelFunc{}
	}
	for i, e := range places {
		a.do(a.goToPlace(e.Key, "gauge-1"))
		a.until("what there is", func() bool { return len(a.places[i].Table()) > 0 && !strings.Contains(a.see(), "looking …") })
		for _, act := range a.places[i].Table().Actions() {
			a.do(a.goToPlace(e.Key, "gauge-1"))
			begin(e.Name, act)
			calm()
		}
	}
	tasks := []struct {
		name, session string
		keys          []string
	}{
		{"the sheet", "gauge-1", []string{"e"}}, {"doors", "tables", []string{"p"}}, {"lending", "gauge-1", []string{"l"}}, {"new port forward", "gauge-1", []string{"P"}},
		{"remedies", "tide-db", []string{"M"}}, {"many", "gauge-1", []string{"space", "E"}}, {"each", "gauge-1", []string{"space", "A"}}, {"a new session", "gauge-1", []string{"n"}},
		{"mistakes", "gauge-1", []string{"!"}}, {"a changed identity", "gauge-2", []string{"m"}},
	}
	// opened opens a task, as often as it is asked to. The last two need a mistake, and a machine that
	// was walked to.
	opened := func(i int) {
		t.Helper()
		c := tasks[i]
		a.do(a.goToPlace("0", c.session))
		if c.name == "a changed identity" {
			a.until("the alarm", func() bool {
				if s, ok := a.engine.Board.State(c.session); ok && s.Walk == nil && !identityChanged(a, c.session) {
					calm()
					a.do(a.goToPlace("0", c.session))
					a.press("enter")
				}
				return identityChanged(a, c.session)
			})
		}
		a.until("what is known of it", func() bool { s, ok := a.engine.Board.State(c.session); return ok && s.Judged && s.Details != nil })
		a.until(c.name, func() bool { // what was done before may still arrive, and choose its own session
			if a.task() == nil {
				a.do(a.goToPlace("0", c.session))
			}
			for _, k := range c.keys {
				if a.task() == nil && (k != "space" || !a.engine.Board.Marked(c.session)) {
					a.press(k)
				}
			}
			return a.task() != nil
		})
	}
	confirms := func(act action.Action) bool {
		return slices.Contains([]string{"enter", "ctrl+s", "ctrl+d"}, act.Help().Key)
	}
	for i, c := range tasks {
		if c.name == "mistakes" {
			continue
		}
		opened(i)
		for _, act := range a.task().Table().Actions() {
			if !confirms(act) {
				begin(c.name, act)
				calm()
				opened(i)
			}
		}
		calm()
	}
	if now, err := os.ReadFile(ws.SessionsPath()); err != nil || string(now) != string(sessions) {
		t.Errorf("the sessions are changed by what should have asked first (%v):\n%s", err, now)
	}
	// What a task confirms is done, too: each on the file as it was, with a mistake in it last.
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(ws.SessionsPath(), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		a.until("the file as it is now", func() bool { return strings.Contains(text, "whereto") == (len(a.engine.Workspace().Book.Problems) > 0) })
	}
	done := 0
	for i, c := range tasks {
		if c.name == "mistakes" {
			write(string(sessions) + "\n[session.lost]\nwhereto = \"reef\"\n")
		}
		opened(i)
		for n, act := range a.task().Table().Actions() {
			if !confirms(act) && c.name != "mistakes" {
				continue
			}
			if a.task() == nil {
				opened(i)
			}
			begin(c.name, a.task().Table().Actions()[n])
			a.until("the end of what it began", func() bool { return a.engine.Jobs.Running() == 0 })
			done++
			calm()
		}
		calm()
		write(string(sessions))
	}
	if done < len(tasks) {
		t.Errorf("%d confirmed of %d tasks", done, len(tasks))
	}
}

// namedKey is a key that a document names with its place: `t` on Routes, or in Keys, `L`.
var namedKey = regexp.MustCompile("`([^` ]{1,7})` (?:on|in) (Routes|Keys|Watch|Cargo|Estate|Hosts|Trail|Ring|Leases|Jobs)\\b|(?:On|In|on|in) (Routes|Keys|Watch|Cargo|Estate|Hosts|Trail|Ring|Leases|Jobs),? `([^` ]{1,7})`")

// A key that a document names is a key of that place.
func TestDocsNameKeysThatThereAre(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	_, tables := opened(t, a)
	everywhere := a.frameTable()
	files, _ := filepath.Glob("../docs/*.md")
	found := 0
	for _, file := range append(files, "../README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		if filepath.Base(file) == "architecture.md" { // what it names in such quotes is source
			continue
		}
		for _, m := range namedKey.FindAllStringSubmatch(strings.Join(strings.Fields(string(text)), " "), -1) {
			key, place := m[1]+m[4], m[2]+m[3]
			found++
			if !slices.ContainsFunc(append(tables[place], everywhere...), func(act action.Action) bool { return slices.Contains(act.Keys(), key) }) {
				t.Errorf("%s: %q: %s has no key %s", filepath.Base(file), m[0], place, key)
			}
		}
	}
	if found < 10 {
		t.Errorf("%d keys were found in the documents", found)
	}
}
