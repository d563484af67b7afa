package e2e

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"

	"meatus/lab/await"
	"meatus/lab/servertest"
)

// daemon is this program at one of its long tasks.
type daemon struct {
	t    *testing.T
	cmd  *exec.Cmd
	file string
}

// daemonIn starts it in a namespace, "" for none.
func daemonIn(t *testing.T, ns string, args ...string) *daemon {
	t.Helper()
	command := append([]string{program}, args...)
	if ns != "" {
		command = append([]string{"ip", "netns", "exec", ns}, command...)
	}
	d := &daemon{t: t, cmd: exec.Command(command[0], command[1:]...), file: filepath.Join(t.TempDir(), "log")}
	log, err := os.Create(d.file)
	if err != nil {
		t.Fatal(err)
	}
	d.cmd.Stdout, d.cmd.Stderr = log, log
	if err := d.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	log.Close()
	t.Cleanup(func() { d.end(os.Kill) })
	return d
}

func (d *daemon) says() string {
	text, _ := os.ReadFile(d.file)
	return string(text)
}

func (d *daemon) until(what string) string {
	d.t.Helper()
	if !await.Within(await.Patience, func() bool { return strings.Contains(d.says(), what) }) {
		d.t.Fatalf("it never said %q:\n%s", what, d.says())
	}
	return d.says()
}

// end ends it by a signal, and waits.
func (d *daemon) end(by os.Signal) {
	if d.cmd.ProcessState == nil {
		d.cmd.Process.Signal(by)
		d.cmd.Wait()
	}
}

var hostKeyOf = regexp.MustCompile(`host_key=(SHA256:\S+)`)

// deep is a gateway at the bastion, and a machine that lets nobody in at all and has joined it.
type deep struct {
	*peers
	state   string
	serve   func() *daemon
	gateway *daemon
	hostKey string
	joined  *daemon
}

const gatewayPort = "4443"

