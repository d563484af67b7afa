package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/lab/await"
)

// leasing is an issuer at the bastion, and a machine behind that which trusts none yet.
type leasing struct {
	*peers
	state, config, reload string
	serve                 func() *daemon
	issuer                *daemon
	hostKey               string
}

const issuerPort = "4543"

func startLeasing(t *testing.T) *leasing {
	t.Helper()
	p := startPeers(t)
	l := &leasing{peers: p, state: p.path("issuer")}
	p.empty(p.inner)
	pid := p.path("server-reef", "pid")
	p.serveWith("reef", p.inner, innerAddr, "inner", "PidFile "+pid+"\n", "AllowUsers root@"+inwardAddr)
	l.config, l.reload = p.path("server-reef", "config"), "kill -HUP $(cat "+pid+")"
	os.MkdirAll(l.state, 0o700)
	p.key("runa", "")
	print := func(name string) string {
		out := do(t, p.dir, "", "key", "show", p.path("keys", name+".pem")).out
		return regexp.MustCompile(`SHA256:[A-Za-z0-9+/]{43}`).FindString(out)
	}
	p.write(filepath.Join(l.state, "issuer.policy"), "person mira key "+print("outer")+"\nperson runa key "+print("runa")+`
allow mira to reef as root for 60s called night-watch
allow mira to mole as stranger for 60s
allow mira to deep as root for 20s with reason end agreed-by runa called with-a-yes
enrols mira as reef.internal
reads runa
`, 0o600)
	l.serve = func() *daemon {
		d := daemonIn(t, p.bastion, "issuer", "serve", "--state", l.state, "--listen", ":"+issuerPort, "--drain", "1s")
		l.hostKey = hostKeyOf.FindStringSubmatch(d.until("serving"))[1]
		return d
	}
	l.issuer = l.serve()
	l.sessions("")
	p.vouch("reef")
	return l
}

// sessions writes those of mira, and those of runa in a workspace of her own.
func (l *leasing) sessions(more string) {
	l.t.Helper()
	table := fmt.Sprintf("\n[issuer.bay]\nurl = \"wss://%s:%s\"\nhost_key = %q\nkey = ", bastionAddr, issuerPort, l.hostKey)
	l.workspace(table + "\"keys/outer.pem\"\n" + more)
	os.MkdirAll(l.path("runa"), 0o700)
	l.write(l.path("runa", "sessions.toml"), table+fmt.Sprintf("%q\n", l.path("keys/runa.pem")), 0o600)
}

// runas runs the program as runa.
func (l *leasing) runas(args ...string) result {
	l.t.Helper()
	return doIn(l.t, []string{"ip", "netns", "exec", l.here}, l.path("runa"), "", args...)
}

// enrol enrols the machine behind the bastion.
func (l *leasing) enrol(more ...string) result {
	l.t.Helper()
	return l.run(append([]string{"lease", "enrol", "reef", "--issuer", "bay", "--server-config", l.config, "--reload", l.reload}, more...)...)
}

