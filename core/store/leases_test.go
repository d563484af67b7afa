package store_test

import (
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sync"
	"testing"
	"time"

	"meatus/core/record"
	"meatus/core/store"
)

func TestALeaseIsGrantedOnceAndRecorded(t *testing.T) {
	both(t, func(t *testing.T, s *whole, again func() *whole, raw *sql.DB) {
		ctx, other := t.Context(), again()
		l := store.Lease{Asking: "one", Person: "mira", Machine: "reef", Login: "keeper", Key: "SHA256:a", Rule: "rule x"}
		grant := func(s *whole, l store.Lease) (store.Lease, error) {
			return s.Grant(ctx, l, time.Minute, record.Done{Issuer: "a", Person: l.Person, Machine: l.Machine, Login: l.Login})
		}
		// Asked many times at once, at two programs, it is one.
		var wg sync.WaitGroup
		serials := make([]int64, 12)
		for i := range serials {
			wg.Go(func() {
				got, err := grant([]*whole{s, other}[i%2], l)
				if err != nil {
					t.Error(err)
				}
				serials[i] = got.Serial
			})
		}
		wg.Wait()
		if slices.Sort(serials); serials[0] != 1 || serials[11] != 1 {
			t.Errorf("%v", serials)
		}
		changed := l
		changed.Key = "SHA256:b"
		if _, err := grant(s, changed); !errors.Is(err, store.ErrTwice) {
			t.Error(err)
		}
		next := l
		next.Asking = "two"
		if got, err := grant(other, next); err != nil || got.Serial != 2 || got.Ends.Sub(got.Granted) != time.Minute {
			t.Errorf("%+v %v", got, err)
		}
		if n, err := s.Length(ctx); err != nil || n != 2 {
			t.Errorf("%d entries, %v", n, err)
		}
		if list, err := s.Leases(ctx, "mira"); err != nil || len(list) != 2 || list[0].Serial != 2 {
			t.Errorf("%+v %v", list, err)
		}
		// What a machine's log tells is recorded once, and what was never granted is not.
		for _, d := range []record.Done{{What: "used", Serial: 2, Machine: "reef"}, {What: "used", Serial: 2, Machine: "reef"}, {What: "used", Serial: 2, Machine: "quay"}, {What: "used", Serial: 9, Machine: "reef"}} {
			if err := s.AppendUsed(ctx, d); err != nil {
				t.Error(err)
			}
		}
		if n, err := s.Length(ctx); err != nil || n != 3 {
			t.Errorf("%d entries, %v", n, err)
		}
		// Where nothing can be recorded nothing is granted.
		if _, err := raw.Exec("ALTER TABLE entry RENAME TO gone"); err != nil {
			t.Fatal(err)
		}
		next.Asking = "three"
		if _, err := grant(s, next); err == nil {
			t.Error("it was granted, and cannot be recorded")
		}
		if _, err := raw.Exec("ALTER TABLE gone RENAME TO entry"); err != nil {
			t.Fatal(err)
		}
		if list, err := s.Leases(ctx, ""); err != nil || len(list) != 2 {
			t.Errorf("%+v %v", list, err)
		}
		if _, err := s.Verify(ctx, record.Head{}); err != nil {
			t.Error(err)
		}
	})
}

func TestLeasesAreStopped(t *testing.T) {
	both(t, func(t *testing.T, s *whole, _ func() *whole, _ *sql.DB) {
		ctx := t.Context()
		grant := func(n int, person, login string) error {
			_, err := s.Grant(ctx, store.Lease{Asking: fmt.Sprint(n), Person: person, Machine: "reef", Login: login, Key: "k"}, time.Minute, record.Done{})
			return err
		}
		for i, c := range [][2]string{{"mira", "keeper"}, {"oskar", "keeper"}, {"oskar", "root"}, {"anni", "root"}} {
			if err := grant(i, c[0], c[1]); err != nil {
				t.Fatal(err)
			}
		}
		stop := func(kind store.StopKind, name string, want int64) {
			t.Helper()
			if n, err := s.StopLeases(ctx, kind, name, record.Done{}); err != nil || n != want {
				t.Errorf("%s %s: %d %v", kind, name, n, err)
			}
		}
		stop(store.StopPerson, "mira", 1)
		stop(store.StopLogin, "root", 2)
		stop(store.StopLease, "2", 1)
		if _, err := s.StopLeases(ctx, store.StopLease, "2", record.Done{}); err == nil {
			t.Error("one was stopped twice")
		}
		if _, err := s.StopLeases(ctx, "machine", "reef", record.Done{}); err == nil {
			t.Error("something else was stopped")
		}
		if serials, last, err := s.Revoked(ctx); err != nil || fmt.Sprint(serials) != "[1 2 3 4]" || last != 3 {
			t.Errorf("%v %d %v", serials, last, err)
		}
		for i, c := range []struct {
			person, login string
			in            bool
		}{{"mira", "keeper", false}, {"oskar", "root", false}, {"oskar", "keeper", true}} {
			if err := grant(10+i, c.person, c.login); errors.Is(err, store.ErrStopped) == c.in || c.in && err != nil {
				t.Errorf("%+v: %v", c, err)
			}
		}
		if err := s.Lift(ctx, store.StopPerson, "mira", record.Done{}); err != nil {
			t.Fatal(err)
		}
		if err := s.Lift(ctx, store.StopPerson, "mira", record.Done{}); err == nil {
			t.Error("it was lifted twice")
		}
		if err := grant(20, "mira", "keeper"); err != nil {
			t.Error(err)
		}
		if list, err := s.Stops(ctx); err != nil || len(list) != 3 || list[0].Lifted.IsZero() || !list[1].Lifted.IsZero() {
			t.Errorf("%+v %v", list, err)
		}
	})
}

