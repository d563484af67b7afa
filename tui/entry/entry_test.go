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

func TestSessionsThatAreTakenAreNotWrittenAgain(t *testing.T) {
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Task(New(d.Services, "quay = 203.0.113.11"))
	d.Press("enter")
	d.Until("a refusal, or a mark in the line", func() bool { return strings.Contains(d.See(), "quay") })
	if strings.Contains(written(d), "203.0.113.11") {
		t.Error("it was written over")
	}
}
