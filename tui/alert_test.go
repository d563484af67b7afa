package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/lab/await"
)

func TestALossAndAReturnAreToldByTheTerminalOnce(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte("[session.quay]\nhost = \"203.0.113.10\"\nalert = \"notify\"\n[session.sill]\nhost = \"203.0.113.11\"\nalert = \"bell\"\n[session.mole]\nhost = \"203.0.113.12\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	a := open(t, dir, 100, 30)
	gone := &gate.Failure{Hop: "quay", Cause: gate.LinkLost}
	for i, c := range []struct {
		event event.Event
		want  string
	}{
		{tunnel.Came{Session: "quay"}, ""},
		{tunnel.Lost{Session: "quay", Why: gone}, "\x1b]9;quay is lost: link lost at quay\a\a"},
		{walk.Waiting{Session: "quay", Lost: true, Failure: gone}, ""}, // it is told already
		{walk.Waiting{Session: "sill", Failure: gone}, ""},             // nothing was there to be lost
		{walk.Ended{Session: "quay", Err: gone}, ""},
		{tunnel.Came{Session: "quay", Again: 1}, "\x1b]9;quay is back\a\a"},
		{walk.Ended{Session: "quay"}, ""},
		{walk.Waiting{Session: "sill", Lost: true, Failure: gone}, "\a"},
		{walk.Ended{Session: "sill"}, "\a"},
		{tunnel.Lost{Session: "mole"}, ""},
		{tunnel.Came{Session: "mole", Again: 1}, ""},
		{tunnel.Lost{Session: "nowhere"}, ""},
	} {
		said := ""
		if cmd := a.alert(c.event); cmd != nil {
			said = fmt.Sprint(cmd().(tea.RawMsg).Msg) // a batch of one is that one
		}
		if said != c.want || strings.Count(said, "\x1b") > 1 {
			t.Errorf("%d: %q, want %q", i, said, c.want)
		}
	}
}

func TestAPersonsOwnCommandIsRunWhereASessionWantsAlerts(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte("[session.quay]\nhost = \"203.0.113.10\"\nalert = \"bell\"\n[session.mole]\nhost = \"203.0.113.12\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	a := open(t, dir, 100, 30)
	out := filepath.Join(dir, "told")
	a.options.Prefs.Alert.Command = []string{"sh", "-c", `echo "$MEATUS_STATE $MEATUS_SESSION" >> "$0"`, out}
	for _, session := range []string{"quay", "mole"} {
		a.do(a.alert(tunnel.Lost{Session: session}))
		a.do(a.alert(tunnel.Came{Session: session, Again: 1}))
	}
	await.Until(t, "both to be told", func() bool { // no message comes of it
		text, _ := os.ReadFile(out)
		return strings.Count(string(text), "\n") == 2
	})
	if text, _ := os.ReadFile(out); !strings.Contains(string(text), "lost quay\n") || !strings.Contains(string(text), "back quay\n") {
		t.Errorf("told: %q", text)
	}
}
