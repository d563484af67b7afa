package tui

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/step"
	"meatus/core/trail"
	"meatus/core/walk"
	"meatus/core/work"
	"meatus/lab/await"
	"meatus/tui/placetest"
)

func TestEveryFrameFitsItsWindow(t *testing.T) {
	dir := bay(t, 60)
	for _, size := range [][2]int{{80, 24}, {81, 25}, {120, 36}, {200, 70}, {79, 23}, {75, 40}, {100, 16}, {50, 14}, {60, 10}, {1, 1}} {
		a := open(t, dir, size[0], size[1])
		for _, keys := range [][]string{nil, {"down", "down"}, {"?"}, {"x"}, {"n", "g", "=", "h"}, {"esc"}, {"leader"}, {"esc"}} {
			a.press(keys...)
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
		a.press("down")
	}
	if !strings.Contains(a.see(), "long-name-long-name") {
		t.Errorf("the long name does not show:\n%s", a.see())
	}
}

func TestGatesLightUpInPlace(t *testing.T) {
	a := open(t, bay(t, 2), 120, 36)
	a.press("down")
	b, tell := a.engine.Board, a.engine.Events.Tell
	b.Begin("gauge-0")
	tell(walk.Trying{Session: "gauge-0", Hop: 0, Gate: gate.Port})
	a.until("the gate to turn", func() bool { return strings.Contains(a.see(), "connecting port at quay") })
	tell(walk.Passed{Session: "gauge-0", Hop: 0, Gate: gate.Gate{Kind: gate.Port, Verdict: gate.Open, Seen: "22, answers as lantern"}})
	a.until("the gate to be open", func() bool { return strings.Contains(a.see(), "● port      22, answers as lantern") })
	f := &gate.Failure{Hop: "gauge-0", Gate: gate.Login, Cause: gate.NoKeyAccepted, Seen: "refused", Why: "no key is taken", Detail: []string{"key 1"}, Remedy: gate.Remedy{Say: "try another login"}}
	a.give(failed{"gauge-0", f})
	for _, want := range []string{"╳ login     refused", "blocked at gauge-0, login: no key is taken", "→ try another login", "1 blocked"} {
		a.until("the failure to show as "+want, func() bool { return strings.Contains(a.see(), want) })
	}
}

func TestQuestionsWaitTheirTurn(t *testing.T) {
	a := open(t, bay(t, 2), 100, 30)
	a.home.Select("gauge-1")
	answers := make(chan string, 2)
	for i, hop := range []string{"quay", "gauge-1"} {
		go func() {
			pass, err := a.desk.Passphrase(t.Context(), step.PassphraseQuestion{Place: step.Place{Session: "gauge-1", Hop: hop}, Path: "/k/" + hop + ".pem", Try: 1})
			answers <- fmt.Sprint(string(pass), err)
		}()
		a.until("the question", func() bool { return a.ask.Waiting() && (i == 0 || strings.Contains(a.see(), "1 more waiting")) })
	}
	if s := a.see(); !strings.Contains(s, "quay would take quay.pem") || !strings.Contains(s, "1 more waiting") {
		t.Errorf("first:\n%s", s)
	}
	a.press("a", "b")
	if s := a.see(); !strings.Contains(s, "› ••") || strings.Contains(s, "› ab") {
		t.Errorf("typing is shown:\n%s", s)
	}
	a.press("enter")
	if got := <-answers; got != "ab<nil>" {
		t.Errorf("answer %q", got)
	}
	a.press("esc")
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
	a := open(t, dir, 120, 30)
	for _, want := range []string{`[defualts] is no table`, "2 mistakes, ! lists them", `unknown key "hsot"`, "press r"} {
		a.until(want, func() bool { return strings.Contains(a.see(), want) })
	}
}

func TestLightAndDarkDiffer(t *testing.T) {
	a := open(t, bay(t, 2), 100, 30)
	// Between the two looks the board may have judged more.
	a.until("two themes that differ and say the same", func() bool {
		a.Update(tea.BackgroundColorMsg{Color: darkGround{}})
		dark := a.View().Content
		a.Update(tea.BackgroundColorMsg{Color: lightGround{}})
		light := a.View().Content
		return light != dark && ansi.Strip(light) == ansi.Strip(dark)
	})
}

type (
	lightGround struct{}
	darkGround  struct{}
)

func (darkGround) RGBA() (r, g, b, a uint32) { return 0, 0, 0, 0xffff }

func (lightGround) RGBA() (r, g, b, a uint32) { return 0xffff, 0xffff, 0xffff, 0xffff }

func TestFindNarrowsTheBoard(t *testing.T) {
	a := open(t, bay(t, 300), 120, 36)
	a.press("/", "g", "g", "2", "9", "9")
	if s := a.see(); !strings.Contains(s, "of 301") || !strings.Contains(s, "❯ gauge-299") {
		t.Errorf("by letters:\n%s", s)
	}
	a.press("esc", "/", "1", "0", ".", "6", "1", ".", "1", ".", "7")
	if s := a.see(); !strings.Contains(s, "❯ gauge-256") {
		t.Errorf("by address:\n%s", s)
	}
	a.press("z")
	if s := a.see(); !strings.Contains(s, "Nothing matches") {
		t.Errorf("no match:\n%s", s)
	}
	a.press("enter", "down", "esc")
	if s := a.see(); strings.Contains(s, "Nothing matches") || !strings.Contains(s, "301 routes") {
		t.Errorf("afterwards:\n%s", s)
	}
}

// BenchmarkFind is a key typed into the find line, with 10,000 sessions.
func BenchmarkFind(b *testing.B) {
	a := open(b, bay(b, 10000), 160, 47)
	a.press("/")
	for i := 0; b.Loop(); i++ {
		if i%5 == 0 {
			a.Update(tea.KeyPressMsg{Code: 'u', Mod: tea.ModCtrl})
		}
		a.Update(placetest.Key([]string{"g", "a", "u", "7", "7"}[i%5]))
		a.View()
	}
}

// BenchmarkFirstFrame is from opening the workspace to the first frame in which every
// session in view is judged.
func BenchmarkFirstFrame(b *testing.B) {
	for _, n := range []int{1000, 10000, 50000} {
		dir := bay(b, n)
		b.Run(fmt.Sprint(n, "sessions"), func(b *testing.B) {
			for b.Loop() {
				a := open(b, dir, 160, 47)
				if a.see() == "" {
					b.Fatal("no frame")
				}
				b.StopTimer()
				a.Close()
				b.StartTimer()
			}
		})
	}
}

// BenchmarkKeyToFrame is from a key press to the frame, all sessions judged; it tells the
// median and the 99th percentile.
func BenchmarkKeyToFrame(b *testing.B) {
	for _, n := range []int{10000, 50000} {
		b.Run(fmt.Sprint(n, "sessions"), func(b *testing.B) { keyToFrame(b, n) })
	}
}

func keyToFrame(b *testing.B, n int) {
	a := open(b, bay(b, n), 160, 47)
	last := a.engine.Workspace().Book.Sessions[n].Name
	a.until("all to be judged", func() bool { s, _ := a.engine.Board.State(last); return s.Judged })
	var took []time.Duration
	for i := 0; b.Loop(); i++ {
		key := "down"
		if i%7 == 0 {
			key = "pgdown"
		}
		if i%1000 == 999 {
			key = "home"
		}
		start := time.Now()
		a.Update(placetest.Key(key))
		if a.View().Content == "" {
			b.Fatal("no frame")
		}
		took = append(took, time.Since(start))
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds()), "µs/median")
	b.ReportMetric(float64(took[len(took)*99/100].Microseconds()), "µs/p99")
}

