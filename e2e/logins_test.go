package e2e

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/lab/await"

	"golang.org/x/crypto/ssh"
)

// A login that exists in the bastion's namespace alone, with the password "spring
// tide" as crypt(3) keeps it.
const (
	pilotLogin = "pilot"
	pilotHash  = "$6$lantern$B7BVwSS2aXJ2bZeQVfcwGAXoK3sIL05oi5x1C/BVzBPBiK20F/ERwJvq7zH8T2jwR3ThTwGIeg5gZrVzuvESy1"
)

// pilot gives the bastion's namespace the login pilot, and questions that ask for
// its password.
func (p *peers) pilot() {
	p.t.Helper()
	etc := "/etc/netns/" + p.bastion
	home := p.path("home")
	os.MkdirAll(home, 0o755)
	os.MkdirAll(etc+"/pam.d", 0o755)
	for _, file := range []struct{ name, line string }{
		{"passwd", fmt.Sprintf("%s:x:61000:61000::%s:/bin/sh", pilotLogin, home)},
		{"shadow", pilotLogin + ":" + pilotHash + ":20000:0:99999:7:::"},
		{"group", pilotLogin + ":x:61000:"},
	} {
		text, err := os.ReadFile("/etc/" + file.name)
		if err != nil {
			p.t.Fatal(err)
		}
		p.write(etc+"/"+file.name, strings.TrimRight(string(text), "\n")+"\n"+file.line+"\n", 0o644)
	}
	p.write(etc+"/pam.d/sshd", "auth required pam_unix.so\naccount required pam_permit.so\nsession required pam_permit.so\npassword required pam_deny.so\n", 0o644)
	for _, dir := range []string{p.dir, filepath.Dir(p.dir)} { // pilot has to reach the list of keys
		os.Chmod(dir, 0o755)
	}
}

// again starts the bastion's server anew, with more lines of configuration in
// front of the usual ones, which the server takes the first of, and last behind them.
func (p *peers) again(more string, last ...string) {
	p.t.Helper()
	p.stop()
	os.Remove(p.path("server-quay", "log"))
	p.stop = p.serveWith("quay", p.bastion, bastionAddr, "outer", more, strings.Join(last, ""))
}

// asPilot asks for pilot at the bastion, in a terminal.
func (p *peers) asPilot(key string) *screen {
	p.t.Helper()
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\n%s", bastionAddr, pilotLogin, key))
	return show(p.t, 120, 30, "ip", "netns", "exec", p.here, program, "--workspace", p.dir, "run", "pilot", "--", "echo reached as $USER")
}

func TestARealServersPasswordIsAsked(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilot()
	p.again("PasswordAuthentication yes\n")
	p.vouch("quay")
	s := p.asPilot("")
	s.until("Password of pilot at pilot:")
	s.text("neap tide")
	s.keys("Enter")
	s.until("That was not accepted")
	s.text("spring tide")
	s.keys("Enter")
	s.until("reached as pilot")
	if seen := s.see(); strings.Contains(seen, "spring tide") {
		t.Errorf("the password is shown:\n%s", seen)
	}
	if r := p.run("run", "pilot", "--", "true"); r.status != 253 || !strings.Contains(r.err, "nobody to ask for a password") {
		t.Errorf("with nobody to ask: %+v", r)
	}
}

func TestARealServersQuestionsAreAsked(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilot()
	p.again("UsePAM yes\nKbdInteractiveAuthentication yes\nBanner " + p.path("banner") + "\n")
	p.write(p.path("banner"), "Pilots \x1b[1monly\n", 0o644)
	p.vouch("quay")
	s := p.asPilot("")
	s.until("pilot asks: Password:")
	s.text("spring tide")
	s.keys("Enter")
	s.until("reached as pilot")
}

func TestARealServersSecondStepAfterTheKey(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilot()
	p.again("UsePAM yes\nKbdInteractiveAuthentication yes\n", "Match User pilot\nAuthenticationMethods publickey,keyboard-interactive\n")
	p.vouch("quay")
	s := p.asPilot("key = \"keys/outer.pem\"\n")
	s.until("key outer.pem was accepted; one more step", "pilot asks: Password:")
	s.text("spring tide")
	s.keys("Enter")
	s.until("reached as pilot")
	s = p.asPilot("key = \"keys/other.pem\"\n")
	s.until("refused; the server accepts: publickey")
	if seen := s.see(); strings.Contains(seen, "asks:") {
		t.Errorf("a second step without the first:\n%s", seen)
	}
}

