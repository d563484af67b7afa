package remedies

import (
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/mend"
	"meatus/lab/await"
	"meatus/tui/placetest"
)

// at lists what mends a session of the lab, as its card does.
func at(t *testing.T, session string) *placetest.Driver {
	t.Helper()
	d, _ := placetest.Lab(t)
	r, ok := d.Services.Plan(session)
	if !ok {
		t.Fatalf("%s has no route", session)
	}
	ws := d.Engine.Workspace()
	_, report := ws.Check(session, ws.Knowledge())
	worst, hop := report.Worst()
	return d.Task(New(d.Services, mend.Case{Workspace: ws, Route: r, Hop: hop, Gate: worst}))
}

func TestAMissingKeyIsFoundWhereItArrived(t *testing.T) {
	d := at(t, "buoy")
	m := d.On().(*Model)
	d.Until("the ways", func() bool { return m.looked && m.ways.Len() > 0 })
	d.UntilSees("buoy")
	d.Fits()
	d.Press("down", "up", "enter")
	d.Until("the remedy to be done", func() bool { return d.Closed })
	ws := d.Engine.Workspace()
	if _, report := ws.Check("buoy", ws.Knowledge()); report.Verdict() == gate.Shut {
		t.Errorf("it is still %s", report.Verdict())
	}
}

func TestItIsLeft(t *testing.T) {
	d := at(t, "tide-db")
	m := d.On().(*Model)
	d.Until("the ways", func() bool { return m.looked })
	d.Press("q")
	if !d.Closed {
		t.Error("it still stands there")
	}
}

// An instance that is stopped is started from the card of its session, and walked to where it is then.
func TestAStoppedInstanceIsStartedAndWalkedTo(t *testing.T) {
	d, l := placetest.Lab(t)
	l.Cloud().Pace = 20 * time.Millisecond
	e := d.Engine
	b, err := book.Add(e.Workspace().SessionsPath(), book.Draft{Name: "drifter", Instance: "i-gauge-1", Via: []string{"quay"}})
	if err != nil {
		t.Fatal(err)
	}
	e.Adopt(b, "", "")
	source, _ := e.Workspace().Source("bay")
	s := estate.Source{Dir: e.Workspace().Dir, EstateSource: source}
	if err := s.Do(t.Context(), estate.Stop, "i-gauge-1"); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "it to stop", func() bool { return l.Cloud().Status("gauge-1") == "SHUTOFF" })
	await.Until(t, "that to be known", func() bool {
		e.ReadEstates()
		bound := e.Workspace().Book.Session("drifter").Bound
		return bound != nil && bound.State == "stopped"
	})
	r, ok := d.Services.Plan("drifter")
	if !ok {
		t.Fatal("it has no route")
	}
	ws := e.Workspace()
	_, report := ws.Check("drifter", ws.Knowledge())
	worst, hop := report.Worst()
	if worst.Kind != gate.State || worst.Remedy.Act != gate.Choose {
		t.Fatalf("the worst gate is %+v", worst)
	}
	// Put away, it waits no more.
	d.Task(New(d.Services, mend.Case{Workspace: ws, Route: r, Hop: hop, Gate: worst}))
	d.UntilSees("wait until the instance runs")
	d.Press("down", "enter")
	d.UntilSees("waiting until gauge-1 runs")
	d.On().(*Model).Close()
	d.UntilSees("canceled")
	d.Task(New(d.Services, mend.Case{Workspace: ws, Route: r, Hop: hop, Gate: worst}))
	d.UntilSees("start the instance, then connect", "wait until the instance runs", "asks estate bay to start gauge-1")
	d.Fits()
	d.Press("enter")
	d.UntilSees("waiting until gauge-1 runs")
	d.Until("the walk", func() bool { return d.Closed && len(d.Opened) == 1 })
	if at := d.Opened[0].Target().Host; at != "10.61.4.70" {
		t.Errorf("it is walked to %s", at)
	}
}
