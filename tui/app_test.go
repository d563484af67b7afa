package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/trail"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/tui/ask"
)

// bay writes a workspace of n sessions behind a bastion.
func bay(t testing.TB, n int) string {
	t.Helper()
	dir := t.TempDir()
	text := "[site.reef]\nvia = [\"quay\"]\nuser = \"keeper\"\n\n[session.quay]\nhost = \"203.0.113.10\"\nuser = \"warden\"\n"
	for i := range n {
		text += "\n" + book.Draft{Name: fmt.Sprintf("gauge-%d", i), Site: "reef", Host: fmt.Sprintf("10.61.%d.%d", i/250, i%250+1)}.Text()
	}
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return dir
}

func open(t testing.TB, dir string, width, height int) *App {
	t.Helper()
	ws, err := workspace.Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	a := New(ws, Options{Name: "Lantern Bay"})
	t.Cleanup(a.Close)
	a.Update(tea.WindowSizeMsg{Width: width, Height: height})
	return a
}

func press(a *App, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		switch k {
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "tab":
			msg = tea.KeyPressMsg{Code: tea.KeyTab}
		case "leader":
			msg = tea.KeyPressMsg{Code: 'm', Mod: tea.ModAlt}
		}
		_, cmd := a.Update(msg)
		if cmd == nil {
			continue
		}
		if out := cmd(); out != nil {
			a.Update(out)
		}
	}
}

func seen(a *App) string { return ansi.Strip(a.View().Content) }

func TestEveryFrameFitsItsWindow(t *testing.T) {
	dir := bay(t, 60)
	for _, size := range [][2]int{{80, 24}, {81, 25}, {120, 36}, {200, 70}, {60, 10}, {1, 1}} {
		a := open(t, dir, size[0], size[1])
		for _, keys := range [][]string{nil, {"down", "down"}, {"?"}, {"x"}, {"n", "g", "=", "h"}, {"esc"}, {"leader"}, {"esc"}} {
			press(a, keys...)
			lines := strings.Split(a.View().Content, "\n")
			if len(lines) > size[1] {
				t.Errorf("%v after %q: %d lines", size, keys, len(lines))
			}
			for _, l := range lines {
				if w := ansi.StringWidth(l); w > size[0] {
					t.Errorf("%v after %q: a line of %d columns: %q", size, keys, w, l)
				}
			}
		}
	}
}

func TestALongNameAndAManyHopRouteFit(t *testing.T) {
	dir := t.TempDir()
	text := "[session.a]\nhost = \"a\"\n"
	for i, c := range "bcdefg" {
		text += fmt.Sprintf("[session.%c]\nhost = \"%c\"\nvia = [\"%c\"]\n", c, c, "abcdef"[i])
	}
	text += "[session." + strings.Repeat("long-name-", 6) + "]\nhost = \"" + strings.Repeat("very.", 30) + "long\"\nvia = [\"g\"]\n"
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	a := open(t, dir, 80, 24)
	for range 9 {
		for _, l := range strings.Split(a.View().Content, "\n") {
			if w := ansi.StringWidth(l); w > 80 {
				t.Fatalf("a line of %d columns: %q", w, ansi.Strip(l))
			}
		}
		press(a, "down")
	}
	if !strings.Contains(seen(a), "long-name-long-name") {
		t.Errorf("the long name does not show:\n%s", seen(a))
	}
}

func TestGatesLightUpInPlace(t *testing.T) {
	a := open(t, bay(t, 2), 120, 36)
	press(a, "down")
	a.routes.Begin("gauge-0")
	a.Update(heard{walk.Trying{Session: "gauge-0", Hop: 0, Gate: gate.Port}})
	if s := seen(a); !strings.Contains(s, "walking port at quay") {
		t.Errorf("while walking:\n%s", s)
	}
	a.Update(heard{walk.Passed{Session: "gauge-0", Hop: 0, Gate: gate.Gate{Kind: gate.Port, Verdict: gate.Open, Seen: "22, answers as lantern"}}})
	if s := seen(a); !strings.Contains(s, "● port      22, answers as lantern") {
		t.Errorf("passed:\n%s", s)
	}
	f := &gate.Failure{Hop: "gauge-0", Gate: gate.Login, Cause: gate.NoKeyAccepted, Seen: "refused", Why: "no key is taken", Detail: []string{"key 1"}, Remedy: gate.Remedy{Say: "try another login"}}
	a.Update(failed{"gauge-0", f})
	for _, want := range []string{"╳ login     refused", "shut at gauge-0, login: no key is taken", "→ try another login", "1 shut"} {
		if s := seen(a); !strings.Contains(s, want) {
			t.Errorf("after failing there is no %q:\n%s", want, s)
		}
	}
}

func TestQuestionsWaitTheirTurn(t *testing.T) {
	a := open(t, bay(t, 2), 100, 30)
	desk := &ask.Desk{Send: func(m tea.Msg) { a.Update(m) }}
	answers := make(chan string, 2)
	for _, hop := range []string{"quay", "gauge-1"} {
		started := make(chan struct{})
		desk.Send = func(m tea.Msg) { a.Update(m); close(started) }
		go func() {
			pass, err := desk.Passphrase(t.Context(), walk.PassphraseQuestion{Place: walk.Place{Session: "gauge-1", Hop: hop}, Path: "/k/" + hop + ".pem", Try: 1})
			answers <- fmt.Sprint(string(pass), err)
		}()
		<-started
	}
	if s := seen(a); !strings.Contains(s, "quay would take quay.pem") || !strings.Contains(s, "1 more waiting") {
		t.Errorf("first:\n%s", s)
	}
	press(a, "a", "b")
	if s := seen(a); !strings.Contains(s, "› ••") || strings.Contains(s, "› ab") {
		t.Errorf("typing is shown:\n%s", s)
	}
	press(a, "enter")
	if got := <-answers; got != "ab<nil>" {
		t.Errorf("answer %q", got)
	}
	press(a, "esc")
	if got := <-answers; got != "declined" {
		t.Errorf("second answer %q", got)
	}
	if a.ask.Waiting() {
		t.Error("a question is left")
	}
}

