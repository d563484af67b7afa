package mend

import (
	"slices"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/workspace"
	"meatus/lab/labtest"
)

// ruled is the bay's workspace with its estate read.
func ruled(t *testing.T) *workspace.Workspace {
	t.Helper()
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	w := reopened(t, l.Dir)
	source, _ := w.Source("bay")
	if k, err := (&estate.Source{Dir: l.Dir, EstateSource: source}).Renew(t.Context(), time.Now()); err != nil || k.Failed != "" {
		t.Fatal(err, k.Failed)
	}
	return reopened(t, l.Dir)
}

func TestWhatRulesKeepShutIsOpenedOrGoneAround(t *testing.T) {
	w := ruled(t)
	c := worst(t, w, "sluice")
	ways := Ways(c)
	if got := said(ways); c.Gate.Kind != gate.Rules || !slices.Equal(got, []string{
		"connect through archive [here ── quay ── archive ── sluice]", "connect through mast [here ── quay ── mast ── sluice]",
		"allow it for an hour, then connect [for this one address only]", "allow it for ten minutes, then connect [for this one address only]",
		"allow it for eight hours, then connect [for this one address only]", "copy the request text [for the owner of the firewall rules]",
	}) {
		t.Fatalf("%+v\n%q", c.Gate, got)
	}
	hour := ways[2]
	if hour.Act != gate.LetIn || hour.LetIn.For != time.Hour || hour.LetIn.Session != "sluice" || len(hour.LetIn.Edits) != 1 || hour.LetIn.Edits[0].Group != "g-sluice" {
		t.Errorf("the rule for an hour is %+v", hour.LetIn)
	}
	if text := ways[5].Ask(); text != "add to sluice: lets in tcp 22 from 10.61.4.1/32\n" {
		t.Errorf("what is copied: %q", text)
	}
	done := goWay(t, ways, "connect through mast")
	if done.Book == nil || strings.Join(done.Book.Session("sluice").Via.V, "") != "mast" {
		t.Fatalf("%+v", done)
	}
	if _, report := w.With(done.Book).Check("sluice", w.With(done.Book).Knowledge()); report.Verdict() == gate.Shut {
		t.Errorf("by the mast it is %+v", report)
	}
}

// A service behind a session that rules keep shut is opened in the same way, from the door's gate.
func TestAShutServiceIsOpened(t *testing.T) {
	w := ruled(t)
	changed, err := book.Set(w.SessionsPath(), "quay", "tunnels", "bring 127.0.0.1:19999 from 10.61.4.31:9999")
	if err != nil {
		t.Fatal(err)
	}
	b := w.With(changed)
	c := worst(t, b, "quay")
	if c.Gate.Kind != gate.Rules { // whom quay is open to is as grave, and comes first
		t.Fatalf("%+v", c.Gate)
	}
	_, report := b.Check("quay", b.Knowledge())
	for _, g := range report.Hops[0].Gates {
		if g.Kind != gate.Channel {
			continue
		}
		c.Gate = g
		ways := Ways(c)
		if len(ways) == 0 || ways[0].Act != gate.LetIn || !strings.Contains(ways[0].Preview[0], "lets in tcp 9999 from 10.61.4.1/32") {
			t.Errorf("%+v: %q", g, said(ways))
		}
	}
}
