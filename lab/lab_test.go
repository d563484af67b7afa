package lab

import (
	"bytes"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"meatus/lab/await"

	"golang.org/x/crypto/ssh"
)

func openLab(t *testing.T) *Lab {
	t.Helper()
	l, err := Open(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Close)
	return l
}

func (b *Lab) client(t *testing.T, user, key string) (*ssh.Client, error) {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(b.Dir, "keys", key))
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.ParsePrivateKey(text)
	if err != nil {
		t.Fatal(err)
	}
	c, err := ssh.Dial("tcp", b.Address(), &ssh.ClientConfig{
		User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: ssh.FixedHostKey(b.Host("quay").Identity()),
	})
	if err == nil {
		t.Cleanup(func() { c.Close() })
	}
	return c, err
}

func mustClient(t *testing.T, b *Lab) *ssh.Client {
	t.Helper()
	c, err := b.client(t, "warden", "shore.pem")
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestAccountsDecideWhoGetsIn(t *testing.T) {
	l := openLab(t)
	mustClient(t, l)
	if _, err := l.client(t, "keeper", "shore.pem"); err == nil {
		t.Error("a login that is not there got in")
	}
	if _, err := l.client(t, "warden", "gauge.pem"); err == nil {
		t.Error("another key got in")
	}
}

func TestOnlyTheBayIsReachedFromTheBastion(t *testing.T) {
	l := openLab(t)
	c := mustClient(t, l)
	for addr, want := range map[string]string{
		"10.61.4.31:22":          "",
		"survey-web.internal:22": "",
		"10.61.4.33:22":          "Connection refused",
		"10.61.4.31:80":          "Connection refused",
		"10.61.9.9:22":           "No route to host",
		"127.0.0.1:22":           "No route to host",
		"elsewhere.example:22":   "Name or service not known",
	} {
		conn, err := c.Dial("tcp", addr)
		var refused *ssh.OpenChannelError
		switch {
		case want == "" && err != nil:
			t.Errorf("%s: %v", addr, err)
		case want == "":
			greeting := make([]byte, 7)
			if _, err := io.ReadFull(conn, greeting); err != nil || string(greeting) != "SSH-2.0" {
				t.Errorf("%s greets with %q, %v", addr, greeting, err)
			}
			conn.Close()
		case !errors.As(err, &refused) || refused.Message != want:
			t.Errorf("%s: %v, want %q", addr, err, want)
		}
	}
	l.Host("quay").Faults.ForbidOnward(true)
	var refused *ssh.OpenChannelError
	if _, err := c.Dial("tcp", "10.61.4.31:22"); !errors.As(err, &refused) || refused.Reason != ssh.Prohibited {
		t.Errorf("forbidden: %v", err)
	}
}

func TestTheShellsCommands(t *testing.T) {
	c := mustClient(t, openLab(t))
	for line, want := range map[string]string{
		"whoami":                              "warden\n",
		"hostname; pwd":                       "quay\n/home/warden\n",
		"cd /etc/bay; ls; cat landings.table": "landings.table\nquay\t203.0.113.10\nreef\t10.61.4.0/24\n",
		"echo 'a  b' \"c\" d\\ e":             "a  b c d e\n",
		"cat /nowhere":                        "cat: /nowhere: no such file\n",
		"cat /etc":                            "cat: /etc: a folder\n",
		"ls /etc/hostname":                    "/etc/hostname\n",
		"dance":                               "dance: no such command; type help\n",
		"fault nobody cut":                    "fault: there is no nobody in the bay\n",
	} {
		s, err := c.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		out, _ := s.CombinedOutput(line)
		if string(out) != want {
			t.Errorf("%s: %q, want %q", line, out, want)
		}
	}
	for line, want := range map[string]int{"exit 7": 7, "dance": 127, "complain": 1, "fault quay": 2, "echo": 0} {
		s, _ := c.NewSession()
		err := s.Run(line)
		var exit *ssh.ExitError
		if got := 0; errors.As(err, &exit) {
			if got = exit.ExitStatus(); got != want {
				t.Errorf("%s: status %d, want %d", line, got, want)
			}
		} else if want != 0 || err != nil {
			t.Errorf("%s: %v, want %d", line, err, want)
		}
	}
}

func TestSignalsEnvironmentAndTerminal(t *testing.T) {
	c := mustClient(t, openLab(t))
	s, _ := c.NewSession()
	s.Setenv("TIDE", "high")
	if out, err := s.Output("env"); err != nil || !strings.Contains(string(out), "TIDE=high\n") {
		t.Errorf("environment %q, %v", out, err)
	}
	s, _ = c.NewSession()
	if err := s.Start("sleep 60"); err != nil {
		t.Fatal(err)
	}
	s.Signal(ssh.SIGTERM)
	var exit *ssh.ExitError
	if err := s.Wait(); !errors.As(err, &exit) || exit.Signal() != "TERM" {
		t.Errorf("signal: %v", err)
	}
	s, _ = c.NewSession()
	var out bytes.Buffer
	in, _ := s.StdinPipe()
	s.Stdout = &out
	s.RequestPty("vt", 24, 80, nil)
	s.Shell()
	s.WindowChange(30, 100)
	s.Setenv("TIDE", "low") // sizes and typing come by two ways: an answer comes after the size
	io.WriteString(in, "size\rhalf a line\x03exit 2\r")
	if err := s.Wait(); !errors.As(err, &exit) || exit.ExitStatus() != 2 || !strings.Contains(out.String(), "100 columns, 30 rows\r\n") {
		t.Errorf("terminal: %v\n%s", err, out.String())
	}
}

func TestFaults(t *testing.T) {
	l := openLab(t)
	c := mustClient(t, l)
	quay := l.Host("quay")
	ping := func() time.Duration {
		start := time.Now()
		c.SendRequest("ping@lantern.example", true, nil)
		return time.Since(start)
	}
	quay.Faults.Delay(80 * time.Millisecond)
	if took := ping(); took < 160*time.Millisecond {
		t.Errorf("a round trip with twice 80 ms took %v", took)
	}
	quay.Faults.Heal()
	quay.Faults.Freeze(true)
	var thawed atomic.Bool
	answered := make(chan bool, 1)
	go func() { ping(); answered <- thawed.Load() }()
	await.Until(t, "the question to lie on the ice", func() bool { return quay.Faults.Held() > 0 })
	thawed.Store(true)
	quay.Faults.Freeze(false)
	if !<-answered {
		t.Error("a frozen host answered")
	}
	before := quay.Identity()
	if err := quay.Replace(); err != nil || bytes.Equal(before.Marshal(), quay.Identity().Marshal()) {
		t.Errorf("replacing: %v", err)
	}
	quay.Cut()
	c.Wait()
}

func TestAKeptFolderReachesTheSameBay(t *testing.T) {
	dir := t.TempDir()
	l, err := Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	address, identity := l.Address(), l.Host("tide-db").Identity()
	sessions := filepath.Join(dir, "sessions.toml")
	if err := os.WriteFile(sessions, []byte("# mine now\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if second, err := Open(dir); err == nil {
		second.Close()
		t.Error("two labs opened in one folder")
	}
	l.Close()
	l, err = Open(dir)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	text, _ := os.ReadFile(sessions)
	if l.Address() != address || !bytes.Equal(identity.Marshal(), l.Host("tide-db").Identity().Marshal()) || string(text) != "# mine now\n" {
		t.Errorf("address %s was %s; sessions %q", l.Address(), address, text)
	}
}
