package doors

import (
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/tui/placetest"
)

func TestEachTunnelIsOpenedAndClosedByItself(t *testing.T) {
	d, _ := placetest.Lab(t)
	path := d.Engine.Workspace().SessionsPath()
	if _, err := book.Set(path, "gauge-1", "tunnels", "bring 0 from 127.0.0.1:7000, bring 0 from survey-web.internal:80"); err != nil {
		t.Fatal(err)
	}
	d.Engine.Reread(true)
	d.Until("the tunnels", func() bool { return len(d.Engine.Workspace().Book.Session("gauge-1").Tunnels.V) == 2 })
	d.Task(New(d.Services, "gauge-1"))
	m := d.On().(*Model)
	d.UntilSees("doors ─ gauge-1", "0 of 2 open", "closed")
	d.Press("down", "enter")
	d.UntilSees("1 of 2 open", "⇐ survey-web.internal:80")
	if all := m.doors(); all[0].line != nil || all[1].line == nil {
		t.Fatalf("open are %+v", all)
	}
	d.Press("up", "enter")
	d.UntilSees("2 of 2 open")
	d.Fits()
	d.Press("down", "backspace")
	d.UntilSees("1 of 2 open", "is closed")
	if all := m.doors(); all[0].line == nil || all[1].line != nil {
		t.Errorf("the other one was closed: %+v", all)
	}
	d.Press("esc")
	if !d.Closed {
		t.Error("it is not put away")
	}
}

func TestADoorForOtherMachinesIsOpenedKnowingly(t *testing.T) {
	d := placetest.Workspace(t, "[session.a]\nhost = \"a\"\ntunnels = [{ bring = \"0.0.0.0:0\", reach = \"b:1\" }]\n[session.none]\nhost = \"b\"\n")
	d.Task(New(d.Services, "a"))
	d.Press("enter")
	d.UntilSees("OTHER MACHINES")
	if strings.Contains(d.See(), "1 of 1 open") {
		t.Error("it was opened unasked")
	}
	d.Task(New(d.Services, "none"))
	d.UntilSees("it has no tunnels")
	d.Press("enter", "backspace")
}
