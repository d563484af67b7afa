package hold

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/tunnel"
)

func session(name string, specs int, onKnock bool) Session {
	return Session{Route: route.Route{Session: name}, Specs: make([]book.Tunnel, specs), OnKnock: onKnock}
}

func line(session, kind string, open, up bool, answers gate.Verdict) tunnel.Line {
	return tunnel.Line{Session: session, Kind: kind, Reach: "db:5432", Open: open, Up: up, Answers: answers.String(), Proof: "refused"}
}

// Ready is reported once, and only when every listener, connection and service is.
func TestReadyIsReportedOnceWhenAllOfItIsUp(t *testing.T) {
	var lines []tunnel.Line
	r := &Readiness{Sessions: []Session{session("tables", 2, false), session("gauges", 1, true)}, Lines: func() []tunnel.Line { return lines }}
	for _, c := range []struct {
		what  string
		lines []tunnel.Line
		want  bool
	}{
		{"nothing is open", nil, false},
		{"a connection is missing", []tunnel.Line{line("tables", "bring", true, true, gate.Open), line("tables", "roam", true, false, gate.Open), line("gauges", "bring", true, false, gate.Untried)}, false},
		{"the one on a knock does not listen", []tunnel.Line{line("tables", "bring", true, true, gate.Open), line("tables", "roam", true, true, gate.Open)}, false},
		{"a service was not tried", []tunnel.Line{line("tables", "bring", true, true, gate.Untried), line("tables", "roam", true, true, gate.Open), line("gauges", "bring", true, false, gate.Untried)}, false},
		{"all is up", []tunnel.Line{line("tables", "bring", true, true, gate.Open), line("tables", "roam", true, true, gate.Open), line("gauges", "bring", true, false, gate.Untried)}, true},
		{"it was reported", []tunnel.Line{line("tables", "bring", true, true, gate.Open), line("tables", "roam", true, true, gate.Open), line("gauges", "bring", true, false, gate.Untried)}, false},
	} {
		lines = c.lines
		if got, not := r.Reached(); got != c.want || got && len(not) > 0 {
			t.Errorf("%s: %v, without %q", c.what, got, not)
		}
	}
}

// A service that does not answer is waited for, and named where it has not by then; a lost connection starts the time anew.
func TestAServiceThatDoesNotAnswerIsNamedInTheEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		lines := []tunnel.Line{line("tables", "bring", true, true, gate.Untried)}
		r := &Readiness{Sessions: []Session{session("tables", 1, false)}, Lines: func() []tunnel.Line { return lines }}
		wait := func(d time.Duration, want bool) (not []string) {
			t.Helper()
			time.Sleep(d)
			now, not := r.Reached()
			if now != want {
				t.Errorf("after %s more it is %v", d, now)
			}
			return not
		}
		wait(0, false)
		wait(ProveTime-time.Millisecond, false)
		lines[0].Up = false
		wait(0, false)
		lines[0].Up = true
		wait(0, false)
		wait(ProveTime-time.Millisecond, false)
		if not := wait(time.Millisecond, true); !slices.Equal(not, []string{"tables: db:5432 was not tried yet"}) {
			t.Errorf("it names %q", not)
		}
	})
	r := &Readiness{Sessions: []Session{session("tables", 1, false)}, Lines: func() []tunnel.Line { return []tunnel.Line{line("tables", "bring", true, true, gate.Shut)} }}
	if now, not := r.Reached(); !now || !slices.Equal(not, []string{"tables: db:5432: refused"}) {
		t.Errorf("a service that refuses: %v, %q", now, not)
	}
}

func failure(cause gate.Cause) error { return &gate.Failure{Hop: "quay", Cause: cause} }

// What may pass is tried again, later each time; what may not is told, and ends it all when it is everything.
func TestFailedSessionsAreTriedAgain(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var mu sync.Mutex
		var told []string
		tell := func(format string, args ...any) {
			mu.Lock()
			defer mu.Unlock()
			told = append(told, fmt.Sprintf(format, args...))
		}
		var pauses []time.Duration
		r := &Retries{Sessions: 2, Walk: func(s string) { tell("walk %s", s) }, Never: func(s string, _ error) { tell("never %s", s) },
			Again: func(_ string, _ error, p time.Duration) { pauses = append(pauses, p) }}
		for range 3 {
			if err := r.Failed("tables", failure(gate.Busy)); err != nil {
				t.Fatal(err)
			}
			time.Sleep(pauses[len(pauses)-1])
			synctest.Wait()
		}
		if !(pauses[0] < pauses[1] && pauses[1] < pauses[2]) || len(told) != 3 || told[2] != "walk tables" {
			t.Errorf("pauses of %v; %q", pauses, told)
		}
		if err := r.Failed("gauges", failure(gate.IdentityChanged)); err != nil {
			t.Fatalf("one of two ended it: %v", err)
		}
		if told[3] != "never gauges" {
			t.Errorf("%q", told)
		}
		if err := r.Failed("tables", errors.New("odd")); err == nil || !strings.Contains(err.Error(), "odd") {
			t.Errorf("with none left it goes on: %v", err)
		}
		r.Failed("tables", failure(gate.Busy))
		r.Stop()
		time.Sleep(2 * LastRetry)
		if len(told) != 5 {
			t.Errorf("after the end: %q", told[5:])
		}
	})
}

func TestOneSessionEndsWithItsFailureUnlessTheServerIsBusy(t *testing.T) {
	r := &Retries{Sessions: 1, Walk: func(string) {}, Again: func(string, error, time.Duration) {}, Never: func(string, error) {}}
	defer r.Stop()
	if err := r.Failed("tables", failure(gate.Busy)); err != nil {
		t.Errorf("a busy server: %v", err)
	}
	for _, why := range []error{failure(gate.Refused), errors.New("odd")} {
		if err := r.Failed("tables", why); !errors.Is(err, why) {
			t.Errorf("%v: %v", why, err)
		}
	}
}
