package e2e

import (
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	"meatus/lab/await"

	"golang.org/x/crypto/ssh"
)

// The addresses of the test's own networks: here to the bastion, and the bastion
// to the private machine. They exist in namespaces alone.
const (
	hereAddr    = "192.0.2.1"
	bastionAddr = "192.0.2.2"
	inwardAddr  = "198.51.100.1"
	innerAddr   = "198.51.100.2"
)

// peers are two real SSH servers in namespaces: a bastion, and behind it a
// machine that only the bastion reaches and that accepts nobody else.
type peers struct {
	t                    *testing.T
	dir                  string // keys and the workspace
	here, bastion, inner string // namespaces
	logs                 map[string]string
	stop                 func() // ends the bastion's server
}

func system(t *testing.T, line string) {
	t.Helper()
	if out, err := exec.Command("sh", "-c", line).CombinedOutput(); err != nil {
		t.Fatalf("%s: %v\n%s", line, err, out)
	}
}

const server = "/usr/sbin/sshd"

// peersMade counts the networks that this run has made, so that each has its own name.
var peersMade atomic.Int64

func startPeers(t *testing.T) *peers {
	t.Helper()
	need(t, "ip", "setsid", server)
	if os.Geteuid() != 0 {
		missing(t, "network namespaces need the superuser")
	}
	base := fmt.Sprintf("mt%d-%d-", os.Getpid(), peersMade.Add(1))
	p := &peers{t: t, dir: t.TempDir(), here: base + "here", bastion: base + "quay", inner: base + "reef", logs: map[string]string{}}
	for _, ns := range []string{p.here, p.bastion, p.inner} {
		system(t, "ip netns add "+ns)
		t.Cleanup(func() {
			exec.Command("ip", "netns", "del", ns).Run()
			os.RemoveAll("/etc/netns/" + ns)
		})
		system(t, "ip -n "+ns+" link set lo up")
	}
	join := func(a, aAddr, b, bAddr, name string) {
		system(t, fmt.Sprintf("ip -n %s link add %sa type veth peer name %sb netns %s", a, name, name, b))
		system(t, fmt.Sprintf("ip -n %s addr add %s/30 dev %sa && ip -n %s link set %sa up", a, aAddr, name, a, name))
		system(t, fmt.Sprintf("ip -n %s addr add %s/30 dev %sb && ip -n %s link set %sb up", b, bAddr, name, b, name))
	}
	join(p.here, hereAddr, p.bastion, bastionAddr, "o")
	join(p.bastion, inwardAddr, p.inner, innerAddr, "i")
	// A name that only the bastion knows.
	if err := os.MkdirAll("/etc/netns/"+p.bastion, 0o755); err != nil {
		t.Fatal(err)
	}
	p.write("/etc/netns/"+p.bastion+"/hosts", "127.0.0.1 localhost\n"+innerAddr+" reef.internal\n", 0o644)
	os.MkdirAll("/run/sshd", 0o755)
	for _, key := range []string{"outer", "inner", "other"} {
		p.key(key, "")
	}
	p.key("locked", "ebb tide")
	p.stop = p.serve("quay", p.bastion, bastionAddr, "outer", "")
	p.serve("reef", p.inner, innerAddr, "inner", "AllowUsers root@"+inwardAddr)
	p.workspace("")
	return p
}

func (p *peers) write(path, text string, mode os.FileMode) {
	p.t.Helper()
	if err := os.WriteFile(path, []byte(text), mode); err != nil {
		p.t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		p.t.Fatal(err)
	}
}

// empty ends everything that runs in a namespace.
func (p *peers) empty(ns string) {
	p.t.Helper()
	await.Until(p.t, "the end of what runs in "+ns, func() bool {
		pids, err := exec.Command("ip", "netns", "pids", ns).Output()
		if err != nil {
			p.t.Fatal(err)
		}
		if len(pids) > 0 {
			exec.Command("kill", strings.Fields(string(pids))...).Run()
		}
		return len(pids) == 0
	})
}

func (p *peers) path(parts ...string) string {
	return filepath.Join(append([]string{p.dir}, parts...)...)
}

// key makes a key pair in the workspace.
func (p *peers) key(name, passphrase string) {
	p.t.Helper()
	os.MkdirAll(p.path("keys"), 0o700)
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		p.t.Fatal(err)
	}
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, name)
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, name, []byte(passphrase))
	}
	if err != nil {
		p.t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(pub)
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(p.path("keys", name+".pem"), string(pem.EncodeToMemory(block)), 0o600)
	p.write(p.path("keys", name+".pem.pub"), string(ssh.MarshalAuthorizedKey(public)), 0o644)
}

