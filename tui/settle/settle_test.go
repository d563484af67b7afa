package settle

import (
	"crypto/ed25519"
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/login"
	"meatus/core/step"
	"meatus/core/vouch"
	"meatus/lab/await"
	"meatus/tui/placetest"
)

func key(t *testing.T) ssh.PublicKey {
	t.Helper()
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	k, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	return k
}

// changed is a decision about a host that is vouched for with another key, and whose new
// key is that of another host when shared says so.
func changed(t *testing.T, shared bool) (*placetest.Driver, *login.ChangedIdentity) {
	t.Helper()
	d := placetest.Workspace(t, "[session.gauge-2]\nhost = \"10.61.4.32\"\n")
	record := d.Engine.Workspace().Vouched
	if err := record.Accept(vouch.At{Host: "10.61.4.32", Port: 22}, key(t), "10.61.4.32:22", time.Now()); err != nil {
		t.Fatal(err)
	}
	fresh := key(t)
	c := &login.ChangedIdentity{Place: step.Place{Session: "gauge-2", Hop: "gauge-2"}, Host: "10.61.4.32", Port: 22, Key: fresh, Seen: "10.61.4.32:22"}
	d.Engine.Events.Tell(login.Sighted{Host: "10.61.4.32", Port: 22, Key: "SHA256:x", Address: "10.61.4.32:22"})
	await.Until(t, "the sighting to be kept", func() bool { return len(d.Engine.Trail.SightedAt("10.61.4.32:22")) > 0 })
	if shared {
		if err := record.Accept(vouch.At{Host: "10.61.4.40", Port: 22}, fresh, "10.61.4.40:22", time.Now()); err != nil {
			t.Fatal(err)
		}
	}
	var err error
	if c.Vouched, err = record.Of(c.At()); err != nil {
		t.Fatal(err)
	}
	if c.Elsewhere, err = record.Elsewhere(c.At(), fresh); err != nil {
		t.Fatal(err)
	}
	return d.Task(New(d.Services, c)), c
}

func TestANewKeyIsTakenWhenItsEndIsTyped(t *testing.T) {
	d, c := changed(t, false)
	d.UntilSees("changed identity", "gauge-2", "vouched", "now")
	d.Fits()
	print := ssh.FingerprintSHA256(c.Key)
	d.Paste(print[len(print)-tail:])
	d.UntilSees("type it by hand")
	d.Type("nothing like it")
	d.Press("enter")
	d.UntilSees("that is neither; nothing was changed")
	d.Type(print[len(print)-tail:])
	d.Press("enter")
	d.Until("the decision to be put away", func() bool { return d.Closed })
	now, err := d.Engine.Workspace().Vouched.Of(c.At())
	if err != nil || len(now) != 1 || now[0].SHA256 != print {
		t.Errorf("vouched for is %+v, %v", now, err)
	}
	history, err := d.Engine.Workspace().Vouched.History(c.At())
	if err != nil || len(history) != 2 || !strings.Contains(history[0].Ended+history[1].Ended, "replaced by a person's word") {
		t.Errorf("history %+v, %v", history, err)
	}
}

func TestAWholeFingerprintIsPasted(t *testing.T) {
	d, c := changed(t, false)
	d.UntilSees("changed identity", "seen here")
	d.Paste(ssh.FingerprintSHA256(key(t)))
	d.UntilSees("that is another fingerprint")
	d.Press("enter")
	if now, err := d.Engine.Workspace().Vouched.Of(c.At()); err != nil || now[0].SHA256 == ssh.FingerprintSHA256(c.Key) {
		t.Fatalf("another's fingerprint replaced the record: %v", err)
	}
	d.Paste(" " + ssh.FingerprintSHA256(c.Key) + "\n")
	d.UntilSees("it matches the new key")
	if seen := d.See(); strings.Contains(seen, "seen here10") {
		t.Errorf("words touch:\n%s", seen)
	}
	d.Press("enter")
	d.Until("the decision to be put away", func() bool { return d.Closed })
	if now, err := d.Engine.Workspace().Vouched.Of(c.At()); err != nil || now[0].SHA256 != ssh.FingerprintSHA256(c.Key) {
		t.Errorf("vouched for is %+v, %v", now, err)
	}
}

func TestAnAddressGoesToTheMachineWhoseKeyItShows(t *testing.T) {
	d, c := changed(t, true)
	d.UntilSees("10.61.4.40")
	d.Type("10.61.4.40")
	d.Press("enter")
	d.Until("the decision to be put away", func() bool { return d.Closed })
	now, err := d.Engine.Workspace().Vouched.Of(c.At())
	if err != nil || len(now) != 1 || now[0].SHA256 != ssh.FingerprintSHA256(c.Key) {
		t.Errorf("vouched for is %+v, %v", now, err)
	}
}

func TestItIsLeftRefused(t *testing.T) {
	d, c := changed(t, false)
	d.Press("esc")
	now, err := d.Engine.Workspace().Vouched.Of(c.At())
	if !d.Closed || err != nil || now[0].SHA256 != c.Vouched[0].SHA256 {
		t.Errorf("closed %v; %+v, %v", d.Closed, now, err)
	}
}
