package tui

import (
	"bytes"
	"io"
	"strings"
	"sync"
	"testing"

	"meatus/core/workspace"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

// heardAloud is what was read out so far.
type heardAloud struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (h *heardAloud) Write(p []byte) (int, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.Write(p)
}

func (h *heardAloud) String() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.text.String()
}

// The same places as lines of text: found by words, walked to, answered, left; no frame and no
// escape sequence is among them.
func TestPlainLinesLeadToAShell(t *testing.T) {
	l := labtest.Open(t)
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	a, err := New(ws, Options{Name: "Lantern Bay", Dialer: l.Dialer()})
	if err != nil {
		t.Fatal(err)
	}
	in, say := io.Pipe()
	heard := &heardAloud{}
	left := make(chan error, 1)
	go func() { left <- a.RunPlain(t.Context(), in, heard) }()
	t.Cleanup(func() { say.Close() })
	at := 0
	hears := func(text string) {
		t.Helper()
		await.Until(t, text, func() bool { return strings.Contains(heard.String()[at:], text) })
	}
	line := func(text string) {
		t.Helper()
		at = len(heard.String())
		if _, err := io.WriteString(say, text+"\n"); err != nil {
			t.Fatal(err)
		}
	}
	hears("open: key, shore.pem, owner only")
	line("tide-db") // one thing alone is called that
	hears("shut: key, tide.pem 0644: group and others can read it")
	line("m")
	hears("done: tide.pem now has mode 0600")
	line("enter")
	hears("type the answer, or esc")
	line("yes")
	hears("shell: keeper on tide-db")
	hears("keeper@tide-db:~$")
	line("echo low tide $((1+1))")
	hears("\nlow tide")
	line(".0")
	hears("chosen: tide-db")
	line("?")
	hears("n: new session")
	line("K")
	hears("gauge.pem")
	line("down")
	hears("chosen: ")
	line("draw")
	hears("a number does it")
	line("no such thing at all")
	hears("nothing is called that")
	line("0")
	hears("chosen: ")
	line("q")
	hears("enter ends them and leaves")
	line("enter")
	if err := <-left; err != nil {
		t.Error(err)
	}
	for _, r := range heard.String() {
		if r == 0x1b || r >= 0x2500 && r <= 0x25ff {
			t.Errorf("%q is read out", r)
			break
		}
	}
}

func TestPlainLinesEndWithTheirInput(t *testing.T) {
	a, err := New(mustOpen(t, bay(t, 3)), Options{})
	if err != nil {
		t.Fatal(err)
	}
	heard := &heardAloud{}
	if err := a.RunPlain(t.Context(), strings.NewReader("all\n"), heard); err != nil {
		t.Error(err)
	}
	if !strings.Contains(heard.String(), "gauge-2") {
		t.Errorf("it reads out %q", heard)
	}
}

func mustOpen(t *testing.T, dir string) *workspace.Workspace {
	t.Helper()
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	return ws
}
