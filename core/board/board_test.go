package board

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/tunnel"
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
	b = New(ws, func() []tunnel.Line { return []tunnel.Line{{Session: "quay", Kind: "bring"}} }, func(event.Event) { told.Add(1) })
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
