package keys

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/lab"
	"meatus/tui/placetest"
)

func open(t *testing.T) (*placetest.Driver, *Model) {
	t.Helper()
	d, _ := placetest.Lab(t)
	d.Place(New)
	m := d.On().(*Model)
	d.Until("the keys", func() bool { return m.loaded && len(m.list.All()) > 4 })
	return d, m
}

// choose moves to a key.
func choose(d *placetest.Driver, m *Model, name string) {
	d.Helper()
	d.Until(name+" to be there", func() bool {
		for _, k := range m.list.Shown() {
			if filepath.Base(k.Path) == name {
				return m.list.Select(k.Path)
			}
		}
		return false
	})
}

func file(d *placetest.Driver, parts ...string) string {
	return filepath.Join(append([]string{d.Engine.Workspace().Dir}, parts...)...)
}

func mode(t *testing.T, path string) os.FileMode {
	t.Helper()
	info, err := os.Stat(path)
	if err != nil {
		t.Fatal(err)
	}
	return info.Mode().Perm()
}

func TestAModeIsMendedAndTheFolderWithIt(t *testing.T) {
	d, m := open(t)
	d.Fits()
	choose(d, m, "tide.pem")
	d.Press("m")
	d.Until("the mode", func() bool { return mode(t, file(d, "keys", "tide.pem")) == 0o600 })
	d.UntilSaid("tide.pem")
	os.Chmod(file(d, "keys", "gauge.pem"), 0o640)
	choose(d, m, "gauge.pem")
	d.Press("M")
	d.UntilSaid("M again sets mode 0600 on")
	d.Press("down", "M") // another key in between takes it back
	if mode(t, file(d, "keys", "gauge.pem")) != 0o640 {
		t.Error("one press mended the folder")
	}
	d.Press("M")
	d.Until("the folder to be mended", func() bool { return mode(t, file(d, "keys", "gauge.pem")) == 0o600 })
}

func TestAKeyIsMadeWrappedRenamedAndRetired(t *testing.T) {
	d, m := open(t)
	d.Press("n", "ctrl+u")
	d.Type("pier.pem")
	d.Press("enter", "enter") // the name, and the kind that is proposed
	d.Type("ebb and flood 7")
	d.Press("enter")
	d.Fits()
	d.Type("ebb and flood 7")
	d.Press("enter")
	d.Until("the key", func() bool { _, err := os.Stat(file(d, "keys", "pier.pem")); return err == nil })
	d.Until("the new key to be the chosen one", func() bool { k, _ := m.selected(); return filepath.Base(k.Path) == "pier.pem" })
	d.Press("v")
	d.Type("ebb and flood 7")
	d.Press("enter", "enter") // pkcs8 is proposed
	d.Until("the container", func() bool {
		text, _ := os.ReadFile(file(d, "keys", "pier.pem"))
		return strings.Contains(string(text), "BEGIN PRIVATE KEY") || strings.Contains(string(text), "BEGIN ENCRYPTED PRIVATE KEY")
	})
	d.Until("it to be read anew", func() bool { return m.form == nil && m.note != "" })
	choose(d, m, "pier.pem")
	d.Press("R", "ctrl+u")
	d.Type("mole.pem")
	d.Press("enter")
	d.Until("the new name", func() bool { _, err := os.Stat(file(d, "keys", "mole.pem")); return err == nil })
	d.Until("the renamed key to be the chosen one", func() bool { k, _ := m.selected(); return filepath.Base(k.Path) == "mole.pem" })
	d.Press("D", "esc")
	if _, err := os.Stat(file(d, "keys", "mole.pem")); err != nil {
		t.Fatal("it was retired without a yes")
	}
	d.Press("D", "enter")
	d.Until("it to be retired", func() bool { _, err := os.Stat(file(d, "keys", "mole.pem")); return err != nil })
}

