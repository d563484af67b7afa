package sheet

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/lab/await"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

const bay = `[defaults]
keepalive = "30s"

[site.reef]
user = "keeper"

[[like]]
name = "gauge-*"
arrive = "uptime"

[session.quay]
host = "203.0.113.10"

[session.gauge-1]
site = "reef"
host = "10.61.4.31"
via  = ["quay"]
`

func open(t *testing.T) *placetest.Driver {
	d := placetest.Workspace(t, bay)
	return d.Task(New(d.Services, "gauge-1"))
}

func written(d *placetest.Driver) string {
	text, err := os.ReadFile(filepath.Join(d.Engine.Workspace().Dir, "sessions.toml"))
	if err != nil {
		d.Fatal(err)
	}
	return string(text)
}

// to moves the cursor to a key.
func to(d *placetest.Driver, m *Model, key string) {
	d.Press("pgup", "pgup")
	for m.field() != key {
		before, _ := m.rows.Selected()
		if slices.Contains(before.folded, key) {
			d.Press("enter")
			continue
		}
		d.Press("down")
		if after, _ := m.rows.Selected(); after.key == before.key && after.part == before.part {
			d.Fatalf("there is no %s", key)
		}
	}
}

func TestAValueIsEditedInheritedAndTakenBack(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("gauge-1", "keeper")
	to(d, m, "user")
	d.Press("enter")
	if !m.Typing() {
		t.Fatal("nothing is typed")
	}
	d.Type("kee/per")
	d.Press("enter")
	d.Until("a refusal", func() bool { return m.bad })
	d.Press("ctrl+u")
	d.Type("pilot")
	d.Press("enter")
	d.Until("the value to be written", func() bool { return strings.Contains(written(d), `user = "pilot"`) })
	d.UntilSees("pilot")
	d.Until("it to be taken up", func() bool { v, _ := m.text("user"); return v == "pilot" && !m.Typing() })
	d.Press("backspace")
	d.Until("the value to be inherited", func() bool { v, _ := m.text("user"); return v == "keeper" })
	d.Press("ctrl+z")
	d.UntilSees("ctrl+z again takes back: ")
	if v, _ := m.text("user"); v != "keeper" {
		t.Error("it was taken back unasked")
	}
	d.Press("ctrl+z")
	d.Until("the edit to be taken back", func() bool { v, _ := m.text("user"); return v == "pilot" })
	d.Press("ctrl+y")
	d.UntilSees("ctrl+y again does again: ")
	d.Press("ctrl+y")
	d.Until("it to be done again", func() bool { v, _ := m.text("user"); return v == "keeper" })
	d.Press("ctrl+z")
	d.UntilSees("ctrl+z again takes back: ")
	d.Press("ctrl+z")
	d.Until("it to be taken back again", func() bool { v, _ := m.text("user"); return v == "pilot" })
	// What was edited in another session is not taken back from here.
	if _, err := book.Set(m.ws.SessionsPath(), "quay", "port", "2022"); err != nil {
		t.Fatal(err)
	}
	d.Press("ctrl+z")
	d.UntilSees("the last edit is not of gauge-1")
	d.Press("ctrl+z")
	if !strings.Contains(written(d), "2022") {
		t.Error("an edit of quay was taken back in the sheet of gauge-1")
	}
	if strings.Count(written(d), "pilot") != 1 {
		t.Errorf("written:\n%s", written(d))
	}
}

func TestASessionThatWantsCareIsRemovedByItsName(t *testing.T) {
	d := placetest.Workspace(t, strings.Replace(bay, "via  = [", "careful = \"on\"\nvia  = [", 1))
	d.Task(New(d.Services, "gauge-1"))
	d.Press("ctrl+d")
	d.UntilSees("marked careful: type its name", "name, to confirm: ")
	d.Type("gauge-2")
	d.Press("enter")
	d.UntilSees("the name is not gauge-1; nothing was removed")
	if !strings.Contains(written(d), "[session.gauge-1]") {
		t.Fatal("it was removed by another name")
	}
	d.Press("ctrl+d")
	d.Type("gauge-1")
	d.Press("enter")
	d.Until("it to be removed", func() bool { return !strings.Contains(written(d), "[session.gauge-1]") })
}

func TestTheTablesAValueComesFromAreShown(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	var names []string
	for range len(m.ws.Book.Tables("gauge-1")) {
		names = append(names, m.at.String())
		d.Press("tab")
	}
	if all := strings.Join(names, "; "); !strings.Contains(all, "reef") || !strings.Contains(all, "gauge-*") || !strings.Contains(all, "defaults") {
		t.Errorf("shown were %s", all)
	}
	d.Press("shift+tab")
	to(d, m, "keepalive")
	d.Press("enter", "ctrl+u")
	d.Type("45s")
	d.Press("enter")
	d.Until("the default to be written", func() bool { return strings.Contains(written(d), `keepalive = "45s"`) })
	d.Fits()
}