// serve starts a server in a namespace that lets root in with a key; extra are
// more lines of its configuration. It returns how to stop it.
func (p *peers) serve(name, ns, addr, key, extra string) (stop func()) {
	p.t.Helper()
	return p.serveWith(name, ns, addr, key, "", extra)
}

// serveWith is serve with lines of configuration in front, too.
func (p *peers) serveWith(name, ns, addr, key, first, extra string) (stop func()) {
	p.t.Helper()
	dir := p.path("server-" + name)
	os.MkdirAll(dir, 0o755)
	if _, err := os.Stat(filepath.Join(dir, "host")); err != nil {
		p.hostKey(name)
	}
	authorized, err := os.ReadFile(p.path("keys", key+".pem.pub"))
	if err != nil {
		p.t.Fatal(err)
	}
	locked, _ := os.ReadFile(p.path("keys", "locked.pem.pub"))
	p.write(filepath.Join(dir, "authorized"), string(authorized)+string(locked), 0o644)
	// The account's own start-up files are no part of a test: what they begin could be cut off with a line,
	// and what it leaves behind stop the commands of others.
	home := filepath.Join(dir, "home")
	os.MkdirAll(home, 0o700)
	elsewhere := "Match User root\nSetEnv HOME=" + home + " PATH=" + filepath.Dir(program) + ":/usr/local/bin:/usr/bin:/bin"
	if strings.Contains(extra, "SetEnv") { // a server takes one such line alone
		elsewhere = ""
	}
	config := filepath.Join(dir, "config")
	p.write(config, fmt.Sprintf(`%sListenAddress %s:22
HostKey %s
AuthorizedKeysFile %s
PidFile none
StrictModes no
UsePAM no
PasswordAuthentication no
KbdInteractiveAuthentication no
PermitRootLogin prohibit-password
LogLevel VERBOSE
%s
%s
`, first, addr, filepath.Join(dir, "host"), filepath.Join(dir, "authorized"), extra, elsewhere), 0o600)
	log, err := os.OpenFile(filepath.Join(dir, "log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		p.t.Fatal(err)
	}
	p.logs[name] = log.Name()
	before, err := os.ReadFile(log.Name()) // of a server that was there before this one
	if err != nil {
		p.t.Fatal(err)
	}
	cmd := exec.Command("ip", "netns", "exec", ns, server, "-D", "-e", "-f", config)
	cmd.Stderr = log
	if err := cmd.Start(); err != nil {
		p.t.Fatal(err)
	}
	stop = sync.OnceFunc(func() {
		cmd.Process.Kill()
		cmd.Wait()
		log.Close()
	})
	p.t.Cleanup(stop)
	var text []byte
	if !await.Within(await.Patience, func() bool {
		text, _ = os.ReadFile(log.Name())
		return len(text) >= len(before) && strings.Contains(string(text[len(before):]), "Server listening on "+addr)
	}) {
		p.t.Fatalf("the server %s did not start:\n%s", name, text)
	}
	return stop
}

// hostKey gives a server another host key.
func (p *peers) hostKey(name string) {
	p.t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		p.t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		p.t.Fatal(err)
	}
	p.write(p.path("server-"+name, "host"), string(pem.EncodeToMemory(block)), 0o600)
	os.Remove(p.path("server-"+name, "log"))
}

// workspace writes the sessions; more is put behind them.
func (p *peers) workspace(more string) {
	p.t.Helper()
	p.write(p.path("sessions.toml"), fmt.Sprintf(`[defaults]
user = "root"

[session.quay]
host = %q
key  = "keys/outer.pem"

[session.reef]
host = "reef.internal"   # known to quay alone
via  = ["quay"]
key  = "keys/inner.pem"
%s`, bastionAddr, more), 0o600)
}

// run runs the program in the first namespace, with nobody to ask.
func (p *peers) run(args ...string) result {
	p.t.Helper()
	return doIn(p.t, []string{"ip", "netns", "exec", p.here}, p.dir, "", args...)
}

// vouch accepts the hosts on the way to a session, one after another.
func (p *peers) vouch(session string) {
	p.t.Helper()
	var yes []string
	for range 3 {
		r := p.run(append(append([]string{"run"}, yes...), session, "--", "true")...)
		if r.status == 0 {
			return
		}
		_, fingerprint, ok := strings.Cut(r.err, "--yes-identity ")
		if !ok {
			p.t.Fatalf("walking to %s: %s", session, r.err)
		}
		yes = append(yes, "--yes-identity", strings.TrimSpace(fingerprint))
	}
	p.t.Fatalf("vouching for the way to %s did not end", session)
}

