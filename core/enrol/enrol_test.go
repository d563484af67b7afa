package enrol_test

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/enrol"
	"meatus/core/gate"
	"meatus/core/issuer"
	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/route"
	"meatus/core/service"
	"meatus/core/store"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// bay is an issuer, and the distribution's SSH server on a machine called reef, which a person's line leads to.
type bay struct {
	testing.TB
	servertest.Server
	store  *store.Leases
	db     string
	keys   *issuer.Keys
	at     route.Hop // the issuer
	before string    // the server's configuration
	reload string

	refused atomic.Int64 // logins by the old key
	logins  atomic.Int64
}

const policyText = "allow mira to reef as root for 60s\nenrols mira\n"

func openBay(t testing.TB, extra string) *bay {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("a server's configuration is the superuser's, and this is another account")
	}
	b := &bay{TB: t, Server: servertest.StartWith(t, extra)}
	b.reload = "kill -HUP " + strconv.Itoa(b.PID)
	text, err := os.ReadFile(b.Config)
	if err != nil {
		t.Fatal(err)
	}
	b.before = string(text)
	dir := t.TempDir()
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		t.Fatal(err)
	}
	mira := filepath.Join(dir, "mira.pem")
	s, err1 := ssh.NewSignerFromKey(key)
	if err := errors.Join(err1, keyfile.Write(mira, key, keyfile.Wrapping{})); err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "issuer.policy")
	if err := os.WriteFile(file, []byte("person mira key "+ssh.FingerprintSHA256(s.PublicKey())+"\n"+policyText), 0o600); err != nil {
		t.Fatal(err)
	}
	b.db = filepath.Join(dir, "issuer.db")
	if b.store, err = store.OpenLeases(t.Context(), b.db); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.store.Close() })
	own := filepath.Join(dir, "issuer.pem")
	cert := &service.Certificate{CertFile: own, KeyFile: own}
	b.keys = &issuer.Keys{Dir: dir}
	rules, err := service.OpenPolicy(policy.Issuer, file, issuer.Known(t.Context(), b.store))
	if err := errors.Join(err, cert.Make("issuer"), b.keys.Make()); err != nil {
		t.Fatal(err)
	}
	server, err := issuer.NewServer(issuer.Options{Options: service.Options{Policy: rules, Certificate: cert, Log: slog.New(slog.DiscardHandler)}, Store: b.store, Keys: b.keys})
	if err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- server.Serve(l) }()
	t.Cleanup(func() { server.Close(context.Background()); <-served })
	c, err := cert.Get()
	if err != nil {
		t.Fatal(err)
	}
	url := "wss://" + l.Addr().String()
	b.at = route.Hop{Name: "issuer bay", Destination: route.Destination{Host: "127.0.0.1", Gateway: &route.Gateway{Issuer: true, URLs: []string{url}, HostKeys: []string{line.FingerprintOf(c)}}}, Credentials: route.Credentials{User: "meatus", Keys: []string{mira}}, Limits: route.Limits{Keepalive: time.Minute}}
	b.at.Port = l.Addr().(*net.TCPAddr).Port
	return b
}

// options are what enrolling the machine over a line needs.
func (b *bay) options(l *servertest.Line) (o enrol.Options, done func()) {
	l.To = b.Address
	client := &lease.Client{}
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), "vouched")), Asker: labtest.Yes{}, Network: l, Leases: client, Linger: time.Millisecond})
	client.At = w.AtGateway
	way := b.Way(1)
	way.Session = "reef"
	o = enrol.Options{Walker: w, Leases: client, Way: way, Lease: &route.Lease{Issuer: "bay", Machine: "reef", Way: b.at}, Issuer: b.at.AsRoute(),
		Name: "bay", Machine: lease.Machine{Name: "reef"}, Config: b.Config, Reload: b.reload}
	if l.Dead {
		o.Patience = time.Nanosecond
	}
	return o, w.Close
}

