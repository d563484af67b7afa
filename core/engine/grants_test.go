package engine

import (
	"encoding/json"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"
	"time"

	"meatus/core/estate"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

// withBay is an engine over the bay's workspace, whose estate was read.
func withBay(t *testing.T, l *lab.Lab) *Engine {
	t.Helper()
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	e, err := Open(t.Context(), Options{Workspace: ws, Dialer: l.Dialer(), Name: "test", Attended: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	await.Until(t, "the estate", func() bool { return e.Workspace().Judge("bay") != nil })
	return e
}

// rulesOf is how many rules the sluice has at the source: three at the start.
func rulesOf(t *testing.T, l *lab.Lab) int {
	t.Helper()
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	source, _ := ws.Source("bay")
	k, err := (&estate.Source{Dir: t.TempDir(), EstateSource: source}).Renew(t.Context(), time.Now())
	if err != nil || k.Failed != "" {
		k, err = (&estate.Source{Dir: l.Dir, EstateSource: source, Whole: true}).Renew(t.Context(), time.Now())
		if err != nil || k.Failed != "" {
			t.Fatal(err, k.Failed)
		}
	}
	g, err := k.Snapshot.GroupNamed("sluice")
	if err != nil {
		t.Fatal(err)
	}
	return len(g.Rules)
}

func TestARuleIsTakenBackWhenItsTimeIsOver(t *testing.T) {
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	e := withBay(t, l)
	var refused atomic.Int32
	l.Cloud().Intercept(func(w http.ResponseWriter, r *http.Request) bool { // it is refused at first
		if r.Method == http.MethodDelete && refused.Add(1) == 1 {
			http.Error(w, "{}", http.StatusConflict)
			return true
		}
		return false
	})
	r, err := e.Workspace().Planner().Plan("sluice")
	if err != nil {
		t.Fatal(err)
	}
	a, _ := e.Workspace().AskHop(r, 1)
	lacks, ok := e.Workspace().Lacks(a)
	if !ok {
		t.Fatal("the sluice lacks nothing")
	}
	source, _ := e.Workspace().Source("bay")
	job := &work.LetIn{Tools: e.Tools(), Source: source, Edits: lacks.Edits, For: 2 * time.Second, Session: "sluice", Of: lacks.Of, Read: e.ReadEstates}
	e.Jobs.Begin(job)
	await.Until(t, "the rule", func() bool { return len(e.Grants()) == 1 && rulesOf(t, l) == 4 })
	await.Until(t, "it to be refused to take it back, and that to be told", func() bool {
		all := e.Grants()
		return len(all) == 1 && all[0].Failed != ""
	})
	await.Until(t, "it to be taken back", func() bool { return len(e.Grants()) == 0 && rulesOf(t, l) == 3 })
	for _, want := range []string{"until ", "taking back: ", "no longer "} {
		await.Until(t, "the trail to say "+want, func() bool {
			found, err := e.Trail.Read(t.Context(), trail.Filter{Text: want, Limit: 10})
			return err == nil && len(found) >= 1
		})
	}
}

// A program that was killed leaves a rule: the next one takes it back, once its time is over, or where a clock says
// that it has not begun.
func TestARuleThatAProgramLeftIsTakenBack(t *testing.T) {
	for name, began := range map[string]time.Time{"its time is over": time.Now().Add(-2 * time.Hour), "the clock was set back": time.Now().Add(3 * time.Hour)} {
		t.Run(name, func(t *testing.T) {
			l := labtest.Open(t)
			t.Cleanup(l.Close)
			ws, err := workspace.Open(l.Dir)
			if err != nil {
				t.Fatal(err)
			}
			source, _ := ws.Source("bay")
			now := time.Now()
			g, err := (&estate.Source{Dir: l.Dir, EstateSource: source}).Grant(t.Context(), estate.Grant{
				Group: "g-sluice", Called: "sluice", Session: "sluice", Began: now, Until: now.Add(time.Hour),
				Rule: estate.Rule{Inbound: true, Protocol: "tcp", From: 22, To: 22, CIDR: netip.MustParsePrefix("10.61.4.1/32")},
			})
			if err != nil || rulesOf(t, l) != 4 {
				t.Fatal(err)
			}
			g.Began, g.Until, g.ID = began, began.Add(time.Hour), "" // and it ended before it knew the rule's id
			text, err := json.Marshal(g)
			if err == nil {
				err = os.WriteFile(filepath.Join(l.Dir, "state", "estate", "granted", "bay-"+g.Mark+".json"), text, 0o600)
			}
			if err != nil {
				t.Fatal(err)
			}
			withBay(t, l)
			await.Until(t, "it to be taken back", func() bool { return rulesOf(t, l) == 3 })
		})
	}
}