func TestAMachineIsEnrolledAndLeasesLetIn(t *testing.T) {
	t.Parallel()
	l := startLeasing(t)
	before := string(must(os.ReadFile(l.config)))
	if r := l.enrol(); r.status != 0 || !strings.Contains(r.out, "+ TrustedUserCAKeys ") || !strings.Contains(r.err, "nothing was written") {
		t.Fatalf("%+v", r)
	}
	if now := string(must(os.ReadFile(l.config))); now != before {
		t.Fatal("looking has written")
	}
	// What cannot be proven is put back, to the byte: nobody is called stranger there.
	for name, c := range map[string]struct {
		args []string
		say  string
	}{
		"no lease for that":             {[]string{"--machine", "whelk"}, "nothing was written"},
		"a login that is not there":     {[]string{"--machine", "mole"}, "everything was restored"},
		"a server between two readings": {[]string{"--machine", "mole", "--reload", `f=` + l.path("told") + `; n=$(cat "$f" 2>/dev/null); echo "x$n" > "$f"; [ "$n" != x ] && ` + l.reload}, "everything was restored"},
		"a server that reads nothing":   {[]string{"--reload", "exit 3"}, "everything was restored"},
		"another configuration":         {[]string{"--server-config", l.path("nothing")}, "there is no " + l.path("nothing")},
	} {
		if r := l.enrol(append(c.args, "--yes")...); r.status == 0 || !strings.Contains(r.err, c.say) {
			t.Errorf("%s: %+v", name, r)
		}
		if now := string(must(os.ReadFile(l.config))); now != before {
			t.Fatalf("%s: the configuration is\n%s", name, now)
		}
		if left, _ := filepath.Glob(l.path("server-reef", "meatus-*")); len(left) > 0 {
			t.Errorf("%s: %v is left", name, left)
		}
		if r := l.run("run", "reef", "--", "echo in"); r.out != "in\n" {
			t.Fatalf("%s: the way of before is lost: %+v", name, r)
		}
	}
	// What another trusts already is not taken away.
	l.write(l.config, "TrustedUserCAKeys /etc/hostname\n"+before, 0o600)
	if r := l.enrol("--yes"); r.status == 0 || !strings.Contains(r.err, "would be lost") {
		t.Errorf("%+v", r)
	}
	l.write(l.config, before, 0o600)
	r := l.enrol("--yes", "--tag", "reef")
	if r.status != 0 || !strings.Contains(r.out, "a fresh login by a lease works") || !strings.Contains(r.out, "reef has leases of bay from now on") {
		t.Fatalf("%+v\n%s\n%s", r, l.issuer.says(), must(os.ReadFile(l.logs["reef"])))
	}
	// The list of keys is empty from here on, and nobody misses it.
	l.write(l.path("server-reef", "authorized"), "", 0o644)
	r = l.run("run", "--trace", "reef", "--", "echo in")
	if r.out != "in\n" || !strings.Contains(r.err, "for root at reef, 1m, by rule night-watch") || !strings.Contains(r.err, "key lease of bay") {
		t.Errorf("%+v", r)
	}
	if log := string(must(os.ReadFile(l.logs["reef"]))); !regexp.MustCompile(`ED25519-CERT .* ID lease \d+ of mira, root at reef \(serial \d+\)`).MatchString(log) {
		t.Errorf("the machine's log does not say who came:\n%s", log)
	}
	if r := l.run("lease"); !strings.Contains(r.out, "root@reef") || !strings.Contains(r.out, "night-watch") {
		t.Errorf("%+v", r)
	}
	// What the log tells is put beside what was granted.
	if r := l.run("lease", "match-logs", "reef", "--log", l.logs["reef"]); r.status != 0 {
		t.Errorf("%+v", r)
	}
	record := do(t, l.dir, "", "issuer", "record", "--state", l.state).out
	for _, want := range []string{"reef trusts, by mira", "may be root at reef for 1m0s, lease ", "may be stranger at mole", "was used at reef: by root from " + inwardAddr} {
		if !strings.Contains(record, want) {
			t.Errorf("no %q in\n%s", want, record)
		}
	}
	verify := func(more ...string) result {
		return do(t, l.dir, "", append([]string{"issuer", "verify", "--state", l.state}, more...)...)
	}
	head := verify("--sign", l.path("keys/other.pem"))
	if head.status != 0 {
		t.Errorf("%+v", head)
	}
	kept := strings.TrimSpace(head.out)
	for pub, want := range map[string]int{"keys/other.pem.pub": 0, "keys/inner.pem.pub": 3} {
		if r := verify("--head", kept, "--signer", l.path(pub)); r.status != want {
			t.Errorf("%s: %+v", pub, r)
		}
	}
	number, rest, _ := strings.Cut(kept, ":")
	if r := verify("--head", number+"1:"+rest, "--signer", l.path("keys/other.pem.pub")); r.status != 3 || !strings.Contains(r.err, "does not hold") {
		t.Errorf("%+v", r)
	}
	if r := l.runas("trail", "--issuer", "bay", "--csv"); r.status != 0 || !strings.Contains(r.out, "may be root at reef for 1m0s") {
		t.Errorf("%+v", r)
	}
	if r := l.run("trail", "--issuer", "bay"); r.status == 0 {
		t.Errorf("somebody reads the record whom the policy does not let: %+v", r)
	}
	// Stopped: no new lease, and the list is carried to the machine.
	if r := do(t, l.dir, "", "issuer", "block", "login", "root", "--state", l.state); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := l.run("run", "reef", "--", "echo in"); r.status != 253 || !strings.Contains(r.err, "are stopped") {
		t.Errorf("%+v", r)
	}
	if r := do(t, l.dir, "", "issuer", "unblock", "login", "root", "--state", l.state); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := l.run("lease", "push", "reef", "--server-config", l.config); r.status != 0 || !strings.Contains(r.out, "knows what is stopped") {
		t.Errorf("%+v", r)
	}
	if list := must(os.ReadFile(l.path("server-reef", "meatus-lease-revoked"))); len(list) < 100 || !strings.HasPrefix(string(list), "SSHKRL\n") {
		t.Errorf("the list that was carried is %q", list)
	}
	// The signing key is changed without locking anybody out.
	for _, args := range [][]string{{"issuer", "key", "next"}, {"issuer", "key", "activate"}} {
		r := do(t, l.dir, "", append(args, "--state", l.state)...)
		if (r.status == 0) != (args[2] == "next") {
			t.Errorf("%v: %+v", args, r)
		}
	}
	await.Until(t, "both keys to be carried", func() bool {
		return l.run("lease", "push", "reef", "--server-config", l.config).status == 0 && do(t, l.dir, "", "issuer", "key", "activate", "--state", l.state).status == 0
	})
	await.Until(t, "a lease by the new key", func() bool { return l.run("run", "reef", "--", "echo in").out == "in\n" })
	// Taken out again, with the way of before.
	l.write(l.path("server-reef", "authorized"), string(must(os.ReadFile(l.path("keys/inner.pem.pub")))), 0o644)
	if r := l.enrol("--remove", "--yes"); r.status != 0 || !strings.Contains(r.out, "a new login with the previous method works") {
		t.Fatalf("%+v", r)
	}
	if now := string(must(os.ReadFile(l.config))); now != before {
		t.Errorf("it is\n%s\nand was\n%s", now, before)
	}
	if r := l.run("run", "reef", "--", "echo in"); r.out != "in\n" {
		t.Errorf("%+v", r)
	}
}