// apply enrols the machine over a line, or with out has it trust the issuer no more.
func (b *bay) apply(l *servertest.Line, out bool) (said []string, err error) {
	o, done := b.options(l)
	defer done()
	p, err := enrol.Look(b.Context(), o, out)
	if err != nil {
		return nil, err
	}
	defer p.Close()
	said = p.Preview()
	return said, p.Apply(b.Context(), func(s string) { said = append(said, s) })
}

func (b *bay) push(l *servertest.Line) error {
	o, done := b.options(l)
	defer done()
	return enrol.Refresh(b.Context(), o)
}

// pace is how often that is. A login that is refused for a moment alone is found by many runs.
const pace = 100 * time.Millisecond

// loggingIn logs in by the old key all the while, until the test ends or stop is called.
func (b *bay) loggingIn() (stop func()) {
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() {
		next := time.NewTicker(pace)
		defer next.Stop()
		for ; ctx.Err() == nil; <-next.C {
			c, err := ssh.Dial("tcp", b.Address, &ssh.ClientConfig{User: b.Way(1).Hops[0].User, Auth: []ssh.AuthMethod{ssh.PublicKeys(b.Signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 10 * time.Second})
			if err == nil {
				c.Close()
				b.logins.Add(1)
			} else if strings.Contains(err.Error(), "unable to authenticate") { // not that nobody listens for a moment
				b.refused.Add(1)
			}
		}
	})
	return func() { cancel(); wg.Wait() }
}

// files are what stands beside the server's configuration, by name.
func (b *bay) files() map[string]string {
	b.Helper()
	all := map[string]string{}
	list, err := os.ReadDir(filepath.Dir(b.Config))
	if err != nil {
		b.Fatal(err)
	}
	for _, f := range list {
		if strings.HasPrefix(f.Name(), "meatus") || strings.Contains(f.Name(), ".meatus-") || f.Name() == "config" {
			text, err := os.ReadFile(filepath.Join(filepath.Dir(b.Config), f.Name()))
			if err != nil {
				b.Fatal(err)
			}
			all[f.Name()] = string(text)
		}
	}
	return all
}

// sound fails the test where the server, started anew as it stands now, would refuse keys or not start, or where a file is
// neither as it was nor as it is to be.
func (b *bay) sound(when string, states ...map[string]string) {
	b.Helper()
	out, err := exec.Command("/usr/sbin/sshd", "-T", "-f", b.Config).CombinedOutput()
	if err != nil {
		b.Fatalf("%s: the configuration does not hold: %v\n%s", when, err, out)
	}
	for l := range strings.Lines(string(out)) {
		if file, ok := strings.CutPrefix(strings.TrimSpace(l), "revokedkeys "); ok && file != "none" {
			if _, err := os.Stat(file); err != nil {
				b.Fatalf("%s: the server would refuse every key: %v", when, err)
			}
		}
	}
	now := b.files()
	for _, name := range []string{"config", lease.ConfigFile, lease.SignersFile, lease.RevokedFile} {
		fits := false
		for _, s := range states {
			text, there := now[name]
			was, had := s[name]
			fits = fits || there == had && alike(name, text, was)
		}
		if !fits {
			b.Fatalf("%s: %s is neither as it was nor as it is to be: %q", when, name, now[name])
		}
	}
	if n := b.refused.Load(); n > 0 {
		b.Fatalf("%s: %d logins by the old key were refused", when, n)
	}
}

// alike compares files; lists of revocations differ by when they were made.
func alike(name, a, b string) bool {
	if name == lease.RevokedFile {
		return len(a) == len(b) && strings.HasPrefix(a, "SSHKRL\n") == strings.HasPrefix(b, "SSHKRL\n")
	}
	return a == b
}

// must fails the test where something did not succeed.
func (b *bay) must(what string, err error) {
	b.Helper()
	if err != nil {
		b.Fatalf("%s: %v", what, err)
	}
}

// again does something until the server listens: it does not for a moment while it reads its configuration anew.
func again(do func() error) (err error) {
	await.Within(await.Patience, func() bool {
		var f *gate.Failure
		err = do()
		return !errors.As(err, &f) || f.Cause != gate.Refused
	})
	return err
}

// asBefore fails the test where not all is as it was, to the byte.
func (b *bay) asBefore(when string) {
	b.Helper()
	now := b.files()
	if now["config"] != b.before {
		b.Errorf("%s: the configuration is\n%s\nand was\n%s", when, now["config"], b.before)
	}
	for name := range now {
		if name != "config" {
			b.Errorf("%s: %s is left", when, name)
		}
	}
}

func TestAMachineIsInOneOfTwoStatesWheneverTheLineIsCut(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	old := b.files()
	whole := &servertest.Line{}
	_, err := b.apply(whole, false)
	b.must("enrolling", err)
	enrolled := b.files()
	whole2 := &servertest.Line{}
	b.must("carrying", b.push(whole2))
	whole3 := &servertest.Line{}
	_, err = b.apply(whole3, true)
	b.must("removing", err)
	b.asBefore("removed")
	stop := b.loggingIn()
	defer stop()
	steps := []struct {
		name     string
		messages int64
		do       func(l *servertest.Line) error
		from     func()
		to       func()
	}{
		{"enrol", whole.Passed(), func(l *servertest.Line) error { _, err := b.apply(l, false); return err }, func() {
			b.must("removing again", again(func() error { _, err := b.apply(&servertest.Line{}, true); return err }))
			b.asBefore("removed again")
		}, func() {
			b.must("enrolling again", again(func() error { _, err := b.apply(&servertest.Line{}, false); return err }))
		}},
		{"carry", whole2.Passed(), b.push, func() {}, func() { b.must("carrying again", again(func() error { return b.push(&servertest.Line{}) })) }},
		{"remove", whole3.Passed(), func(l *servertest.Line) error { _, err := b.apply(l, true); return err }, func() {
			b.must("enrolling again", again(func() error { _, err := b.apply(&servertest.Line{}, false); return err }))
		}, func() {
			b.must("removing again", again(func() error { _, err := b.apply(&servertest.Line{}, true); return err }))
			b.asBefore("removed again")
		}},
	}
	for s, step := range steps {
		t.Logf("%s: %d messages", step.name, step.messages)
		for i, after := range servertest.Moments(step.messages, 1) {
			dead := (i+s)%2 == 0
			when := fmt.Sprintf("%s, cut after %d of %d, killed %v", step.name, after, step.messages, dead)
			step.from()
			err := step.do(&servertest.Line{After: after, Dead: dead})
			b.sound(when+", then", old, enrolled, map[string]string{lease.RevokedFile: ""})
			if !dead && err != nil && strings.Contains(err.Error(), "everything was put back") && step.name == "enrol" {
				b.asBefore(when)
			}
			step.to()
			b.sound(when+", and the next run", old, enrolled)
		}
		step.to()
	}
	stop()
	b.sound("at the end", old)
	t.Logf("%d logins by the old key meanwhile", b.logins.Load())
}

// configure has another configuration stand there before.
func (b *bay) configure(text string) {
	b.Helper()
	if err := os.WriteFile(b.Config, []byte(text), 0o600); err != nil {
		b.Fatal(err)
	}
	b.before = text
}

func TestUndoingIsToTheByte(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	plain := b.before
	include := "Include " + filepath.Join(filepath.Dir(b.Config), lease.ConfigFile)
	for name, text := range map[string]string{
		"a comment with the line's text":  "# " + include + "\nPort 22022\n" + plain,
		"a comment that ends in the line": plain + "# once: " + include,
		"ends of line of another system":  strings.TrimSuffix(strings.ReplaceAll(plain, "\n", "\r\n"), "\r\n"),
	} {
		b.configure(text)
		if _, err := b.apply(&servertest.Line{}, false); err != nil {
			t.Errorf("%s: %v", name, err)
			continue
		}
		if now := b.files()["config"]; !strings.HasSuffix(now, text) || len(now) == len(text) {
			t.Errorf("%s: enrolled it is\n%s", name, now)
		}
		_, err := b.apply(&servertest.Line{}, true)
		b.must(name, err)
		b.asBefore(name)
	}
}

// A run that was killed while it wrote its note leaves that note's temporary file, which nothing but the next run can remove.
func TestANoteThatWasNeverWholeIsRemoved(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	for _, out := range []bool{false, true} {
		left := filepath.Join(filepath.Dir(b.Config), enrol.NoteFile+".meatus-new-abcdefghij")
		b.must("writing", os.WriteFile(left, []byte(`{"what":`), 0o600))
		_, err := b.apply(&servertest.Line{}, out)
		b.must("applying", err)
	}
	b.asBefore("removed")
}

func TestALinkedConfigurationStaysALink(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	real := filepath.Join(t.TempDir(), "real")
	b.must("moving", os.Rename(b.Config, real))
	b.must("linking", os.Symlink(real, b.Config))
	for _, out := range []bool{false, true} {
		if _, err := b.apply(&servertest.Line{}, out); err != nil {
			t.Fatal(err)
		}
		if leads, err := os.Readlink(b.Config); err != nil || leads != real {
			t.Errorf("out %v: it leads to %q, %v", out, leads, err)
		}
	}
	b.asBefore("undone")
}

func TestSettingsForSomeUsersAloneAreNotPassedOver(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	dir := filepath.Dir(b.Config)
	more := filepath.Join(dir, "more.d")
	b.must("making a folder", os.Mkdir(more, 0o755))
	b.must("writing", os.WriteFile(filepath.Join(dir, "others"), nil, 0o644))
	plain := b.before
	ours := "RevokedKeys " + filepath.Join(dir, "others")
	for name, c := range map[string]struct{ config, included, want string }{
		"in a block":                 {plain + "Match User keeper\n  revokedkeys=" + filepath.Join(dir, "others") + "\n", "", "sets revokedkeys for some logins alone"},
		"in a block of a file":       {plain + "Include " + more + "/*.conf\n", "Match Address 10.0.0.0/8\n\t" + ours + "\n", "x.conf:2 sets revokedkeys"},
		"in a file within a block":   {plain + "Match Group wheel\nInclude \"" + more + "/*.conf\"\n", "TrustedUserCAKeys none\n", "x.conf:1 sets trustedusercakeys"},
		"another setting in a block": {plain + "Match User keeper\n  X11Forwarding no\n  # RevokedKeys none\n", "", ""},
	} {
		b.must("writing", os.WriteFile(filepath.Join(more, "x.conf"), []byte(c.included), 0o644))
		b.configure(c.config)
		_, err := b.apply(&servertest.Line{}, false)
		if c.want == "" && err != nil || c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)) {
			t.Errorf("%s: %v", name, err)
		}
		if c.want == "" {
			_, err := b.apply(&servertest.Line{}, true)
			b.must(name, err)
		}
		b.asBefore(name)
	}
}

