package e2e

import (
	"bufio"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/lab/await"
)

// makes are servers that other people made, on loopback, all with the same keys and home
// folder.
type makes struct {
	t    *testing.T
	dir  string // the workspace
	home string // root's at each of the servers
	ed   ssh.PublicKey
}

func openMakes(t *testing.T) *makes {
	t.Helper()
	need(t, "unshare")
	if os.Geteuid() != 0 {
		missing(t, "another home folder for root needs the superuser")
	}
	m := &makes{t: t, dir: t.TempDir(), home: filepath.Join(t.TempDir(), "home")}
	for _, dir := range []string{m.home, m.in(".ssh"), m.path("keys")} {
		if err := os.MkdirAll(dir, 0o700); err != nil {
			t.Fatal(err)
		}
	}
	ed := m.key(m.path("keys", "ed.pem"))
	m.key(m.path("keys", "new.pem"))
	m.key(m.path("host"))
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	signer, _ := ssh.NewSignerFromKey(key)
	m.write(m.path("keys", "rsa.pem"), string(pem.EncodeToMemory(block)))
	m.ed = ed
	m.write(m.in(".ssh", "authorized_keys"), string(ssh.MarshalAuthorizedKey(ed))+string(ssh.MarshalAuthorizedKey(signer.PublicKey())))
	return m
}

// key makes a key pair, and returns its public half.
func (m *makes) key(path string) ssh.PublicKey {
	m.t.Helper()
	pub, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		m.t.Fatal(err)
	}
	public, err := ssh.NewPublicKey(pub)
	if err != nil {
		m.t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "of the test")
	if err != nil {
		m.t.Fatal(err)
	}
	m.write(path, string(pem.EncodeToMemory(block)))
	m.write(path+".pub", strings.TrimSpace(string(ssh.MarshalAuthorizedKey(public)))+" of-the-test\n")
	return public
}

func (m *makes) path(parts ...string) string {
	return filepath.Join(append([]string{m.dir}, parts...)...)
}

func (m *makes) in(parts ...string) string {
	return filepath.Join(append([]string{m.home}, parts...)...)
}

func (m *makes) write(path, text string) {
	m.t.Helper()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		m.t.Fatal(err)
	}
}

func (m *makes) do(args ...string) string {
	m.t.Helper()
	out, err := exec.Command(args[0], args[1:]...).Output()
	if err != nil {
		m.t.Fatalf("%v: %v", args, err)
	}
	return string(out)
}

// atHome is a command in a mount namespace where the home folder is root's.
func (m *makes) atHome(args ...string) *exec.Cmd {
	return exec.Command("unshare", append([]string{"-m", "sh", "-c", `mount --bind "$0" /root && cd /root && HOME=/root exec "$@"`, m.home}, args...)...)
}

// each serves every connection with a program of its own, and returns the address.
func (m *makes) each(args ...string) string {
	m.t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		m.t.Fatal(err)
	}
	m.t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			file, err := conn.(*net.TCPConn).File()
			conn.Close()
			if err != nil {
				continue
			}
			cmd := m.atHome(args...)
			cmd.Stdin, cmd.Stdout = file, file
			if cmd.Start() == nil {
				go cmd.Wait()
			}
			file.Close()
		}
	}()
	return l.Addr().String()
}

// stay runs a server until the test ends.
func (m *makes) stay(cmd *exec.Cmd) {
	m.t.Helper()
	if err := cmd.Start(); err != nil {
		m.t.Fatal(err)
	}
	m.t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
}

// dropbear, tinyssh, asyncssh and proftpd start those servers, and return the address.
func (m *makes) dropbear() string {
	need(m.t, "dropbear", "dropbearkey")
	m.do("dropbearkey", "-t", "ed25519", "-f", m.path("dropbear.key"))
	m.do("dropbearkey", "-t", "rsa", "-s", "2048", "-f", m.path("dropbear.rsa")) // which it offers whether it has one or not
	addr := m.free()
	m.stay(m.atHome("dropbear", "-F", "-E", "-r", m.path("dropbear.key"), "-r", m.path("dropbear.rsa"), "-p", addr, "-P", m.path("dropbear.pid")))
	m.listens(addr)
	return addr
}