func TestASecondPersonAndADayWithoutTheIssuer(t *testing.T) {
	t.Parallel()
	l := startLeasing(t)
	// The machine's own key is signed, too: whoever trusts the issuer for it is asked nothing on the first visit.
	host, err := ssh.ParsePrivateKey(must(os.ReadFile(l.path("server-reef", "host"))))
	if err != nil {
		t.Fatal(err)
	}
	l.write(l.path("server-reef", "host.pub"), string(ssh.MarshalAuthorizedKey(host.PublicKey())), 0o644)
	if r := l.enrol("--yes", "--host-certificate", "--trust-hosts"); r.status != 0 || !strings.Contains(r.out, "the issuer's key for machines is trusted for reef.internal") {
		t.Fatalf("%+v", r)
	}
	vouched := string(must(os.ReadFile(l.path("vouched.toml"))))
	l.write(l.path("vouched.toml"), regexp.MustCompile(`(?s)\[\[vouch\]\]\nhost *= *.reef\.internal.*?\n\n`).ReplaceAllString(vouched, ""), 0o600)
	if r := l.run("run", "--trace", "reef", "--", "echo in"); r.out != "in\n" || !strings.Contains(r.err, "certificate, ") {
		t.Errorf("%+v", r)
	}
	// The machine once more, under another name, for which somebody else has to agree.
	conf := l.path("server-reef", "meatus-lease.conf")
	l.write(l.path("principals"), "root@deep\n", 0o644)
	l.write(conf, string(must(os.ReadFile(conf)))+"AuthorizedPrincipalsFile "+l.path("principals")+"\n", 0o644)
	await.Until(t, "the server to be told", func() bool { return exec.Command("sh", "-c", l.reload).Run() == nil })
	if r := do(t, l.dir, "", "issuer", "register", "deep", "--state", l.state); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	deep := "\n[session.deep]\nhost = \"reef.internal\"\nvia = [\"quay\"]\nlease = \"bay\"\n"
	l.sessions(deep)
	if r := l.run("run", "deep", "--", "echo in"); r.status != 253 || !strings.Contains(r.err, "the reason for the certificate") {
		t.Errorf("%+v", r)
	}
	begin := func() *daemon {
		return daemonIn(t, l.here, "--workspace", l.dir, "run", "--reason", "the float hangs", "deep", "--", "echo in; exec sleep 1000")
	}
	waiting := func() (id string) {
		await.Until(t, "what waits", func() bool {
			var told struct {
				Waiting []struct{ ID, Person, Reason, State string }
			}
			if err := json.Unmarshal([]byte(l.runas("lease", "--json").out), &told); err != nil || len(told.Waiting) != 1 || told.Waiting[0].Reason != "the float hangs" {
				return false
			}
			id = told.Waiting[0].ID
			return told.Waiting[0].State == "waiting"
		})
		return id
	}
	asks := begin()
	if r := l.runas("lease", "deny", waiting()); r.status != 0 {
		t.Errorf("%+v", r)
	}
	asks.until("runa declined")
	// Killed while it waits: what it asked for is withdrawn.
	asks = begin()
	waiting()
	asks.end(syscall.SIGKILL)
	await.Until(t, "it to be withdrawn", func() bool { return !strings.Contains(l.runas("lease").out, "for your yes") })
	asks = begin()
	if r := l.runas("lease", "approve", waiting()); r.status != 0 {
		t.Errorf("%+v", r)
	}
	asks.until("in\n")
	asks.until("expires in") // the warning, before what is open there ends with the lease
	// The issuer is killed: new leases are not to be had, and it is said where.
	l.issuer.end(syscall.SIGKILL)
	r := l.run("run", "deep", "--", "echo in")
	if r.status != 253 || !strings.Contains(r.err, "the issuer bay issues no certificate") {
		t.Errorf("%+v", r)
	}
	// For such a day something was sealed.
	sealed := l.path("keys/sealed.pem")
	cmd := exec.Command("sh", "-c", `exec 3<<'P'
spring tide, two feet over the wall
P
exec "$0" issuer break-glass "$1" deep --state "$2" --passphrase-fd 3`, program, sealed, l.state)
	if out, err := cmd.CombinedOutput(); err != nil || !strings.Contains(string(out), "sealed until") {
		t.Fatalf("%v %s", err, out)
	}
	l.sessions(deep + fmt.Sprintf("key = %q\n", sealed))
	s := show(t, 100, 30, "ip", "netns", "exec", l.here, program, "--workspace", l.dir, "run", "deep", "--", "echo in by $USER")
	s.until("assphrase of")
	s.text("spring tide, two feet over the wall")
	s.keys("Enter")
	s.until("EMERGENCY: deep was entered as root with the break-glass certificate", "in by")
	if log := string(must(os.ReadFile(l.logs["reef"]))); !strings.Contains(log, "ID EMERGENCY way in") {
		t.Errorf("the machine's log does not say so:\n%s", log)
	}
	if r := l.run("trail", "EMERGENCY"); !strings.Contains(r.out, "EMERGENCY") {
		t.Errorf("%+v", r)
	}
	asks.until("the certificate for root at deep has expired")
	l.issuer = l.serve()
	await.Until(t, "the issuer to be asked again", func() bool { return l.run("run", "reef", "--", "echo in").out == "in\n" })
}

