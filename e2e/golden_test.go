package e2e

import (
	"bytes"
	"flag"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"meatus/lab/await"
)

var renew = flag.Bool("renew", false, "write the golden screens anew")

// What differs from run to run: numbers, and what stands for keys.
var (
	prints  = regexp.MustCompile(`SHA256:[A-Za-z0-9+/…]+`)
	pairs   = regexp.MustCompile(`[0-9a-f]{2}(:[0-9a-f]{2}){3,}`)
	encoded = regexp.MustCompile(`(^| )[A-Za-z0-9+/]{27,}`)
	several = regexp.MustCompile(`#+`)
	// What changes with the clock, the machine or the run: times, dates, lengths of time, sizes, ports and other long
	// numbers. What is counted stays.
	figures = regexp.MustCompile(`[0-9]+(:[0-9]{2})+|[0-9]{1,2} (Mon|Jan|Feb)|[0-9]{3,}|[0-9]+\.[0-9.]*|\.[0-9]+|[0-9]+ ?(ms|s|min|h|d|B|kB|MB|seconds?|minutes?|hours?|days?|weeks?|years?)\b`)
	digits  = regexp.MustCompile(`[0-9]`)
	months  = regexp.MustCompile(`\b(Jan|Feb|Mar|Apr|May|Jun|Jul|Aug|Sep|Oct|Nov|Dec)\b`)
	me      = regexp.MustCompile(`\b(` + account() + `|root)\b`)
	blanks  = regexp.MustCompile(`[ ─]{2,}`)
	art     = regexp.MustCompile(`[░▒█ ]{9,}$`)
)

// account is who runs the tests.
func account() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return regexp.QuoteMeta(u.Username)
	}
	return "root"
}

// masked is a screen with what differs made the same, line by line, to be read by a person.
func masked(screen string) string {
	var out []string
	for line := range strings.Lines(screen) {
		line = strings.TrimRight(line, " \n")
		line = prints.ReplaceAllString(line, "SHA256:~")
		line = pairs.ReplaceAllString(line, "~")
		line = encoded.ReplaceAllString(line, "$1~")
		line = me.ReplaceAllString(line, "me")
		line = months.ReplaceAllString(line, "Mon")
		line = art.ReplaceAllString(line, "  ~")
		out = append(out, figures.ReplaceAllStringFunc(line, func(s string) string { return digits.ReplaceAllString(s, "#") }))
	}
	return strings.Join(out, "\n") + "\n"
}

// settled is masked without the room between things, which follows their widths.
func settled(screen string) string {
	return blanks.ReplaceAllString(several.ReplaceAllString(masked(screen), "#"), "  ")
}

// golden waits until a place reads as the screen of it that is kept.
func (s *screen) golden(name, shows string, columns, rows int) {
	s.t.Helper()
	name = fmt.Sprintf("%s-%dx%d", name, columns, rows)
	path := filepath.Join("testdata", "golden", name+".txt")
	if *renew {
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			s.t.Fatal(err)
		}
		if err := os.WriteFile(path, []byte(masked(s.quiet(shows))), 0o644); err != nil {
			s.t.Fatal(err)
		}
	}
	kept, err := os.ReadFile(path)
	if err != nil {
		s.t.Fatalf("%v; go test ./e2e -run Golden -renew writes it", err)
	}
	want, now := settled(string(kept)), ""
	if await.Within(await.Patience, func() bool { now = settled(s.see()); return now == want }) {
		return
	}
	a, b := strings.Split(now, "\n"), strings.Split(want, "\n")
	for i := range max(len(a), len(b)) {
		is, was := "", ""
		if i < len(a) {
			is = a[i]
		}
		if i < len(b) {
			was = b[i]
		}
		if is != was {
			s.t.Errorf("%s, line %d is\n%q, and was\n%q", name, i+1, is, was)
		}
	}
	s.t.Fatal("go test ./e2e -run Golden -renew writes it anew where that is meant")
}

