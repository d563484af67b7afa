package engine_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"golang.org/x/crypto/ssh/agent"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// open opens an engine in a lab, as the full screen does.
func open(t *testing.T, l *lab.Lab) *engine.Engine {
	t.Helper()
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	e, err := engine.Open(t.Context(), engine.Options{Workspace: ws, Asker: labtest.Yes{}, Dialer: l.Dialer(), Name: "the full screen", Attended: true})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(e.Close)
	return e
}

func bay(t *testing.T) *lab.Lab {
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	return l
}

// TestShellsAreListedWhileTheEngineCloses is for the race detector: whoever lists the shells forgets
// those that have ended, while Close still waits for them.
func TestShellsAreListedWhileTheEngineCloses(t *testing.T) {
	e := open(t, bay(t))
	r, err := e.Workspace().Planner().Plan("gauge-1")
	if err != nil {
		t.Fatal(err)
	}
	for range 4 {
		if _, err := e.Await(t.Context(), r, false, 80, 24); err != nil {
			t.Fatal(err)
		}
	}
	closed, listed := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(listed)
		for {
			select {
			case <-closed:
				return
			default:
				e.Shells()
			}
		}
	}()
	e.Close()
	close(closed)
	<-listed
	if n := len(e.Shells()); n > 0 {
		t.Errorf("%d shells are left", n)
	}
}

// TestEveryEndingIsInTheTrail leaves the program with shells, tunnels and links live.
func TestEveryEndingIsInTheTrail(t *testing.T) {
	l := bay(t)
	e := open(t, l)
	r, err := e.Workspace().Planner().Plan("gauge-1")
	if err != nil {
		t.Fatal(err)
	}
	for range 2 {
		if _, err := e.Await(t.Context(), r, false, 80, 24); err != nil {
			t.Fatal(err)
		}
	}
	quay, err := e.Workspace().Planner().Plan("quay")
	if err != nil {
		t.Fatal(err)
	}
	if err := e.Tunnels.Open(quay, []book.Tunnel{{Bring: "127.0.0.1:0", Reach: "gauge-1.internal:7000"}}, tunnel.Options{}, true); err != nil {
		t.Fatal(err)
	}
	e.Close()
	tr, err := trail.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	defer tr.Close()
	entries, err := tr.Read(context.Background(), trail.Filter{})
	if err != nil {
		t.Fatal(err)
	}
	count := map[string]int{}
	for _, entry := range entries {
		count[entry.Event]++
	}
	for begin, end := range map[string]string{"began": "finished", "link-up": "link-down", "open": "shut"} {
		if count[begin] == 0 || count[begin] != count[end] {
			t.Errorf("%d times %s and %d times %s: %v", count[begin], begin, count[end], end, count)
		}
	}
	first, last := entries[len(entries)-1].At, entries[0].At
	stays, err := tr.Stays(context.Background(), first, last)
	if err != nil || len(stays) == 0 {
		t.Fatalf("%+v, %v", stays, err)
	}
	for _, s := range stays {
		if s.Open {
			t.Errorf("%s at %s is shown open for ever", s.What, s.Where)
		}
	}
}

func TestTheRingStandsBeforeTheAgent(t *testing.T) {
	l := bay(t)
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	keyring := agent.NewKeyring()
	if err := keyring.Add(agent.AddedKey{PrivateKey: key, Comment: "behind"}); err != nil {
		t.Fatal(err)
	}
	socket := filepath.Join(t.TempDir(), "agent")
	listener, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	if err := os.Chmod(socket, 0o600); err != nil {
		t.Fatal(err)
	}
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(keyring, conn)
		}
	}()
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	o := engine.Options{Workspace: ws, Asker: labtest.Yes{}, BeforeAgent: true}
	t.Setenv("SSH_AUTH_SOCK", socket)
	e, err := engine.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	_, keys, err := e.Keys.Ring.Front(t.Context())
	e.Close()
	if err != nil || len(keys) != 1 {
		t.Errorf("%d keys of the agent behind, %v", len(keys), err)
	}
	t.Setenv("SSH_AUTH_SOCK", "")
	if _, err := engine.Open(t.Context(), o); !errors.Is(err, engine.ErrNoAgent) {
		t.Errorf("without an agent: %v", err)
	}
}

