package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/lab/await"
)

// inside runs a program in a namespace until the test ends, and waits until it says
// ready on one of its outputs, or something connects where ready is "".
func inside(t *testing.T, ns, ready string, command ...string) {
	t.Helper()
	log := filepath.Join(t.TempDir(), "log")
	f, err := os.Create(log)
	if err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("ip", append([]string{"netns", "exec", ns}, command...)...)
	cmd.Stdout, cmd.Stderr = f, f
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		done := make(chan struct{})
		go func() { cmd.Wait(); close(done) }()
		select {
		case <-done:
		case <-time.After(10 * time.Second):
			cmd.Process.Kill()
			<-done
		}
		f.Close()
	})
	var text []byte
	if !await.Within(await.Patience, func() bool { text, _ = os.ReadFile(log); return strings.Contains(string(text), ready) }) {
		t.Fatalf("%q did not begin:\n%s", command, text)
	}
}

// postgres starts a real PostgreSQL in the inner namespace that lets in nobody but
// the bastion's private address.
func (p *peers) postgres() {
	p.t.Helper()
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if len(found) == 0 {
		missing(p.t, "postgresql is not installed; scripts/test installs it")
	}
	bin := filepath.Dir(found[len(found)-1])
	data, err := os.MkdirTemp("/var/tmp", "tide")
	if err != nil {
		p.t.Fatal(err)
	}
	p.t.Cleanup(func() { os.RemoveAll(data) })
	system(p.t, "chown postgres "+data)
	as := []string{"setpriv", "--reuid", "postgres", "--regid", "postgres", "--clear-groups"}
	initdb := exec.Command(as[0], append(as[1:], filepath.Join(bin, "initdb"), "-D", data, "-A", "reject", "--no-sync", "-U", "keeper")...)
	initdb.Dir = data
	if out, err := initdb.CombinedOutput(); err != nil {
		p.t.Fatalf("initdb: %v\n%s", err, out)
	}
	p.write(filepath.Join(data, "pg_hba.conf"), "host all all "+inwardAddr+"/32 trust\n", 0o644)
	inside(p.t, p.inner, "ready to accept connections", append(as, filepath.Join(bin, "postgres"), "-D", data, "-h", innerAddr, "-k", data, "-c", "fsync=off")...)
}

func TestARealDatabaseIsReachedThroughTheBastion(t *testing.T) {
	t.Parallel()
	need(t, "psql", "setpriv")
	p := startPeers(t)
	p.postgres()
	p.vouch("quay")
	p.vouch("reef")
	p.workspace(fmt.Sprintf("\n[session.db]\nhost = %q\nkey = \"keys/outer.pem\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"reef.internal:5432\" }]\n\n[session.on-it]\nhost = \"reef.internal\"\nvia = [\"quay\"]\nkey = \"keys/inner.pem\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"%s:5432\" }]\n", bastionAddr, innerAddr))
	h := hold(t, []string{"ip", "netns", "exec", p.here}, p.dir, "db", "on-it")
	door := h.door("reef.internal:5432")
	psql := func(door string, args ...string) string {
		host, port, _ := net.SplitHostPort(door)
		cmd := exec.Command("ip", append([]string{"netns", "exec", p.here, "psql", "-h", host, "-p", port, "-U", "keeper", "-d", "postgres", "-v", "ON_ERROR_STOP=1", "-At"}, args...)...)
		cmd.Env = append(os.Environ(), "PGCONNECT_TIMEOUT=20", "PGSSLMODE=disable")
		out, _ := cmd.CombinedOutput()
		return strings.TrimSpace(string(out))
	}
	tides := filepath.Join(t.TempDir(), "tides.sql")
	p.write(tides, "create table tides (hour int primary key, level numeric);\ninsert into tides select h, 1.9 + sin(h / 2.0) from generate_series(1, 5000) h;\n", 0o644)
	psql(door, "-f", tides)
	if got := psql(door, "-c", "select count(*), inet_client_addr() from tides"); got != "5000|"+inwardAddr {
		t.Errorf("it says %q", got)
	}
	// From the machine itself it is another address that knocks, and that is refused.
	at := h.door(innerAddr + ":5432")
	if got := psql(at, "-c", "select 1"); !strings.Contains(got, "no pg_hba.conf entry for host \""+innerAddr+"\"") {
		t.Errorf("from the machine itself: %q", got)
	}
	// Late and lossy lines change nothing but the time it takes.
	if out, err := exec.Command("ip", "netns", "exec", p.here, "tc", "qdisc", "add", "dev", "oa", "root", "netem", "delay", "20ms", "loss", "2%").CombinedOutput(); err != nil {
		t.Logf("the kernel emulates no line here: %s", out)
	}
	if got := psql(door, "-c", "select sum(length(repeat('tide', 100))) from tides"); got != "2000000" {
		t.Errorf("over a bad line: %q", got)
	}
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
}

func TestARealClientRoamsToNamesThatOnlyTheFarSideKnows(t *testing.T) {
	t.Parallel()
	need(t, "curl")
	p := startPeers(t)
	web := p.path("web")
	if out, err := exec.Command("go", "build", "-o", web, "meatus/e2e/farside").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	inside(t, p.inner, "serving", web, "web", innerAddr+":80")
	p.vouch("quay")
	p.workspace(fmt.Sprintf("\n[session.roams]\nhost = %q\nkey = \"keys/outer.pem\"\ntunnels = [{ roam = \"127.0.0.1:0\" }]\n", bastionAddr))
	h := hold(t, []string{"ip", "netns", "exec", p.here}, p.dir, "roams")
	door := h.door("roam")
	curl := func(args ...string) string {
		out, err := exec.Command("ip", append([]string{"netns", "exec", p.here, "curl", "-sS", "--max-time", "20"}, args...)...).CombinedOutput()
		if err != nil {
			return fmt.Sprintf("%s%v", out, err)
		}
		return string(out)
	}
	for _, proxy := range []string{"socks5h://", "socks4a://"} {
		if got := curl("-x", proxy+door, "http://reef.internal/"); got != "tide tables for "+inwardAddr+"\n" {
			t.Errorf("%s: %q", proxy, got)
		}
	}
	if got := curl("-p", "-x", "http://"+door, "http://reef.internal/"); got != "tide tables for "+inwardAddr+"\n" {
		t.Errorf("CONNECT: %q", got)
	}
	if got := curl("http://reef.internal/"); !strings.Contains(got, "resolve") {
		t.Errorf("without it the name is known here: %q", got)
	}
	if got := curl("-x", "socks5h://"+door, "http://nowhere.internal/"); !strings.Contains(got, "exit status") {
		t.Errorf("a name that nobody knows: %q", got)
	}
}
