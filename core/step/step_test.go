package step

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"
	"time"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

func begun(t *testing.T) (*Step, context.CancelCauseFunc) {
	ctx, cancel := context.WithCancelCause(t.Context())
	r := route.Route{Session: "deep", Hops: []route.Hop{{Name: "quay", Destination: route.Destination{Host: "quay.lantern.example", Port: 22}, Credentials: route.Credentials{User: "warden"}}, {Name: "deep", Destination: route.Destination{Host: "10.61.4.9", Port: 22}, Credentials: route.Credentials{User: "keeper"}}}}
	return &Step{Route: r, Index: 1, Hop: r.Hops[1], Events: &event.Stream{}, Limit: 15 * time.Second, Hear: func(int, gate.Gate, bool) {}, Quiet: func() bool { return false }, Ctx: ctx}, cancel
}

func TestAGateIsGivenUpWhenItsTimeIsOver(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, _ := begun(t)
		p := s.Begin()
		defer p.End()
		time.Sleep(14 * time.Second)
		p.Renew() // the next gate
		time.Sleep(14 * time.Second)
		resume := p.Pause() // a person is asked
		time.Sleep(time.Hour)
		if p.Ctx.Err() != nil {
			t.Fatal("the time goes on while a person is asked")
		}
		resume()
		time.Sleep(15*time.Second - time.Nanosecond)
		synctest.Wait()
		if p.RanOut() {
			t.Fatal("it ran out before its time")
		}
		time.Sleep(time.Nanosecond)
		synctest.Wait()
		if !p.RanOut() || p.Ctx.Err() == nil {
			t.Error("it does not run out")
		}
	})
}

func TestAQuestionEndsWithItsStep(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		s, cancel := begun(t)
		var told []Answered
		s.Events.Attach(func(e event.Event) { told = append(told, e.(Answered)) })
		p := s.Begin()
		defer p.End()
		lost := &gate.Failure{Hop: "quay", Gate: gate.Channel, Cause: gate.LinkLost}
		go func() {
			time.Sleep(time.Minute)
			cancel(lost)
		}()
		f := s.Ask(p, gate.Login, s.Place(), "a password", func(ctx context.Context) error { <-ctx.Done(); return ctx.Err() })
		if f != lost || len(told) != 1 || told[0].Yes || told[0].Hop != "deep" {
			t.Errorf("%v, told %+v", f, told)
		}
		if err := s.OrCancelled(errors.New("the line is gone"), gate.Login); err != lost {
			t.Errorf("a step that was given up fails with %v", err)
		}
	})
}

func TestNobodyIsAskedQuietly(t *testing.T) {
	s, _ := begun(t)
	p := s.Begin()
	defer p.End()
	put := func(err error) func(context.Context) error { return func(context.Context) error { return err } }
	if f := s.Ask(p, gate.Key, s.Place(), "a passphrase", put(nil)); f != nil {
		t.Error(f)
	}
	if f := s.Ask(p, gate.Key, s.Place(), "a passphrase", put(ErrDeclined)); f == nil || f.Cause != gate.Cancelled {
		t.Errorf("%v", f)
	}
	s.Quiet = func() bool { return true }
	if f := s.Ask(p, gate.Key, s.Place(), "a passphrase", func(context.Context) error { t.Error("somebody was asked"); return nil }); f == nil || f.Cause != gate.CannotAsk || f.Hop != "deep" {
		t.Errorf("%v", f)
	}
}
