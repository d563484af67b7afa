package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// onGauge shows the demo with a shell on gauge-1.
func onGauge(t *testing.T, cols, rows int) (*screen, string) {
	t.Helper()
	dir := t.TempDir()
	s := show(t, cols, rows, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.keys("Down", "Down", "Enter")
	s.until("keeper@gauge-1:~$")
	return s, dir
}

func TestTwoShellsStandSideBySide(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 120, 30)
	s.lead("b")
	s.until("there is no other shell")
	s.lead("0")
	s.until("22 routes")
	s.keys("Up", "Up", "Enter")
	s.until("warden@quay:~$")
	s.lead("b")
	s.until("warden@quay:~$", "│", "keeper@gauge-1:~$")
	s.text("size; whoami")
	s.keys("Enter")
	s.until("60 columns, 29 rows", "\nwarden")
	s.lead("o")
	s.until("▌keeper on gauge-1")
	s.saying("size", "59 columns, 29 rows")
	s.lead("]")
	s.gone("go to ")
	s.saying("size", "53 columns, 29 rows")
	s.text("exit")
	s.keys("Enter")
	s.until("ended, status 0")
	s.keys("Enter")
	s.gone("gauge-1:~$")
	s.saying("size", "120 columns, 29 rows")
}

func TestWhatWasShownIsSearchedSelectedAndCopied(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 100, 24)
	s.text("echo needle-one; cat /var/log/tide.log; cat /var/log/tide.log; echo needle-two")
	s.keys("Enter")
	s.until("\nneedle-two")
	s.lead("/")
	s.until("▌search")
	s.text("NEEDLE-")
	s.keys("Enter")
	s.until("n earlier")
	s.keys("n")
	s.keys("n")
	s.until("\nneedle-one", "level")
	s.keys("y")
	s.until("copied 7 characters")
	if got := s.tmux("show-buffer"); got != "needle-" {
		t.Errorf("the clipboard holds %q", got)
	}
	s.text("x") // back to the end, and typed at the far side
	s.until("keeper@gauge-1:~$ x")
	s.keys("BSpace")
	s.lead("v")
	s.until("▌select")
	s.keys("k")
	s.keys("0")
	s.keys("w")
	s.keys("Enter")
	s.until("copied 10 characters")
	if got := s.tmux("show-buffer"); got != "needle-two" {
		t.Errorf("the clipboard holds %q", got)
	}
}

func TestSeveralPastedLinesAskFirst(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 130, 24)
	s.pasteText("echo one line")
	s.until("$ echo one line")
	s.keys("Enter")
	s.until("\none line")
	s.pasteText("echo first-of-all\necho second\n")
	s.until("paste 2 lines?", "echo first-of-all", "enter paste")
	s.keys("x")
	s.gone("paste 2 lines?")
	s.pasteText("echo again-one\necho again-two\n")
	s.until("paste 2 lines?")
	s.keys("Enter")
	screen := s.until("\nagain-one", "\nagain-two")
	if strings.Contains(screen, "first-of-all") {
		t.Errorf("declined lines were pasted:\n%s", screen)
	}
}

func TestAShellIsLoggedAndWritten(t *testing.T) {
	t.Parallel()
	s, dir := onGauge(t, 120, 24)
	s.lead("l")
	s.until("▌log to", "~/gauge-1-")
	s.keys("C-u")
	s.text(filepath.Join(dir, "bay.log"))
	s.keys("Enter")
	s.until("what it prints is logged to")
	s.text("echo into the log")
	s.keys("Enter")
	s.until("\ninto the log", "● log")
	s.lead("l")
	s.until("the log is in")
	log, err := os.ReadFile(filepath.Join(dir, "bay.log"))
	if err != nil || !strings.Contains(string(log), "\ninto the log\n") {
		t.Errorf("log %q, %v", log, err)
	}
	s.lead("w")
	s.until("▌write everything it showed to")
	s.keys("C-u")
	s.text(filepath.Join(dir, "bay.log"))
	s.keys("Enter")
	s.until("not written", "exists")
	s.lead("w")
	s.until("▌write")
	s.keys("C-u")
	s.text(filepath.Join(dir, "bay.txt"))
	s.keys("Enter")
	s.until("written to")
	if text, err := os.ReadFile(filepath.Join(dir, "bay.txt")); err != nil || !strings.Contains(string(text), "Lantern Bay tide observatory") {
		t.Errorf("written %q, %v", text, err)
	}
}

func TestALostShellComesBackAndSaysSo(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 120, 24)
	s.text("fault gauge-1 cut")
	s.keys("Enter")
	s.until("the way was lost from", "this is a new shell")
	s.saying("echo alive", "\nalive")
}

