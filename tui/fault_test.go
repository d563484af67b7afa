package tui

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/remote"
	"meatus/core/workspace"
	"meatus/lab/labtest"
	"meatus/tui/action"
	"meatus/tui/stack"
)

// cursed is a network with an address that this program cannot stand.
type cursed struct{ net.Dialer }

func (c *cursed) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	if address == "203.0.113.66:22" {
		panic("the passphrase is ebb-and-flow")
	}
	return c.Dialer.DialContext(ctx, network, address)
}

// faulty is a place with a fault in one of its parts.
type faulty struct {
	stack.Whole
	drawing bool
}

func (f *faulty) View() []string {
	if f.drawing {
		panic("ebb-and-flow")
	}
	return nil
}
func (f *faulty) Update(msg tea.Msg) tea.Cmd {
	if _, key := msg.(tea.KeyPressMsg); key && !f.drawing {
		panic("ebb-and-flow")
	}
	return nil
}
func (*faulty) Table() action.Table { return nil }

// TestAFaultInOnePartLeavesEveryOtherAlive has a link, the start of a shell, a view and an
// answer to a key go wrong beside a shell that is in use.
func TestAFaultInOnePartLeavesEveryOtherAlive(t *testing.T) {
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	file := filepath.Join(l.Dir, book.FileName)
	text, err := os.ReadFile(file)
	if err == nil {
		err = os.WriteFile(file, fmt.Appendf(text, "\n[session.cursed]\nhost = \"203.0.113.66\"\nuser = \"keeper\"\nkey = \"keys/shore.pem\"\n"), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	a := openWith(t, ws, Options{Dialer: &cursed{}}, 120, 40)
	a.engine.Events.Attach(func(e event.Event) {
		if e, ok := e.(remote.Began); ok && e.Session == "gauge-1" {
			panic("ebb-and-flow")
		}
	})
	alive := func(after string) {
		t.Helper()
		a.goTo(a.open[0])
		say := "alive-after-" + after
		for _, r := range "echo " + say {
			a.press(string(r))
		}
		a.press("enter")
		a.until("the shell to answer", func() bool { return strings.Count(a.see(), say) > 1 })
		a.goTo(nil)
	}
	a.home.Select("quay")
	a.press("enter")
	a.until("a shell", func() bool { return a.inShell() })
	alive("nothing")
	for _, session := range []string{"cursed", "gauge-1"} {
		a.home.Select(session)
		a.press("enter")
		a.until("the fault in "+session, func() bool { return strings.Contains(a.see(), "by a fault of this program") })
		alive(session)
	}
	sound := a.places[1]
	for key, f := range map[string]*faulty{"view": {drawing: true}, "key": {}} {
		a.places[1] = f
		a.press("leader", places[1].Key)
		if key == "key" {
			a.press("x")
		}
		if !strings.Contains(strings.Join(strings.Fields(a.see()), " "), "by a fault of this program") {
			t.Errorf("a fault in a %s is not told:\n%s", key, a.see())
		}
		a.press("leader", "0")
		alive(key)
	}
	a.places[1] = sound
	reports, err := filepath.Glob(filepath.Join(l.Dir, workspace.StateDir, "fault-*.txt"))
	if err != nil || len(reports) != 4 {
		t.Errorf("%d reports, %v", len(reports), err)
	}
	for _, path := range reports {
		if report, err := os.ReadFile(path); err != nil || strings.Contains(string(report), "ebb-and-flow") {
			t.Errorf("%s: %v\n%s", path, err, report)
		}
	}
}
