package e2e

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"meatus/lab/await"
)

// program is the built binary.
var program string

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "meatus-e2e-")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	program = filepath.Join(dir, "meatus")
	args := []string{"build", "-ldflags=-s -w", "-o", program, "meatus/cmd/meatus"}
	if out, err := exec.Command("go", args...).CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
		os.Exit(1)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// need skips the test where a program is missing, and fails it under CI.
func need(t *testing.T, programs ...string) {
	t.Helper()
	for _, p := range programs {
		if _, err := exec.LookPath(p); err != nil {
			missing(t, p+" is not installed; scripts/test installs it")
		}
	}
}

func missing(t *testing.T, why string) {
	t.Helper()
	if os.Getenv("CI") != "" {
		t.Fatal(why)
	}
	t.Skip(why)
}

// there tells whether a file is there.
func there(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// result is what a command did.
type result struct {
	out, err string
	status   int
}

// do runs the program with nothing to ask on, and returns what it did.
func do(t *testing.T, dir string, stdin string, args ...string) result {
	t.Helper()
	return doIn(t, nil, dir, stdin, args...)
}

// doIn is do behind another command, like one that enters a namespace.
func doIn(t *testing.T, before []string, dir, stdin string, args ...string) result {
	t.Helper()
	line := append(append([]string{}, before...), "setsid", "-w", program, "--workspace", dir)
	line = append(line, args...)
	cmd := exec.Command(line[0], line[1:]...)
	var out, errs bytes.Buffer
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(stdin), &out, &errs
	err := cmd.Run()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		t.Fatalf("%v: %v", line, err)
	}
	if strings.Contains(out.String(), "0001-01-01") {
		t.Errorf("%v prints a time that is not known:\n%s", args, out.String())
	}
	return result{out.String(), errs.String(), cmd.ProcessState.ExitCode()}
}

// screen is the program in a terminal that a test looks at and types into.
type screen struct {
	t      *testing.T
	socket string
	left   string // the file that holds the status when the program has ended

	control io.WriteCloser // commands for the terminal, a line each: starting a program for each look costs more than the look
	answers *bufio.Scanner
}