func (p *peers) log(name string) string {
	text, _ := os.ReadFile(p.logs[name])
	return string(text)
}

func TestRealServersThroughBothHops(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	if r := p.run("run", "reef", "--", "true"); r.status != 253 || !strings.Contains(r.err, "quay: identity: ") {
		t.Fatalf("an unknown bastion: %+v", r)
	}
	p.vouch("reef")
	r := p.run("run", "reef", "--", "echo $SSH_CONNECTION; echo aside >&2; exit 37")
	if r.status != 37 || !strings.HasPrefix(r.out, inwardAddr+" ") || r.err != "aside\n" {
		t.Errorf("%+v, want status 37 and to come from %s", r, inwardAddr)
	}
	if r := p.run("run", "reef", "--", "kill -TERM $$"); r.status != 128+15 || !strings.Contains(r.err, "signal TERM") {
		t.Errorf("a signal: %+v", r)
	}
	if r := p.run("run", "--trace", "reef", "--", "true"); !strings.Contains(r.err, "answers as OpenSSH") || !strings.Contains(r.err, "reef.internal, seen from quay") {
		t.Errorf("the trace: %s", r.err)
	}
}

func TestALargeOutputArrivesWholeAndInOrder(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("reef")
	const size = 60_000_000
	want := sha256.New()
	local := exec.Command("sh", "-c", fmt.Sprintf("seq 1 30000000 | head -c %d", size))
	local.Stdout = want
	if err := local.Run(); err != nil {
		t.Fatal(err)
	}
	cmd := exec.Command("ip", "netns", "exec", p.here, program, "--workspace", p.dir, "run", "reef", "--", fmt.Sprintf("seq 1 30000000 | head -c %d", size))
	got := sha256.New()
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	n, _ := io.Copy(got, out)
	if err := cmd.Wait(); err != nil || n != size || string(got.Sum(nil)) != string(want.Sum(nil)) {
		t.Errorf("%d bytes, want %d; %v; sums %x and %x", n, size, err, got.Sum(nil), want.Sum(nil))
	}
}