// BenchmarkMemory is what the running full screen has in memory, all sessions judged.
func BenchmarkMemory(b *testing.B) {
	for _, n := range []int{10000, 50000} {
		b.Run(fmt.Sprint(n, "sessions"), func(b *testing.B) {
			a := open(b, bay(b, n), 160, 47)
			last := a.engine.Workspace().Book.Sessions[n].Name
			a.until("all to be judged", func() bool { s, _ := a.engine.Board.State(last); return s.Judged })
			var m runtime.MemStats
			for b.Loop() {
				a.View()
				runtime.GC()
				runtime.ReadMemStats(&m)
			}
			b.ReportMetric(float64(m.HeapAlloc)/1e6, "MB/heap")
			b.ReportMetric(float64(m.Sys)/1e6, "MB/sys")
		})
	}
}

func TestWhoComesBackIsToldWhatWasLost(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	now := time.Now()
	a.touched = now.Add(-3 * time.Hour)
	for i, e := range []trail.Entry{
		{Kind: trail.End, Hop: "quay", Event: "link-down", Took: time.Minute, Failed: "no sign of life"},
		{Kind: trail.Link, Hop: "quay", Event: "link-up"},
	} {
		e.At = now.Add(time.Duration(i-60) * time.Minute)
		if err := a.engine.Trail.Add(e); err != nil {
			t.Fatal(err)
		}
	}
	a.do(a.cameBack(now))
	a.until("it to be said", func() bool {
		return strings.Contains(a.see(), "while you were away links were lost: 1, of them back: 1")
	})
	a.press("W")
	if see := a.see(); !strings.Contains(see, "the last 3 h") || !strings.Contains(see, "back after 1 min") {
		t.Errorf("nothing is shown:\n%s", see)
	}
	if a.cameBack(now.Add(time.Minute)) != nil {
		t.Error("a minute is taken for an absence")
	}
}

