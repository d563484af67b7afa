package lending

import (
	"crypto/ed25519"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/tui/placetest"
)

func open(t *testing.T, session string) *placetest.Driver {
	d, _ := placetest.Lab(t)
	r, ok := d.Services.Plan(session)
	if !ok {
		t.Fatalf("%s has no route", session)
	}
	return d.Task(New(d.Services, r))
}

func TestAKeyIsLentToOneShell(t *testing.T) {
	d := open(t, "gauge-1")
	m := d.On().(*Model)
	d.Until("the keys", func() bool { return m.loaded })
	d.Fits()
	d.Press("left") // to quay: the key of the machine after it is proposed
	if name := m.route.Hops[m.hop].Name; name != "quay" || len(m.chosen) != 1 {
		t.Fatalf("at %s, %v", name, m.chosen)
	}
	d.Press("h")
	d.Type("gauge-*")
	d.Press("enter", "a", "enter")
	d.Until("a shell to be opened", func() bool { return len(d.Opened) == 1 })
	target := d.Opened[0].Target()
	if target.Name != "quay" || target.Agent != "lend" || len(target.Lends) != 1 || filepath.Base(target.Lends[0]) != "gauge.pem" || len(target.LendsSaid) != 1 || target.LendsSaid[0] != "gauge-*" {
		t.Errorf("opened %+v", target)
	}
}

func TestAnyKeyFileIsLentForSomeUsesAndATime(t *testing.T) {
	d := open(t, "quay")
	m := d.On().(*Model)
	d.Until("the keys", func() bool { return m.loaded })
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "borrowed.pem")
	if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o644); err != nil {
		t.Fatal(err)
	}
	name := func() {
		d.Press("N")
		d.Type(path)
		d.Press("enter")
	}
	name()
	d.UntilSees("group and others can read it")
	if err := os.Chmod(path, 0o600); err != nil {
		t.Fatal(err)
	}
	name()
	d.UntilSees("borrowed.pem")
	d.Press("v", "v", "w", "w")
	d.UntilSees("3 uses, for 15 min")
	d.Fits()
	d.Press("enter")
	d.Until("a shell to be opened", func() bool { return len(d.Opened) == 1 })
	if target := d.Opened[0].Target(); len(target.Lends) != 1 || target.Lends[0] != path || target.LendUses != 3 || target.LendFor != 15*time.Minute || target.Agent != "ask" {
		t.Errorf("opened %+v", target)
	}
}

func TestNothingIsLentByTakingKeysAway(t *testing.T) {
	d := open(t, "spit")
	m := d.On().(*Model)
	d.Until("the keys", func() bool { return m.loaded && m.keys.Len() > 1 })
	for range m.keys.All() {
		if k, _ := m.keys.Selected(); m.chosen[k.Path] {
			d.Press("space")
		}
		d.Press("down")
	}
	d.Press("enter")
	d.Until("it to be said that nothing is chosen", func() bool { return m.note != "" })
	if len(d.Opened) != 0 {
		t.Errorf("opened %v", d.Opened)
	}
	d.Press("esc")
	if !d.Closed {
		t.Error("it still stands there")
	}
}
