package tui

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"

	"meatus/core/ring"
	"meatus/core/step"
)

// asks puts a question to the desk, and waits until it is there.
func (d *driver) asks(put func(context.Context) error) <-chan error {
	d.Helper()
	n := d.ask.Count()
	done := make(chan error, 1)
	go func() { done <- put(d.over) }()
	d.until("the question", func() bool { return d.ask.Count() == n+1 })
	return done
}

func (d *driver) asksToLend(session string) <-chan error {
	d.Helper()
	return d.asks(func(ctx context.Context) error {
		return d.desk.Lend(ctx, step.LendQuestion{Place: step.Place{Session: session, Hop: "quay"}, Use: ring.Use{Key: ring.Entry{Name: "gauge.pem"}, Login: "keeper", Count: 1}})
	})
}

func (d *driver) types(text string) {
	for _, r := range text {
		d.press(string(r))
	}
}

func TestAQuestionTakesTheKeysFromNobody(t *testing.T) {
	identity := step.Place{Session: "gauge-1", Hop: "gauge-1", Address: "10.61.0.2:22"}
	for name, busy := range map[string]func(a *driver) (typed func() string){
		"the board":     func(a *driver) func() string { return func() string { return "" } },
		"a search":      func(a *driver) func() string { a.press("/"); return func() string { return "/" } },
		"a new session": func(a *driver) func() string { a.press("n"); return func() string { return "yes" } },
		"another place": func(a *driver) func() string { a.press("K"); return func() string { return "needs you: " } },
	} {
		t.Run(name, func(t *testing.T) {
			a := open(t, bay(t, 2), 110, 30)
			a.home.Select("quay")
			typed := busy(a)
			lend := a.asksToLend("quay")
			visit := a.asks(func(ctx context.Context) error {
				_, err := a.desk.Passphrase(ctx, step.PassphraseQuestion{Place: identity, Path: "/k/tide.pem", Try: 1})
				return err
			})
			a.types("yes")
			a.press("enter")
			select {
			case err := <-lend:
				t.Fatalf("what was typed for something else answered: %v", err)
			case err := <-visit:
				t.Fatalf("what was typed for something else answered: %v", err)
			default:
			}
			if a.ask.Count() != 2 || !strings.Contains(a.see(), typed()) {
				t.Errorf("%d questions wait, it shows\n%s", a.ask.Count(), a.see())
			}
			for a.at() == 0 && (a.task() != nil || a.places[0].Typing()) {
				a.press("esc")
			}
			a.press("leader", "a")
			if !a.answering() {
				t.Fatalf("the question was not gone to:\n%s", a.see())
			}
			a.types("yes")
			a.press("enter", "esc", "ctrl+y")
			if err := <-lend; err != nil {
				t.Error(err)
			}
			if a.answering() {
				t.Error("the next question has the keys, and nobody went to it")
			}
			a.press("leader", "a")
			a.types("ebb")
			a.press("enter")
			if err := <-visit; err != nil {
				t.Error(err)
			}
			if name == "a new session" { // the line that was typed made one
				a.until("the new session", func() bool { return a.engine.Workspace().Book.Session("yes") != nil })
			}
		})
	}
}

func TestAQuestionOfWhatOneBeganHasTheKeysAtOnce(t *testing.T) {
	a := open(t, bay(t, 2), 110, 30)
	a.home.Select("gauge-1")
	done := a.asks(func(ctx context.Context) error {
		pass, err := a.desk.Passphrase(ctx, step.PassphraseQuestion{Place: step.Place{Session: "gauge-1", Hop: "quay"}, Path: "/k/tide.pem", Try: 1})
		return errors.Join(err, map[bool]error{false: fmt.Errorf("%q was typed", pass)}[string(pass) == "ebb"])
	})
	a.types("ebb")
	a.press("enter")
	if err := <-done; err != nil {
		t.Error(err)
	}
}

func TestUsesAreRefusedOneByOneOrAllAtOnce(t *testing.T) {
	a := open(t, bay(t, 2), 110, 30)
	for key, want := range map[string]error{"ctrl+n": step.ErrDeclined, "ctrl+x": ring.ErrNoMore, "ctrl+y": nil} {
		done := a.asksToLend("quay")
		a.press("leader", "a", key)
		if err := <-done; !errors.Is(err, want) {
			t.Errorf("%s: %v", key, err)
		}
	}
}
