package remote_test

import (
	"context"
	"io"
	"strings"
	"testing"
	"time"

	"meatus/core/remote"
	"meatus/core/route"
)

// lending is the way to quay, lending the gauges' key.
func (b *bay) lending(agent string) route.Route {
	r := b.route("quay")
	r.Hops[0].Agent = agent
	r.Hops[0].Lends = b.route("gauge-1").Hops[1].Keys
	return r
}

// said runs a command and returns all it prints.
func (b *bay) said(t *testing.T, r route.Route, command string) string {
	t.Helper()
	p, err := b.Walker.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	g, err := b.programs.Start(context.Background(), p, command, &remote.Terminal{Cols: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	go io.Copy(io.Discard, g.Err)
	out, err := io.ReadAll(g.Out)
	if err != nil {
		t.Fatal(err)
	}
	g.Wait()
	return strings.ReplaceAll(string(out), "\r", "")
}

func TestALentKeyOpensAnInnerHostAndEveryUseIsTold(t *testing.T) {
	b := openBay(t, nil)
	inbox := b.Walker.Events.Subscribe()
	if out := b.said(t, b.lending("lend"), "reach gauge-1; reach survey-web"); !strings.Contains(out, "keeper\ngauge-1\n") || !strings.Contains(out, "survey-web does not let keeper in") {
		t.Errorf("%q", out)
	}
	var uses []remote.Lent
	for _, e := range inbox.Take(context.Background()) {
		if u, ok := e.(remote.Lent); ok {
			uses = append(uses, u)
		}
	}
	if len(uses) != 1 || uses[0].Hop != "quay" || uses[0].Key.Name != "gauge.pem" || uses[0].Login != "keeper" || uses[0].Refuse != nil {
		t.Errorf("uses %+v", uses)
	}
}

func TestNothingIsLentUnlessAskedForAndAfterTheEnd(t *testing.T) {
	b := openBay(t, nil)
	if out := b.said(t, b.route("quay"), "reach gauge-1"); !strings.Contains(out, "no agent is lent") {
		t.Errorf("unasked: %q", out)
	}
	b.said(t, b.lending("lend"), "whoami")
	// What was lent ended with its program, and a shell without has another link.
	if out := b.said(t, b.route("quay"), "reach gauge-1"); !strings.Contains(out, "no agent is lent") {
		t.Errorf("after the end: %q", out)
	}
	if n := b.lab.Host("quay").Logins(); n != 2 {
		t.Errorf("%d logins", n)
	}
}

func TestEachUseIsAskedAboutWhereThatIsWanted(t *testing.T) {
	b := openBay(t, nil)
	p := b.person
	if out := b.said(t, b.lending("ask"), "reach gauge-1"); !strings.Contains(out, "gauge-1\n") || len(p.lends) != 1 || p.lends[0].Use.Login != "keeper" {
		t.Errorf("%q, asked %+v", out, p.lends)
	}
	p.mu.Lock()
	p.yes = false
	p.mu.Unlock()
	if out := b.said(t, b.lending("ask"), "reach gauge-1"); !strings.Contains(out, "does not let keeper in") {
		t.Errorf("a no: %q", out)
	}
}

func TestALendIsEndedWhileItsShellGoesOn(t *testing.T) {
	b := openBay(t, nil)
	r := b.lending("lend")
	r.Hops[0].LendUses, r.Hops[0].LendFor = 3, time.Hour
	p, err := b.Walker.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	g, err := b.programs.Start(context.Background(), p, "", &remote.Terminal{Cols: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	defer g.Close()
	go io.Copy(io.Discard, g.Err)
	go io.Copy(io.Discard, g.Out)
	lends := b.programs.Lends()
	if len(lends) != 1 || lends[0].Left != 3 || !lends[0].Limited || lends[0].Until.IsZero() || b.programs.EndLend(lends[0].ID+1) || !b.programs.EndLend(lends[0].ID) || b.programs.EndLend(lends[0].ID) {
		t.Fatalf("lent %+v", lends)
	}
	if ended := b.programs.Lends()[0].Ended; ended == nil || !strings.Contains(ended.Error(), "ended here") {
		t.Errorf("ended: %v", ended)
	}
	if _, err := g.In.Write([]byte("true\r")); err != nil {
		t.Errorf("its shell has ended, too: %v", err)
	}
}

func TestAFarSideThatPestersIsStopped(t *testing.T) {
	b := openBay(t, nil)
	if out := b.said(t, b.lending("lend"), "pester 500"); !strings.Contains(out, "12 of 500 signatures") {
		t.Errorf("%q", out)
	}
}

func TestAServerThatPassesNoAgentOnIsTold(t *testing.T) {
	b := openBay(t, nil)
	r := b.route("gauge-1")
	r.Hops[1].Agent, r.Hops[1].Lends = "lend", r.Hops[1].Keys
	p, err := b.Walker.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if _, err := b.programs.Start(context.Background(), p, "", nil); err == nil || !strings.Contains(err.Error(), "does not allow agent forwarding") {
		t.Errorf("%v", err)
	}
}
