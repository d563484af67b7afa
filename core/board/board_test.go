package board

import (
	"context"
	"crypto/ed25519"
	"encoding/pem"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/lab/await"
)

// open judges a workspace with a text as its sessions in the background.
func open(t *testing.T, sessions string) (b *Board, ws *workspace.Workspace, told *atomic.Int64) {
	t.Helper()
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(sessions), 0o600); err != nil {
		t.Fatal(err)
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	told = &atomic.Int64{}
	b = New(ws, func() []tunnel.Line { return []tunnel.Line{{Session: "quay", Kind: "bring"}} }, func() []Shell { return nil }, func(event.Event) { told.Add(1) })
	ctx, end := context.WithCancel(context.Background())
	done := make(chan struct{})
	go func() { b.Run(ctx); close(done) }()
	t.Cleanup(func() { end(); <-done })
	return b, ws, told
}

func whenJudged(t *testing.T, b *Board, name string) State {
	t.Helper()
	var s State
	await.Until(t, name+" to be judged", func() bool { s, _ = b.State(name); return s.Judged })
	return s
}

const two = "[session.quay]\nhost = \"203.0.113.10\"\n[session.reef]\nhost = \"10.61.4.20\"\nkey = \"keys/none.pem\"\n"

func TestSessionsAreJudgedInTheBackground(t *testing.T) {
	b, _, told := open(t, two)
	if s := whenJudged(t, b, "reef"); s.Verdict != gate.Shut {
		t.Errorf("reef is %s", s.Verdict)
	}
	if s := whenJudged(t, b, "quay"); s.Verdict != gate.Untried {
		t.Errorf("quay is %s", s.Verdict)
	}
	await.Until(t, "both to be counted", func() bool { return b.Counts() == Counts{Sessions: 2, Shut: 1} })
	if told.Load() == 0 {
		t.Error("nobody was told")
	}
	if _, ok := b.State("nowhere"); ok {
		t.Error("there is a session nowhere")
	}
	b.Hear(tunnel.Opened{Session: "quay"})
	await.Until(t, "the tunnels", func() bool { return len(b.Tunnels("quay")) == 1 && len(b.Tunnels("reef")) == 0 })
}

func TestWhatIsLookedAtHasItsDetails(t *testing.T) {
	b, _, _ := open(t, two)
	b.Want("reef")
	var s State
	await.Until(t, "the details", func() bool { s, _ = b.State("reef"); return s.Details != nil })
	if len(s.Details.Report.Hops) != 1 || s.Details.Route.Target().Host != "10.61.4.20" {
		t.Errorf("details %+v", s.Details)
	}
}

func TestAStateThatWasTakenDoesNotChange(t *testing.T) {
	b, _, _ := open(t, two)
	before := whenJudged(t, b, "quay")
	b.Begin("quay")
	b.Failed("quay", &gate.Failure{Hop: "quay", Gate: gate.Port, Cause: gate.Refused, Why: "nothing listens"})
	after, _ := b.State("quay")
	if before.Failure != nil || before.Verdict != gate.Untried {
		t.Errorf("the state of before is %+v now", before)
	}
	if after.Failure == nil || after.Verdict != gate.Shut {
		t.Errorf("the state of after is %+v", after)
	}
	b.Say("quay", "it was put right")
	await.Until(t, "the word on its card, and the failure forgotten", func() bool { s, _ := b.State("quay"); return s.Said != "" && s.Failure == nil })
}

func TestAnotherReadingKeepsWhatIsStillThere(t *testing.T) {
	b, ws, _ := open(t, two)
	whenJudged(t, b, "reef")
	b.Mark("quay", true)
	if err := os.WriteFile(ws.SessionsPath(), []byte(strings.ReplaceAll(two, "[session.reef]", "[session.mole]")), 0o600); err != nil {
		t.Fatal(err)
	}
	next, err := ws.Reread()
	if err != nil {
		t.Fatal(err)
	}
	b.SetWorkspace(next)
	whenJudged(t, b, "mole")
	if _, ok := b.State("reef"); ok || !b.Marked("quay") {
		t.Error("reef is there, or the mark is gone")
	}
	b.Mark("quay", false)
	if b.Marked("quay") {
		t.Error("the mark is still there")
	}
}

