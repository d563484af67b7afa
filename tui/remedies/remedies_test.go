package remedies

import (
	"testing"

	"meatus/core/gate"
	"meatus/core/mend"
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
	d.Until("the ways", func() bool { return m.looked && len(m.ways) > 0 })
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
