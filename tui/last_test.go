package tui

import (
	"strings"
	"testing"

	"meatus/core/workspace"
	"meatus/lab/labtest"
)

// The shells that were open are offered at the next start, and opened by a person's word alone.
func TestTheLastShellsAreOffered(t *testing.T) {
	l := labtest.Open(t)
	start := func() *driver {
		ws, err := workspace.Open(l.Dir)
		if err != nil {
			t.Fatal(err)
		}
		return openWith(t, ws, Options{Name: "Lantern Bay", Dialer: l.Dialer()}, 160, 40)
	}
	a := start()
	if strings.Contains(a.see(), "last time") {
		t.Error("something is offered at the first start")
	}
	for _, session := range []string{"quay", "gauge-1"} {
		a.goTo(nil)
		a.home.Select(session)
		a.press("enter")
		a.until("a shell of "+session, func() bool { return a.inShell() && a.shell.Shell().Route.Session == session })
	}
	a.press("leader", "b")
	if n := len(a.shell.Shown()); n != 2 {
		t.Fatalf("%d shells show", n)
	}
	a.Close()

	b := start()
	if see := b.see(); !strings.Contains(see, "2 shells were open last time") || b.liveShells() != 0 || len(b.walks) != 0 {
		t.Fatalf("they are not offered:\n%s", see)
	}
	b.press(":", "l", "a", "s", "t", "enter")
	b.until("both to be back", func() bool { return b.liveShells() == 2 && b.inShell() && len(b.shell.Shown()) == 2 })
	see := b.see()
	if !strings.Contains(see, "warden on quay") || !strings.Contains(see, "keeper on gauge-1") {
		t.Errorf("they are not beside each other:\n%s", see)
	}
}