// next waits for an event of a kind.
func next[E event.Event](t *testing.T, inbox *event.Inbox) E {
	t.Helper()
	for events := inbox.Take(t.Context()); events != nil; events = inbox.Take(t.Context()) {
		for _, e := range events {
			if found, ok := e.(E); ok {
				return found
			}
		}
	}
	t.Fatal("the stream has ended")
	panic("unreachable")
}

func TestAnEditOutsideIsToldToAll(t *testing.T) {
	l := bay(t)
	e := open(t, l)
	inbox := e.Events.Subscribe()
	path := e.Workspace().SessionsPath()
	text, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(path, append(text, "\n[session.pier]\nhost = \"203.0.113.77\"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	c := next[engine.Changed](t, inbox)
	for c.Estate != "" { // the bay's cloud was read meanwhile
		c = next[engine.Changed](t, inbox)
	}
	if c.Ours || !strings.Contains(c.Say, "pier") || c.Workspace.Book.Session("pier") == nil || e.Workspace().Book.Session("pier") == nil {
		t.Errorf("told %+v", c)
	}
	await.Until(t, "the new session to be judged", func() bool { s, ok := e.Board.State("pier"); return ok && s.Judged })
}

// An edit of ours that is noticed on disk before it is adopted is not told as somebody else's
// afterwards, and what was read before it does not take its place.
func TestAnEditOfOursIsNotTakenForAnotherAfterwards(t *testing.T) {
	e := open(t, bay(t))
	var mu sync.Mutex
	adopted, late := map[int]bool{}, 0
	e.Events.Attach(func(ev event.Event) {
		c, ok := ev.(engine.Changed)
		if !ok || c.Estate != "" {
			return
		}
		mu.Lock()
		defer mu.Unlock()
		n := len(c.Workspace.Book.Sessions)
		if c.Ours {
			adopted[n] = true
		} else if adopted[n] {
			late++
		}
	})
	path := e.Workspace().SessionsPath()
	for i := range 60 {
		name := fmt.Sprintf("late-%d", i)
		b, err := book.Add(path, book.Draft{Name: name, Host: "10.61.9.9"})
		if err != nil {
			t.Fatal(err)
		}
		var both sync.WaitGroup
		both.Go(func() { e.Reread(false) })
		both.Go(func() { e.Adopt(b, name, "added") })
		both.Wait()
		if e.Workspace().Book.Session(name) == nil {
			t.Fatalf("%s is gone again", name)
		}
	}
	mu.Lock()
	defer mu.Unlock()
	if late > 0 {
		t.Errorf("%d edits of ours are told as another's afterwards", late)
	}
}

func TestTheBoardHasWhatAWalkFound(t *testing.T) {
	l := bay(t)
	e := open(t, l)
	e.Board.Want("gauge-4")
	await.Until(t, "gauge-4 to be judged", func() bool { s, _ := e.Board.State("gauge-4"); return s.Details != nil })
	before, _ := e.Board.State("gauge-4")
	r := before.Details.Route
	e.Board.Begin("gauge-4")
	_, err := e.Walker.Walk(t.Context(), r)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Gate != gate.Login {
		t.Fatalf("walked with %v", err)
	}
	e.Board.Failed("gauge-4", f)
	await.Until(t, "the card to say so", func() bool {
		s, _ := e.Board.State("gauge-4")
		return s.Walk == nil && s.Verdict == gate.Shut && s.Details != nil && s.Details.Report.Hops[1].Worst().Kind == gate.Login
	})
	if g := before.Details.Report.Hops[1].Worst(); g.Verdict == gate.Shut {
		t.Errorf("what was handed out before has changed: %+v", g)
	}
	now, _ := e.Board.State("gauge-4")
	for _, g := range now.Details.Report.Hops[0].Gates {
		if g.Kind == gate.Port && g.Verdict != gate.Open {
			t.Errorf("the bastion's port was passed and stands %s", g.Verdict)
		}
	}
}

func TestClosingTwiceIsClosingOnce(t *testing.T) {
	e := open(t, bay(t))
	e.Close()
	e.Close()
	if _, err := e.ShareRing(); err == nil {
		t.Error("the ring is shared after the end")
	}
}
