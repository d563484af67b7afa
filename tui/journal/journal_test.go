package journal

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/draw"
	"meatus/core/trail"
	"meatus/tui/place"
	"meatus/tui/placetest"
	"meatus/tui/theme"
)

func open(t *testing.T) *placetest.Driver {
	t.Helper()
	d := placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
	for _, e := range []trail.Entry{
		{Kind: trail.Edit, Session: "quay", Say: "wrote the session"},
		{Kind: trail.Walk, Session: "quay", Hop: "quay", Say: "failed", Failed: "port: nothing listens at the harbour"},
		{Kind: trail.Mend, Session: "quay", Say: "mended a mode"},
	} {
		d.Engine.Record(e)
	}
	return d.Place(New)
}

func TestEntriesAreReadNarrowedAndLookedAt(t *testing.T) {
	d := open(t)
	m := d.On().(*Model)
	d.UntilSees("3 entries", "wrote the session", "mended a mode")
	d.Fits()
	d.Press("down")
	d.UntilSees("nothing listens at the harbour")
	d.Press("|")
	d.UntilSees("failures only", "1 entries")
	d.Press("|", "/")
	d.Type("mode")
	d.Until("one entry", func() bool { return m.entries.Len() == 1 })
	d.Press("enter", "q") // the first leaves the line, the second what was looked for
	d.Until("all entries", func() bool { return m.entries.Len() == 3 })
	d.Press("/")
	d.Paste("harbour")
	d.Press("esc")
	d.Until("all entries", func() bool { return m.entries.Len() == 3 && !m.typing })
	d.Press("q")
	if len(d.Went) != 1 {
		t.Errorf("went to %v", d.Went)
	}
}

func TestWhoWasWhereIsDrawn(t *testing.T) {
	d := open(t)
	d.UntilSees("3 entries")
	d.Press("x")
	if len(d.Drawn) != 1 {
		t.Fatalf("%d drawings", len(d.Drawn))
	}
	drawing, err := d.Drawn[0].Make(true).Make(t.Context())
	if err != nil || drawing == nil {
		t.Errorf("%v, %v", drawing, err)
	}
	d.Press("-", "-", "-")
	if m := d.On().(*Model); spans[m.over].over != time.Hour {
		t.Errorf("the shortest is %s", spans[m.over].over)
	}
	d.Press("+", "+", "+", "x")
	drawing, err = d.Drawn[1].Make(false).Make(t.Context())
	if l := drawing.(draw.Timeline); err != nil || l.To.Sub(l.From) != 7*24*time.Hour {
		t.Errorf("a week is %s, %v", l.To.Sub(l.From), err)
	}
}

func TestWithoutATrailItSaysSo(t *testing.T) {
	dir := t.TempDir()
	if err := os.MkdirAll(filepath.Join(dir, "state", "trail.db", "in its place"), 0o700); err != nil {
		t.Fatal(err)
	}
	d := placetest.In(t, dir, "[session.quay]\nhost = \"203.0.113.10\"\n")
	d.Place(New)
	d.UntilSees("the trail")
	if d.Engine.Trail != nil || d.Engine.NoTrail == nil {
		t.Fatal("a trail is kept in a folder")
	}
	d.UntilSees(strings.Fields(d.Engine.NoTrail.Error())[0])
	d.Press("x", "r")
	if len(d.Drawn) != 0 {
		t.Error("something was drawn")
	}
}

// A place that asks for the entries of one thing has them found; going there otherwise shows all again.
func TestTheEntriesOfOneThingAreAskedFor(t *testing.T) {
	m := New(&place.Services{Theme: theme.New(true)}).(*Model)
	m.Select("quay")
	if m.filter.Text != "" {
		t.Errorf("a session that is only chosen is found: %q", m.filter.Text)
	}
	if m.Select("/gauge-1"); m.filter.Text != "gauge-1" {
		t.Errorf("found is %q", m.filter.Text)
	}
	if m.Select("quay"); m.filter.Text != "" {
		t.Errorf("%q is still found", m.filter.Text)
	}
}

// The record of a gateway is read where one may, narrowed like the trail, and put away again.
func TestTheRecordOfAGateway(t *testing.T) {
	d, _ := placetest.Lab(t)
	d.Place(New)
	d.Press("a")
	d.UntilSees("trail of", "lightship", "sounder joined at lightship")
	d.Fits()
	d.Press("/")
	d.Type("enrolled")
	d.Press("enter")
	d.UntilSees("1 entries", "sounder enrolled")
	d.Press("|")
	d.UntilSees("failures only", "0 entries")
	d.Press("a", "|", "/", "esc", "/")
	d.Type("trusts")
	d.Press("enter")
	d.UntilSees("trail of", "purser", "1 entries", "weir trusts, by warden")
	d.Press("x")
	d.Until("a drawing of it to be asked for", func() bool {
		return len(d.Drawn) > 0 && strings.Contains(d.Drawn[len(d.Drawn)-1].Of, "the record of purser")
	})
	l, err := d.Drawn[len(d.Drawn)-1].Make(false).Make(t.Context())
	if err == nil {
		err = l.Write(io.Discard, draw.SVG)
	}
	if err != nil {
		t.Error(err)
	}
	d.Fits()
	d.Press("a", "a")
	if m := d.On().(*Model); m.of != nil {
		t.Errorf("the record of %s shows", m.of.Name)
	}
	d = placetest.Workspace(t, "[gateway.bay]\nurl = \"wss://127.0.0.1:1\"\n")
	d.Place(New)
	d.Press("a")
	d.UntilSees("nothing listens on that port")
}
