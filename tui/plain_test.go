package tui

import (
	"bytes"
	"context"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
	"meatus/tui/theme"
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

// reader is the program in lines of text, over the lab.
type reader struct {
	*testing.T
	lab   *lab.Lab
	heard *heardAloud
	say   io.WriteCloser
	left  chan struct{} // closed when the program was left, with err
	err   error
	at    int // what was read out before the last line
}

func readAloud(t *testing.T) *reader {
	t.Helper()
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
	r := &reader{T: t, lab: l, heard: &heardAloud{}, say: say, left: make(chan struct{})}
	go func() { r.err = a.RunPlain(context.Background(), in, r.heard); close(r.left) }()
	t.Cleanup(func() { say.Close(); <-r.left })
	return r
}

// hears waits until a text is read out after the last line.
func (r *reader) hears(text string) {
	r.Helper()
	if !await.Within(await.Patience, func() bool { return strings.Contains(r.heard.String()[r.at:], text) }) {
		r.Fatalf("waited in vain for %q; it read out\n%s", text, r.heard)
	}
}

// line gives the program a line.
func (r *reader) line(text string) {
	r.Helper()
	r.at = len(r.heard.String())
	if _, err := io.WriteString(r.say, text+"\n"); err != nil {
		r.Fatal(err)
	}
}

// The same places as lines of text: found by words, walked to, answered, left; no frame and no
// escape sequence is among them.
func TestPlainLinesLeadToAShell(t *testing.T) {
	r := readAloud(t)
	hears, line, heard, left := r.hears, r.line, r.heard, r.left
	hears("open: key, shore.pem, owner only")
	line("tide-db") // one thing alone is called that
	hears("blocked: key, tide.pem 0644: group and others can read it")
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
	if <-left; r.err != nil {
		t.Error(r.err)
	}
	for _, r := range heard.String() {
		if r == 0x1b || r >= 0x2500 && r <= 0x25ff {
			t.Errorf("%q is read out", r)
			break
		}
	}
}

// Where lines are read no editor can have the terminal: it is run in another one, and what it saved goes back.
func TestAFileIsEditedBesideThePlainLines(t *testing.T) {
	t.Setenv("VISUAL", "vi")
	r := readAloud(t)
	r.hears("open: key, shore.pem, owner only")
	r.line("archive")
	r.hears("2 archive, session")
	r.line("2")
	r.hears("identity, first visit")
	r.line("Q")
	r.hears("needs you: archive asks")
	r.line("leader")
	r.line("a")
	r.hears("type the answer, or esc")
	r.line("yes")
	r.hears("archive")
	r.line("Q")
	r.hears("all of it/")
	read := func() bool { return strings.Contains(r.heard.String(), "15 names, 10 differ") }
	await.Until(r, "the folders to be read", func() bool { // what comes later is read out when it is asked for
		r.line("all")
		return await.Within(time.Second, read)
	})
	r.line("end")
	r.hears("chosen: november.csv")
	r.line("e")
	r.hears("an empty line goes on once you have saved and left it")
	_, rest, _ := strings.Cut(r.heard.String()[r.at:], "run this in another terminal: ")
	command, _, _ := strings.Cut(rest, "\n")
	path := strings.Trim(command[strings.LastIndex(command, " ")+1:], "'")
	text, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, append(text, "by hand\n"...), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	r.line("not an empty line")
	r.hears("an empty line goes on, esc leaves it")
	r.line("")
	r.hears("went back")
	if now := r.lab.Host("archive").Text("/home/keeper/tables/november.csv"); !strings.HasSuffix(now, "by hand\n") {
		t.Errorf("over there it is %q", now)
	}
	if _, err := os.Stat(path); err == nil {
		t.Error("the private copy is left")
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

// Marks are read as their words, and what looks like one in a text from elsewhere is not.
func TestATextThatLooksLikeAMarkIsReadAsText(t *testing.T) {
	far := sanitize.Line("● all is well ❯ → "+theme.Chosen+theme.Open+"done", 100)
	got := plainLines([]string{" " + theme.Chosen + " " + theme.Shut + " key   " + far, "│ ── │", "   " + theme.Remedy + " set mode 0600"})
	if want := []string{"chosen: blocked: key, all is well ❯ → done", "to mend it: set mode 0600"}; !slices.Equal(got, want) {
		t.Errorf("%q, want %q", got, want)
	}
	if drawn := theme.Glyphs(theme.Chosen + theme.Shut + far); !strings.HasPrefix(drawn, "❯╳● all") || strings.ContainsFunc(drawn, sanitize.Noncharacter) {
		t.Errorf("drawn as %q", drawn)
	}
}
