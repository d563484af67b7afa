package shells

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/lab/await"
	"meatus/tui/placetest"
	"meatus/tui/theme"
)

// desk is a place with a live shell on gauge-1.
type desk struct {
	*Model
	t *testing.T
	d *placetest.Driver
	n int
}

func openShell(t *testing.T) *desk {
	t.Helper()
	d, _ := placetest.Lab(t)
	k := &desk{New(theme.New(true)), t, d, 0}
	k.SetSize(100, 30)
	k.Show(k.another("gauge-1"))
	k.until("keeper@gauge-1:~$")
	return k
}

func (k *desk) another(session string) *Shell {
	k.t.Helper()
	r, ok := k.d.Services.Plan(session)
	if !ok {
		k.t.Fatalf("%s has no route", session)
	}
	s, err := k.d.Engine.Await(k.t.Context(), r, false, 100, 29)
	if err != nil {
		k.t.Fatal(err)
	}
	k.n++
	return &Shell{ID: k.n, Route: r, Shell: s}
}

func (k *desk) see() string {
	lines, _ := k.View("", 0)
	return ansi.Strip(strings.Join(lines, "\n"))
}

func (k *desk) until(text string) {
	k.t.Helper()
	await.Until(k.t, text, func() bool { return strings.Contains(k.see(), text) })
}

func (k *desk) press(keys ...string) (wish tea.Msg) {
	for _, name := range keys {
		wish = k.run(k.Update(placetest.Key(name)))
	}
	return wish
}

// run does what is asked of the frame, where that reads or writes files.
func (k *desk) run(wish tea.Msg) tea.Msg {
	if do, ok := wish.(Run); ok {
		k.Notice(do())
		return nil
	}
	return wish
}

// act does an action behind the leader.
func (k *desk) act(key string) { k.run(k.Do(key)) }

func (k *desk) line(text string) {
	for _, r := range text {
		k.press(string(r))
	}
	k.press("enter")
}

func (k *desk) fits() {
	k.t.Helper()
	for _, size := range [][2]int{{80, 24}, {200, 60}, {100, 30}} {
		k.SetSize(size[0], size[1])
		lines, _ := k.View("", 0)
		if len(lines) > size[1] {
			k.t.Errorf("%v: %d lines", size, len(lines))
		}
		for _, l := range lines {
			if w := ansi.StringWidth(l); w > size[0] {
				k.t.Errorf("%v: %d columns: %q", size, w, ansi.Strip(l))
			}
		}
	}
}

func TestAShellIsSearchedAndCopiedFrom(t *testing.T) {
	k := openShell(t)
	k.line("echo the first lantern")
	k.line("echo the second lantern")
	k.until("\nthe second lantern")
	k.fits()
	k.act("/")
	for _, r := range "lantern" {
		k.press(string(r))
	}
	k.press("enter")
	if !k.marked.on {
		t.Fatal("nothing is found")
	}
	at := k.marked.from
	k.press("n")
	if k.marked.from == at {
		t.Error("there is no next one")
	}
	if wish := k.press("N", "y"); wish == nil {
		t.Error("nothing is copied")
	}
	k.press("esc")
	k.act("/")
	k.press("z", "z", "q", "enter")
	k.until("not there")
	k.press("esc")
	if k.mode != typing {
		t.Error("keys do not go to the far side")
	}
}

func TestACursorSelects(t *testing.T) {
	k := openShell(t)
	k.line("echo hawser")
	k.until("\nhawser")
	k.act("v")
	k.press("up", "0", "space", "right", "right", "end")
	if wish := k.press("y"); wish == nil || k.mode != typing {
		t.Errorf("wish %v, mode %d", wish, k.mode)
	}
	k.act("v")
	k.press("w", "pgup", "pgdown", "left", "home", "down", "esc")
	k.fits()
}

func TestSeveralPastedLinesWaitForAYes(t *testing.T) {
	k := openShell(t)
	k.Update(tea.PasteMsg{Content: "echo pasted-one\necho pasted-two\n"})
	if k.mode != pasting {
		t.Fatal("they were not held")
	}
	k.fits()
	k.press("esc")
	k.Update(tea.PasteMsg{Content: "echo again-one\necho again-two\n"})
	k.press("enter")
	k.until("\nagain-two")
	if strings.Contains(k.see(), "pasted-one") {
		t.Error("what was declined was pasted")
	}
	k.Update(tea.PasteMsg{Content: "echo one-line"})
	k.until("echo one-line")
}

func TestAShellIsWrittenAndLogged(t *testing.T) {
	k := openShell(t)
	dir := t.TempDir()
	into := func(name string) string {
		k.press("ctrl+u")
		path := filepath.Join(dir, name)
		k.Update(tea.PasteMsg{Content: path})
		k.press("enter")
		return path
	}
	k.act("l")
	log := into("bay.log")
	k.line("echo into the log")
	k.until("\ninto the log")
	k.act("l")
	text, err := os.ReadFile(log)
	if err != nil || !strings.Contains(string(text), "into the log\n") {
		t.Errorf("%q, %v", text, err)
	}
	k.act("w")
	k.press("tab", "tab")
	saved := into("bay.txt")
	await.Until(t, "it to be written", func() bool { text, _ := os.ReadFile(saved); return strings.Contains(string(text), "into the log") })
	k.act("w")
	into("bay.txt")
	k.until("exists")
}

