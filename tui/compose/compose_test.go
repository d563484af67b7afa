package compose

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/tui/placetest"
)

func open(t *testing.T) *placetest.Driver {
	d, _ := placetest.Lab(t)
	r, ok := d.Services.Plan("quay")
	if !ok {
		t.Fatal("quay has no route")
	}
	return d.Task(New(d.Services, r))
}

func TestATunnelIsComposedOpenedAndKept(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.Fits()
	d.Type("tide-db.internal postgres")
	d.UntilSees("tide-db.internal:5432", "quay")
	d.Press("tab")
	d.Type("127.0.0.1:0")
	if m.got.Err != nil {
		t.Fatal(m.got.Err)
	}
	d.Press("ctrl+s")
	d.Until("the tunnel to be open", func() bool { return len(d.Engine.Tunnels.Of("quay")) == 1 })
	d.Until("it to be kept", func() bool {
		text, _ := os.ReadFile(filepath.Join(d.Engine.Workspace().Dir, "sessions.toml"))
		return strings.Contains(string(text), "tide-db.internal:5432\" }]")
	})
	if !d.Closed {
		t.Error("it still stands there")
	}
}

func TestWhatOthersCouldUseIsAskedAboutTwice(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.Type("tide-db.internal:5432")
	d.Press("tab")
	d.Type("0.0.0.0:0")
	d.Press("enter")
	if d.Closed || !m.told {
		t.Fatalf("closed %v, told %v", d.Closed, m.told)
	}
	d.Type("1")
	if m.told {
		t.Error("what was said is for another tunnel now")
	}
	d.Press("esc")
	if !d.Closed || len(d.Engine.Tunnels.Of("quay")) != 0 {
		t.Error("it was opened all the same")
	}
}

func TestWhatCannotBeReachedIsSaidWhileItIsTyped(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.Type("no such service")
	if m.got.Err == nil {
		t.Fatal("it is taken")
	}
	d.Press("enter")
	if d.Closed {
		t.Error("it was opened")
	}
	d.Press("up") // to the kinds
	seen := map[string]bool{}
	for range kinds {
		d.Press("right")
		seen[d.See()] = true
		d.Fits()
	}
	if len(seen) != len(kinds) {
		t.Errorf("%d kinds look like %d", len(kinds), len(seen))
	}
	d.Press("left")
}