// free is an address that nobody listens at.
func (m *makes) free() string {
	l := must(net.Listen("tcp", "127.0.0.1:0"))
	defer l.Close()
	return l.Addr().String()
}

// listens waits until somebody listens at an address.
func (m *makes) listens(addr string) {
	m.t.Helper()
	await.Until(m.t, "the server to listen", func() bool {
		conn, err := net.Dial("tcp", addr)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
}

func (m *makes) tinyssh() string {
	need(m.t, "tinysshd", "tinysshd-makekey")
	m.do("tinysshd-makekey", m.path("tiny"))
	return m.each("tinysshd", m.path("tiny"))
}

func (m *makes) asyncssh(more ...string) string {
	m.t.Helper()
	cmd := exec.Command("/usr/bin/python3", append([]string{"-W", "ignore", "testdata/asyncssh_server.py", m.path("host"), m.in(".ssh", "authorized_keys"), m.home}, more...)...)
	return m.stayAtPort(cmd, "the asyncssh server")
}

// proftpd takes more lines of configuration.
func (m *makes) proftpd(more ...string) string {
	need(m.t, "proftpd")
	addr := m.free()
	_, port, _ := net.SplitHostPort(addr)
	m.write(m.path("proftpd.keys"), "---- BEGIN SSH2 PUBLIC KEY ----\n"+base64.StdEncoding.EncodeToString(m.ed.Marshal())+"\n---- END SSH2 PUBLIC KEY ----\n")
	conf := m.path("proftpd" + port + ".conf")
	m.write(conf, fmt.Sprintf(`ServerName odd
ServerType standalone
Port %[1]s
DefaultAddress 127.0.0.1
User root
Group root
PidFile %[2]s/proftpd%[1]s.pid
ScoreboardFile %[2]s/proftpd%[1]s.scores
DelayEngine off
UseFtpUsers off
RootLogin on
RequireValidShell off
AuthOrder mod_auth_unix.c
LoadModule mod_sftp.c
SFTPEngine on
SFTPLog %[2]s/proftpd%[1]s.log
SFTPHostKey %[2]s/host
SFTPAuthorizedUserKeys file:%[2]s/proftpd.keys
SFTPAuthMethods publickey
%[3]s
`, port, m.dir, strings.Join(more, "\n")))
	m.stay(m.atHome("proftpd", "-n", "-c", conf))
	m.listens(addr)
	return addr
}

// erlang takes keys from the list of the home folder, and has no shell but its own.
func (m *makes) erlang() string {
	need(m.t, "erl")
	dir := m.path("erlang")
	host, err := os.ReadFile(m.path("host"))
	if err = errors.Join(err, os.MkdirAll(dir, 0o700)); err != nil {
		m.t.Fatal(err)
	}
	m.write(filepath.Join(dir, "ssh_host_ed25519_key"), string(host))
	cmd := m.atHome("erl", "-noshell", "-kernel", "logger_level", "none", "-eval", fmt.Sprintf(`application:ensure_all_started(ssh),
		{ok, D} = ssh:daemon({127,0,0,1}, 0, [{system_dir, %q}, {user_dir, %q}, {subsystems, [ssh_sftpd:subsystem_spec([])]}]),
		{ok, I} = ssh:daemon_info(D), io:format("~p~n", [proplists:get_value(port, I)]).`, dir, m.in(".ssh")))
	return m.stayAtPort(cmd, "Erlang's server")
}

// stayAtPort runs a server that prints its port, and returns the address.
func (m *makes) stayAtPort(cmd *exec.Cmd, what string) string {
	m.t.Helper()
	out, err := cmd.StdoutPipe()
	if err != nil {
		m.t.Fatal(err)
	}
	m.stay(cmd)
	port := bufio.NewScanner(out)
	if !port.Scan() {
		missing(m.t, what+" did not start; scripts/test installs it")
	}
	return "127.0.0.1:" + port.Text()
}

// session writes a session for a server, and vouches for it.
func (m *makes) session(name, addr, more string) {
	m.t.Helper()
	host, port, _ := net.SplitHostPort(addr)
	text, _ := os.ReadFile(m.path("sessions.toml"))
	m.write(m.path("sessions.toml"), fmt.Sprintf("%s\n[session.%s]\nhost = %q\nport = %s\nuser = \"root\"\nkeepalive = \"1s\"\n%s\n", text, name, host, port, more))
	r := do(m.t, m.dir, "", "run", name, "--", "true")
	_, yes, ok := strings.Cut(r.err, "--yes-identity ")
	if !ok {
		m.t.Fatalf("%s: no first visit: %+v", name, r)
	}
	do(m.t, m.dir, "", "run", "--yes-identity", strings.TrimSpace(yes), name, "--", "true")
}

// outlives is a command that takes longer than keepalives are apart.
const outlives = "sleep 3; echo hello"

func (m *makes) runs(name string) {
	m.t.Helper()
	if r := do(m.t, m.dir, "", "run", name, "--", outlives); r.status != 0 || r.out != "hello\n" {
		m.t.Errorf("%s: %+v", name, r)
	}
}

func TestServersOfOtherMakesRunCommandsAndStandKeepalives(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	ed, rsaKey := `key = "keys/ed.pem"`, `key = "keys/rsa.pem"`
	m.session("drop", m.dropbear(), ed)
	m.session("tiny", m.tinyssh(), ed)
	m.session("async", m.asyncssh(), ed)
	silent := m.asyncssh("silent")
	m.session("silent", silent, rsaKey)
	m.session("rung", m.asyncssh("silent"), rsaKey+"\nring = \"on\"") // out of the ring
	var group sync.WaitGroup
	for _, name := range []string{"drop", "tiny", "async", "silent", "rung"} {
		group.Go(func() { m.runs(name) })
	}
	group.Wait()
	r := do(t, m.dir, "", "check", "--depth", "identity")
	for _, name := range []string{"drop", "tiny", "async", "silent"} {
		if !strings.Contains(r.out, name) || strings.Contains(r.out, name+"  blocked") {
			t.Errorf("checked:\n%s%s", r.out, r.err)
		}
	}
}

func TestServersOfOtherMakesTakeKeysIntoTheirLists(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	list := m.in(".ssh", "authorized_keys")
	before, _ := os.ReadFile(list)
	fresh, _ := os.ReadFile(m.path("keys", "new.pem.pub"))
	key := string(fresh[:strings.LastIndexByte(string(fresh), ' ')])
	for name, addr := range map[string]string{"drop": m.dropbear(), "async": m.asyncssh(), "ftp": m.proftpd(), "tiny": m.tinyssh()} { // tiny opens one channel for each login
		m.write(list, string(before))
		m.session(name, addr, `key = "keys/ed.pem"`)
		r := do(t, m.dir, "", "key", "install", m.path("keys", "new.pem"), name)
		text, _ := os.ReadFile(list)
		if !strings.Contains(string(text), key) || !strings.HasPrefix(string(text), string(before)) {
			t.Errorf("%s: the list is now\n%s%+v", name, text, r)
		}
		if proven := strings.Contains(r.out, "proven"); proven != (name != "ftp") { // which has a list of its own
			t.Errorf("%s: %+v", name, r)
		}
		if files, _ := os.ReadDir(m.in(".ssh")); len(files) != 1 {
			t.Errorf("%s: left behind %v", name, files)
		}
	}
}

func TestServersOfOtherMakesCarryTunnels(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	l := must(net.Listen("tcp", "127.0.0.1:0"))
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(conn, "high water\n")
			conn.Close()
		}
	}()
	tunnel := fmt.Sprintf("key = \"keys/ed.pem\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = %q }]", l.Addr())
	m.session("drop", m.dropbear(), tunnel)
	m.session("async", m.asyncssh(), tunnel)
	m.session("tiny", m.tinyssh(), tunnel)
	for _, name := range []string{"drop", "async"} {
		h := hold(t, nil, m.dir, name)
		conn, err := net.Dial("tcp", h.door(""))
		if err != nil {
			t.Fatal(err)
		}
		said, _ := bufio.NewReader(conn).ReadString('\n')
		conn.Close()
		if said != "high water\n" {
			t.Errorf("%s: it said %q", name, said)
		}
		h.end()
	}
	h := hold(t, nil, m.dir, "tiny") // which knows no onward connections
	h.until(`"event":"proven"`)
	if told := h.told.String(); strings.Contains(told, "packets") || !strings.Contains(told, "have onward connections allowed at tiny") {
		t.Errorf("a server without onward connections:\n%s", told)
	}
	h.end()
}