func TestAKeyThatIsMendedIsJudgedAnew(t *testing.T) {
	b, ws, _ := open(t, two)
	whenJudged(t, b, "reef")
	b.KeyMended("reef", filepath.Join(ws.Dir, "keys", "none.pem"), "it was put there", nil)
	b.Rejudge()
	await.Until(t, "the word of it", func() bool { s, _ := b.State("reef"); return s.Judged && s.Said != "" })
}

const some = "[session.quay]\nhost = \"203.0.113.10\"\nkey = \"keys/a.pem\"\n[session.reef]\nhost = \"10.61.4.20\"\nvia = [\"quay\"]\nkey = \"keys/b.pem\"\n[session.mole]\nhost = \"10.61.4.21\"\nvia = [\"quay\"]\nkey = \"keys/a.pem\"\n"

// found opens a workspace whose sessions were all walked to their logins.
func found(t *testing.T) (*Board, *workspace.Workspace) {
	t.Helper()
	b, ws, _ := open(t, some)
	for _, name := range []string{"a.pem", "b.pem"} {
		writeKey(t, ws, name)
	}
	b.Rejudge()
	b.Want("quay", "reef", "mole")
	for _, name := range []string{"quay", "reef", "mole"} {
		whenJudged(t, b, name)
		last := 1
		if name == "quay" {
			last = 0
		}
		for _, kind := range []gate.Kind{gate.Port, gate.Login} {
			b.Hear(walk.Passed{Session: name, Hop: last, Gate: gate.Gate{Kind: kind, Verdict: gate.Open, Seen: "found"}})
		}
	}
	settled(t, b)
	return b, ws
}

func writeKey(t *testing.T, ws *workspace.Workspace, name string) {
	t.Helper()
	path := filepath.Join(ws.Dir, "keys", name)
	os.MkdirAll(filepath.Dir(path), 0o700)
	os.Remove(path)
	os.Remove(path + ".pub")
	key, err := keyfile.Make("Ed25519", 0)
	if err == nil {
		err = keyfile.Write(path, key, keyfile.Wrapping{})
	}
	if err != nil {
		t.Fatal(err)
	}
}

// settled waits until all is judged, and what was found rests on something.
func settled(t *testing.T, b *Board) {
	t.Helper()
	await.Until(t, "all to be judged", func() bool {
		b.mu.RLock()
		defer b.mu.RUnlock()
		for _, s := range b.sessions {
			for _, f := range s.found {
				if f.rests == 0 {
					return false
				}
			}
			if !s.judged {
				return false
			}
		}
		return len(b.wanted) == 0
	})
}

// knows tells which gates are known to be open by what was found.
func knows(b *Board, name string) string {
	s, _ := b.State(name)
	known := ""
	for _, h := range s.Details.Report.Hops {
		for _, g := range h.Gates {
			if g.Seen == "found" {
				known += g.Kind.String() + " "
			}
		}
	}
	return strings.TrimSpace(known)
}

func TestTheBoardShowsTheWayThatWasTaken(t *testing.T) {
	b, ws, _ := open(t, "[session.quay]\nhost = \"quay\"\n[session.mole]\nhost = \"mole\"\n[session.x]\nhost = \"x\"\nvia = [\"quay | mole\"]\n")
	b.Want("x")
	var s State
	first := func() string {
		if s, _ = b.State("x"); s.Details == nil || !s.Judged {
			return ""
		}
		return s.Details.Route.Hops[0].Name
	}
	await.Until(t, "the way that is named first", func() bool { return first() == "quay" })
	turned := s.Details.Route.Turned(s.Details.Route.Others[0].End())
	b.Begin("x")
	b.Hear(walk.Turned{Route: turned, Report: turned.Check(ws.Knowledge())})
	if first() != "mole" && s.Details.Route.Hops[0].Name != "mole" {
		t.Fatalf("it shows %s at once", s.Details.Route.Hops[0].Name)
	}
	b.Hear(walk.Passed{Session: "x", Hop: 0, Gate: gate.Gate{Kind: gate.Port, Verdict: gate.Open, Seen: "22, answers"}})
	b.Rejudge()
	await.Until(t, "what was found on it to stay", func() bool {
		return first() == "mole" && s.Details.Report.Hops[0].Gates[1].Seen == "22, answers"
	})
	// A shell on either way is one of the session's as it is.
	b.mu.Lock()
	for _, way := range turned.Ways() {
		if b.sessions[b.byName["x"]].leadsElsewhere(b.hash(way.End())) {
			t.Errorf("a shell via %s is said to go another way", way.Hops[0].Name)
		}
	}
	b.mu.Unlock()
	b.Hear(walk.Turned{Route: turned.Turned(turned.Others[0].End()), Report: gate.Report{}})
	await.Until(t, "the first way again", func() bool { return first() == "quay" })
}