// TestEveryPlaceIsShownByItsTable goes to each place by its key, and looks that its foot
// and its help are drawn from its table.
func TestEveryPlaceIsShownByItsTable(t *testing.T) {
	a := open(t, bay(t, 3), 200, 50)
	for _, e := range places {
		a.press("leader", e.Key)
		p := a.placeAt(e.Key)
		for i, hint := range p.Table().Foot() {
			if i < 3 && !strings.Contains(a.see(), hint.Key+" "+hint.Does) {
				t.Errorf("%s: the foot has no %q:\n%s", e.Name, hint.Key+" "+hint.Does, a.see())
			}
		}
		a.press("?")
		if !strings.Contains(a.see(), "all keys") || !strings.Contains(a.see(), e.Name) {
			t.Errorf("%s has no help:\n%s", e.Name, a.see())
		}
		a.press("?")
	}
}

// TestResultsArriveWhereThePlaceWasLeft leaves a place between something it began and
// its result.
func TestResultsArriveWhereThePlaceWasLeft(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	path := filepath.Join(a.engine.Workspace().Dir, "keys", "loose.pem")
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		t.Fatal(err)
	}
	key, err := keyfile.Make("Ed25519", 0)
	if err == nil {
		err = keyfile.Write(path, key, keyfile.Wrapping{})
	}
	if err == nil {
		err = os.Chmod(path, 0o644)
	}
	if err != nil {
		t.Fatal(err)
	}
	a.press("K")
	a.until("the key to be listed", func() bool { return strings.Contains(a.see(), "loose.pem") && strings.Contains(a.see(), "m mend") })
	a.press("m", "esc") // the result is still on its way
	mended := func() bool {
		entries, err := a.engine.Trail.Read(t.Context(), trail.Filter{Text: "loose.pem has mode"})
		return err == nil && len(entries) == 1 && entries[0].Kind == trail.Mend
	}
	a.until("the trail to have it", mended)
	a.press("K")
	a.until("the place to have it", func() bool { return strings.Contains(a.see(), "sound") || strings.Contains(a.see(), "stray") })
}

// TestSeveralJobsGoOnAtOnce begins a second job while a first is under way.
func TestSeveralJobsGoOnAtOnce(t *testing.T) {
	a := open(t, bay(t, 3), 120, 40)
	gates := make([]chan struct{}, 2)
	for i := range gates {
		gates[i] = make(chan struct{})
		a.do(a.begin(0, &slowJob{fmt.Sprint("job-", i), gates[i]}))
	}
	a.until("both to be under way", func() bool { return a.engine.Jobs.Running() == 2 })
	a.press("b", "J")
	if see := a.see(); !strings.Contains(see, "job-0") || !strings.Contains(see, "job-1") || !strings.Contains(see, "2 under way") {
		t.Errorf("the list of jobs is\n%s", see)
	}
	close(gates[1])
	a.until("the second to be done", func() bool { return a.engine.Jobs.Running() == 1 })
	close(gates[0])
	a.until("the first to be done", func() bool {
		return strings.Contains(a.see(), "0 under way") && strings.Contains(a.see(), "came through")
	})
}

// slowJob ends when its gate is opened.
type slowJob struct {
	name string
	gate chan struct{}
}

func (j *slowJob) Title() work.Title { return work.Title{What: "test", Of: j.name, Session: "gauge-1"} }

func (j *slowJob) Run(ctx context.Context, tell func(work.Step)) error {
	select {
	case <-j.gate:
		tell(work.Step{Verdict: gate.Open, Where: j.name, Say: "came through"})
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

// TestDrawingTheBoardReadsNothing takes everything away that drawing could read.
func TestDrawingTheBoardReadsNothing(t *testing.T) {
	a := open(t, bay(t, 60), 120, 40)
	a.until("all in view to be judged", func() bool {
		s, _ := a.engine.Board.State("gauge-17")
		return s.Details != nil
	})
	before := a.see()
	if err := os.RemoveAll(a.engine.Workspace().Dir); err != nil {
		t.Fatal(err)
	}
	if after := a.see(); after != before {
		t.Errorf("drawing reads files: it showed\n%s\nand shows\n%s", before, after)
	}
}

func TestTunnelsThatAreWantedFromTheStartAreOpenedThen(t *testing.T) {
	dir := t.TempDir()
	text := "[session.a]\nhost = \"a\"\nat_start = \"on\"\nknock = \"on\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"b:1\" }]\n[session.b]\nhost = \"b\"\nknock = \"on\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"b:2\" }]\n"
	if err := os.WriteFile(filepath.Join(dir, book.FileName), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	a := open(t, dir, 100, 30)
	a.do(a.openAtStart())
	await.Until(t, "its door to be open", func() bool { return len(a.engine.Tunnels.Of("a")) == 1 })
	if n := len(a.engine.Tunnels.Of("b")); n != 0 {
		t.Errorf("%d doors of a session that did not ask for it", n)
	}
}