func TestAListThatWasEmptyIsEmptyAgain(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	list := filepath.Join(filepath.Dir(b.Config), lease.RevokedFile)
	b.must("writing", os.WriteFile(list, nil, 0o644))
	b.reload = "exit 3"
	if _, err := b.apply(&servertest.Line{}, false); err == nil || !strings.Contains(err.Error(), "everything was restored") {
		t.Fatal(err)
	}
	if text, err := os.ReadFile(list); err != nil || len(text) > 0 {
		t.Errorf("it is %q, %v", text, err)
	}
}

func TestAServerThatReadsSlowlyRefusesNobody(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	told := b.reload
	stop := b.loggingIn()
	defer stop()
	b.reload = "(sleep 1; " + told + ") >/dev/null 2>&1 </dev/null &" // it returns at once
	_, err := b.apply(&servertest.Line{}, false)
	b.must("enrolling", err)
	_, err = b.apply(&servertest.Line{}, true)
	b.must("removing", err)
	b.asBefore("removed")
	// A failed enrolment whose server reads what was put back late.
	b.reload = "(sleep 1; " + told + ") >/dev/null 2>&1 </dev/null &"
	o, done := b.options(&servertest.Line{})
	o.Lease = &route.Lease{Issuer: "bay", Machine: "elsewhere", Way: b.at}
	p, err := enrol.Look(t.Context(), o, false)
	b.must("looking", err)
	if err := p.Apply(t.Context(), func(string) {}); err == nil || !strings.Contains(err.Error(), "everything was restored") {
		t.Errorf("a login that cannot be proven: %v", err)
	}
	p.Close()
	done()
	b.asBefore("put back")
	stop()
	if b.refused.Load() > 0 || b.logins.Load() == 0 {
		t.Errorf("%d of %d logins by the old key were refused", b.refused.Load(), b.logins.Load())
	}
}

