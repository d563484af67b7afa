package screenlock

import (
	"bufio"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
)

// bus starts a message bus of the test's own.
func bus(t *testing.T) string {
	t.Helper()
	if _, err := exec.LookPath("dbus-daemon"); err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal("dbus-daemon is missing; scripts/test installs it")
		}
		t.Skip("no dbus-daemon")
	}
	cmd := exec.CommandContext(t.Context(), "dbus-daemon", "--session", "--nofork", "--print-address", "--address=unix:dir="+t.TempDir())
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { cmd.Process.Kill(); cmd.Wait() })
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(line)
}

func TestLeavingIsTold(t *testing.T) {
	address := bus(t)
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", address)
	told := make(chan string, 10)
	<-Watch(t.Context(), func(why string) { told <- why })
	conn, err := dbus.Connect(address)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	emit := func(name string, values ...any) {
		t.Helper()
		if err := conn.Emit("/org/freedesktop/login1", name, values...); err != nil {
			t.Fatal(err)
		}
	}
	emit(loginManager+".PrepareForSleep", false) // it woke
	emit(screenSaver+".ActiveChanged", false)
	emit(screenSaver+".ActiveChanged", "rubbish")
	emit(loginSession + ".Unlock")
	for _, c := range []struct {
		name   string
		values []any
		want   string
	}{
		{loginSession + ".Lock", nil, "the screen was locked"},
		{loginManager + ".PrepareForSleep", []any{true}, "the machine goes to sleep"},
		{screenSaver + ".ActiveChanged", []any{true}, "the screen was locked"},
	} {
		emit(c.name, c.values...)
		select {
		case got := <-told:
			if got != c.want {
				t.Errorf("%s: told %q", c.name, got)
			}
		case <-time.After(10 * time.Second):
			t.Fatalf("%s: nothing was told", c.name)
		}
	}
}

func TestWithoutABusNothingIsTold(t *testing.T) {
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+t.TempDir()+"/none")
	t.Setenv("DBUS_SESSION_BUS_ADDRESS", "")
	select {
	case <-Watch(t.Context(), func(why string) { t.Error(why) }):
	case <-time.After(10 * time.Second):
		t.Error("it still waits")
	}
}