// startDeep starts them. The machine dials out to the bastion's inner address, we to its outer one.
func startDeep(t *testing.T) *deep {
	t.Helper()
	need(t, "nft", "setsid")
	p := startPeers(t)
	d := &deep{peers: p, state: p.path("gateway")}
	system(t, fmt.Sprintf(`ip netns exec %s nft -f - <<'E'
table inet shut {
	chain in {
		type filter hook input priority 0; policy drop;
		iif lo accept
		ct state established,related accept
	}
}
E`, p.inner))
	p.serveWith("deep", p.inner, "127.0.0.1", "inner", "", "X11Forwarding yes\n")
	if err := os.MkdirAll(d.state, 0o700); err != nil {
		t.Fatal(err)
	}
	key := do(t, p.dir, "", "key", "show", p.path("keys", "outer.pem")).out
	print := regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`).FindString(key)
	if print == "" {
		t.Fatalf("no fingerprint in %s", key)
	}
	p.write(filepath.Join(d.state, "gateway.policy"), "person mira key "+print+"\nallow mira to deep\n", 0o600)
	d.serve = func() *daemon {
		g := daemonIn(t, p.bastion, "gateway", "serve", "--state", d.state, "--listen", ":"+gatewayPort, "--drain", "1s")
		d.hostKey = hostKeyOf.FindStringSubmatch(g.until("serving"))[1]
		return g
	}
	d.gateway = d.serve()
	token := do(t, p.dir, "", "gateway", "token", "deep", "--state", d.state)
	if token.status != 0 {
		t.Fatalf("%+v", token)
	}
	p.write(p.path("token"), token.out, 0o600)
	d.joined = d.join("127.0.0.1:22")
	d.joined.until("joined")
	d.workspace("")
	return d
}

// join joins the machine, whose SSH server listens at an address of its own.
func (d *deep) join(ssh string, more ...string) *daemon {
	d.t.Helper()
	return daemonIn(d.t, d.inner, append([]string{"gateway", "join", "wss://" + inwardAddr + ":" + gatewayPort, "--host-key", d.hostKey, "--key", d.path("machine.pem"), "--token-file", d.path("token"), "--ssh", ssh}, more...)...)
}

func (d *deep) workspace(more string) {
	d.t.Helper()
	d.peers.workspace(fmt.Sprintf("\n[gateway.bay]\nurl = \"wss://%s:%s\"\nhost_key = %q\nkey = \"keys/outer.pem\"\nkeepalive = \"1s\"\n%s\n[session.deep]\nhost = \"deep\"\nvia = [\"bay\"]\nkey = \"keys/inner.pem\"\nkeepalive = \"1s\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"127.0.0.1:8081\" }]\n", bastionAddr, gatewayPort, d.hostKey, more))
}

func TestAMachineWithNoWayInIsReachedThroughAGateway(t *testing.T) {
	t.Parallel()
	d := startDeep(t)
	// Nobody can knock there.
	if out, err := exec.Command("ip", "netns", "exec", d.bastion, "bash", "-c", "timeout 1 bash -c '</dev/tcp/"+innerAddr+"/22'").CombinedOutput(); err == nil {
		t.Fatalf("the machine lets somebody in: %s", out)
	}
	d.vouch("deep")
	r := d.run("run", "--trace", "deep", "--", "echo $SSH_CONNECTION; exit 37")
	if r.status != 37 || !strings.HasPrefix(r.out, "127.0.0.1 ") {
		t.Errorf("%+v", r)
	}
	for _, want := range []string{"bay           address   open", "answers as meatus_gateway", "the key that is named", "known by key outer.pem", "onward to deep", "answers as OpenSSH", "vouched"} {
		if !strings.Contains(r.err, want) {
			t.Errorf("no %q in %s", want, r.err)
		}
	}
	// 60 MB each way.
	const size = 60_000_000
	stream := func(w io.Writer) {
		random, piece := rand.NewChaCha8([32]byte{7}), make([]byte, 1<<20)
		for left := size; left > 0; left -= len(piece) {
			piece = piece[:min(left, len(piece))]
			random.Read(piece)
			w.Write(piece)
		}
	}
	want := sha256.New()
	stream(want)
	sum := fmt.Sprintf("%x", want.Sum(nil))
	through := exec.Command("ip", "netns", "exec", d.here, program, "--workspace", d.dir, "run", "deep", "--", "tee /dev/stderr | sha256sum >&2; true")
	through.Args[len(through.Args)-1] = "sha256sum"
	in, err := through.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	var said bytes.Buffer
	through.Stdout, through.Stderr = &said, &said
	if err := through.Start(); err != nil {
		t.Fatal(err)
	}
	stream(in)
	in.Close()
	if err := through.Wait(); err != nil || !strings.HasPrefix(said.String(), sum) {
		t.Errorf("up: %v %s, want %s", err, said.String(), sum)
	}
	file := d.path("large")
	big, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	stream(big)
	big.Close()
	down := exec.Command("ip", "netns", "exec", d.here, program, "--workspace", d.dir, "run", "deep", "--", "cat "+file)
	got := sha256.New()
	down.Stdout = got
	if err := down.Run(); err != nil || fmt.Sprintf("%x", got.Sum(nil)) != sum {
		t.Errorf("down: %v", err)
	}
	// Cargo goes there and back, and is proven.
	tree := d.path("tree")
	for i := range 60 {
		os.MkdirAll(filepath.Join(tree, fmt.Sprint(i%7)), 0o755)
		d.write(filepath.Join(tree, fmt.Sprint(i%7), fmt.Sprint(i)), strings.Repeat("tide ", i*100), 0o644)
	}
	for _, args := range [][]string{{"send", tree, "deep:" + d.path("there")}, {"fetch", "deep:" + d.path("there"), d.path("back")}} {
		if r := d.run(args...); r.status != 0 {
			t.Errorf("%v: %+v", args, r)
		}
	}
	if out, err := exec.Command("diff", "-r", tree, d.path("back")).CombinedOutput(); err != nil {
		t.Errorf("%v %s", err, out)
	}
	// Who came is on record, whole.
	record := do(t, d.dir, "", "gateway", "record", "--state", d.state)
	if !strings.Contains(record.out, "mira (key SHA256:") || !strings.Contains(record.out, "reached deep; gateway.policy:2 allows it") || !strings.Contains(record.out, "60 MB to it") {
		t.Errorf("the record: %+v", record)
	}
	if r := do(t, d.dir, "", "gateway", "verify", "--state", d.state); r.status != 0 || !strings.Contains(r.err, "each as it was written") {
		t.Errorf("%+v", r)
	}
}

func TestAProgramBehindAGatewayDrawsHere(t *testing.T) {
	t.Parallel()
	v := startVirtual(t)
	d := startDeep(t)
	d.vouch("deep")
	cmd := exec.Command("ip", "netns", "exec", d.here, program, "--workspace", d.dir, "run", "--windows", "deep", "--", "xlogo -title soundings")
	cmd.Env = v.env
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	v.until(`"soundings"`, true)
	cmd.Process.Signal(os.Interrupt)
	cmd.Wait()
	v.until(`"soundings"`, false)
}

// The disk with the gateway's record runs full: nothing new is let through, what runs goes on, and when there is room
// again so does the rest.
func TestAGatewayWhoseDiskIsFull(t *testing.T) {
	t.Parallel()
	d := startDeep(t)
	d.vouch("deep")
	d.gateway.end(os.Interrupt)
	kept := d.path("kept")
	if err := os.Rename(d.state, kept); err != nil {
		t.Fatal(err)
	}
	os.Mkdir(d.state, 0o700)
	system(t, "mount -t tmpfs -o size=4M,mode=0700 tmpfs "+d.state)
	t.Cleanup(func() { exec.Command("umount", "-l", d.state).Run() })
	system(t, "cp -a "+kept+"/. "+d.state)
	d.gateway = d.serve()
	running := exec.Command("ip", "netns", "exec", d.here, program, "--workspace", d.dir, "run", "deep", "--", "echo begun; cat")
	in, _ := running.StdinPipe()
	out, _ := running.StdoutPipe()
	if err := running.Start(); err != nil {
		t.Fatal(err)
	}
	lines := bufio.NewReader(out)
	if got, err := lines.ReadString('\n'); got != "begun\n" {
		t.Fatalf("%q %v\n%s", got, err, d.gateway.says())
	}
	full := filepath.Join(d.state, "full")
	exec.Command("dd", "if=/dev/zero", "of="+full, "bs=4k").Run()
	refused := func() result { return d.run("run", "deep", "--", "echo in") }
	await.Until(t, "a disk that is full", func() bool {
		r := refused()
		return r.status != 0 && strings.Contains(r.err, "record cannot be written")
	})
	d.gateway.until("nothing new is let through")
	if r := do(t, d.dir, "", "gateway", "verify", "--state", d.state); r.status != 0 {
		t.Errorf("%+v", r)
	}
	io.WriteString(in, "still here\n")
	if got, err := lines.ReadString('\n'); got != "still here\n" {
		t.Errorf("what ran before: %q %v", got, err)
	}
	in.Close()
	running.Wait()
	if err := os.Remove(full); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "room again", func() bool { r := refused(); return r.status == 0 && r.out == "in\n" })
	if r := do(t, d.dir, "", "gateway", "verify", "--state", d.state); r.status != 0 || !strings.Contains(r.err, "each as it was written") {
		t.Errorf("%+v", r)
	}
}

func TestWaysThroughAGatewayReturn(t *testing.T) {
	t.Parallel()
	d := startDeep(t)
	web := d.path("web")
	if out, err := exec.Command("go", "build", "-o", web, "meatus/e2e/farside").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	inside(t, d.inner, "serving", web, "web", "127.0.0.1:8081")
	d.vouch("deep")
	h := hold(t, []string{"ip", "netns", "exec", d.here}, d.dir, "deep")
	door := h.door("127.0.0.1:8081")
	page := func() string {
		out, _ := exec.Command("ip", "netns", "exec", d.here, "curl", "-sS", "--max-time", "20", "http://"+door+"/").CombinedOutput()
		return string(out)
	}
	back := func(after string) {
		t.Helper()
		var got string
		if !await.Within(await.Patience, func() bool { got = page(); return strings.HasPrefix(got, "tide tables") }) {
			t.Fatalf("after %s: %s\n%s\n%s", after, got, d.gateway.says(), d.joined.says())
		}
	}
	back("the start")
	// The gateway is killed and started.
	d.gateway.end(syscall.SIGKILL)
	d.gateway = d.serve()
	back("the gateway was killed")
	// The machine's line is cut and restored.
	system(t, "ip -n "+d.inner+" link set ib down")
	if got := page(); strings.HasPrefix(got, "tide tables") {
		t.Errorf("with the line cut: %s", got)
	}
	system(t, "ip -n "+d.inner+" link set ib up")
	system(t, "ip -n "+d.inner+" addr replace "+innerAddr+"/30 dev ib")
	back("the machine's line was cut")
	// Our own line is cut and restored.
	system(t, "ip -n "+d.here+" link set oa down")
	system(t, "ip -n "+d.here+" link set oa up")
	back("our line was cut")
	// What joins is killed and started.
	d.joined.end(syscall.SIGKILL)
	d.joined = d.join("127.0.0.1:22")
	back("what joins was killed")
	if status := h.end(); status != 0 {
		t.Errorf("ended with %d: %s", status, h.errs.String())
	}
}

// A gateway that leads to another machine than it says is found by that machine's key, and gets to see nothing.
func TestAGatewayThatLies(t *testing.T) {
	t.Parallel()
	d := startDeep(t)
	d.vouch("deep")
	other := "127.0.0.2"
	d.serveWith("false", d.inner, other, "inner", "", "")
	d.joined.end(os.Interrupt)
	d.joined = d.join(other + ":22")
	d.joined.until("joined")
	r := d.run("run", "deep", "--", "true")
	if r.status != 253 || !strings.Contains(r.err, "deep: identity: deep shows another host key than the trusted one") {
		t.Errorf("%+v", r)
	}
	if strings.Contains(d.log("false"), "Accepted") {
		t.Errorf("a login went to the false machine:\n%s", d.log("false"))
	}
	// Another gateway in its place is found before anything is sent to it.
	d.gateway.end(syscall.SIGKILL)
	if err := os.Remove(filepath.Join(d.state, "gateway.pem")); err != nil {
		t.Fatal(err)
	}
	named := d.hostKey
	d.gateway = d.serve()
	if r := d.run("run", "deep", "--", "true"); r.status != 253 || !strings.Contains(r.err, "bay: identity: the certificate of bay is not valid") || !strings.Contains(r.err, named) {
		t.Errorf("%+v", r)
	}
	if strings.Contains(d.gateway.says(), "a person is here") {
		t.Errorf("a login went to the false gateway:\n%s", d.gateway.says())
	}
	// So does the machine.
	d.joined.until("the certificate that it shows does not hold")
}

// Refusals stand in words at their gate.
func TestRefusalsAtAGateway(t *testing.T) {
	t.Parallel()
	d := startDeep(t)
	d.vouch("deep")
	policy := filepath.Join(d.state, "gateway.policy")
	text, err := os.ReadFile(policy)
	if err != nil {
		t.Fatal(err)
	}
	another := func(rules, says string) {
		t.Helper()
		d.write(policy, rules, 0o600)
		var r result
		if !await.Within(await.Patience, func() bool {
			r = d.run("run", "deep", "--", "true")
			return r.status == 253 && strings.Contains(r.err, says)
		}) {
			t.Errorf("want %q: %+v", says, r)
		}
	}
	another(strings.Replace(string(text), "allow mira to deep", "allow mira to reef", 1), "bay: channel: mira may not reach deep here: no rule of its policy allows it")
	another(string(text)+"deny mira to deep\n", "bay: channel: mira may not reach deep here: line 3 of its policy denies it")
	another("# nobody\n", "bay: login: bay does not know the key or certificate")
	d.write(policy, string(text), 0o600)
	if r := do(t, d.dir, "", "gateway", "explain", "mira", "deep", "--state", d.state); r.status != 0 || !strings.Contains(r.out, "gateway.policy:2 allows it") {
		t.Errorf("%+v", r)
	}
	if r := do(t, d.dir, "", "gateway", "explain", "mira", "reef", "--state", d.state); r.status != 3 || !strings.Contains(r.out, "no rule of gateway.policy lets mira reach reef") {
		t.Errorf("%+v", r)
	}
	// A machine that is revoked ends by itself, and is gone.
	if r := do(t, d.dir, "", "gateway", "revoke", "deep", "--state", d.state); r.status != 0 {
		t.Errorf("%+v", r)
	}
	d.joined.until("not let this machine join")
	another(string(text), "deep: address: no machine called deep has joined here")
}

// Both sides go through a proxy, one that closes what is idle.
func TestAGatewayBehindProxies(t *testing.T) {
	t.Parallel()
	need(t, "tinyproxy", "ss")
	d := startDeep(t)
	d.joined.end(os.Interrupt)
	config := d.path("tinyproxy.conf")
	d.write(config, fmt.Sprintf("Port 3128\nTimeout 30\nMaxClients 20\nConnectPort %s\nLogLevel Connect\n", gatewayPort), 0o644)
	d.inNamespace(d.bastion, ":3128", "tinyproxy", "-d", "-c", config)
	d.joined = d.join("127.0.0.1:22", "--proxy", "http://"+inwardAddr+":3128")
	d.joined.until("joined")
	d.workspace(fmt.Sprintf("proxy = \"http://%s:3128\"\n", bastionAddr))
	d.vouch("deep")
	r := d.run("run", "--trace", "deep", "--", "echo here")
	if r.status != 0 || r.out != "here\n" || !strings.Contains(r.err, "bay           proxy     open") {
		t.Errorf("%+v", r)
	}
}

// Two gateways on one PostgreSQL: whoever comes to the one reaches what is joined at the other, and when that is
// killed its machines are at the other within seconds.
func TestTwoGatewaysOnARealDatabase(t *testing.T) {
	t.Parallel()
	db := servertest.Postgres(t)
	s := servertest.Start(t)
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	print := regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`).FindString(do(t, dir, "", "key", "show", s.Key).out)
	policy := write("gateway.policy", "person mira key "+print+"\nallow mira to reef\n")
	type gateway struct {
		*daemon
		url string
	}
	var hostKey string
	serve := func(name string) gateway {
		d := daemonIn(t, "", "gateway", "serve", "--state", dir, "--policy", policy, "--store", db.URL, "--listen", "127.0.0.1:0", "--name", name, "--reached-at", "127.0.0.1:0", "--drain", "1s")
		said := d.until("serving")
		hostKey = hostKeyOf.FindStringSubmatch(said)[1]
		return gateway{d, "wss://" + regexp.MustCompile(`at=(127\.0\.0\.1:\d+)`).FindStringSubmatch(said)[1]}
	}
	a, b := serve("a"), serve("b")
	token := do(t, dir, "", "gateway", "token", "reef", "--state", dir, "--store", db.URL)
	j := daemonIn(t, "", "gateway", "join", b.url, a.url, "--host-key", hostKey, "--key", filepath.Join(dir, "machine.pem"), "--token", strings.TrimSpace(token.out), "--ssh", s.Address)
	j.until("joined")
	sessions := func(urls ...string) {
		write("sessions.toml", fmt.Sprintf("[gateway.bay]\nurl = [\"%s\"]\nhost_key = %q\nkey = %q\n\n[session.reef]\nhost = \"reef\"\nuser = \"root\"\nvia = [\"bay\"]\nkey = %q\n", strings.Join(urls, "\", \""), hostKey, s.Key, s.Key))
	}
	sessions(a.url)
	run := func() result {
		return do(t, dir, "", "run", "reef", "--yes-identity", "reef="+print, "--", "echo here")
	}
	if r := run(); r.status != 0 || r.out != "here\n" {
		t.Fatalf("from the one to the other: %+v\n%s\n%s", r, a.says(), b.says())
	}
	if r := do(t, dir, "", "gateway", "machines", "--state", dir, "--store", db.URL); !strings.Contains(r.out, "joined at b") {
		t.Errorf("%+v", r)
	}
	b.end(syscall.SIGKILL)
	if r := run(); r.status != 0 { // it waits for a machine that moves
		await.Until(t, "the machine to be at the other", func() bool { return run().status == 0 })
	}
	if r := do(t, dir, "", "gateway", "machines", "--state", dir, "--store", db.URL); !strings.Contains(r.out, "joined at a") {
		t.Errorf("%+v", r)
	}
	// The database is killed and started under load.
	load := exec.Command(program, "--workspace", dir, "run", "reef", "--", "head -c 100000000 /dev/zero; sleep 2; echo whole")
	out, err := os.Create(filepath.Join(dir, "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	load.Stdout = out
	if err := load.Start(); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "something to come", func() bool {
		info, err := out.Stat()
		return err == nil && info.Size() > 0
	})
	db.Stop()
	if r := run(); r.status != 253 || !strings.Contains(r.err, "nothing new is let through") {
		t.Errorf("without the store: %+v", r)
	}
	db.Start()
	err = load.Wait()
	if text, _ := os.ReadFile(out.Name()); err != nil || !bytes.HasSuffix(text, []byte("whole\n")) || len(text) != 100000006 {
		t.Errorf("what ran meanwhile: %v, %d bytes", err, len(text))
	}
	await.Until(t, "the gateway to let somebody through again", func() bool { return run().status == 0 })
	// One that is away is passed over.
	sessions(b.url, a.url)
	if r := run(); r.status != 0 {
		t.Errorf("the second of two: %+v", r)
	}
	if r := do(t, dir, "", "gateway", "verify", "--state", dir, "--store", db.URL); r.status != 0 {
		t.Errorf("%+v", r)
	}
}