func TestTheNextRunSaysWhatWasBegun(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	whole := &servertest.Line{}
	_, err := b.apply(whole, false)
	b.must("enrolling", err)
	_, err = b.apply(&servertest.Line{}, true)
	b.must("removing", err)
	// Cut in the second half, which has written something.
	_, err = b.apply(&servertest.Line{After: whole.Passed() * 3 / 4, Dead: true}, false)
	if err == nil {
		t.Fatal("it was not cut")
	}
	if _, there := b.files()[enrol.NoteFile]; !there {
		t.Fatalf("no note of what was begun is there: %v", err)
	}
	o, done := b.options(&servertest.Line{})
	defer done()
	p, err := enrol.Look(t.Context(), o, true)
	b.must("looking", err)
	defer p.Close()
	if p.Begun == nil || p.Begun.What != "enrol" || !strings.Contains(p.Preview()[0], "was begun here on ") {
		t.Errorf("%+v %q", p.Begun, p.Preview())
	}
	b.must("removing", p.Apply(t.Context(), func(string) {}))
	b.asBefore("brought to an end")
}

// A run that was killed after the server had read what it wrote is followed by one that fails before that: what is put back
// is read before anything goes that the server may still read.
func TestARunThatFailsAfterOneThatWasKilledRefusesNobody(t *testing.T) {
	t.Parallel()
	b := openBay(t, "")
	told := b.reload
	ran := filepath.Join(t.TempDir(), "ran")
	line := &servertest.Line{Dead: true}
	b.reload = told + " && touch " + ran
	go func() { // it is killed once the server was told
		if await.Within(await.Patience, func() bool { _, err := os.Stat(ran); return err == nil }) {
			line.Kill()
		}
	}()
	if _, err := b.apply(line, false); err == nil {
		t.Fatal("it was not killed")
	}
	b.reload = told
	stop := b.loggingIn()
	defer stop()
	db, err := sql.Open("sqlite", "file:"+b.db+"?_pragma=busy_timeout(5000)")
	b.must("opening the store", err)
	defer db.Close()
	_, err = db.Exec("CREATE TRIGGER full BEFORE INSERT ON trusting BEGIN SELECT RAISE(FAIL, 'no room'); END")
	b.must("filling the store", err) // the issuer answers, and takes no machine
	if _, err := b.apply(&servertest.Line{}, false); err == nil || !strings.Contains(err.Error(), "everything was restored") {
		t.Fatalf("the next run: %v", err)
	}
	b.asBefore("put back")
	before := b.logins.Load()
	await.Until(t, "some more logins", func() bool { return b.logins.Load() > before+3 || b.refused.Load() > 0 })
	stop()
	if n := b.refused.Load(); n > 0 {
		t.Errorf("%d logins by the old key were refused", n)
	}
}
