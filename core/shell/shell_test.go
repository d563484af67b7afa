package shell_test

import (
	"context"
	"errors"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab"
)

// yes says yes to every host and knows nothing else.
type yes struct{}

func (yes) Identity(context.Context, walk.IdentityQuestion) error { return nil }
func (yes) Passphrase(context.Context, walk.PassphraseQuestion) ([]byte, error) {
	return nil, walk.ErrDeclined
}
func (yes) Answers(context.Context, walk.ServerQuestions) ([]string, error) {
	return nil, walk.ErrDeclined
}

// open opens a shell on gauge-1 of a new lab.
func open(t *testing.T, cols, rows int) (*lab.Lab, *shell.Shell) {
	t.Helper()
	l, err := lab.Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(l.Dir, vouch.FileName)), Asker: yes{}, Dialer: l.Dialer()})
	t.Cleanup(func() {
		w.Close()
		l.Close()
	})
	b, err := book.Read(filepath.Join(l.Dir, book.FileName))
	if err != nil {
		t.Fatal(err)
	}
	r, err := route.Planner{Book: b, Dir: l.Dir}.Plan("gauge-1")
	if err != nil {
		t.Fatal(err)
	}
	p, err := w.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	s, err := shell.Open(context.Background(), p, "", cols, rows)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	return l, s
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
	time.Sleep(50 * time.Millisecond) // the lab takes sizes and typing in by two ways
	s.Type([]byte("size\r"))
	until(t, s, "100 columns, 30 rows\nkeeper@gauge-1:~$")
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
