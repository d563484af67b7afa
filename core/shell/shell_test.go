package shell_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/core/step"
	"meatus/core/term"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// yes says yes to every host and knows nothing else.
type yes struct{}

func (yes) Identity(context.Context, step.IdentityQuestion) error { return nil }
func (yes) Passphrase(context.Context, step.PassphraseQuestion) ([]byte, error) {
	return nil, step.ErrDeclined
}
func (yes) Lend(context.Context, step.LendQuestion) error { return nil }
func (yes) Answers(context.Context, step.ServerQuestions) ([]string, error) {
	return nil, step.ErrDeclined
}

// open opens a shell on gauge-1 of a new lab.
func open(t *testing.T, cols, rows int) (*lab.Lab, *shell.Shell) {
	t.Helper()
	return openAs(t, cols, rows, route.Manner{})
}

// openAs opens a shell in a manner of the test's own.
func openAs(t *testing.T, cols, rows int, m route.Manner) (*lab.Lab, *shell.Shell) {
	t.Helper()
	l, _, s := openOver(t, cols, rows, func(r *route.Route) { r.Hops[len(r.Hops)-1].Manner = m })
	return l, s
}

// openOver opens a shell over a route that the test has changed.
func openOver(t *testing.T, cols, rows int, change func(*route.Route)) (*lab.Lab, *walk.Walker, *shell.Shell) {
	t.Helper()
	l := labtest.Open(t)
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(l.Dir, vouch.FileName)), Asker: yes{}, Network: l.Dialer()})
	t.Cleanup(func() {
		w.Close()
		l.Close()
	})
	b, err := book.Read(filepath.Join(l.Dir, book.FileName))
	if err != nil {
		t.Fatal(err)
	}
	r, err := route.Planner{Source: b, Dir: l.Dir}.Plan("gauge-1")
	if err != nil {
		t.Fatal(err)
	}
	change(&r)
	p, err := w.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	s, err := shell.Open(context.Background(), p, remote.New(remote.Config{}), w, cols, rows)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return l, w, s
}

// until waits until the shell shows something.
func until(t *testing.T, s *shell.Shell, what string) string {
	t.Helper()
	var text string
	for deadline := time.After(10 * time.Second); ; {
		f := s.Frame()
		lines := make([]string, f.Rows)
		for i := range lines {
			lines[i] = f.Line(i)
		}
		if text = strings.Join(lines, "\n"); strings.Contains(text, what) {
			return text
		}
		select {
		case <-s.Changed():
		case <-deadline:
			t.Fatalf("waited in vain for %q; it shows\n%s", what, text)
		}
	}
}

func TestTypingComesBackAsFrames(t *testing.T) {
	_, s := open(t, 80, 24)
	until(t, s, "keeper@gauge-1:~$")
	s.Type([]byte("whoami; size\r"))
	until(t, s, "keeper\n80 columns, 24 rows")
	s.Resize(100, 30)
	for s.Frame().Cols != 100 {
		<-s.Changed()
	}
	asks(t, s, "100 columns, 30 rows")
	if got := s.LastLine(); got != "keeper@gauge-1:~$" {
		t.Errorf("last line %q", got)
	}
	s.Type([]byte("exit 5\r"))
	if e := s.Ending(); e.Status != 5 || e.Err != nil {
		t.Errorf("ended %+v", e)
	}
	if s.Live() || s.Type([]byte("x")) {
		t.Error("an ended shell takes typing")
	}
}

func TestAFloodIsDrawnAndScrolledBack(t *testing.T) {
	_, s := open(t, 90, 20)
	until(t, s, "$")
	s.Type([]byte("flood 3; echo the end\r"))
	until(t, s, "\nthe end\n")
	f := s.Frame()
	if f.Scrolled != 10000 {
		t.Errorf("%d lines scrolled off, want the limit", f.Scrolled)
	}
	s.Look(500)
	for deadline := time.Now().Add(5 * time.Second); s.Frame().Back != 500; {
		if time.Now().After(deadline) {
			t.Fatalf("the view stands at %d", s.Frame().Back)
		}
		<-s.Changed()
	}
	if line := s.Frame().Line(3); !strings.HasPrefix(line, "the tide comes in") {
		t.Errorf("scrolled back to %q", line)
	}
	s.Look(0)
	until(t, s, "\nthe end\n")
}