// bay is a home with the bay's workspace in it, which nobody serves.
func goldenBay(t *testing.T) (home string) {
	t.Helper()
	home = t.TempDir()
	dir := filepath.Join(home, "bay")
	s := show(t, 80, 24, "env", "HOME="+home, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("q")
	s.ended()
	file := filepath.Join(dir, "sessions.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	// Nobody serves the bay's cloud, and no other test is given the ports of its tunnels meanwhile.
	text = regexp.MustCompile(`(?s)\n\[estate\.bay\].*?\n\n`).ReplaceAll(text, []byte("\n"))
	port := 21500
	text = regexp.MustCompile(`(bring *= *"127\.0\.0\.1:)\d+`).ReplaceAllFunc(text, func(bring []byte) []byte {
		port++
		return fmt.Appendf(nil, "%s%d", bring[:bytes.LastIndexByte(bring, ':')+1], port)
	})
	if port == 21500 {
		t.Fatal("the bay has no tunnels")
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, left := range []string{"state", "downloads"} { // what that start has left
		if err := os.RemoveAll(filepath.Join(dir, left)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.MkdirAll(filepath.Join(home, "Downloads"), 0o755); err != nil {
		t.Fatal(err)
	}
	return home
}

// forget removes what a run has left in the trail.
func forget(t *testing.T, home string) {
	t.Helper()
	left, err := filepath.Glob(filepath.Join(home, "bay", "state", "trail.db*"))
	if err != nil {
		t.Fatal(err)
	}
	for _, path := range left {
		if err := os.Remove(path); err != nil {
			t.Fatal(err)
		}
	}
}

// everywhere are the places, the key of each, and what stands there once it is drawn.
var everywhere = []struct{ name, key, shows string }{
	{"routes", "0", "needs you"}, {"trail", "T", "trail ─"}, {"hosts", "H", "SHA256"}, {"keys", "K", "gauge.pem"},
	{"watch", "W", "Nothing is connected"}, {"estate", "Y", "No estate is named"}, {"ring", "G", "No key is held"}, {"jobs", "J", "jobs ─"}, {"help", "?", "all keys"}, {"finder", ":", "what can be done"},
	// These ask what nobody answers, and what came of it would show elsewhere: they come last.
	{"leases", "9", "nothing listens"}, {"cargo", "Q", "tries again"},
}

// TestGoldenScreens compares each place at three sizes with what is kept in testdata/golden, which
// a person can read.
func TestGoldenScreens(t *testing.T) {
	t.Parallel()
	home := goldenBay(t)
	for _, size := range [][2]int{{80, 24}, {160, 47}, {200, 60}} {
		forget(t, home)
		s := show(t, size[0], size[1], "env", "HOME="+home, "TZ=UTC", program, "--workspace", filepath.Join(home, "bay"))
		s.wait("all that needs you", func(screen string) bool {
			return strings.Contains(screen, "needs you 4") || strings.Contains(screen, "of 4")
		})
		for _, p := range everywhere {
			s.text(p.key)
			s.golden(p.name, p.shows, size[0], size[1])
			if p.name == "help" || p.name == "finder" {
				s.keys("Escape")
				s.gone(p.shows)
			}
		}
		s.text("0q")
		s.ended()
	}
}

// quiet is the screen once it shows a text, reads no more and no longer changes.
func (s *screen) quiet(text string) string {
	s.t.Helper()
	s.until(text)
	last := ""
	return s.wait("a screen that stays", func(screen string) bool {
		same := screen == last
		last = screen
		return same && strings.Contains(screen, text) && !strings.Contains(screen, "looking …")
	})
}

var (
	anyColour  = regexp.MustCompile(`\x1b\[[0-9;]*\b(3[0-7]|38|9[0-7]|4[0-7]|48)[;m]`)
	fineColour = regexp.MustCompile(`\x1b\[[0-9;]*(38|48)[;:][25]`)
)

// TestGroundsAndColours shows every place in each look, at each size: what is read is what is kept of
// it, in all looks.
func TestGroundsAndColours(t *testing.T) {
	t.Parallel()
	for _, size := range [][2]int{{80, 24}, {160, 47}, {200, 60}} {
		t.Run(fmt.Sprintf("%dx%d", size[0], size[1]), func(t *testing.T) {
			t.Parallel()
			groundsAndColours(t, size[0], size[1])
		})
	}
}

func groundsAndColours(t *testing.T, columns, rows int) {
	home := goldenBay(t)
	for _, look := range []struct {
		name, settings string
		env            []string
		colours, fine  bool
	}{
		{"dark", "ground = \"dark\"", []string{"COLORTERM=truecolor"}, true, true},
		{"light", "ground = \"light\"", []string{"COLORTERM=truecolor"}, true, true},
		{"light, red and green", "ground = \"light\"\ncolours = \"red-green\"", []string{"COLORTERM=truecolor"}, true, true},
		{"16 colours", "ground = \"terminal\"", []string{"COLORTERM=truecolor"}, true, false},
		{"none", "", []string{"NO_COLOR=1"}, false, false},
	} {
		config := filepath.Join(home, ".config", "meatus")
		if err := os.MkdirAll(config, 0o700); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(config, "settings.toml"), []byte("[look]\nmotion = \"reduced\"\n"+look.settings+"\n"), 0o600); err != nil {
			t.Fatal(err)
		}
		forget(t, home)
		command := append([]string{"env", "HOME=" + home, "TZ=UTC", "TERM=xterm-256color"}, look.env...)
		s := show(t, columns, rows, append(command, program, "--workspace", filepath.Join(home, "bay"))...)
		s.wait("all that needs you", func(screen string) bool {
			return strings.Contains(screen, "needs you 4") || strings.Contains(screen, "of 4")
		})
		for _, p := range everywhere {
			s.text(p.key)
			s.golden(p.name, p.shows, columns, rows)
			raw := s.tmux("capture-pane", "-p", "-e")
			if got := anyColour.MatchString(raw); got != look.colours {
				t.Errorf("%s in %s: colours %v", p.name, look.name, got)
			}
			if fineColour.MatchString(raw) && !look.fine {
				t.Errorf("%s in %s has more than the terminal's own colours", p.name, look.name)
			}
			if p.name == "help" || p.name == "finder" {
				s.keys("Escape")
				s.gone(p.shows)
			}
		}
		s.text("0q")
		s.ended()
	}
}