func TestArrivalSecondStepAndCertificate(t *testing.T) {
	t.Parallel()
	s := show(t, 120, 34, program, "demo", "--dir", t.TempDir())
	s.until("22 routes")
	s.text("/lamp")
	s.keys("Enter")
	s.until("lamp asks", "it says  Keepers of the lamp only", "key gauge.pem was accepted; one more step is wanted", "Code:")
	s.text("flood tide")
	s.keys("Enter")
	s.until("keeper@lamp:~$")
	s.lead("0")
	s.until("/ lamp", "2 links", "alt+m go to")
	s.keys("Escape")
	s.gone("/ lamp")
	s.text("/mast")
	s.keys("Enter")
	s.until("keeper@mast:/var/log$ cat tide.log", "level")
	s.lead("0")
	s.until("certificate of mast.pem")
}

// mouse sends mouse events as a terminal does, in the form of mode 1006.
func (s *screen) mouse(events ...string) {
	s.t.Helper()
	for _, e := range events {
		s.tmux("send-keys", "-l", "\x1b[<"+e)
	}
}

func TestTheMouseSelectsOrIsPassedOn(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 100, 24)
	s.text("echo tide-levels.csv is here")
	s.keys("Enter")
	s.until("\ntide-levels.csv is here")
	s.mouse("0;1;5M", "32;5;5M", "32;15;5M", "0;15;5m") // the fifth row: what was echoed
	s.until("copied 15 characters")
	if got := s.tmux("show-buffer"); got != "tide-levels.csv" {
		t.Errorf("the clipboard holds %q", got)
	}
	s.text("taps")
	s.keys("Enter")
	s.until("tap the window")
	s.mouse("0;7;3M", "0;7;3m")
	s.until("told ESC [<0;7;2M", "ESC [<0;7;2m")
	s.mouse("68;1;5M") // shift and the wheel scroll here
	s.text("q")
	s.wait("the prompt", func(now string) bool { return strings.HasSuffix(strings.TrimSpace(now), "keeper@gauge-1:~$") })
	s.saying("echo done-with-it", "\ndone-with-it")
}

func TestTheSwitcherMarksWhatHappenedMeanwhile(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 110, 24)
	s.text("stream 100ms")
	s.keys("Enter")
	s.until("level")
	s.lead("0")
	s.until("22 routes")
	s.keys("Up", "Up", "Enter")
	s.until("warden@quay:~$")
	s.lead()
	s.until("1  • keeper on gauge-1", "2  ━ warden on quay")
}

func TestALostShellCanBeGivenUp(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 120, 24)
	s.text("fault gauge-1 closed; fault gauge-1 cut")
	s.keys("Enter")
	s.until("connection lost for", "esc give up")
	s.lead("0")
	s.until("lost    again in")
	s.lead("1")
	s.until("esc give up")
	s.keys("Escape")
	s.until("22 routes")
}

func TestALendIsAskedForAndSeen(t *testing.T) {
	t.Parallel()
	s := show(t, 120, 30, program, "demo", "--dir", t.TempDir())
	s.until("22 routes")
	s.text("/spit")
	s.keys("Enter")
	s.until("warden@quay:~$", "lends gauge.pem")
	s.text("reach gauge-1")
	s.keys("Enter")
	// It announces itself, and what is typed meanwhile is for the shell.
	s.until("needs you: spit asks for gauge.pem; alt+m a")
	s.text("yes")
	s.keys("Enter")
	s.until("needs you: spit asks for gauge.pem")
	s.lead()
	s.until("a  ▲ answer   needs you: spit asks for gauge.pem")
	s.text("a")
	s.until("a lent key is asked for ─ spit", "wants to use gauge.pem to log in as keeper", "ctrl+n refuse", "ctrl+x refuse all")
	s.text("yes")
	s.keys("Enter")
	s.until("ctrl+y allows this use")
	s.keys("C-y")
	s.until("enter goes back to warden on spit", "· spit used gauge.pem to log in as keeper")
	s.keys("Enter")
	s.until("\nkeeper\ngauge-1", "$ yes")
	s.text("pester 5")
	s.keys("Enter")
	s.until("needs you: spit asks for gauge.pem")
	s.lead("a")
	s.until("to log in as root")
	s.keys("C-n")
	// The next one is another question, which has to be gone to.
	s.until("a lent key is asked for ─ spit", "a answers it")
	s.text("j") // goes to the board
	s.until("a lent key is asked for ─ spit", "a answers it")
	s.lead("a")
	s.until("ctrl+x refuse all")
	s.keys("C-x")
	s.until("spit was refused the use of gauge.pem: refused, and all that follows, too")
	s.lead("1")
	s.until("0 of 5 signatures", "lends no more: all uses were refused")
	s.lead("T")
	s.until("used gauge.pem to log in as keeper", "lend")
}

func TestAShellGoesOnInASmallWindow(t *testing.T) {
	t.Parallel()
	s, _ := onGauge(t, 100, 30)
	s.resize(40, 10)
	s.text("uptime")
	s.keys("Enter")
	s.until("up ")
	s.keys("M-m")
	s.until("too small")
	s.resize(12, 2)
	s.until("gauge-1:")
	s.resize(100, 30)
	s.until("keeper on gauge-1")
	s.text("ls /srv/gauge")
	s.keys("Enter")
	s.until("ls /srv/gauge")
	s.lead("0")
	s.until("22 routes")
	s.resize(40, 10)
	s.until("too small")
}