// The shells can be looked at after an edit and before it is judged.
func TestALiveShellOfAnEditedSessionStaysLive(t *testing.T) {
	dir := t.TempDir()
	write := func(text string) *workspace.Workspace {
		if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		ws, err := workspace.Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		return ws
	}
	ws := write(two)
	r, err := ws.Planner().Plan("quay")
	if err != nil {
		t.Fatal(err)
	}
	b := New(ws, func() []tunnel.Line { return nil }, func() []Shell { return []Shell{{Way: r}} }, func(event.Event) {})
	judge := func() {
		for b.judge(route.KeySheets{}) {
		}
	}
	judge()
	b.lookAtOpen(true)
	b.SetWorkspace(write(strings.Replace(two, "203.0.113.10", "203.0.113.11", 1)))
	b.lookAtOpen(false)
	judge()
	if s, _ := b.State("quay"); s.Running == nil || !s.Running.Moved {
		t.Errorf("its shell is %+v", s.Running)
	}
}

// A key can be mended before what was found wrong with it is judged for what it rests on.
func TestAKeyThatIsMendedAtOnceIsNotShutByWhatWasFound(t *testing.T) {
	dir := t.TempDir()
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, "none.pem")
	for name, text := range map[string][]byte{"sessions.toml": []byte(strings.Replace(two, "keys/none.pem", path, 1)), "none.pem": pem.EncodeToMemory(block)} {
		if err := os.WriteFile(filepath.Join(dir, name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	b := New(ws, func() []tunnel.Line { return nil }, func() []Shell { return nil }, func(event.Event) {})
	b.Want("reef")
	b.Begin("reef")
	b.Failed("reef", &gate.Failure{Hop: "reef", Gate: gate.Key, Cause: gate.KeyUnusable, Why: "too open", Remedy: gate.Remedy{Say: "mend it", Act: gate.MendKey, Subject: path}})
	b.KeyMended("reef", path, "it was mended", nil)
	for n := 0; n < 10 && b.judge(route.KeySheets{}); n++ {
	}
	if s, _ := b.State("reef"); s.Verdict == gate.Shut || s.Failure != nil || s.Said != "it was mended" {
		t.Errorf("reef is %s, failed %v, said %q", s.Verdict, s.Failure, s.Said)
	}
}

func TestWhatWasFoundStaysUntilWhatItRestsOnChanges(t *testing.T) {
	for what, c := range map[string]struct {
		change func(t *testing.T, ws *workspace.Workspace)
		want   map[string]string
	}{
		"a key is replaced": {func(t *testing.T, ws *workspace.Workspace) { writeKey(t, ws, "b.pem") }, map[string]string{"reef": "port"}},
		"a key of another is mended": {func(t *testing.T, ws *workspace.Workspace) {
			if err := os.Chmod(filepath.Join(ws.Dir, "keys", "b.pem"), 0o644); err != nil {
				t.Fatal(err)
			}
		}, map[string]string{"reef": "port"}},
		"a host is vouched for": {func(t *testing.T, ws *workspace.Workspace) {
			pub, _, _ := ed25519.GenerateKey(nil)
			key, err := ssh.NewPublicKey(pub)
			if err == nil {
				err = ws.Vouched.Accept(vouch.At{Host: "203.0.113.10", Port: 22}, key, "203.0.113.10:22", time.Now())
			}
			if err != nil {
				t.Fatal(err)
			}
		}, map[string]string{"quay": ""}},
		"nothing that matters": {func(t *testing.T, ws *workspace.Workspace) { writeKey(t, ws, "c.pem") }, nil},
	} {
		t.Run(what, func(t *testing.T) {
			b, ws := found(t)
			c.change(t, ws)
			b.Rejudge()
			settled(t, b)
			for _, name := range []string{"quay", "reef", "mole"} {
				want, changed := c.want[name]
				if !changed {
					want = "port login"
				}
				if got := knows(b, name); got != want {
					t.Errorf("of %s is known %q, want %q", name, got, want)
				}
			}
		})
	}
}

func TestAnEditForgetsWhatItChangesAlone(t *testing.T) {
	b, ws := found(t)
	reef := route.Route{Session: "reef", Hops: []route.Hop{{Name: "quay", Destination: route.Destination{Host: "203.0.113.10"}}, {Name: "reef", Destination: route.Destination{Host: "10.61.4.20"}}}}
	b.mu.Lock()
	b.shells = func() []Shell { return []Shell{{Way: reef}} }
	b.mu.Unlock()
	text := strings.Replace(some, "10.61.4.20", "10.61.4.99", 1) + "tunnels = [{ bring = \"127.0.0.1:0\", reach = \"10.61.4.21:80\" }]\n"
	if err := os.WriteFile(ws.SessionsPath(), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	next, err := ws.Reread()
	if err != nil {
		t.Fatal(err)
	}
	before, _ := b.State("mole")
	b.SetWorkspace(next)
	if now, _ := b.State("mole"); now.Details == nil || now.Verdict != before.Verdict {
		t.Errorf("what was known of mole is gone while it is judged: %+v", now)
	}
	settled(t, b)
	for name, want := range map[string]string{"quay": "port login", "mole": "port login", "reef": ""} {
		if got := knows(b, name); got != want {
			t.Errorf("of %s is known %q, want %q", name, got, want)
		}
	}
	b.Hear(remote.Began{Session: "reef"})
	await.Until(t, "its shell to be seen", func() bool {
		s, _ := b.State("reef")
		return s.Running != nil && s.Running.Moved && s.Running.Shells == 1 && b.Counts().Live == 1
	})
}

func TestAWayThatCannotComeBackIsShut(t *testing.T) {
	b, _ := found(t)
	failure := &gate.Failure{Hop: "reef", Gate: gate.Identity, Cause: gate.IdentityChanged, Why: "it shows another key"}
	b.Hear(walk.Waiting{Session: "reef", Lost: true, Failure: failure})
	b.Hear(walk.Ended{Session: "reef", Hop: 1, Err: failure})
	settled(t, b)
	if s, _ := b.State("reef"); s.Verdict != gate.Shut || s.Failure != failure || s.Lost != nil {
		t.Errorf("it is %s: %+v", s.Verdict, s)
	}
	b.Hear(walk.Ended{Session: "mole", Err: &gate.Failure{Hop: "mole", Cause: gate.Cancelled}})
	if s, _ := b.State("mole"); s.Verdict == gate.Shut {
		t.Error("one that was stopped is shut")
	}
}

func TestManySessionsAreAllJudged(t *testing.T) {
	var text strings.Builder
	for i := range 3000 {
		fmt.Fprintf(&text, "[session.pier-%d]\nhost = \"10.61.%d.%d\"\n", i, i/250, i%250+1)
	}
	b, _, _ := open(t, text.String())
	whenJudged(t, b, "pier-2999")
	whenJudged(t, b, "pier-0")
	if n := b.Counts().Sessions; n != 3000 {
		t.Errorf("%d sessions", n)
	}
}

// meanwhile does something once, when a login is asked about while a session is judged.
type meanwhile struct {
	once sync.Once
	do   func()
}

func (m *meanwhile) Last(string, int, string) (route.Login, bool) {
	m.once.Do(m.do)
	return route.Login{}, false
}

// What is wanted stays so where the workspace is read anew while it is judged.
func TestWhatIsWantedIsJudgedThoughTheWorkspaceChangesMeanwhile(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte("[session.quay]\nhost = \"203.0.113.10\"\nuser = \"warden\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	var b *Board
	again := *ws
	ws.Logins = &meanwhile{do: func() { b.SetWorkspace(&again) }}
	b = New(ws, func() []tunnel.Line { return nil }, func() []Shell { return nil }, func(event.Event) {})
	b.Want("quay")
	for n := 0; n < 10 && b.judge(route.KeySheets{}); n++ {
	}
	if s, _ := b.State("quay"); s.Details == nil {
		t.Error("nobody has looked at it")
	}
}