// show runs a command in a terminal of the given size.
func show(t *testing.T, cols, rows int, command ...string) *screen {
	t.Helper()
	need(t, "tmux")
	dir := t.TempDir()
	s := &screen{t: t, socket: filepath.Join(dir, "tmux"), left: filepath.Join(dir, "status")}
	quoted := make([]string, len(command))
	for i, c := range command {
		quoted[i] = "'" + strings.ReplaceAll(c, "'", `'\''`) + "'"
	}
	// The settings are there before the program is, which may end at once.
	settings := filepath.Join(dir, "settings")
	if err := os.WriteFile(settings, []byte("set -g status off\nset -sg escape-time 0\nset -s set-clipboard on\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	s.tmux("-f", settings, "new-session", "-d", "-x", strconv.Itoa(cols), "-y", strconv.Itoa(rows), "LC_ALL=${LC_ALL-C.UTF-8} "+strings.Join(quoted, " ")+"; echo $? >"+s.left+"; exec tail -f /dev/null") // so that the terminal stays, with all that was printed
	t.Cleanup(func() { exec.Command("tmux", "-S", s.socket, "kill-server").Run() })
	s.tmux("set", "-g", "window-size", "manual") // before there is a window, the server ends by it
	s.resize(cols, rows)
	s.attach()
	return s
}

// attach opens the connection for commands.
func (s *screen) attach() {
	s.t.Helper()
	cmd := exec.Command("tmux", "-u", "-S", s.socket, "-C", "attach-session", "-f", "no-output,ignore-size")
	in, err := cmd.StdinPipe()
	if err != nil {
		s.t.Fatal(err)
	}
	out, err := cmd.StdoutPipe()
	if err == nil {
		err = cmd.Start()
	}
	if err != nil {
		s.t.Fatal(err)
	}
	s.control, s.answers = in, bufio.NewScanner(out)
	s.answers.Buffer(nil, 1<<20)
	s.t.Cleanup(func() { in.Close(); cmd.Process.Kill(); cmd.Wait() })
	if _, err := s.answer(); err != nil { // to attaching
		s.t.Fatalf("tmux: %v", err)
	}
}

// answer reads what the next command has printed, between the lines that tmux puts around it.
func (s *screen) answer() (string, error) {
	var b strings.Builder
	within := ""
	for s.answers.Scan() {
		line := s.answers.Text()
		mark, rest, _ := strings.Cut(line, " ")
		switch {
		case within == "" && mark == "%begin":
			within = rest
		case within != "" && mark == "%end" && rest == within:
			return b.String(), nil
		case within != "" && mark == "%error" && rest == within:
			return "", errors.New(b.String())
		case within != "":
			b.WriteString(line + "\n")
		case mark == "%exit":
			return "", errors.New("the terminal has ended")
		}
	}
	return "", fmt.Errorf("the terminal has ended (%v)", s.answers.Err())
}

// ask gives the terminal a command and returns what that prints.
func (s *screen) ask(words ...string) string {
	s.t.Helper()
	for i, w := range words {
		words[i] = "'" + strings.ReplaceAll(w, "'", `'\''`) + "'"
	}
	line := strings.Join(words, " ")
	out, err := "", error(nil)
	if _, err = io.WriteString(s.control, line+"\n"); err == nil {
		out, err = s.answer()
	}
	if err != nil {
		s.t.Fatalf("tmux %s: %v", line, err)
	}
	return out
}

func (s *screen) tmux(args ...string) string {
	s.t.Helper()
	cmd := exec.Command("tmux", append([]string{"-u", "-S", s.socket}, args...)...)
	cmd.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "COLORTERM=truecolor")
	out, err := cmd.CombinedOutput()
	if err != nil {
		s.t.Fatalf("tmux %v: %v\n%s", args, err, out)
	}
	return string(out)
}

func (s *screen) resize(cols, rows int) {
	s.t.Helper()
	s.tmux("resize-window", "-x", strconv.Itoa(cols), "-y", strconv.Itoa(rows))
}

// keys presses keys by tmux's names.
func (s *screen) keys(names ...string) {
	s.t.Helper()
	s.ask(append([]string{"send-keys"}, names...)...)
}

// text types letters.
func (s *screen) text(letters string) {
	s.t.Helper()
	s.ask("send-keys", "-l", "--", letters)
}

// pasteText pastes as a person does from another window.
func (s *screen) pasteText(text string) {
	s.t.Helper()
	s.tmux("set-buffer", "-b", "pasted", text)
	s.tmux("paste-buffer", "-p", "-b", "pasted")
}

// lead presses the leader and then keys.
func (s *screen) lead(keys ...string) {
	s.t.Helper()
	s.keys("M-m")
	s.until("go to ")
	if len(keys) > 0 {
		s.keys(keys...)
	}
}

func (s *screen) see() string { return s.ask("capture-pane", "-p") }

// until waits until the screen shows every text, and returns it.
func (s *screen) until(texts ...string) string {
	s.t.Helper()
	return s.wait(fmt.Sprintf("%q", texts), func(now string) bool {
		for _, text := range texts {
			if !strings.Contains(now, text) {
				return false
			}
		}
		return true
	})
}

// prompt waits until the last line that shows something ends with a prompt, and nothing is typed there: what was typed before may
// show the same text.
func (s *screen) prompt(ends string) {
	s.t.Helper()
	s.wait("the prompt "+ends, func(now string) bool {
		lines := strings.Split(strings.TrimRight(now, " \n"), "\n")
		return strings.HasSuffix(strings.TrimRight(lines[len(lines)-1], " "), ends)
	})
}

// saying types a line, once, and waits until the screen shows a text.
func (s *screen) saying(line, text string) {
	s.t.Helper()
	s.text(line)
	s.keys("Enter")
	s.until(text)
}

// gone waits until the screen shows a text no more.
func (s *screen) gone(text string) string {
	s.t.Helper()
	return s.wait("the end of "+strconv.Quote(text), func(now string) bool { return !strings.Contains(now, text) })
}

func (s *screen) wait(what string, ok func(string) bool) string {
	s.t.Helper()
	var now string
	if !await.Within(await.Patience, func() bool { now = s.see(); return ok(now) }) {
		s.t.Fatalf("waited in vain for %s; the screen shows\n%s", what, strings.TrimSpace(now))
	}
	return now
}

// ended waits until the program has ended and returns its status.
func (s *screen) ended() string {
	s.t.Helper()
	var status []byte
	if !await.Within(await.Patience, func() bool { status, _ = os.ReadFile(s.left); return len(status) > 0 }) {
		s.t.Fatalf("the program did not end; the screen shows\n%s", strings.TrimSpace(s.see()))
	}
	return strings.TrimSpace(string(status))
}