func (p *peers) signer(name string) ssh.Signer {
	p.t.Helper()
	text, err := os.ReadFile(p.path("keys", name+".pem"))
	if err != nil {
		p.t.Fatal(err)
	}
	s, err := ssh.ParsePrivateKey(text)
	if err != nil {
		p.t.Fatal(err)
	}
	return s
}

// certify writes a certificate for a public key.
func (p *peers) certify(by ssh.Signer, key ssh.PublicKey, kind uint32, name, file string, from, to time.Time) {
	p.t.Helper()
	cert := &ssh.Certificate{Key: key, CertType: kind, KeyId: "the test's", ValidPrincipals: []string{name}, ValidAfter: uint64(from.Unix()), ValidBefore: uint64(to.Unix()),
		Permissions: ssh.Permissions{Extensions: map[string]string{"permit-pty": "", "permit-port-forwarding": ""}}}
	if err := cert.SignCert(rand.Reader, by); err != nil {
		p.t.Fatal(err)
	}
	p.write(file, string(ssh.MarshalAuthorizedKey(cert)), 0o644)
}

func TestRealServersTakeAndShowCertificates(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.key("authority", "")
	authority := p.signer("authority")
	now := time.Now()
	host, err := os.ReadFile(p.path("server-quay", "host"))
	if err != nil {
		t.Fatal(err)
	}
	hostSigner, err := ssh.ParsePrivateKey(host)
	if err != nil {
		t.Fatal(err)
	}
	p.certify(authority, hostSigner.PublicKey(), ssh.HostCert, bastionAddr, p.path("server-quay", "host-cert.pub"), now.Add(-time.Hour), now.Add(time.Hour))
	p.certify(authority, p.signer("other").PublicKey(), ssh.UserCert, "root", p.path("keys", "other.pem-cert.pub"), now.Add(-time.Hour), now.Add(time.Hour))
	p.again(fmt.Sprintf("TrustedUserCAKeys %s\nHostCertificate %s\n", p.path("keys", "authority.pem.pub"), p.path("server-quay", "host-cert.pub")))
	p.workspace(fmt.Sprintf("\n[session.other]\nhost = %q\nkey = \"keys/other.pem\"\n", bastionAddr))

	if r := p.run("run", "other", "--", "true"); r.status != 253 || !strings.Contains(r.err, "first connection") {
		t.Errorf("an unknown host: %+v", r)
	}
	if r := p.run("hosts", "trust-ca", "192.0.2.*", p.path("keys", "authority.pem.pub")); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	r := p.run("run", "--trace", "other", "--", "echo in")
	if r.status != 0 || r.out != "in\n" || !strings.Contains(r.err, "certificate, ") || !strings.Contains(r.err, "by key certificate of other.pem") {
		t.Errorf("with certificates on both sides: %+v", r)
	}
	p.certify(authority, p.signer("other").PublicKey(), ssh.UserCert, "root", p.path("keys", "other.pem-cert.pub"), now.Add(-2*time.Hour), now.Add(-time.Hour))
	if r := p.run("check", "other"); !strings.Contains(r.out, "the certificate ended on") {
		t.Errorf("an old certificate is not seen: %+v", r)
	}
	if r := p.run("run", "other", "--", "true"); r.status != 253 || !strings.Contains(r.err, "certificate of other.pem") {
		t.Errorf("an old certificate: %+v", r)
	}
}

func TestARealServersFurtherHostKeysAreRecorded(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	p.write(p.path("server-quay", "host2"), string(pem.EncodeToMemory(block)), 0o600)
	p.again("HostKey " + p.path("server-quay", "host2") + "\n")
	p.vouch("quay")
	record := ""
	for range 100 { // the announcement comes after the login, and may come after the command
		if r := p.run("run", "quay", "--", "sleep 0.2"); r.status != 0 {
			t.Fatalf("%+v", r)
		}
		text, _ := os.ReadFile(filepath.Join(p.dir, "vouched.toml"))
		if record = string(text); strings.Count(record, "[[vouched]]") == 2 {
			break
		}
	}
	if !strings.Contains(record, "announced and proven by the host") || !strings.Contains(record, "ecdsa-sha2-nistp256") || !strings.Contains(record, "ssh-ed25519") {
		t.Errorf("the record is\n%s", record)
	}
}

