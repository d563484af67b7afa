package e2e

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"meatus/lab/await"
)

// virtual is a display without a screen, which wants a cookie.
type virtual struct {
	t      *testing.T
	name   string
	env    []string
	cookie []byte
}

func startVirtual(t *testing.T) *virtual {
	t.Helper()
	need(t, "Xvfb", "xlogo", "xwininfo", "xauth")
	v := &virtual{t: t, cookie: []byte("lantern bay 1234")}
	file := filepath.Join(t.TempDir(), "authority")
	text := binary.BigEndian.AppendUint16(nil, 65535) // for any address and display
	for _, field := range []string{"", "", "MIT-MAGIC-COOKIE-1", string(v.cookie)} {
		text = append(binary.BigEndian.AppendUint16(text, uint16(len(field))), field...)
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("Xvfb", "-displayfd", "1", "-auth", file, "-noreset", "-nolisten", "tcp", "-screen", "0", "400x300x24")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	})
	number, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatalf("no display: %v", err)
	}
	v.name = ":" + strings.TrimSpace(number)
	v.env = append(os.Environ(), "DISPLAY="+v.name, "XAUTHORITY="+file)
	return v
}

// windows are what stands on the display.
func (v *virtual) windows() string {
	v.t.Helper()
	var tree string
	// It fails where a window goes while it looks.
	await.Until(v.t, "the display's windows", func() bool {
		cmd := exec.Command("xwininfo", "-root", "-tree")
		cmd.Env = v.env
		out, err := cmd.CombinedOutput()
		tree = string(out)
		return err == nil
	})
	return tree
}

// until waits until something stands on the display, or no more.
func (v *virtual) until(what string, there bool) {
	v.t.Helper()
	if !await.Within(await.Patience, func() bool { return strings.Contains(v.windows(), what) == there }) {
		v.t.Fatalf("%s there: %v is waited for in vain:\n%s", what, there, v.windows())
	}
}

func TestARealProgramOfTheFarSideDrawsHere(t *testing.T) {
	t.Parallel()
	v := startVirtual(t)
	p := startPeers(t)
	far := p.path("far-authority") // what the server has written over there
	p.again("", fmt.Sprintf("X11Forwarding yes\nXAuthLocation %s\nSetEnv XAUTHORITY=%s\n", must(exec.LookPath("xauth")), far))
	p.vouch("quay")
	start := func(args ...string) (*exec.Cmd, *strings.Builder) {
		t.Helper()
		cmd := exec.Command("ip", append([]string{"netns", "exec", p.here, program, "--workspace", p.dir, "run"}, args...)...)
		var out strings.Builder
		cmd.Env, cmd.Stdout, cmd.Stderr = v.env, &out, &out
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() {
			if cmd.ProcessState == nil {
				cmd.Process.Kill()
				cmd.Wait()
			}
		})
		return cmd, &out
	}
	// Off as long as nobody asks for it.
	cmd, out := start("quay", "--", "echo display=$DISPLAY; xlogo")
	if cmd.Wait(); !strings.Contains(out.String(), "display=\n") || !strings.Contains(out.String(), "Can't open display") {
		t.Errorf("without asking: %s", out)
	}
	cmd, _ = start("--windows", "quay", "--", "xlogo -title tides")
	v.until(`"tides"`, true)
	if text, err := os.ReadFile(far); err != nil || strings.Contains(string(text), string(v.cookie)) || !strings.Contains(string(text), "MIT-MAGIC-COOKIE-1") {
		t.Errorf("over there stands %q, %v", text, err)
	}
	first := string(must(os.ReadFile(far)))
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	v.until(`"tides"`, false)
	// Another shell has another cookie, and what has none is turned away.
	cmd, out = start("--windows", "quay", "--", "cat \"$XAUTHORITY\" >"+p.path("second")+"; XAUTHORITY=/dev/null xlogo -title stranger; echo status $?")
	if cmd.Wait(); !strings.Contains(out.String(), "status 1") || strings.Contains(v.windows(), "stranger") {
		t.Errorf("without the cookie: %s\n%s", out, v.windows())
	}
	if again := string(must(os.ReadFile(p.path("second")))); again == first {
		t.Error("two shells have one cookie")
	}
	if r := p.run("trail", "draw"); !strings.Contains(r.out, "draws on the display here") || !strings.Contains(r.out, "does not have the cookie of a shell") {
		t.Errorf("the trail: %+v", r)
	}
	// Where there is no display, that is told before anything runs.
	v.env = append(v.env, "DISPLAY=")
	cmd, out = start("--windows", "quay", "--", "touch "+p.path("ran"))
	if cmd.Wait(); cmd.ProcessState.ExitCode() != 253 || !strings.Contains(out.String(), "DISPLAY names no X display") {
		t.Errorf("status %d: %s", cmd.ProcessState.ExitCode(), out)
	}
	if _, err := os.Stat(p.path("ran")); err == nil {
		t.Error("it ran all the same")
	}
	// A session that has them set runs without, and says so.
	p.workspace(fmt.Sprintf("\n[session.draws]\nhost = %q\nkey = \"keys/outer.pem\"\nwindows = \"on\"\n", bastionAddr))
	cmd, out = start("draws", "--", "echo display=$DISPLAY")
	if cmd.Wait(); cmd.ProcessState.ExitCode() != 0 || !strings.Contains(out.String(), "display=\n") || !strings.Contains(out.String(), "without windows: DISPLAY names no X display") {
		t.Errorf("status %d: %s", cmd.ProcessState.ExitCode(), out)
	}
}

func TestWindowsAreAskedForInTheInterface(t *testing.T) {
	t.Parallel()
	v := startVirtual(t)
	p := startPeers(t)
	p.again("", fmt.Sprintf("X11Forwarding yes\nXAuthLocation %s\nSetEnv XAUTHORITY=%s\n", must(exec.LookPath("xauth")), p.path("far-authority")))
	p.vouch("quay")
	command := []string{"ip", "netns", "exec", p.here, "env"}
	command = append(command, v.env[len(v.env)-2:]...)
	s := show(t, 130, 40, append(command, program, "--workspace", p.dir)...)
	s.until("2 routes", "❯ quay")
	s.text("P")
	s.until("a tunnel ─ quay")
	s.keys("Up", "Right", "Right", "Right")
	s.until("your display "+v.name+" ⇐ windows of programs at quay", "EVERY window")
	s.keys("Enter")
	s.until("enter again allows them to use the display")
	s.keys("Enter")
	s.until("root on quay", "0 draw here")
	s.text("xlogo -title tides &")
	s.keys("Enter")
	v.until(`"tides"`, true)
	s.until("a program at quay draws on your display, and sees all of it")
	s.text("true")
	s.keys("Enter")
	s.until("1 draw here")
	s.lead("W")
	s.until("shell of quay", "1 window program", "quay: a program there draws")
	s.lead("0")
	s.until("❯ quay")
	s.keys("Enter")
	s.until("root on quay")
	s.text("exit")
	s.keys("Enter")
	v.until(`"tides"`, false) // what was drawn ends with the shell
}
