package tui

import (
	"strings"
	"testing"

	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
)

func onTour(t *testing.T, l *lab.Lab) *driver {
	t.Helper()
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	return openWith(t, ws, Options{Name: "Lantern Bay", Dialer: l.Dialer(), Tour: true}, 140, 40)
}

// Each step says what to do, is done by doing that, and is where the next start goes on.
func TestTheTourLeadsThroughTheBay(t *testing.T) {
	a := onTour(t, labtest.Open(t))
	step := func(n int) {
		t.Helper()
		a.until("the step", func() bool { return a.tour.step >= n || !a.tour.on })
		if a.tour.step != n {
			t.Fatalf("step %d, want %d:\n%s", a.tour.step, n, a.see())
		}
	}
	home := func(session string) {
		a.goTo(nil)
		a.home.Select(session)
	}
	if !strings.Contains(a.see(), "tour 1 of 16  This is a bay of machines behind the bastion quay. C checks them") {
		t.Fatalf("the first step is not told:\n%s", a.see())
	}
	a.press("C")
	step(1)
	home("tide-db")
	a.until("what is wrong", func() bool { return strings.Contains(a.see(), "press m: set mode") })
	a.press("m")
	step(2)
	a.press("enter")
	a.until("the first visit", func() bool { return a.answering() })
	for _, r := range "yes" {
		a.press(string(r))
	}
	a.press("enter")
	step(3)
	a.until("its shell", func() bool { return a.inShell() })
	if !strings.Contains(a.see(), "alt+m leaves it: press it, then 0") {
		t.Errorf("the shell does not show the step:\n%s", a.see())
	}
	a.press("leader", "0")
	step(4)
	a.until("the end of the check", func() bool { return !a.home.Checking() }) // it finds gauge-2 changed, whenever it comes there
	a.engine.Board.Say("gauge-2", "settled by the test")                       // its own tests settle it by hand
	step(5)
	a.press(":", "f", "o", "r", "esc")
	step(6)

	b := onTour(t, labtest.Open(t))
	if b.tour.step != 0 {
		t.Errorf("another bay begins at step %d", b.tour.step)
	}
	b.press(":")
	for _, r := range "end the tour" {
		b.press(string(r))
	}
	b.press("enter")
	if strings.Contains(b.see(), "tour 1 of 16") || !strings.Contains(b.see(), "meatus tour goes on with it") {
		t.Errorf("it is not left:\n%s", b.see())
	}
}