func TestServersOfOtherMakesMoveFiles(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	from := t.TempDir()
	for i := range 150 {
		os.MkdirAll(filepath.Join(from, fmt.Sprint("d", i%3)), 0o755)
		m.write(filepath.Join(from, fmt.Sprintf("d%d/f%d", i%3, i)), fmt.Sprint("reading ", i))
	}
	m.write(filepath.Join(from, "odd name\twith [1m"), "odd")
	m.write(filepath.Join(from, "large"), strings.Repeat("0123456789abcdef", 200_000))
	for _, link := range [][2]string{{"d1/f1", "latest"}, {"nowhere", "d0/broken"}, {"../large", "d2/up"}} {
		if err := os.Symlink(link[0], filepath.Join(from, link[1])); err != nil {
			t.Fatal(err)
		}
	}
	for name, addr := range map[string]string{"ftp": m.proftpd(), "drop": m.dropbear(), "async": m.asyncssh(), "tiny": m.tinyssh()} {
		m.session(name, addr, `key = "keys/ed.pem"`)
		r := do(t, m.dir, "", "send", from, name+":tables-"+name)
		if r.status != 0 {
			t.Errorf("%s: %+v", name, r)
			continue
		}
		if proven := strings.Contains(r.out, "152 files proven by digest"); proven != (name != "async") { // of commands, or where there are none of an extension
			t.Errorf("%s: %+v", name, r)
		}
		there := m.in("tables-" + name)
		alike(t, from, there)
		m.write(filepath.Join(from, "large"), strings.Repeat("fedcba9876543210", 200_000)+name)
		latest := filepath.Join(from, "latest")
		before := must(os.Readlink(latest))
		turn := func(leads string) {
			if err := errors.Join(os.Remove(latest), os.Symlink(leads, latest)); err != nil {
				t.Fatal(err)
			}
		}
		turn("d2/of-" + name)
		r = do(t, m.dir, "", "mirror", from, name+":tables-"+name)
		if !strings.Contains(r.out, "2 replaced") {
			t.Errorf("%s: %+v", name, r)
		}
		if name == "ftp" { // it would move d1/f1 in place of the link that leads there
			if r.status != 5 || !strings.Contains(r.err, "latest: not moved: the server follows links") {
				t.Errorf("%+v", r)
			}
			turn(before)
		} else if r.status != 0 {
			t.Errorf("%s: %+v", name, r)
		}
		alike(t, from, there)
		back := filepath.Join(t.TempDir(), name)
		if r := do(t, m.dir, "", "fetch", name+":tables-"+name, back); r.status != 0 {
			t.Errorf("%s: %+v", name, r)
		}
		alike(t, from, back)
		for range 2 {
			do(t, m.dir, "", "cargo", "undo") // of what came, and of what was replaced
		}
		if text, _ := os.ReadFile(filepath.Join(there, "large")); !strings.HasPrefix(string(text), "0123") && !strings.HasPrefix(string(text), "fedc") {
			t.Errorf("%s: large is %.20q", name, text)
		}
	}
}