func TestALostLineEndsTheShellWithItsReason(t *testing.T) {
	l, s := open(t, 80, 24)
	until(t, s, "$")
	l.Host("quay").Cut()
	var f *gate.Failure
	if e := s.Ending(); !errors.As(e.Err, &f) || f.Cause != gate.ServerClosed {
		t.Errorf("ended %+v", e)
	}
	until(t, s, "$") // what it showed is still there
}

func TestInputIsBoundedWhileTheFarSideIsFrozen(t *testing.T) {
	l, s := open(t, 80, 24)
	until(t, s, "$")
	l.Host("gauge-1").Faults.Freeze(true)
	taken := 0
	for range 200 {
		if !s.Type(make([]byte, 64<<10)) {
			break
		}
		taken++
	}
	if taken == 200 {
		t.Error("12 MB of typing are held")
	}
}

func TestAFrozenLineIsNoticedByTyping(t *testing.T) {
	t.Parallel()
	l, w, s := openOver(t, 80, 24, func(r *route.Route) {
		for i := range r.Hops {
			r.Hops[i].Keepalive = time.Hour // which says nothing in time
		}
	})
	until(t, s, "$")
	inbox := w.Events.Subscribe()
	frozen := func() bool {
		for _, link := range w.Links() {
			if link.Hop == "gauge-1" {
				return link.Frozen
			}
		}
		return false
	}
	l.Host("gauge-1").Faults.Freeze(true)
	s.Type([]byte("uptime\r"))
	await.Until(t, "the frozen line to be noticed", frozen)
	l.Host("gauge-1").Faults.Freeze(false)
	await.Until(t, "it to thaw", func() bool { return !frozen() })
	until(t, s, "up ")
	var told []string
	for _, e := range inbox.Take(t.Context()) {
		switch e := e.(type) {
		case link.Froze:
			told = append(told, e.Hop+" froze")
		case link.Thawed:
			told = append(told, e.Hop+" thawed")
		}
	}
	if got := strings.Join(told, ", "); got != "gauge-1 froze, gauge-1 thawed" {
		t.Errorf("told: %s", got)
	}
}

func TestALostWayIsWalkedAgainAndSaysSo(t *testing.T) {
	l, s := openAs(t, 80, 24, route.Manner{Reconnect: time.Minute})
	until(t, s, "$")
	s.Type([]byte("echo before; gauge\r")) // a full-screen program shows
	until(t, s, "q leaves")
	l.Host("quay").Cut()
	text := until(t, s, "this is a new shell")
	until(t, s, "keeper@gauge-1:~$")
	if !strings.Contains(text, "before") {
		t.Errorf("what it showed is gone:\n%s", text)
	}
	if f := s.Frame(); f.Alternate || !f.CursorOn {
		t.Error("the lost program's screen is still up")
	}
	await.Until(t, "typing to be taken", func() bool { return s.Type(nil) })
	s.Type([]byte("echo again\r"))
	until(t, s, "\nagain")
	if !s.Live() {
		t.Error("the shell has ended")
	}
}

func TestWhatIsTypedWhileTheWayIsLostIsNotForTheNewShell(t *testing.T) {
	l, s := openAs(t, 80, 24, route.Manner{Reconnect: time.Minute})
	until(t, s, "$")
	l.Host("gauge-1").Faults.ClosePort(true)
	l.Host("gauge-1").Cut()
	await.Until(t, "the way to be lost", func() bool { _, lost := s.Lost(); return lost })
	if s.Type([]byte("echo never\r")) {
		t.Error("typing is taken while the way is lost")
	}
	l.Host("gauge-1").Faults.ClosePort(false)
	until(t, s, "this is a new shell")
	s.Type([]byte("echo now\r"))
	if text := until(t, s, "\nnow"); strings.Contains(text, "never") {
		t.Errorf("it was typed all the same:\n%s", text)
	}
}

func TestReconnectingEndsAtItsTime(t *testing.T) {
	l, s := openAs(t, 80, 24, route.Manner{Reconnect: 2 * time.Second})
	until(t, s, "$")
	l.Host("gauge-1").Faults.ClosePort(true)
	l.Host("gauge-1").Cut()
	var f *gate.Failure
	if e := s.Ending(); !errors.As(e.Err, &f) || f.Cause != gate.Refused {
		t.Errorf("ended %+v", e)
	}
	until(t, s, "$")
}

