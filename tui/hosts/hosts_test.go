package hosts

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"golang.org/x/crypto/ssh"

	"meatus/core/vouch"
	"meatus/tui/placetest"
)

// open shows the hosts of a workspace in which two are vouched for.
func open(t *testing.T) *placetest.Driver {
	t.Helper()
	d := placetest.Workspace(t, "[session.quay]\nhost = \"quay.lantern.example\"\n[session.reef]\nhost = \"10.61.4.20\"\n")
	for i, host := range []string{"quay.lantern.example", "10.61.4.20"} {
		if err := d.Engine.Workspace().Vouched.Accept(vouch.At{Host: host, Port: 22}, key(t), "203.0.113.10:22", time.Date(2026, 10, 1+i, 9, 0, 0, 0, time.UTC)); err != nil {
			t.Fatal(err)
		}
	}
	return d.Place(New)
}

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

func TestHostsAreFoundAndTheirSessionsShown(t *testing.T) {
	d := open(t)
	d.UntilSees("quay.lantern.example", "10.61.4.20")
	d.Fits()
	d.Press("/")
	d.Type("quay")
	d.Press("enter")
	d.Until("one host", func() bool { return d.On().(*Model).list.Len() == 1 })
	d.Press("esc")
	d.Until("all hosts", func() bool { return d.On().(*Model).list.Len() == 2 })
	d.Press("down", "up", "esc")
	if len(d.Went) != 1 || d.Went[0] != "0" {
		t.Errorf("went to %v", d.Went)
	}
}

func TestAHostIsRetiredAfterAYes(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("quay.lantern.example")
	m.Select("reef")
	d.Press("D", "n")
	d.UntilSaid("nothing was changed")
	d.Press("D", "enter")
	d.Until("the record to be retired", func() bool {
		now, err := d.Engine.Workspace().Vouched.Of(vouch.At{Host: "10.61.4.20", Port: 22})
		return err == nil && len(now) == 0
	})
}

// A prompt is about the host that it was shown about, and about its keys of then.
func TestAPromptIsAboutTheHostItWasShownAbout(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("quay.lantern.example")
	m.Select("reef")
	reef := vouch.At{Host: "10.61.4.20", Port: 22}
	record := d.Engine.Workspace().Vouched
	reread := func(what string, holds func() bool) {
		t.Helper()
		d.Do(m.read())
		d.Until(what, holds)
	}
	d.Press("D")
	// Another host lands above it, and is chosen by the time of the yes.
	if err := record.Accept(vouch.At{Host: "10.0.0.1", Port: 22}, key(t), "10.0.0.1:22", time.Now()); err != nil {
		t.Fatal(err)
	}
	reread("another host", func() bool { return m.list.Len() == 3 })
	if h, _ := m.selected(); h.At() != reef {
		t.Errorf("%v is chosen", h.At())
	}
	m.list.Select(vouch.At{Host: "10.0.0.1", Port: 22})
	d.UntilSees("End the trust in the keys of 10.61.4.20")
	// Its key becomes another one: the yes was for the one before.
	if err := record.Accept(reef, key(t), "10.61.4.20:22", time.Now()); err != nil {
		t.Fatal(err)
	}
	was := fingerprints(m.about)
	reread("the other key", func() bool {
		now, ok := m.list.Find(reef)
		return ok && !slices.Equal(fingerprints(now), was)
	})
	d.Press("enter")
	d.UntilSaid("10.61.4.20 has other keys by now, and nothing was changed")
	d.Press("D", "enter") // of the one that is chosen now
	d.Until("it to be retired", func() bool {
		now, err := record.Of(vouch.At{Host: "10.0.0.1", Port: 22})
		return err == nil && len(now) == 0
	})
	if now, err := record.Of(reef); err != nil || len(now) == 0 {
		t.Errorf("reef's key is gone, too: %v %v", now, err)
	}
}

func TestFingerprintsThatArePastedAreExpectedAfterAYes(t *testing.T) {
	d := open(t)
	d.UntilSees("quay.lantern.example")
	print := ssh.FingerprintSHA256(key(t))
	d.Paste("archive.reef.internal " + print + "\nnonsense\n")
	d.Until("the question", func() bool { return d.On().(*Model).asking == agreeImport })
	d.Fits()
	d.Press("enter")
	d.Until("it to be expected", func() bool {
		e, err := d.Engine.Workspace().Vouched.ExpectedOf("archive.reef.internal", 22)
		return err == nil && len(e) == 1 && e[0].Print == print
	})
	d.Press("i")
	d.Paste("nothing of the kind")
	d.Press("enter")
	d.Until("a word about it", func() bool { return d.On().(*Model).Note() != "" })
}

func TestASignerIsTrusted(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("quay.lantern.example")
	m.Select("quay")
	d.Press("n")
	if got := m.line.Text(); got != "*.lantern.example" {
		t.Errorf("proposed is %q", got)
	}
	d.Press("enter")
	d.Paste(strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key(t)))))
	d.Press("enter")
	d.Until("the signer to be trusted", func() bool { s, err := d.Engine.Workspace().Vouched.Signers(); return err == nil && len(s) == 1 })
	d.UntilSees("*.lantern.example")
	d.Press("n", "enter")
	d.Type("no key")
	d.Press("enter")
	d.Until("a refusal", func() bool { return m.Note() != "" && !strings.Contains(m.Note(), "trusted") })
}

func TestRecordsAreExported(t *testing.T) {
	d := open(t)
	d.UntilSees("quay.lantern.example")
	d.Press("X", "ctrl+u")
	file := filepath.Join(t.TempDir(), "zone")
	d.Paste(file)
	d.Press("enter")
	d.Until("the records", func() bool {
		text, err := os.ReadFile(file)
		return err == nil && strings.Contains(string(text), "SSHFP")
	})
	d.Press("r")
}

func TestADamagedRecordIsSaid(t *testing.T) {
	d := open(t)
	d.UntilSees("quay.lantern.example")
	if err := os.WriteFile(d.Engine.Workspace().Vouched.Path(), []byte("[[vouched]\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	d.Press("r")
	d.UntilSees("vouched.toml")
}

// What is asked is read whole, also where the chosen host stands beside the list.
func TestAQuestionIsNotCutBesideTheList(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("quay.lantern.example")
	m.Select("reef")
	m.SetSize(160, 46)
	d.Press("D")
	for _, line := range m.View() {
		if n := ansi.StringWidth(line); n > 160 {
			t.Errorf("a line has %d columns: %q", n, ansi.Strip(line))
		}
	}
	m.asking, m.about = agreeConfirm, m.list.Shown()[0]
	see := ansi.Strip(strings.Join(m.View(), " "))
	if !strings.Contains(see, "any other key does not") {
		t.Errorf("the question is cut:\n%s", strings.Join(m.View(), "\n"))
	}
}

func TestALateReadingDoesNotCount(t *testing.T) {
	d := open(t)
	d.UntilSees("10.61.4.20")
	m := d.On().(*Model)
	late := m.read()()
	m.s.Workspace().Vouched.Accept(vouch.At{Host: "weir.lantern.example", Port: 22}, key(t), "203.0.113.11:22", time.Date(2026, 10, 3, 9, 0, 0, 0, time.UTC))
	d.Press("r")
	d.UntilSees("weir.lantern.example")
	if d.Give(late); !strings.Contains(d.See(), "weir.lantern.example") {
		t.Errorf("it shows\n%s", d.See())
	}
}