func TestAKeyIsFoundByWhatItIs(t *testing.T) {
	d, m := open(t)
	choose(d, m, "gauge.pem")
	k, _ := m.selected()
	d.Paste(k.Sheet.SHA256)
	d.Until("an answer", func() bool { return m.asked != "" })
	d.UntilSees("gauge.pem")
	d.Fits()
	d.Press("esc", "/")
	d.Type("shore")
	d.Press("enter")
	d.Until("one to be left", func() bool { return m.list.Len() > 0 && m.list.Len() < len(m.list.All()) })
	d.Press("esc")
	if m.list.Len() != len(m.list.All()) {
		t.Error("what was looked for is kept")
	}
	d.Press("a")
	d.Type("SHA256:nothing")
	d.Press("enter")
	d.Until("an answer", func() bool { return m.asked != "" })
	d.Press("esc", "x", "esc")
	if len(d.Drawn) != 1 || len(d.Went) != 1 {
		t.Errorf("drew %d, went to %v", len(d.Drawn), d.Went)
	}
}

// What is pasted before the keys are read is answered once they are.
func TestAnEarlyPasteIsAnswered(t *testing.T) {
	d, l := placetest.Lab(t)
	public, err := os.ReadFile(filepath.Join(l.Dir, "lab", "tide.pem.pub"))
	if err != nil {
		t.Fatal(err)
	}
	p := d.Place(New).On().(*Model)
	d.Paste(string(public)) // what Show began is not taken before Until
	if p.loaded || p.asked != "" {
		t.Errorf("it is answered with no key read: %v", p.which)
	}
	d.Until("the answer", func() bool { return p.asked != "" })
	if len(p.which) != 1 {
		t.Errorf("%+v fit", p.which)
	}
}

func TestALockedKeyIsHeldWithItsPassphraseAlone(t *testing.T) {
	d, m := open(t)
	var locked string
	for _, k := range m.list.All() {
		if k.Sheet.Passphrase {
			locked = filepath.Base(k.Path)
		}
	}
	choose(d, m, locked)
	d.Press("l")
	d.Type("not that")
	d.Press("enter")
	d.Until("a refusal", func() bool { return strings.Contains(m.note, locked) })
	choose(d, m, locked)
	d.Press("l")
	d.Type(lab.Passphrase)
	d.Press("enter")
	d.Until("it to be held", func() bool { return len(d.Engine.Keys.Ring.Entries()) == 1 })
}

func TestWhatAKeyIsMeantForIsWritten(t *testing.T) {
	d, m := open(t)
	choose(d, m, "gauge.pem")
	d.Press("e", "ctrl+u")
	d.Type("gauge-*")
	d.Press("enter", "ctrl+u")
	d.Type("2h")
	d.Press("enter", "ctrl+u")
	d.Type("y")
	d.Press("enter")
	d.Until("it to be written", func() bool {
		text, _ := os.ReadFile(file(d, "sessions.toml"))
		return strings.Contains(string(text), `[key."keys/gauge.pem"]`) && strings.Contains(string(text), `stay = "2h"`)
	})
}

func TestWorkOnKeysIsBegunAsJobs(t *testing.T) {
	d, m := open(t)
	choose(d, m, "gauge.pem")
	d.Press("I", "ctrl+u")
	d.Type("gauge-1")
	d.Press("enter", "enter")
	d.Until("an install", func() bool { return len(d.Begun) == 1 })
	choose(d, m, "shore.pem")
	d.Press("E", "ctrl+u")
	d.Type("gauge.pem")
	d.Press("enter", "esc")
	if len(d.Begun) != 1 {
		t.Error("a rotation was begun although it was left")
	}
}

func TestWhatWasShownForAWhileIsForgotten(t *testing.T) {
	d, m := open(t)
	choose(d, m, "gauge.pem")
	d.Press("O")
	d.Type("bm8gc2VhbGVkIHBhc3N3b3Jk")
	d.Press("enter")
	d.Until("a refusal", func() bool { return m.note != "" })
	m.Close()
	if m.opened != nil || m.form != nil {
		t.Error("it is still there")
	}
}

