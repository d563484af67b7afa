package estates

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/keyfile"
	"meatus/lab"
	"meatus/tui/placetest"
)

// bay shows the estate of the bay, whose cloud is quick.
func bay(t *testing.T) (*placetest.Driver, *lab.Lab, *Model) {
	t.Helper()
	d, l := placetest.Lab(t)
	l.Cloud().Pace = 20 * time.Millisecond
	d.Place(New)
	d.UntilSees("gauge-1")
	return d, l, d.On().(*Model)
}

// clear clears the line that is typed into.
func clearLine(d *placetest.Driver) { d.Press("ctrl+u") }

func TestAnotherIsLaunchedAndHasASession(t *testing.T) {
	d, l, m := bay(t)
	m.Select("gauge-1")
	d.Press("N")
	d.UntilSees("another like gauge-1", "here ── quay ── reef", "gauge-5", "keys/gauge.pem, which is key pair gauge")
	d.Fits()
	clearLine(d)
	d.Type("gauge-9")
	d.Press("down")
	clearLine(d)
	d.Type("many")
	d.UntilSees("that is no number", "it can not be launched")
	d.Fits()
	clearLine(d)
	d.Type("2")
	d.UntilSees("called gauge-9-1, gauge-9-2")
	d.Press("down", "right")
	d.UntilSees("2 instances of bay-warden-12")
	d.Press("left", "up", "up")
	boot := filepath.Join(l.Dir, "boot.sh")
	if err := os.WriteFile(boot, []byte("#!/bin/sh\necho ready\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Press("up", "up") // from the first to the last but one
	d.Type("none.sh")
	d.Press("enter")
	d.UntilSees("no such file")
	clearLine(d)
	d.Type("boot.sh")
	d.Press("enter")
	d.UntilSees("21 bytes run at the first boot")
	d.Press("enter")
	d.UntilSaid("enter again to launch 2 instances")
	d.Press("enter")
	d.Until("their sessions", func() bool {
		b := d.Engine.Workspace().Book
		one, two := b.Session("gauge-9-1"), b.Session("gauge-9-2")
		return one != nil && two != nil && one.Bound != nil && two.Bound != nil && strings.Join(two.Via.V, "") == "quay"
	})
	d.UntilSees("● launch gauge-9", "the first visit is compared with it") // it is over
	d.Fits()
	d.Press("down")
	d.Until("its job to be told of no more", func() bool { return !strings.Contains(d.See(), "launch gauge-9") })
}

func TestOneAddressAloneIsProposedInPlaceOfEverybody(t *testing.T) {
	d, _, m := bay(t)
	m.Select("quay")
	d.Press("N")
	d.UntilSees("everybody may knock at 22, by group shore")
	m.launch.launch.Network = "reef" // through quay it is quay's address that is seen
	m.launch.look()
	d.UntilSees("from 10.61.4.1 alone, which is quay")
	d.Press("ctrl+o")
	d.UntilSees("ssh-from-10.61.4.1 that lets in tcp 22 from 10.61.4.1/32 alone")
	if strings.Contains(d.See(), "everybody may knock") {
		t.Error("everybody still may")
	}
	d.Press("esc")
	d.UntilSees("gauge-1")
}

func TestKeyPairsAreAskedForMadeAndSent(t *testing.T) {
	d, l, _ := bay(t)
	d.Press("v")
	d.UntilSees("6 key pairs, 1 without a key file here", "sounding", "no file here")
	d.Fits()
	d.Press("a")
	if len(d.Copied) != 1 || !strings.Contains(d.Copied[0], "Who has the private half of key pair sounding") || !strings.Contains(d.Copied[0], "sounder") {
		t.Errorf("copied is %q", d.Copied)
	}
	d.Press("n")
	d.Type("salvage.pem")
	d.Press("enter", "enter")
	d.Type("ebb and flow")
	d.Press("enter")
	d.Type("ebb and flow")
	d.Press("enter")
	d.UntilSaid("key pair salvage is at estate bay")
	d.UntilSees("7 key pairs", "keys/salvage.pem")
	d.Press("I")
	d.Type("spare.pem")
	d.Press("enter", "enter")
	d.UntilSees("8 key pairs")
	d.Press("I")
	d.Type("none.pem")
	d.Press("enter", "enter")
	d.UntilSaid("no such file")
	d.Press("esc")
	d.UntilSees("gauge-1")
	if _, err := os.Stat(filepath.Join(l.Dir, "keys", "salvage.pem")); err != nil {
		t.Error(err)
	}
}

func TestWhatNobodyUsedIsStoppedByAKey(t *testing.T) {
	d, l, m := bay(t)
	d.Press("|")
	d.UntilSees("not used for a week", "never from here")
	d.Fits()
	m.Select("gauge-2")
	d.Press("D", "D")
	d.Until("it to stop", func() bool { return l.Cloud().Status("gauge-2") == "SHUTOFF" })
	d.Until("it to be no longer listed", func() bool {
		return !strings.Contains(d.See(), "gauge-2 ") || strings.Contains(d.See(), "stop gauge-2")
	})
	d.Press("esc")
	d.UntilSees("gauge-2 stopped")
}

func TestAFirstPasswordIsOpenedAndForgotten(t *testing.T) {
	d, l, m := bay(t)
	key, err := keyfile.Make("RSA", 3072)
	if err != nil {
		t.Fatal(err)
	}
	if err := keyfile.Write(filepath.Join(l.Dir, "keys", "salvage.pem"), key, keyfile.Wrapping{Passphrase: []byte("ebb and flow")}); err != nil {
		t.Fatal(err)
	}
	d.Press("v", "I")
	d.Type("salvage.pem")
	d.Press("enter", "enter")
	d.UntilSees("7 key pairs", "keys/salvage.pem")
	d.Press("esc")
	m.Select("gauge-1")
	d.Press("N")
	d.UntilSees("another like gauge-1")
	clearLine(d)
	d.Type("wreck")
	for range 6 {
		d.Press("down")
	}
	clearLine(d)
	d.Type("salvage")
	d.UntilSees("keys/salvage.pem, which is key pair salvage")
	d.Press("enter", "enter")
	d.Until("its session", func() bool { s := d.Engine.Workspace().Book.Session("wreck"); return s != nil && s.Bound != nil })
	d.Until("it to be there", func() bool { m.Select("wreck"); return m.Subject() == "wreck" })
	d.Press("O")
	d.UntilSees("passphrase of")
	d.Type("ebb and flow")
	d.Press("enter")
	d.UntilSees("the first password of wreck is " + lab.FirstPassword)
	d.Press("y")
	if d.Copied[len(d.Copied)-1] != lab.FirstPassword {
		t.Errorf("copied is %q", d.Copied)
	}
	opened := m.opened
	m.Update(forgetPassword{m.opening})
	if strings.Contains(d.See(), lab.FirstPassword) || strings.Contains(string(opened), "neap") {
		t.Error("it is still there")
	}
	m.Select("gauge-1")
	d.Press("O")
	d.UntilSaid("it has no first password")
}

func TestAQueryIsCompletedWhileItIsTyped(t *testing.T) {
	d, m, _ := open(t, document)
	d.UntilSees("hermit")
	d.Press("/")
	d.Type("ta")
	d.Press("tab")
	d.Type("ro")
	d.Press("tab", "tab")
	if got := m.query.String(); got != "tag:role=gauge" {
		t.Errorf("it is %q", got)
	}
	d.Type(" !state=")
	d.UntilSees("running", "stopped")
	d.Fits()
	d.Type("st")
	d.Press("tab", "enter")
	d.Until("the one that fits", func() bool { return len(m.areas) == 1 && len(m.areas[0].Spots) == 1 })
}

// The console of an instance is shown as it grows, cleaned; leaving it ends the reading.
func TestTheConsoleOfAnInstanceIsShown(t *testing.T) {
	d, _ := placetest.Lab(t)
	d.Place(New)
	m := d.On().(*Model)
	d.Until("the instances", func() bool { return m.choose("bay", "i-gauge-1") })
	d.Do(m.showConsole())
	d.UntilSees("console of gauge-1", "BEGIN SSH HOST KEY FINGERPRINTS")
	d.Fits()
	d.Press("up", "up")
	if !m.console.free {
		t.Error("new output would move the view")
	}
	d.Press("esc")
	d.UntilSees("quay")
	if cmd := m.takeConsole(consoleRead{id: "i-gauge-1"}); cmd != nil || m.console != nil {
		t.Error("it is read on")
	}
}