func TestSeveralShellsShareTheRoom(t *testing.T) {
	k := openShell(t)
	first := k.Shell()
	second := k.another("quay")
	k.PutBeside(second)
	k.until("warden@quay")
	k.fits()
	k.act("o")
	if k.Shell() != second {
		t.Error("the other has not got the keys")
	}
	left := k.leftWidth()
	k.act("[")
	if k.leftWidth() >= left {
		t.Error("the divide did not move")
	}
	k.act("]")
	k.Update(tea.MouseClickMsg{X: 3, Y: 4, Button: tea.MouseLeft})
	if k.Shell() != first {
		t.Error("a click does not give the keys")
	}
	k.Update(tea.MouseMotionMsg{X: 9, Y: 4, Button: tea.MouseLeft})
	k.Update(tea.MouseReleaseMsg{X: 9, Y: 4, Button: tea.MouseLeft})
	k.Update(tea.MouseWheelMsg{X: 3, Y: 4, Button: tea.MouseWheelUp})
	third := k.another("gauge-1")
	k.PutBeside(third)
	for range arrangements {
		k.act("=")
		k.fits()
		seen := map[[2]int]bool{}
		for _, r := range k.rects() {
			if r.width < 20 || r.height < 8 || seen[[2]int{r.x, r.y}] {
				t.Errorf("%s: %+v", arrangementWords[k.arrangement], k.rects())
			}
			seen[[2]int{r.x, r.y}] = true
		}
	}
	k.act("=")
	k.act("=") // in rows and columns
	k.Update(tea.MouseClickMsg{X: 3, Y: 25, Button: tea.MouseLeft})
	if k.Shell() != third {
		t.Error("a click below does not give the keys")
	}
	k.Forget(third)
	k.Forget(second)
	if k.Shell() != first || len(k.Shown()) != 1 {
		t.Error("the one that is left does not show alone")
	}
}

// What is typed goes to several shells after a yes alone, says so at each of them, and ends by
// itself when another shows.
func TestTypingToSeveral(t *testing.T) {
	k := openShell(t)
	k.act("A")
	if !strings.Contains(k.see(), "no other shell shows") {
		t.Errorf("it is not said:\n%s", k.see())
	}
	k.PutBeside(k.another("gauge-1"))
	k.SetSize(200, 30)
	k.until("keeper@gauge-1:~$")
	k.act("A")
	k.until("type to 2 shells at once?")
	k.press("x") // not enter: no
	k.line("echo one-$((20+3))")
	k.until("one-")
	if n := k.Many(); n != 0 {
		t.Fatalf("it types to %d", n)
	}
	k.act("A")
	k.press("enter")
	k.until("TYPES TO 2 SHELLS")
	if n := strings.Count(k.see(), "TYPES TO 2 SHELLS"); n != 2 {
		t.Errorf("it is said %d times:\n%s", n, k.see())
	}
	k.line("echo both-of-them")
	await.Until(t, "it at both", func() bool {
		return strings.Count(k.see(), "\nboth-of-them")+strings.Count(k.see(), "│both-of-them") == 2
	})
	k.Update(tea.PasteMsg{Content: "echo pasted"})
	k.until("paste to 2 SHELLS?")
	k.press("esc")
	k.Show(k.another("quay"))
	if k.Many() != 0 {
		t.Error("it goes on at another shell")
	}
}

func TestCommandsAreGoneBackTo(t *testing.T) {
	k := openShell(t)
	for i := range 40 {
		k.line(fmt.Sprintf("echo mark-%d", i))
		k.until(fmt.Sprintf("\nmark-%d", i))
	}
	k.act("p")
	k.act("p")
	if f := k.Shell().Frame(); k.marked.from.Row == 0 || !k.marked.on {
		t.Errorf("nothing is marked: %+v of %d", k.marked, f.First)
	}
	for range 30 {
		k.act("p")
	}
	k.until("echo mark-1")
	if k.Shell().back == 0 {
		t.Error("it is not scrolled back")
	}
	for range 60 {
		k.act("n")
	}
	await.Until(t, "the end", func() bool { return k.Shell().back == 0 })
}

func TestLinksAreCopiedAndOpened(t *testing.T) {
	k := openShell(t)
	k.act("u")
	if !strings.Contains(k.see(), "no link shows") {
		t.Errorf("it is not said:\n%s", k.see())
	}
	k.line("echo see https://tables.example/tide?day=2, http://quay.example:8080/.")
	k.until("\nsee https")
	k.act("u")
	k.until("link 1 of 2")
	if wish := k.press("y"); wish != (Copy{"http://quay.example:8080/"}) {
		t.Errorf("%#v", wish)
	}
	k.act("u")
	k.press("n")
	if wish := k.press("o"); wish != (OpenLink{"https://tables.example/tide?day=2"}) {
		t.Errorf("%#v", wish)
	}
}

func TestAShellThatHasEndedIsPutAwayOrOpenedAgain(t *testing.T) {
	k := openShell(t)
	k.line("exit 3")
	await.Until(t, "its end", func() bool { return !k.Shell().Live() })
	k.until("ended, status 3")
	k.fits()
	if _, ok := k.press("a").(Again); !ok {
		t.Error("a does not open it again")
	}
	if _, ok := k.press("q").(Closed); !ok {
		t.Error("q does not put it away")
	}
	k.press("pgup", "pgdown")
	if k.Shell().News() != "" && !strings.Contains("bell output", k.Shell().News()) {
		t.Errorf("news %q", k.Shell().News())
	}
}