func TestAShellComesBackWhenTheInterfaceDoes(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("quay")
	p.workspace("\n[session.line]\nhost = \"" + bastionAddr + "\"\nkey = \"keys/outer.pem\"\nkeepalive = \"1s\"\n")
	s := show(t, 120, 30, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("3 routes")
	s.text("/line")
	s.keys("Enter")
	s.until("root on line")
	s.saying("echo up-and-$((40+2))", "up-and-42")
	system(t, "ip -n "+p.here+" link set oa down")
	s.until("frozen at line")
	s.text("echo held")
	s.until("connection lost for")
	system(t, "ip -n "+p.here+" link set oa up")
	s.until("this is a new shell")
	s.saying("echo again-$((40+3))", "again-43")
}

func TestALentKeyIsUsedFromARealServerAndNoLonger(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.vouch("quay")
	farside := p.path("farside")
	if out, err := exec.Command("go", "build", "-o", farside, "meatus/e2e/farside").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	p.workspace(fmt.Sprintf("\n[session.lender]\nhost = %q\nkey = \"keys/outer.pem\"\nagent = \"lend\"\nlends = [\"keys/inner.pem\"]\n", bastionAddr))
	r := p.run("run", "lender", "--", farside+"; echo sock=$SSH_AUTH_SOCK")
	inner := ssh.FingerprintSHA256(p.signer("inner").PublicKey())
	for _, want := range []string{"listed inner.pem " + inner, "signed a login: <nil>", "signed a contract: agent: ", "removing: agent: "} {
		if !strings.Contains(r.out, want) {
			t.Errorf("%q is missing: %+v", want, r)
		}
	}
	if strings.Contains(r.out, ssh.FingerprintSHA256(p.signer("outer").PublicKey())) {
		t.Errorf("a key that is not lent was listed: %s", r.out)
	}
	_, sock, _ := strings.Cut(strings.TrimSpace(r.out), "sock=")
	if conn, err := net.Dial("unix", sock); err == nil {
		conn.Close()
		t.Error("the agent's socket outlives the session")
	}
	if r := p.run("run", "quay", "--", farside); !strings.Contains(r.out, "no agent") {
		t.Errorf("unasked: %+v", r)
	}
	if r := p.run("trail", "lend"); !strings.Contains(r.out, "used inner.pem to log in as keeper") {
		t.Errorf("the trail: %+v", r)
	}
	s := show(t, 120, 30, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("3 routes")
	s.text("/lender")
	s.keys("Enter")
	s.until("root on lender", "lends inner.pem")
	s.text("(sleep 2; " + farside + " >" + p.path("later") + ") & exit")
	s.keys("Enter")
	s.until("ended, status 0")
	// The link is still up: what is refused is refused by us.
	await.Until(t, "the end of the far side's program", func() bool { text, _ := os.ReadFile(p.path("later")); return len(text) > 0 })
	if text, _ := os.ReadFile(p.path("later")); strings.Contains(string(text), "listed") {
		t.Errorf("after the shell: %s", text)
	}
	s.lead("0") // another shell over the same link, to which a server lends but once
	s.until("lender")
	s.keys("Enter")
	s.until("root on lender", "lends inner.pem")
	s.text(farside)
	s.keys("Enter")
	s.until("listed inner.pem", "signed a login: <nil>")
}

func TestAKeyIsInstalledOnceAndProven(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilot()
	home := p.path("home")
	list := filepath.Join(home, ".ssh", "authorized_keys")
	os.MkdirAll(filepath.Dir(list), 0o700)
	before := "# the pilots' keys\n" + strings.TrimSpace(string(must(os.ReadFile(p.path("keys", "inner.pem.pub"))))) // no line break at its end
	p.write(list, before, 0o600)
	for _, path := range []string{home, filepath.Dir(list), list} {
		os.Chown(path, 61000, 61000)
	}
	p.vouch("quay")
	p.again("StrictModes yes\n", "Match User pilot\nAuthorizedKeysFile "+list+"\n")
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/inner.pem\"\n", bastionAddr, pilotLogin))
	for _, word := range []string{"is in the list now", "stood in the list already"} {
		r := p.run("key", "install", p.path("keys", "other.pem"), "pilot")
		if r.status != 0 || !strings.Contains(r.out, word) || !strings.Contains(r.out, "proven: a login with that key alone") {
			t.Fatalf("%+v", r)
		}
	}
	other := strings.TrimSpace(string(must(os.ReadFile(p.path("keys", "other.pem.pub")))))
	after := string(must(os.ReadFile(list)))
	if !strings.HasPrefix(after, before+"\n") || strings.Count(after, strings.Fields(other)[1]) != 1 {
		t.Errorf("the list is\n%s", after)
	}
	if info, _ := os.Stat(list); info.Mode().Perm() != 0o600 {
		t.Errorf("mode %o", info.Mode())
	}
	os.Chmod(home, 0o777) // now the server passes the list over
	if r := p.run("run", "pilot", "--", "true"); r.status != 253 {
		t.Errorf("a server with a loose home still lets it in: %+v", r)
	}
}