// A server that moves what a link leads to in place of the link is found out before that, whatever it calls itself.
func TestALinkAtAServerThatFollowsThemMovesNothing(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	from := t.TempDir()
	os.Mkdir(filepath.Join(from, "d1"), 0o755)
	m.write(filepath.Join(from, "d1", "f1"), "reading")
	for name, more := range map[string]string{"named": "", "unnamed": `ServerIdent on "high water"`} {
		m.session(name, m.proftpd(more), `key = "keys/ed.pem"`)
		if r := do(t, m.dir, "", "send", from, name+":"+name); r.status != 0 {
			t.Fatalf("%s: %+v", name, r)
		}
		for _, link := range []string{"fresh", "d1/beside"} { // to what is there already
			leads := must(filepath.Rel(filepath.Dir(link), "d1/f1"))
			if err := os.Symlink(leads, filepath.Join(from, link)); err != nil {
				t.Fatal(err)
			}
		}
		if r := do(t, m.dir, "", "send", from, name+":"+name); r.status != 0 || !strings.Contains(r.out, "2 made") {
			t.Errorf("%s: %+v", name, r)
		}
		there := m.in(name)
		left, _ := filepath.Glob(filepath.Join(there, ".meatus-part-*"))
		more, _ := filepath.Glob(filepath.Join(there, "d1", ".meatus-part-*"))
		for _, part := range append(left, more...) {
			if name == "named" {
				t.Errorf("%s is left behind", part)
			}
			os.Remove(part)
		}
		alike(t, from, there)
		for _, link := range []string{"fresh", "d1/beside"} {
			os.Remove(filepath.Join(from, link))
		}
		if r := do(t, m.dir, "", "mirror", "--delete", from, name+":"+name); r.status != 5 && r.status != 6 {
			t.Errorf("%s: %+v", name, r)
		}
		if text, _ := os.ReadFile(filepath.Join(there, "d1", "f1")); string(text) != "reading" {
			t.Errorf("%s: what the links led to is gone", name)
		}
	}
}