func TestASecondPersonsAnswer(t *testing.T) {
	both(t, func(t *testing.T, s *whole, again func() *whole, _ *sql.DB) {
		ctx, other := t.Context(), again()
		changed := s.Watch(ctx)
		ask := func(id string, patience time.Duration) {
			t.Helper()
			a, err := s.Ask(ctx, store.Asking{ID: id, Person: "mira", Machine: "reef", Login: "root", Reason: "why"}, patience, record.Done{})
			if err != nil || a.State != store.Waiting {
				t.Fatalf("%+v %v", a, err)
			}
		}
		answer := func(id string, to store.AskingState, who string) error {
			return s.Answer(ctx, id, to, who, record.Done{})
		}
		grant := func(id, by string) error {
			_, err := s.Grant(ctx, store.Lease{Asking: id, Person: "mira", Machine: "reef", Login: "root", Key: "k", AgreedBy: by}, time.Minute, record.Done{})
			return err
		}
		ask("a", time.Minute)
		select {
		case <-changed:
		case <-time.After(10 * time.Second):
			t.Error("whoever watches was told nothing")
		}
		if _, err := s.Ask(ctx, store.Asking{ID: "a", Person: "oskar", Machine: "reef", Login: "root"}, time.Minute, record.Done{}); !errors.Is(err, store.ErrTwice) {
			t.Error(err)
		}
		if err := answer("a", store.Agreed, "mira"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("who asked agreed: %v", err)
		}
		if err := grant("a", "runa"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("granted before anybody agreed: %v", err)
		}
		var wg sync.WaitGroup
		errs := make([]error, 8)
		for i := range errs {
			wg.Go(func() {
				errs[i] = []*whole{s, other}[i%2].Answer(ctx, "a", store.Agreed, fmt.Sprint("w", i), record.Done{})
			})
		}
		wg.Wait()
		by := slices.Index(errs, nil)
		if n := len(slices.DeleteFunc(slices.Clone(errs), func(err error) bool { return err != nil })); n != 1 {
			t.Errorf("%d agreed: %v", n, errs)
		}
		if err := answer("a", store.Declined, "somebody"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("another took it back: %v", err)
		}
		if err := grant("a", "somebody"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("granted by another's yes: %v", err)
		}
		// Taken back, and granted, at once: one of the two holds.
		back := make(chan error, 1)
		go func() { back <- answer("a", store.Declined, fmt.Sprint("w", by)) }()
		granted := grant("a", fmt.Sprint("w", by))
		if err := <-back; (err == nil) == (granted == nil) {
			t.Errorf("granted: %v, taken back: %v", granted, err)
		}
		ask("b", time.Minute)
		if err := answer("b", store.Withdrawn, "runa"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("somebody else withdrew it: %v", err)
		}
		if err := answer("b", store.Withdrawn, "mira"); err != nil {
			t.Error(err)
		}
		ask("c", -time.Second)
		if err := answer("c", store.Agreed, "runa"); !errors.Is(err, store.ErrAnswered) {
			t.Errorf("too late: %v", err)
		}
		if _, ok, err := s.Asking(ctx, "c"); ok || err != nil {
			t.Errorf("%v %v", ok, err)
		}
		if list, err := s.Askings(ctx); err != nil || len(list) != 0 {
			t.Errorf("%+v %v", list, err)
		}
	})
}

func TestMachinesThatTrustAnIssuer(t *testing.T) {
	both(t, func(t *testing.T, s *whole, _ func() *whole, _ *sql.DB) {
		ctx := t.Context()
		m := store.Trusting{Name: "reef", Instance: "i-1", Site: "harbour", Tags: []string{"a", "b"}, Networks: []string{"inner"}, Plain: true, HostKey: "SHA256:h", Signers: []string{"SHA256:s"}, Stops: 3, By: "runa"}
		for _, m := range []store.Trusting{m, {Name: "i-1"}} {
			if err := s.Trust(ctx, m, record.Done{}); err != nil {
				t.Fatal(err)
			}
		}
		got, err := s.Trusted(ctx, "somewhere", "i-1")
		if got.Enrolled.IsZero() || err != nil {
			t.Error(err)
		}
		got.Enrolled = time.Time{}
		if fmt.Sprint(got) != fmt.Sprint(m) {
			t.Errorf("%+v", got)
		}
		if got, err := s.Trusted(ctx, "i-1", ""); err != nil || got.Name != "i-1" {
			t.Errorf("%+v %v", got, err)
		}
		if err := s.Carried(ctx, "reef", []string{"x", "y"}, 9); err != nil {
			t.Error(err)
		}
		if got, _ := s.Trusted(ctx, "reef", ""); fmt.Sprint(got.Signers, got.Stops) != "[x y] 9" {
			t.Errorf("%+v", got)
		}
		if err := s.Distrust(ctx, "reef", record.Done{}); err != nil {
			t.Error(err)
		}
		for _, err := range []error{s.Distrust(ctx, "reef", record.Done{}), s.Carried(ctx, "reef", nil, 0)} {
			if !errors.Is(err, store.ErrUnknown) {
				t.Error(err)
			}
		}
		if list, err := s.Trusts(ctx); err != nil || len(list) != 1 {
			t.Errorf("%+v %v", list, err)
		}
	})
}