func TestASweepFindsWhatWasLeftBehind(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilot()
	home := p.path("home")
	p.again("", "Match User pilot\nAuthorizedKeysFile "+p.path("server-quay", "authorized")+"\n")
	p.vouch("quay")
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/outer.pem\"\n", bastionAddr, pilotLogin))
	for name, text := range map[string]string{
		".ssh/authorized_keys": string(must(os.ReadFile(p.path("keys", "inner.pem.pub")))) + string(must(os.ReadFile(p.path("keys", "other.pem.pub")))),
		"forgotten.pem":        string(must(os.ReadFile(p.path("keys", "locked.pem")))),
		"letter":               "no key at all\n",
	} {
		os.MkdirAll(filepath.Join(home, ".ssh"), 0o755)
		p.write(filepath.Join(home, name), text, 0o644)
		os.Chown(filepath.Join(home, name), 61000, 61000)
	}
	os.Remove(p.path("keys", "other.pem")) // so that nothing here explains it
	os.Remove(p.path("keys", "other.pem.pub"))
	r := p.run("key", "sweep", "pilot")
	for _, want := range []string{"private key  forgotten.pem, -rw-r--r--", "unknown key  line 2 of the list: ssh-ed25519 SHA256:", "1 private key", "1 listed key that none of yours explains, 1 that one does"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("%q is missing: %+v", want, r)
		}
	}
	if r.status != 3 || strings.Contains(r.out, "letter") || strings.Contains(r.out, "BEGIN") {
		t.Errorf("%+v", r)
	}
	if text, err := os.ReadFile(filepath.Join(home, "forgotten.pem")); err != nil || len(text) == 0 {
		t.Error("it was changed")
	}
}

// A machine that lets a login in only to say that it wants another one is believed: the login gate is blocked, the command says
// what to change, and m changes it.
func TestAMachineThatWantsAnotherLoginIsBelieved(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	p.pilotsList("")
	home := p.path("home")
	list := filepath.Join(home, ".ssh", "authorized_keys")
	p.write(list, `command="echo 'Please login as the user \"root\" rather than the user \"pilot\".';echo;sleep 0.3;exit 142" `+p.public("outer")+"\n", 0o600)
	os.Chown(list, 61000, 61000)
	p.again("", "Match User pilot\nAuthorizedKeysFile .ssh/authorized_keys\n")
	p.vouch("quay")
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/outer.pem\"\n", bastionAddr, pilotLogin))
	r := p.run("run", "pilot", "--", "uptime")
	if r.status != 142 || !strings.Contains(r.out, `Please login as the user "root"`) || !strings.Contains(r.err, "pilot asks for user root, not pilot; to change it: meatus session set pilot user=root") {
		t.Errorf("%+v", r)
	}
	if r := p.run("trail", "--failed"); !strings.Contains(r.out, "asks for user root") {
		t.Errorf("%+v", r)
	}
	s := show(t, 120, 36, "ip", "netns", "exec", p.here, program, "--workspace", p.dir)
	s.until("quay", "pilot")
	s.text("/pilot")
	s.keys("Enter", "Enter")
	s.until("pilot asks for user root, not pilot")
	s.keys("Enter") // back from the shell that has ended
	s.until("login", "pilot is turned away")
	s.text("m")
	s.until("log in as root", "the machine asks for it")
	s.keys("Enter")
	s.until("user of pilot is root now")
	s.keys("Enter")
	s.until("root@")
}