// Erlang's server gives one handle to two open files where three are open on a channel, ends the channel at a name that is
// not UTF-8, tells no digests, and makes a link lead from its own folder. Two runs.
func TestErlangsServerGetsOneFileAtATimeOnEachChannel(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	m.session("erl", m.erlang(), `key = "keys/ed.pem"`)
	from := t.TempDir()
	for i := range 600 {
		m.write(filepath.Join(from, fmt.Sprintf("f%d", i)), fmt.Sprint("reading ", i*i))
	}
	m.write(filepath.Join(from, "large"), strings.Repeat("0123456789abcdef", 50_000))
	odd := filepath.Join(from, "caf\xe9")
	for range 2 {
		m.write(odd, "odd")
		if err := os.Symlink("f1", filepath.Join(from, "latest")); err != nil {
			t.Fatal(err)
		}
		r := do(t, m.dir, "", "mirror", from, "erl:tables")
		for _, want := range []string{"erl ends the file-transfer channel whenever this name is asked for", "latest: not moved: the link cannot be made: the server makes it lead to"} {
			if !strings.Contains(r.err, want) {
				t.Errorf("not told: %s\n%+v", want, r)
			}
		}
		if r.status != 5 || strings.Count(r.err, "not moved") != 2 {
			t.Errorf("%+v", r)
		}
		if err := errors.Join(os.Remove(odd), os.Remove(filepath.Join(from, "latest"))); err != nil {
			t.Fatal(err)
		}
		alike(t, from, m.in("tables"))
	}
	back := filepath.Join(t.TempDir(), "back")
	if r := do(t, m.dir, "", "fetch", "erl:tables", back); r.status != 0 || !strings.Contains(r.out, "601 files by size alone (") {
		t.Errorf("%+v", r)
	}
	alike(t, from, back)
}

// The status of a program that ends before its input is its own. tinysshd ends the connection then and tells none, which is
// said; where the program reads its input the status is there.
func TestAProgramThatEndsBeforeItsInputHasItsStatus(t *testing.T) {
	t.Parallel()
	m := openMakes(t)
	ed := `key = "keys/ed.pem"`
	m.session("tiny", m.tinyssh(), ed)
	m.session("drop", m.dropbear(), ed)
	m.session("async", m.asyncssh(), ed)
	for _, name := range []string{"tiny", "drop", "async"} {
		for range 5 {
			r := do(t, m.dir, strings.Repeat("0123456789abcdef", 20_000), "run", name, "--", "head -c 10; exit 7")
			if told := name == "tiny" && r.status == 253 && strings.Contains(r.err, "the exit status is not known"); !told && (r.out != "0123456789" || r.status != 7) {
				t.Errorf("%s: %+v", name, r)
			}
			r = do(t, m.dir, strings.Repeat("0123456789abcdef", 20_000), "run", name, "--", "{ head -c 10; s=7; cat >/dev/null; exit $s; }")
			if r.status != 7 || r.out != "0123456789" {
				t.Errorf("%s reads its input: %+v", name, r)
			}
		}
	}
}