func TestATooOpenKeyNeverReachesTheServer(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("reef")
	key := p.path("keys", "inner.pem")
	if err := os.Chmod(key, 0o640); err != nil {
		t.Fatal(err)
	}
	before := strings.Count(p.log("quay"), "Connection from")
	if r := p.run("run", "reef", "--", "true"); r.status != 253 || !strings.Contains(r.err, "reef: key: mode 0640: the group can read it") {
		t.Errorf("%+v", r)
	}
	if after := strings.Count(p.log("quay"), "Connection from"); after != before {
		t.Errorf("%d connections reached the bastion", after-before)
	}
	s := show(t, 120, 36, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("quay", "reef", "the group can read it")
	s.keys("Down")
	s.until("press m: set mode 0600")
	s.text("m")
	s.until("inner.pem now has mode 0600")
	s.text("q")
	s.ended()
	if r := p.run("run", "reef", "--", "echo in"); r.out != "in\n" {
		t.Errorf("mended: %+v", r)
	}
}

func TestRealServersRefuseInManyWays(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("reef")
	p.workspace(fmt.Sprintf(`
[session.wrong-login]
host = "reef.internal"
via  = ["quay"]
user = "nobody-here"
key  = "keys/inner.pem"

[session.wrong-key]
host = "reef.internal"
via  = ["quay"]
key  = "keys/other.pem"

[session.closed]
host = %q
port = 23
via  = ["quay"]
key  = "keys/inner.pem"

[session.no-name]
host = "nowhere.invalid"
via  = ["quay"]
key  = "keys/inner.pem"

[session.no-way]
host = "203.0.113.77"
via  = ["quay"]
key  = "keys/inner.pem"

[session.no-way-here]
host = "203.0.113.77"
key  = "keys/inner.pem"

[session.bastion-closed]
host = %q
port = 23
key  = "keys/outer.pem"
`, innerAddr, bastionAddr))
	for session, want := range map[string][]string{
		"wrong-login":    {"wrong-login: login: ", "accepts none of the offered keys for user nobody-here", "SHA256:", "the server accepts: publickey", "most likely first: the key is not authorized for that account"},
		"wrong-key":      {"wrong-key: login: ", "1. key other.pem, SHA256:"},
		"closed":         {"closed: port: ", "nothing listens at " + innerAddr + ":23"},
		"no-name":        {"no-name: address: ", "quay does not know the name"},
		"no-way":         {"no-way: address: ", "quay could not connect to 203.0.113.77:22"},
		"no-way-here":    {"no-way-here: address: ", "there is no network route from here"},
		"bastion-closed": {"bastion-closed: port: ", "nothing listens on that port"},
	} {
		r := p.run("run", session, "--", "true")
		for _, w := range want {
			if r.status != 253 || !strings.Contains(r.err, w) {
				t.Errorf("%s: status %d, %q does not say %q", session, r.status, r.err, w)
			}
		}
	}
}

func TestAReplacedServerIsRefused(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("reef")
	p.hostKey("reef")
	p.empty(p.inner)
	p.serve("reef", p.inner, innerAddr, "inner", "")
	r := p.run("run", "reef", "--", "true")
	if r.status != 253 || !strings.Contains(r.err, "reef: identity: ") || strings.Count(r.err, "SHA256:") != 2 || !strings.Contains(r.err, "vouched ssh-ed25519") {
		t.Errorf("%+v", r)
	}
	if strings.Contains(p.log("reef"), "Accepted") {
		t.Error("a login happened at the replaced machine")
	}
}

func TestABastionThatForbidsAndOneThatIsTooOld(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("reef")
	restart := func(extra string) {
		p.empty(p.bastion)
		os.Remove(p.logs["quay"])
		p.stop = p.serve("quay", p.bastion, bastionAddr, "outer", extra)
	}
	restart("AllowTcpForwarding no")
	if r := p.run("run", "reef", "--", "true"); r.status != 253 || !strings.Contains(r.err, "quay: channel: quay does not allow this user to connect onward") {
		t.Errorf("forbidden: %+v", r)
	}
	restart("Ciphers aes256-cbc")
	if r := p.run("run", "quay", "--", "true"); r.status != 253 || !strings.Contains(r.err, "there: aes256-cbc") || !strings.Contains(r.err, "here: aes") {
		t.Errorf("too old: %+v", r)
	}
}

func TestAFullScreenProgramInTheShell(t *testing.T) {
	t.Parallel()
	need(t, "vi")
	p := startPeers(t)
	p.vouch("reef")
	s := show(t, 110, 32, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("quay", "reef")
	s.keys("Down", "Enter")
	s.until("root on reef (reef.internal) · here ▸ quay ▸ reef")
	s.prompt("#")
	s.text("cd " + p.dir + " && PS1='tide> ' && seq -f 'row %g of the table' 200 >table")
	s.keys("Enter")
	s.prompt("tide>")
	s.text("vi -u NONE -c 'set ruler' table")
	s.keys("Enter")
	s.until("row 1 of the table", "row 29 of the table", "1,1")
	s.text("G")
	s.until("row 200 of the table", "200,1")
	s.resize(90, 26)
	s.text("gg")
	s.until("row 1 of the table", "row 20 of the table")
	s.text("onew line")
	s.keys("Escape")
	s.text(":wq")
	s.keys("Enter")
	s.prompt("tide>")
	s.text("clear; sed -n 2p table; stty size; exit 4")
	s.keys("Enter")
	s.until("new line", "25 90", "ended, status 4")
	s.keys("Enter")
	s.until("2 routes")
	s.text("q")
	s.ended()
}

func TestQuestionsAreAskedOnTheTerminal(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.workspace("\n[session.locked]\nhost = \"reef.internal\"\nvia = [\"quay\"]\nkey = \"keys/locked.pem\"\n")
	s := show(t, 110, 30, "ip", "netns", "exec", p.here, program, "--workspace", p.dir, "run", "locked", "--", "echo reached $USER")
	s.until("quay ("+bastionAddr+":22): first connection", "type yes, or paste")
	s.text("yes")
	s.keys("Enter")
	s.until("locked (reef.internal:22): first connection")
	s.text("yes")
	s.keys("Enter")
	s.until("Passphrase of")
	s.text("neap")
	s.keys("Enter")
	s.until("does not open the key")
	s.text("ebb tide")
	s.keys("Enter")
	s.until("reached root")
	if seen := s.see(); strings.Contains(seen, "ebb tide") {
		t.Errorf("the passphrase is shown:\n%s", seen)
	}
	if status := s.ended(); status != "0" {
		t.Errorf("status %s", status)
	}
}
