package entry

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/tui/placetest"
)

func written(d *placetest.Driver) string {
	text, _ := os.ReadFile(filepath.Join(d.Engine.Workspace().Dir, "sessions.toml"))
	return string(text)
}

func TestALineWritesASession(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Task(New(d.Services, ""))
	d.Type("reef = keeper@10.61.4.20 via qu")
	d.Press("tab")
	if text := d.On().(*Model).input.Text(); !strings.HasSuffix(strings.TrimSpace(text), "via quay") {
		t.Errorf("completed to %q", text)
	}
	d.Fits()
	d.Press("enter")
	d.Until("the session to be written", func() bool { return strings.Contains(written(d), "[session.reef]") })
	d.Until("the line to be put away", func() bool { return d.Closed })
}

func TestALineWithAMistakeWritesNothing(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Task(New(d.Services, ""))
	before := written(d)
	d.Type("reef = keeper@10.61.4.20 via nowhere")
	d.Press("enter")
	d.Type(" with")
	d.Press("enter")
	d.Fits()
	if d.Closed || written(d) != before {
		t.Errorf("closed %v, written:\n%s", d.Closed, written(d))
	}
	d.Press("esc")
	if !d.Closed {
		t.Error("it still stands there")
	}
}

func TestAPastedCommandBecomesALine(t *testing.T) {
	d := placetest.Workspace(t, "")
	d.Task(New(d.Services, ""))
	d.Paste("ssh -p 2222 warden@203.0.113.10")
	m := d.On().(*Model)
	d.Until("the line", func() bool {
		return strings.Contains(m.input.Text(), "warden@203.0.113.10") && !strings.Contains(m.input.Text(), "ssh ")
	})
	d.Fits()
	d.Press("enter")
	d.Until("the session to be written", func() bool { return strings.Contains(written(d), `user = "warden"`) })
}

// A page of a console, with the line ends that most terminals paste, and a bastion that no session has: both sessions are
// previewed, and written as one edit.
func TestAPastedPageMakesItsBastionToo(t *testing.T) {
	d := placetest.Workspace(t, "")
	d.Task(New(d.Services, ""))
	d.Paste("Connect to your instance:\r1. Open a terminal.\r2. Run:\r  ssh -o ServerAliveInterval=60 -J warden@203.0.113.10 keeper@10.61.4.20\r\r3. Type exit to leave.\r")
	m := d.On().(*Model)
	d.Until("the line", func() bool { return m.input.Text() == "keeper@10.61.4.20 via warden@203.0.113.10 every 60s" })
	d.UntilSees("here ─────── 203.0.113.10 ─────── 10.61.4.20", "also the new session 203.0.113.10", "warden@203.0.113.10")
	d.Fits()
	d.Press("home")
	d.Type("tide-db = ")
	d.Press("enter")
	d.Until("the sessions to be written", func() bool {
		return strings.Contains(written(d), "[session.tide-db]") && strings.Contains(written(d), "[session.\"203.0.113.10\"]") && strings.Contains(written(d), `keepalive = "60s"`)
	})
}

// A note and care are given at the creation, and what a value lets happen is said before it is written.
func TestValuesAreGivenAtTheCreation(t *testing.T) {
	d := placetest.Workspace(t, "")
	d.Task(New(d.Services, ""))
	d.Type(`reef = keeper@10.61.4.20 set careful=on note="mind the tide" arrive=uptime`)
	d.UntilSees("careful = on", "note = mind the tide", "arrive = uptime: it is typed into each new shell")
	d.Press("enter")
	d.Until("the session to be written", func() bool { return strings.Contains(written(d), `note = "mind the tide"`) })
}

func TestSessionsThatAreTakenAreNotWrittenAgain(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Task(New(d.Services, "quay = 203.0.113.11"))
	d.Press("enter")
	d.Until("a refusal, or a mark in the line", func() bool { return strings.Contains(d.See(), "quay") })
	if strings.Contains(written(d), "203.0.113.11") {
		t.Error("it was written over")
	}
}
