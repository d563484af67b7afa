package estate_test

import (
	"errors"
	"io"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/estate"
	"meatus/lab/await"
)

func hour(from string) estate.Grant {
	now := time.Now()
	return estate.Grant{Group: "g-sluice", Called: "sluice", Session: "sluice", Began: now, Until: now.Add(time.Hour), Rule: estate.Rule{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix(from)}}
}

// standing is how many rules of the sluice let an address in at 22.
func standing(t *testing.T, s *estate.Source, from string) int {
	t.Helper()
	s.Whole = true
	k, n := renew(t, s), 0
	g, err := k.Snapshot.GroupNamed("sluice")
	if err != nil {
		t.Fatal(err)
	}
	for _, r := range g.Rules {
		if r.Inbound && r.CIDR.String() == from {
			n++
		}
	}
	return n
}

func granted(t *testing.T, dir string) []estate.Grant {
	t.Helper()
	all, err := estate.Granted(dir)
	if err != nil {
		t.Fatal(err)
	}
	return all
}

func TestARuleStandsForATime(t *testing.T) {
	l, s := cloudOf(t)
	written := 0
	l.Cloud().Intercept(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodPost && strings.HasSuffix(r.URL.Path, "security-group-rules") {
			written = len(granted(t, s.Dir)) // before it is asked for
		}
		return false
	})
	g, err := s.Grant(t.Context(), hour("10.61.4.1/32"))
	if err != nil || g.ID == "" || written != 1 {
		t.Fatalf("%+v, %v; %d were written down when it was asked for", g, err, written)
	}
	if n := standing(t, s, "10.61.4.1/32"); n != 1 {
		t.Errorf("%d rules stand", n)
	}
	// Somebody else opens the same: it is told whose it is, and nothing of theirs is to be taken back.
	_, err = s.Grant(t.Context(), hour("10.61.4.1/32"))
	var stands *estate.Standing
	if !errors.As(err, &stands) || !strings.Contains(err.Error(), "meatus "+g.Mark+", until ") || len(granted(t, s.Dir)) != 1 {
		t.Errorf("the same rule again: %v; %d are written down", err, len(granted(t, s.Dir)))
	}
	for range 2 { // twice is as once
		if err := s.TakeBack(t.Context(), g); err != nil {
			t.Error(err)
		}
	}
	if n := standing(t, s, "10.61.4.1/32"); n != 0 || len(granted(t, s.Dir)) != 0 {
		t.Errorf("%d rules stand, and %d are written down", n, len(granted(t, s.Dir)))
	}
	// One that somebody else took away is gone.
	if g, err = s.Grant(t.Context(), hour("10.61.4.2/32")); err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(s.DropRule(t.Context(), g.ID), s.TakeBack(t.Context(), g)); err != nil || len(granted(t, s.Dir)) != 0 {
		t.Error(err)
	}
}

// The answer is lost, or the program ends before it comes: the rule is found by its mark.
func TestARuleWhoseAnswerIsLostIsTakenBack(t *testing.T) {
	l, s := cloudOf(t)
	renew(t, s)
	target, lost := l.Cloud().URL(), true
	l.Cloud().Intercept(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || !strings.HasSuffix(r.URL.Path, "security-group-rules") || !lost {
			return false
		}
		lost = false
		body, _ := io.ReadAll(r.Body)
		go func() { // it is made all the same
			again, err := http.NewRequest(r.Method, target+r.URL.Path, strings.NewReader(string(body)))
			if err != nil {
				return
			}
			again.Header = r.Header
			if resp, err := http.DefaultClient.Do(again); err == nil {
				resp.Body.Close()
			}
		}()
		panic(http.ErrAbortHandler)
	})
	g, err := s.Grant(t.Context(), hour("10.61.4.1/32"))
	if err == nil || !strings.Contains(err.Error(), "whether the rule is there is not known") {
		t.Fatalf("%+v, %v", g, err)
	}
	await.Until(t, "the rule", func() bool { return standing(t, s, "10.61.4.1/32") == 1 })
	left := granted(t, s.Dir)
	if len(left) != 1 || left[0].ID != "" || !left[0].Due(time.Now()) {
		t.Fatalf("what is written down: %+v", left)
	}
	if err := s.TakeBack(t.Context(), left[0]); err != nil || standing(t, s, "10.61.4.1/32") != 0 || len(granted(t, s.Dir)) != 0 {
		t.Errorf("%v; %d stand", err, standing(t, s, "10.61.4.1/32"))
	}
}

func TestARuleThatIsRefusedLeavesNothing(t *testing.T) {
	l, s := cloudOf(t)
	g := hour("10.61.4.1/32")
	g.Group = "g-none"
	if _, err := s.Grant(t.Context(), g); err == nil || !strings.Contains(err.Error(), "g-none does not exist") || len(granted(t, s.Dir)) != 0 {
		t.Errorf("a group that is not there: %v", err)
	}
	g = hour("10.61.4.1/32")
	g.Until = g.Began.Add(25 * time.Hour)
	if _, err := s.Grant(t.Context(), g); err == nil {
		t.Error("a rule stands for more than a day")
	}
	// Taking back is refused: it stays written down, with why.
	g, err := s.Grant(t.Context(), hour("10.61.4.1/32"))
	if err != nil {
		t.Fatal(err)
	}
	l.Cloud().Intercept(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method == http.MethodDelete {
			http.Error(w, `{"NeutronError": {"message": "not yours"}}`, http.StatusForbidden)
		}
		return r.Method == http.MethodDelete
	})
	err = s.TakeBack(t.Context(), g)
	left := granted(t, s.Dir)
	if err == nil || len(left) != 1 || !strings.Contains(left[0].Failed, "403") || left[0].Tried.IsZero() {
		t.Errorf("%v; what is written down: %+v", err, left)
	}
	l.Cloud().Intercept(nil)
	if err := s.TakeBack(t.Context(), left[0]); err != nil || len(granted(t, s.Dir)) != 0 {
		t.Error(err)
	}
	// What is written down cannot be read: it is told each time, and stays.
	torn := filepath.Join(s.Dir, "state", "estate", "granted", "bay-torn.json")
	if err := os.WriteFile(torn, []byte("{"), 0o600); err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if _, err := estate.Granted(s.Dir); err == nil || !strings.Contains(err.Error(), "bay-torn.json") {
			t.Errorf("a torn file: %v", err)
		}
	}
}

func TestARuleIsDueByWhicheverClock(t *testing.T) {
	began := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	g := estate.Grant{Began: began, Until: began.Add(time.Hour)}
	for after, due := range map[time.Duration]bool{0: false, 59 * time.Minute: false, time.Hour: true, 48 * time.Hour: true, -30 * time.Second: false, -time.Hour: true} {
		if g.Due(began.Add(after)) != due {
			t.Errorf("%s after its beginning it is due: %v", after, !due)
		}
	}
}

// A document only tells: no rule of it can be granted.
func TestADocumentGrantsNothing(t *testing.T) {
	_, s := cloudOf(t)
	s.Kind.V = "document"
	if _, err := s.Grant(t.Context(), hour("10.61.4.1/32")); !errors.Is(err, estate.ErrNoActs) || len(granted(t, s.Dir)) != 0 {
		t.Error(err)
	}
}