func TestMistakesOfTheFileAreShown(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte("[defualts]\nuser = \"x\"\n[session.a]\nhsot = \"h\"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s := seen(open(t, dir, 120, 30))
	for _, want := range []string{`[defualts] is no table`, "(and 1 more mistake)", `unknown key "hsot"`, "press r"} {
		if !strings.Contains(s, want) {
			t.Errorf("no %q in\n%s", want, s)
		}
	}
}

func TestLightAndDarkDiffer(t *testing.T) {
	a := open(t, bay(t, 2), 100, 30)
	dark := a.View().Content
	a.Update(tea.BackgroundColorMsg{Color: lightGround{}})
	if light := a.View().Content; light == dark || ansi.Strip(light) != ansi.Strip(dark) {
		t.Error("the light theme is the dark one, or says something else")
	}
}

type lightGround struct{}

func (lightGround) RGBA() (r, g, b, a uint32) { return 0xffff, 0xffff, 0xffff, 0xffff }

func TestFindNarrowsTheBoard(t *testing.T) {
	a := open(t, bay(t, 300), 120, 36)
	press(a, "/", "g", "g", "2", "9", "9")
	if s := seen(a); !strings.Contains(s, "of 301") || !strings.Contains(s, "❯ gauge-299") {
		t.Errorf("by letters:\n%s", s)
	}
	press(a, "esc", "/", "1", "0", ".", "6", "1", ".", "1", ".", "7")
	if s := seen(a); !strings.Contains(s, "❯ gauge-256") {
		t.Errorf("by address:\n%s", s)
	}
	press(a, "z")
	if s := seen(a); !strings.Contains(s, "Nothing matches") {
		t.Errorf("no match:\n%s", s)
	}
	press(a, "enter", "down", "esc")
	if s := seen(a); strings.Contains(s, "Nothing matches") || !strings.Contains(s, "301 routes") {
		t.Errorf("afterwards:\n%s", s)
	}
}

// BenchmarkFind is a key typed into the find line, with 10,000 sessions.
func BenchmarkFind(b *testing.B) {
	a := open(b, bay(b, 10000), 160, 47)
	a.Update(tea.KeyPressMsg{Code: '/', Text: "/"})
	for i := 0; b.Loop(); i++ {
		key := tea.KeyPressMsg{Code: 'g', Text: []string{"g", "a", "u", "7", "7"}[i%5]}
		if i%5 == 0 {
			a.Update(tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
		}
		a.Update(key)
		a.View()
	}
}

// BenchmarkFirstFrame is from opening the workspace to the first frame.
func BenchmarkFirstFrame(b *testing.B) {
	for _, n := range []int{1000, 10000} {
		dir := bay(b, n)
		b.Run(fmt.Sprint(n, "sessions"), func(b *testing.B) {
			for b.Loop() {
				ws, err := workspace.Open(dir)
				if err != nil {
					b.Fatal(err)
				}
				a := New(ws, Options{})
				a.Update(tea.WindowSizeMsg{Width: 160, Height: 47})
				if a.View().Content == "" {
					b.Fatal("no frame")
				}
				a.Close()
			}
		})
	}
}

// BenchmarkKeyToFrame is from a key press to the frame, with 10,000 sessions, all
// judged; it tells the median and the 99th percentile.
func BenchmarkKeyToFrame(b *testing.B) {
	a := open(b, bay(b, 10000), 160, 47)
	for cmd := a.routes.JudgeRest(0); cmd != nil; {
		_, cmd = a.Update(cmd())
	}
	var took []time.Duration
	for i := 0; b.Loop(); i++ {
		key := tea.KeyPressMsg{Code: tea.KeyDown}
		if i%7 == 0 {
			key = tea.KeyPressMsg{Code: tea.KeyPgDown}
		}
		if i%1000 == 999 {
			key = tea.KeyPressMsg{Code: tea.KeyHome}
		}
		start := time.Now()
		a.Update(key)
		if a.View().Content == "" {
			b.Fatal("no frame")
		}
		took = append(took, time.Since(start))
	}
	sort.Slice(took, func(i, j int) bool { return took[i] < took[j] })
	b.ReportMetric(float64(took[len(took)/2].Microseconds()), "µs/median")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds()), "µs/p99")
}

func TestWhoComesBackIsToldWhatWasLost(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	a.touched = time.Now().Add(-3 * time.Hour)
	for i, e := range []trail.Entry{
		{Kind: trail.End, Hop: "quay", Say: "link ended, 1 bytes in, 2 out", Took: time.Minute, Failed: "no sign of life"},
		{Kind: trail.Link, Hop: "quay", Say: "link is up"},
	} {
		e.At = time.Now().Add(time.Duration(i-60) * time.Minute)
		if err := a.trail.Add(e); err != nil {
			t.Fatal(err)
		}
	}
	a.Update(a.cameBack(time.Now())())
	if see := seen(a); !strings.Contains(see, "while you were away links were lost: 1, of them back: 1") {
		t.Errorf("nothing is said:\n%s", see)
	}
	press(a, "W")
	if see := seen(a); !strings.Contains(see, "the last 3 h") || !strings.Contains(see, "back after 1 min") {
		t.Errorf("nothing is shown:\n%s", see)
	}
	if a.cameBack(time.Now().Add(time.Minute)) != nil {
		t.Error("a minute is taken for an absence")
	}
}
