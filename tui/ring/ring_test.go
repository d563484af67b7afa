package ring

import (
	"crypto/ed25519"
	"crypto/rand"
	"testing"

	"meatus/core/remote"
	"meatus/core/ring"
	"meatus/tui/placetest"
)

// open shows a ring with two keys.
func open(t *testing.T) *placetest.Driver {
	t.Helper()
	d := placetest.Workspace(t, "[session.gauge-1]\nhost = \"10.61.4.31\"\n")
	for _, name := range []string{"bay.pem", "gauge.pem"} {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := d.Engine.Keys.Ring.Add(key, ring.Entry{Name: name}); err != nil {
			t.Fatal(err)
		}
	}
	return d.Place(New)
}

func TestKeysAreBoundAskedAboutAndTakenOut(t *testing.T) {
	d := open(t)
	held := d.Engine.Keys.Ring
	d.UntilSees("bay.pem", "gauge.pem")
	d.Fits()
	d.Press("a")
	d.Until("it to be asked about", func() bool { return held.Entries()[0].Confirm })
	d.Press("w")
	d.Type("never")
	d.Press("enter")
	d.UntilSaid(`"never" is no time`)
	d.Press("w")
	d.Type("10m")
	d.Press("enter")
	d.Until("it to stay so long", func() bool { return !held.Entries()[0].Until.IsZero() })
	d.Press("h")
	d.Type("gauge-*")
	d.Press("enter")
	d.Until("it to be for these alone", func() bool { e := held.Entries()[0]; return len(e.Said) == 1 && len(e.Hosts) == 2 })
	d.Press("down")
	d.Press("backspace")
	d.UntilSaid("D again wipes gauge.pem from memory")
	d.Press("backspace")
	d.Until("one to be gone", func() bool { return len(held.Entries()) == 1 })
	d.UntilSees("1 key in memory")
	d.Press("Z")
	d.UntilSaid("Z again wipes 1 key from memory")
	d.Press("down", "Z")
	if len(held.Entries()) != 1 {
		t.Error("it was emptied though another key came in between")
	}
	d.Press("Z")
	d.Until("all to be gone", func() bool { return len(held.Entries()) == 0 })
	d.UntilSees("No key is held")
	d.Press("n", "esc")
	if len(d.Went) != 2 || d.Went[0] != "K" || d.Went[1] != "0" {
		t.Errorf("went to %v", d.Went)
	}
}

// A limit that is typed holds for the key it was asked about, and for no other where that has gone.
func TestALimitIsForTheKeyItWasAskedAbout(t *testing.T) {
	d := open(t)
	held := d.Engine.Keys.Ring
	d.UntilSees("bay.pem", "gauge.pem")
	d.Press("h")
	d.Type("gauge-*")
	held.Remove(held.Entries()[0].SHA256)
	d.Do(d.On().(*Model).look())
	d.UntilSees("1 key in memory")
	d.Press("enter")
	d.UntilSaid("bay.pem is not held any more, and nothing was changed")
	if e := held.Entries()[0]; len(e.Said) != 0 || e.Name != "gauge.pem" {
		t.Errorf("%s is limited to %v", e.Name, e.Said)
	}
	// Nothing is taken for the one that has gone, until the person moves.
	d.Press("D")
	d.UntilSaid("no key is chosen")
	d.Press("down", "D")
	d.UntilSaid("D again wipes gauge.pem from memory")
}

func TestAFormThatIsLeftIsWiped(t *testing.T) {
	d := open(t)
	d.UntilSees("bay.pem")
	d.Press("L")
	d.Type("ebb tide at noon")
	m := d.On().(*Model)
	f := m.form
	if f.Typed() != "ebb tide at noon" {
		t.Fatalf("%q is typed", f.Typed())
	}
	m.Close()
	if f.Typed() != "" || m.Typing() {
		t.Errorf("%q is kept", f.Typed())
	}
}

func TestTheRingIsLockedWithAPasswordGivenTwice(t *testing.T) {
	d := open(t)
	held := d.Engine.Keys.Ring
	d.UntilSees("bay.pem")
	lock := func(first, second string) {
		d.Press("L")
		d.Type(first)
		d.Press("enter")
		if second != "" {
			d.Type(second)
			d.Press("enter")
		}
	}
	lock("ebb tide at noon", "flood tide")
	d.UntilSees("not the same; type both again")
	if held.Locked() {
		t.Fatal("it is locked")
	}
	d.Press("esc")
	lock("ebb tide at noon", "ebb tide at noon")
	d.Until("it to be locked", held.Locked)
	d.Until("it to be seen", func() bool { return d.On().(*Model).now.locked })
	d.Fits()
	lock("wrong", "")
	d.Until("a refusal", func() bool { return d.On().(*Model).note != "" })
	lock("ebb tide at noon", "")
	d.Until("it to be open", func() bool { return !held.Locked() })
}

func TestOtherProgramsGetASocketWhenThatIsWanted(t *testing.T) {
	d := open(t)
	t.Setenv("SSH_AUTH_SOCK", "")
	d.UntilSees("bay.pem")
	d.Press("B")
	d.UntilSaid("no agent runs")
	d.Press("p")
	d.UntilSaid("p again opens a socket")
	if d.Engine.SharedRing() != nil {
		t.Fatal("it is open")
	}
	d.Press("p")
	d.UntilSaid("other programs here can use the ring now")
	d.Press("y")
	if len(d.Copied) != 1 || d.Copied[0] != "SSH_AUTH_SOCK="+d.Engine.SharedRing().Path+"; export SSH_AUTH_SOCK" {
		t.Errorf("copied %q", d.Copied)
	}
	t.Setenv("SSH_AUTH_SOCK", d.Engine.SharedRing().Path)
	d.Press("p", "p")
	d.UntilSaid("the socket is closed")
}

func TestALendIsEndedFromTheRing(t *testing.T) {
	d, _ := placetest.Lab(t)
	r, ok := d.Services.Plan("spit")
	if !ok {
		t.Fatal("spit has no route")
	}
	p, err := d.Engine.Walker.Walk(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	g, err := d.Engine.Programs.Start(t.Context(), p, "", &remote.Terminal{Cols: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { g.Close() })
	d.Place(New)
	d.UntilSees("gauge.pem to spit")
	d.Press("end", "backspace")
	d.UntilSaid("D again ends what is lent to spit")
	d.Press("backspace")
	d.Until("the lend to be ended", func() bool { return d.Engine.Programs.Lends()[0].Ended != nil })
}