func TestHostileFileNamesAreCleaned(t *testing.T) {
	d, l := placetest.Lab(t)
	text, err := os.ReadFile(filepath.Join(l.Dir, "keys", "gauge.pem"))
	if err != nil {
		t.Fatal(err)
	}
	hostile := "tide\x1b[2J\u202egnp\n.pem"
	for _, dir := range []string{filepath.Join(l.Dir, "keys"), l.Downloads()} {
		if err := os.WriteFile(filepath.Join(dir, hostile), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	d.Place(New)
	m := d.On().(*Model)
	d.Until("the keys", func() bool { return m.loaded && len(m.list.All()) > 4 })
	for _, k := range m.list.Shown() {
		m.list.Select(k.Path)
		for _, line := range d.Lines() {
			if plain := ansi.Strip(line); strings.ContainsAny(plain, "\x1b\n\u202e") || strings.Contains(line, "\x1b[2J") {
				t.Fatalf("it shows %q", line)
			}
		}
	}
}

func TestARotationWhereCareIsWantedAsksForTheName(t *testing.T) {
	d, m := open(t)
	if _, err := book.Set(d.Engine.Workspace().SessionsPath(), "mast", "careful", "on"); err != nil {
		t.Fatal(err)
	}
	d.Engine.Reread(true)
	d.Until("the care", func() bool { return len(m.ws.Book.Careful("mast")) == 1 })
	rotate := func(typed string) {
		choose(d, m, "mast.pem")
		d.Press("E", "ctrl+u")
		d.Type("gauge.pem")
		d.Press("enter", "enter")
		d.UntilSees("mast marked careful; type the name")
		d.Type(typed)
		d.Press("enter")
	}
	rotate("sill")
	d.UntilSaid("mast was not typed; nothing is rotated")
	if len(d.Begun) > 0 {
		t.Fatal("a rotation was begun")
	}
	rotate("mast")
	d.Until("the rotation to be begun", func() bool { return len(d.Begun) == 1 })
}

func TestALateReadingOfKeysDoesNotCount(t *testing.T) {
	d, m := open(t)
	m.reads++
	late := read{n: m.reads}
	d.Do(m.readAll())
	d.Until("the keys", func() bool { return len(m.list.All()) > 4 })
	if d.Give(late); len(m.list.All()) <= 4 {
		t.Errorf("%d keys are there", len(m.list.All()))
	}
}

// What a form was shown about is what it is done to, whatever has landed in the list since.
func TestAFormIsAboutTheKeyItWasShownAbout(t *testing.T) {
	d, m := open(t)
	choose(d, m, "shore.pem")
	d.Press("D")
	d.UntilSees("move shore.pem aside")
	ws := d.Engine.Workspace()
	text, err := os.ReadFile(file(d, "keys", "gauge.pem"))
	if err == nil {
		err = os.WriteFile(filepath.Join(ws.Downloads, "aaa.pem"), text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	d.Do(m.readAll())
	d.Until("it to be listed", func() bool { return m.arrived != "" })
	m.list.Select(m.arrived) // even where something else is chosen by then
	d.Press("enter")
	d.Until("shore.pem to be retired", func() bool {
		_, err := os.Stat(file(d, "keys", "retired", "shore.pem"))
		return err == nil
	})
	if _, err := os.Stat(filepath.Join(ws.Downloads, "aaa.pem")); err != nil {
		t.Errorf("what arrived was taken for it: %v", err)
	}

	// The file holds another key by now: nothing is done.
	choose(d, m, "mast.pem")
	d.Press("D")
	d.UntilSees("move mast.pem aside")
	if err := os.WriteFile(file(d, "keys", "mast.pem"), text, 0o600); err != nil {
		t.Fatal(err)
	}
	d.Do(m.readAll())
	reads := m.reads
	d.Until("it to be read", func() bool {
		k, _ := m.list.Find(m.about.Path)
		return m.reads >= reads && k.Sheet.SHA256 != m.about.Sheet.SHA256
	})
	d.Press("enter")
	d.UntilSaid("mast.pem holds another key by now, and nothing was done")
	if _, err := os.Stat(file(d, "keys", "mast.pem")); err != nil {
		t.Error(err)
	}
}

// A key that arrives does not move the choice; one key goes to it.
func TestTheChoiceStaysWhenAKeyArrives(t *testing.T) {
	d, m := open(t)
	choose(d, m, "shore.pem")
	text, err := os.ReadFile(file(d, "keys", "gauge.pem"))
	if err == nil {
		err = os.WriteFile(filepath.Join(d.Engine.Workspace().Downloads, "aaa.pem"), text, 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	d.Do(m.readAll())
	d.UntilSaid("aaa.pem has arrived in the download folder; tab goes to it")
	if m.Subject() != "shore.pem" {
		t.Errorf("%s is chosen", m.Subject())
	}
	d.Press("tab")
	if m.Subject() != "aaa.pem" {
		t.Errorf("%s is gone to", m.Subject())
	}
}