func TestAShellArrivesAsItsSessionWants(t *testing.T) {
	_, s := openAs(t, 80, 24, route.Manner{Term: "vt220", Env: []string{"TIDE=low", "SHORE=a b"}, Folder: "/srv/gauge", Arrive: "pwd; env"})
	text := until(t, s, "TIDE=low")
	for _, want := range []string{"\n/srv/gauge\n", "SHORE=a b", "TERM=vt220"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing:\n%s", want, text)
		}
	}
}

func TestManySizesEndAtTheLast(t *testing.T) {
	_, s := open(t, 80, 24)
	until(t, s, "$")
	for i := range 300 {
		s.Resize(40+i%60, 10+i%20)
	}
	s.Resize(101, 31)
	for s.Frame().Cols != 101 {
		<-s.Changed()
	}
	asks(t, s, "101 columns, 31 rows")
}

// asks has the far side say its size until that is the one that is meant: sizes and
// typing come to it by two ways.
func asks(t *testing.T, s *shell.Shell, size string) {
	t.Helper()
	await.Until(t, "the far side to have "+size, func() bool {
		before := s.Frame()
		s.Type([]byte("size\r"))
		<-s.Changed()
		return strings.Contains(screenText(before), size) || strings.Contains(screenText(s.Frame()), size)
	})
	until(t, s, "keeper@gauge-1:~$")
}

func screenText(f *term.Frame) string {
	var b strings.Builder
	for i := range f.Rows {
		b.WriteString(f.Line(i) + "\n")
	}
	return b.String()
}

func TestTheLogIsPlainAndHoldsNoSecret(t *testing.T) {
	_, s := open(t, 80, 24)
	until(t, s, "$")
	path := filepath.Join(t.TempDir(), "log")
	if err := s.StartLog(path); err != nil {
		t.Fatal(err)
	}
	if err := s.StartLog(path + "2"); err == nil {
		t.Error("two logs at once")
	}
	s.Type([]byte("echo one; ls /\r"))
	until(t, s, "\none")
	s.Type([]byte("secret\r")) // asks for one without echo
	until(t, s, "passphrase of the lamp:")
	s.Type([]byte("ebb-and-flow\r"))
	until(t, s, "lit")
	s.Type([]byte("gauge\r"))
	until(t, s, "q leaves")
	s.Type([]byte("q"))
	for s.Frame().Alternate {
		<-s.Changed()
	}
	s.Type([]byte("echo the end\r"))
	until(t, s, "\nthe end")
	if _, err := s.StopLog(); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(path)
	info, _ := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v, mode %v", err, info.Mode())
	}
	log := string(text)
	for _, want := range []string{"\none\n", "etc/\n", "lit\n", "the end\n"} {
		if !strings.Contains(log, want) {
			t.Errorf("%q is missing", want)
		}
	}
	for _, never := range []string{"\x1b", "\r", "ebb-and-flow", "q leaves"} {
		if strings.Contains(log, never) {
			t.Errorf("%q is in the log", never)
		}
	}
	if t.Failed() {
		t.Logf("%q", log)
	}
	if err := s.Save(path, true); err == nil {
		t.Error("saving wrote over a file")
	}
	if err := s.Save(path+"3", false); err != nil {
		t.Fatal(err)
	}
	if saved, _ := os.ReadFile(path + "3"); !strings.Contains(string(saved), "the end\n") {
		t.Errorf("saved %q", saved)
	}
}

func TestAnEndedShellCanStillBeLookedThrough(t *testing.T) {
	_, s := open(t, 80, 10)
	until(t, s, "$")
	s.Type([]byte("echo needle; flood 1; exit\r"))
	s.Ending()
	s.Look(3)
	for s.Frame().Back != 3 {
		<-s.Changed()
	}
	found := false
	s.With(func(screen *term.Screen) {
		_, end := screen.Rows()
		_, _, found = screen.Find("the tide comes in", term.Point{Row: end}, false)
	})
	if !found {
		t.Error("nothing is found after the end")
	}
	s.Close()
	s.With(func(*term.Screen) { t.Error("a closed shell answers") })
}