func TestASessionIsRenamedCopiedAndRemoved(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.Press("ctrl+r", "ctrl+u")
	d.Type("quay")
	d.Press("enter")
	d.Until("a refusal", func() bool { return m.bad })
	d.Press("ctrl+u")
	d.Type("gauge-7")
	d.Press("enter")
	d.Until("the new name", func() bool { return m.session == "gauge-7" && !m.Typing() })
	d.Press("ctrl+o")
	d.Press("enter")
	d.Until("the copy", func() bool { return m.session == "gauge-7-2" && !m.Typing() })
	d.Press("ctrl+d")
	d.UntilSees("gauge-7-2")
	d.Press("esc")
	d.Press("ctrl+d", "enter")
	d.Until("the copy to be gone", func() bool { return !strings.Contains(written(d), "gauge-7-2") })
	d.Until("the sheet to be put away", func() bool { return d.Closed })
}

func TestASiteIsAdded(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.Press("ctrl+n")
	d.Type("point")
	d.Press("enter")
	d.Until("the site to be written", func() bool { return strings.Contains(written(d), "[site.point]") })
	d.Press("ctrl+n", "ctrl+u")
	d.Type("no such thing")
	d.Press("enter")
	d.Until("a refusal", func() bool { return m.bad })
	d.Press("esc")
	if m.Typing() {
		t.Error("something is typed still")
	}
}

func TestAnEditFromOutsideIsSaidWhileAValueIsTyped(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	to(d, m, "host")
	d.Press("enter")
	if err := os.WriteFile(filepath.Join(d.Engine.Workspace().Dir, "sessions.toml"), []byte(strings.Replace(bay, "10.61.4.31", "10.61.4.99", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Engine.Reread(false)
	d.Until("it to be said", func() bool { return strings.Contains(m.note, `became "10.61.4.99" outside Meatus`) })
	d.Press("esc")
	if err := os.WriteFile(filepath.Join(d.Engine.Workspace().Dir, "sessions.toml"), []byte("[session.quay]\nhost = \"203.0.113.10\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Engine.Reread(false)
	d.Until("the sheet of a session that is gone to be put away", func() bool { return d.Closed })
}

var _ stack.Layer = (*Model)(nil)

// The query of an instance is completed while it is typed, as where instances are looked for.
func TestAQueryOfAnInstanceIsCompleted(t *testing.T) {
	d, _ := placetest.Lab(t)
	await.Until(t, "the estate to be read", func() bool {
		known := d.Engine.Workspace().Estates
		return len(known) == 1 && len(known[0].Snapshot.Instances) > 0
	})
	b, err := book.Add(d.Engine.Workspace().SessionsPath(), book.Draft{Name: "drifter", Instance: "i-gauge-1", Via: []string{"quay"}})
	if err != nil {
		t.Fatal(err)
	}
	d.Engine.Adopt(b, "", "")
	d.Task(New(d.Services, "drifter"))
	m := d.On().(*Model)
	to(d, m, "instance")
	d.Press("enter", "ctrl+u")
	d.Type("network=reef name=mas")
	d.UntilSees("name=mast")
	d.Press("tab")
	if got := m.input.Text(); got != "network=reef name=mast" {
		t.Errorf("it is completed to %q", got)
	}
	d.Press("enter")
	d.Until("it to be bound to the other", func() bool {
		s := d.Engine.Workspace().Book.Session("drifter")
		return s.Bound != nil && s.Bound.ID == "i-mast"
	})
}

// A letter in the sheet begins the value at the cursor; none of them is an action.
func TestLettersBeginAValue(t *testing.T) {
	for _, letters := range []string{"undone", "Reef", "Down", "north", "quay", "jk", "1st", "enter"} {
		d := open(t)
		m := d.On().(*Model)
		field := m.field()
		d.Type(letters)
		if !m.editing || m.field() != field || m.input.Text() != letters || d.Closed {
			t.Errorf("%q: %s is %q, editing %v", letters, m.field(), m.input.Text(), m.editing)
		}
		d.Press("esc")
		if m.editing {
			t.Errorf("%q: it is not left", letters)
		}
	}
}

// Settings that are not set are folded away by parts, and the chosen one is explained.
func TestSettingsAreFoldedAndExplained(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("who and where", "host", "The machine to log in to.", "values: a host name or an address", "not set: ")
	if s := d.See(); strings.Contains(s, "key_age  ") {
		t.Errorf("what is not set shows\n%s", s)
	}
	to(d, m, "key_age")
	d.UntilSees("from which a warning is shown", "example: 365d")
	d.Press("ctrl+a")
	for _, r := range m.rows.All() {
		if r.part != "" {
			t.Errorf("%v is folded away", r.folded)
		}
	}
	d.Press("ctrl+a")
	d.Until("them to be folded away again", func() bool { return len(m.rows.All()) < len(book.Fields)/2 })
	for _, size := range [][2]int{{50, 14}, {80, 24}, {200, 60}, {20, 4}} {
		d.SetSize(size[0], size[1])
		d.Fits()
	}
}

// A value that is given up stays in sight, and a row that is gone leaves nothing chosen.
func TestAValueThatIsGivenUpStaysInSight(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	to(d, m, "folder")
	d.Type("/srv")
	d.Press("enter")
	d.Until("it to be written", func() bool { v, _ := m.text("folder"); return v == "/srv" && !m.Typing() })
	d.Press("backspace")
	d.Until("it to be given up", func() bool { v, _ := m.text("folder"); return v == "" })
	if m.field() != "folder" {
		t.Errorf("%q is chosen", m.field())
	}
}