// The program is killed at any moment while it enrols a machine behind a bastion, or takes that back: whoever got in before
// gets in, the server would start as it stands, and the next run brings it to an end.
func TestEnrollingIsKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	l := startLeasing(t)
	l.sessions("\n[session.plain]\nhost = \"reef.internal\"\nvia = [\"quay\"]\nuser = \"root\"\nkey = \"keys/inner.pem\"\n")
	before := string(must(os.ReadFile(l.config)))
	kills := 2
	if n, err := strconv.Atoi(os.Getenv("MEATUS_KILLS")); err == nil {
		kills = n
	}
	sound := func(when string) {
		t.Helper()
		out, err := exec.Command("/usr/sbin/sshd", "-T", "-f", l.config).CombinedOutput()
		if err != nil {
			t.Fatalf("%s: the server would not start: %v\n%s", when, err, out)
		}
		if list := regexp.MustCompile(`(?m)^revokedkeys (/.+)$`).FindStringSubmatch(string(out)); list != nil {
			if _, err := os.Stat(list[1]); err != nil {
				t.Fatalf("%s: the server would refuse every key: %v", when, err)
			}
		}
		var r result
		await.Until(t, when+": the server to listen", func() bool {
			r = l.run("run", "plain", "--", "echo in")
			return !strings.Contains(r.err, "nothing listens")
		})
		if r.out != "in\n" {
			t.Fatalf("%s: a key that got in before: %+v", when, r)
		}
	}
	for n := range kills {
		out := n%2 == 1
		args := []string{"netns", "exec", l.here, program, "--workspace", l.dir, "lease", "enrol", "reef", "--issuer", "bay", "--server-config", l.config, "--reload", l.reload, "--yes"}
		if out {
			args = append(args, "--remove")
		}
		cmd := exec.Command("ip", args...)
		if err := cmd.Start(); err != nil {
			t.Fatal(err)
		}
		ended := make(chan struct{})
		go func() { cmd.Wait(); close(ended) }()
		select {
		case <-time.After(rand.N(3 * time.Second)): // any moment will do
		case <-ended:
		}
		cmd.Process.Kill()
		<-ended
		when := fmt.Sprintf("kill %d, taking it back %v", n, out)
		sound(when)
		more := []string{"--yes"}
		if out {
			more = append(more, "--remove")
		}
		await.Until(t, when+": the next run", func() bool { return l.enrol(more...).status == 0 })
		sound(when + ", and the next run")
	}
	if r := l.enrol("--yes", "--remove"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if now := string(must(os.ReadFile(l.config))); now != before {
		t.Errorf("it is\n%s\nand was\n%s", now, before)
	}
	if left, _ := filepath.Glob(l.path("server-reef", "*meatus*")); len(left) > 0 {
		t.Errorf("%v is left", left)
	}
}
