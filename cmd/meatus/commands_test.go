package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"unicode"

	"meatus/cmd/meatus/command"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// output is what a command writes, to be read while it goes on.
type output struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (o *output) Write(p []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.Write(p)
}

func (o *output) String() string {
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.text.String()
}

// bay is a lab whose workspace commands are run in.
type bay struct {
	*lab.Lab
	t *testing.T
}

func openBay(t *testing.T) bay {
	t.Helper()
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	return bay{l, t}
}

func (b bay) key(name string) string { return filepath.Join(b.Dir, "keys", name) }

// with runs a command with an input until it ends or the context does.
func (b bay) with(ctx context.Context, in string, out *output, args ...string) int {
	c := program()
	c.SetIn(strings.NewReader(in))
	c.SetOut(out)
	c.SetErr(out)
	c.SetArgs(append([]string{"--workspace", b.Dir}, args...))
	ran, err := c.ExecuteContextC(ctx)
	if err != nil {
		out.Write([]byte(err.Error() + "\n"))
	}
	return command.StatusOf(ran, err)
}

// run runs a command that has to end with a status, and returns what it wrote.
func (b bay) run(status int, args ...string) string {
	b.t.Helper()
	var out output
	if got := b.with(b.t.Context(), "", &out, args...); got != status {
		b.t.Errorf("%v ended with %d: %s", args, got, out.String())
	}
	if strings.Contains(out.String(), "0001-01-01") {
		b.t.Errorf("%v prints a time that is not known:\n%s", args, out.String())
	}
	return out.String()
}

// says runs a command that has to say something.
func (b bay) says(want string, status int, args ...string) {
	b.t.Helper()
	if out := b.run(status, args...); !strings.Contains(out, want) {
		b.t.Errorf("%v does not say %q:\n%s", args, want, out)
	}
}

func TestCheckSaysTheVerdicts(t *testing.T) {
	b := openBay(t)
	b.says("mode 0644", command.Blocked, "check", "tide-db")
	b.says("gauge-1", command.Done, "check", "--depth", "identity", "gauge-1")
	var reports []map[string]any
	if err := json.Unmarshal([]byte(b.run(command.Blocked, "check", "--json")), &reports); err != nil || len(reports) != 22 {
		t.Errorf("%d reports, %v", len(reports), err)
	}
	b.says("unknown depth", command.WrongUse, "check", "--depth", "the moon")
	b.says("unknown flag", command.WrongUse, "check", "--odd")
}

func TestRunPassesInputOutputAndStatusOn(t *testing.T) {
	b := openBay(t)
	var out output
	if status := b.with(t.Context(), "typed", &out, "run", "--trace", "gauge-1", "--", "copy"); status != command.Done || !strings.Contains(out.String(), "typed") || !strings.Contains(out.String(), "identity") {
		t.Errorf("%d: %s", status, out.String())
	}
	b.says("gauge-1", 7, "run", "gauge-1", "--", "hostname; exit 7")
	b.says("0644", 250+command.Blocked, "run", "tide-db", "--", "true")
	b.says("lender", 250+command.WrongUse, "run", "gauge-1", "--at", "lender", "--lend", b.key("gauge.pem"), "--", "true")
	b.says("connected", command.Done, "trail")
	b.says("failed", command.Done, "trail", "--failed")
	b.says(`"event":"walked"`, command.Done, "trail", "--json", "gauge-1")
	b.says("kind,session", command.Done, "trail", "--csv")
}

func TestHoldKeepsTunnelsUpUntilItIsEnded(t *testing.T) {
	b := openBay(t)
	file := filepath.Join(b.Dir, "sessions.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	text = bytes.Replace(text, []byte("[session.quay]\n"), []byte("[session.quay]\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"10.61.4.31:7000\" }]\n"), 1)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	kept := filepath.Join(t.TempDir(), "kept")
	if err := os.WriteFile(kept, []byte("kept"), 0o600); err != nil {
		t.Fatal(err)
	}
	ready := filepath.Join(t.TempDir(), "ready")
	if err := os.Symlink(kept, ready); err != nil { // somebody else's trap
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	var out output
	done := make(chan int, 1)
	go func() {
		done <- b.with(ctx, "", &out, "hold", "--json", "--ready", ready, "--metrics", "127.0.0.1:0", "quay")
	}()
	await.Until(t, "it to be ready", func() bool { info, err := os.Lstat(ready); return err == nil && info.Mode().IsRegular() })
	if text, err := os.ReadFile(kept); err != nil || string(text) != "kept" {
		t.Errorf("what a link at --ready leads to: %q, %v", text, err)
	}
	b.says("[]", command.Done, "tunnels", "--json") // those of other programs
	end()
	if status := <-done; status != command.Done {
		t.Errorf("ended with %d: %s", status, out.String())
	}
	if said := out.String(); !strings.Contains(said, `"event":"open"`) || !strings.Contains(said, `"event":"ready"`) {
		t.Errorf("said %s", said)
	}
	b.says("no-such", command.WrongUse, "hold", "no-such")
	b.says("--bring '15432 from", command.WrongUse, "hold", "gauge-1")
	b.says("--bring", command.WrongUse, "hold", "gauge-1", "--bring", "nothing of the kind")
	b.says("name one session", command.WrongUse, "hold", "gauge-1", "quay", "--roam", "1080")
}

func TestATunnelOfTheCommandLineIsHeld(t *testing.T) {
	b := openBay(t)
	ctx, end := context.WithCancel(t.Context())
	var out output
	done := make(chan int, 1)
	go func() {
		done <- b.with(ctx, "", &out, "hold", "quay", "--bring", "0 from tide-db.internal:5432", "--roam", "0 only *.internal")
	}()
	await.Until(t, "it to be ready", func() bool { return strings.Contains(out.String(), "\nready\n") })
	end()
	if status := <-done; status != command.Done || !strings.Contains(out.String(), "from tide-db.internal:5432, listening at 127.0.0.1:") || !strings.Contains(out.String(), "roam 0 only *.internal, listening at") {
		t.Errorf("ended with %d: %s", status, out.String())
	}
}

func TestWhatManySessionsHaveAtOnceIsToldOnce(t *testing.T) {
	b := openBay(t)
	file := filepath.Join(b.Dir, "sessions.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for i := range 60 {
		names = append(names, fmt.Sprintf("rack-%02d", i))
		text = fmt.Appendf(text, "\n[session.%s]\nhost = \"10.61.4.31\"\nvia = [\"quay\"]\nuser = \"keeper\"\nkey = \"keys/gauge.pem\"\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"10.61.4.31:7000\" }]\n", names[i])
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	var out output
	done := make(chan int, 1)
	go func() { done <- b.with(ctx, "", &out, append([]string{"hold"}, names...)...) }()
	await.Until(t, "all ways to be there", func() bool { return strings.Contains(out.String(), "\nready\n") })
	b.Lab.Close()
	await.Until(t, "the loss to be told", func() bool { return strings.Contains(out.String(), " and 57 more: connection lost at ") })
	end()
	if status := <-done; status != command.Done {
		t.Errorf("ended with %d", status)
	}
	if said := out.String(); strings.Count(said, "connection lost") != 1 {
		t.Errorf("it said:\n%s", said)
	}
	said := b.run(command.Blocked, append([]string{"check", "--depth", "identity"}, names...)...)
	if !strings.Contains(said, "\n60 sessions are shut for one reason: quay: port: ") || !strings.Contains(said, "quay: port: as rack-") || strings.Count(said, "nothing listens") != 2 {
		t.Errorf("checked:\n%s", said)
	}
}

func TestKeysAreShownMadeWrappedAndMended(t *testing.T) {
	b := openBay(t)
	b.says("SHA256:", command.Done, "key", "show", b.key("gauge.pem"))
	b.says("tide.pem", command.Done, "key", "list")
	var sheets []map[string]any
	if err := json.Unmarshal([]byte(b.run(command.Done, "key", "list", "--json")), &sheets); err != nil || len(sheets) < 4 {
		t.Errorf("%d sheets, %v", len(sheets), err)
	}
	b.says("0600", command.Done, "key", "mend", b.key("tide.pem"))
	b.run(command.Done, "key", "make", "--no-passphrase", "--kind", "ECDSA", "--comment", "of a test", b.key("pier.pem"))
	b.says("exists", command.Failed, "key", "make", "--no-passphrase", b.key("pier.pem"))
	b.run(command.Done, "key", "convert", "--format", "sec1", "--no-passphrase", b.key("pier.pem"))
	b.says("SEC1", command.Done, "key", "show", b.key("pier.pem"))
	b.says("BEGIN SSH2 PUBLIC KEY", command.Done, "key", "public", "--rfc4716", b.key("pier.pem"))
	b.says("pier.pem", command.Done, "key", "find", strings.TrimSpace(b.run(command.Done, "key", "public", b.key("pier.pem"))))
	b.run(command.Done, "key", "rename", b.key("pier.pem"), "mole.pem")
	b.run(command.Done, "key", "bind", b.key("mole.pem"), "--host", "gauge-*", "--stay", "1h")
	b.run(command.Done, "key", "retire", b.key("mole.pem"))
	b.says("no such file", command.Blocked, "key", "show", b.key("mole.pem"))
	b.says("gauge.pem", command.Done, "key", "find", "--at", "gauge-1")
}

func TestKeysAreCarriedToMachines(t *testing.T) {
	b := openBay(t)
	b.run(command.Done, "key", "make", "--no-passphrase", b.key("pier.pem"))
	b.says("session gauge-1 does not name the key; to use pier.pem in gauge-1: meatus key install --use", command.Done, "key", "install", b.key("pier.pem"), "gauge-1")
	b.says("gauge-1: gauge-1 uses pier.pem now", command.Done, "key", "install", "--use", b.key("pier.pem"), "gauge-1")
	b.says("keys/pier.pem, keys/gauge.pem", command.Done, "session", "show", "gauge-1")
	if out := b.run(command.Done, "key", "install", b.key("pier.pem"), "gauge-1"); strings.Contains(out, "does not name the key") {
		t.Errorf("it is offered again:\n%s", out)
	}
	b.says("private key", command.Blocked, "key", "sweep", "quay")
	var report map[string]any
	if err := json.Unmarshal([]byte(b.run(command.Blocked, "key", "sweep", "--json", "quay")), &report); err != nil {
		t.Error(err)
	}
	b.says("no-such", command.WrongUse, "key", "sweep", "no-such")
}

func TestHostsAreListedExpectedAndTrusted(t *testing.T) {
	b := openBay(t)
	b.says("SHA256:", command.Done, "hosts")
	b.says(`"sha256"`, command.Done, "hosts", "--json")
	b.run(command.Done, "hosts", "--sshfp")
	list := filepath.Join(t.TempDir(), "list")
	os.WriteFile(list, []byte("archive.reef.internal SHA256:BZkpR3lwFLwnIcfr9zNnDfwO1uUYgGQmnD1tjVCJqYw\n"), 0o600)
	b.says("1 of them new", command.Done, "hosts", "import", list)
	signer := filepath.Join(t.TempDir(), "signer.pub")
	os.WriteFile(signer, []byte(b.run(command.Done, "key", "public", b.key("gauge.pem"))), 0o600)
	b.says("trusted to sign", command.Done, "hosts", "trust-ca", "*.reef.internal", signer)
}

func TestSessionsGoOutAndComeIn(t *testing.T) {
	b := openBay(t)
	b.says("name,site,host", command.Done, "export")
	b.says(`"gauge-1"`, command.Done, "export", "--format", "json", "--effective")
	list := filepath.Join(t.TempDir(), "list.csv")
	os.WriteFile(list, []byte("name,host\npier,10.61.4.77\n"), 0o600)
	b.says("pier", command.Done, "import", "--yes", list)
	b.says("pier", command.Done, "export")
	os.WriteFile(list, []byte("name,host\npier 2,10.61.4.78\n"), 0o600)
	b.says("cannot be a session's name", command.WrongUse, "import", "--yes", list)

	// What acts is shown apart, and is not taken by a mere yes.
	os.WriteFile(list, []byte("name,host,user,dial,agent,lends,tunnels,arrive\n"+
		"mole,10.61.4.79,keeper\u202ex,203.0.113.9:22,lend,keys/tide.pem,roam *:1080,sudo rm -rf /\n"), 0o600)
	out := b.run(command.WrongUse, "import", list)
	for _, want := range []string{"           user      keeperx\n", "mole  dial = 203.0.113.9:22", "mole  agent = lend  lets the machine use keys", "mole  lends = keys/tide.pem",
		"mole  tunnels = roam *:1080  listens for other machines, too", "mole  arrive = sudo rm -rf /  is typed into"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not shown:\n%s", want, out)
		}
	}
	os.WriteFile(list, []byte("name,host,dial,agent,lends,tunnels,arrive\nmole,10.61.4.79,203.0.113.9:22,lend,keys/tide.pem,roam *:1080,sudo rm -rf /\n"), 0o600)
	b.run(command.Done, "import", "--yes", list)
	if out := b.run(command.Done, "export"); !strings.Contains(out, "mole,,10.61.4.79") || strings.Contains(out, "sudo rm") || strings.Contains(out, "roam *") {
		t.Errorf("after a yes alone:\n%s", out)
	}
	b.run(command.Done, "import", "--yes", "--acting", list)
	b.says("sudo rm -rf /", command.Done, "export")
}

func TestDrawingsAreWritten(t *testing.T) {
	b := openBay(t)
	for _, args := range [][]string{{"gauge-1"}, {"--site", "reef", "--private"}, {"--timeline"}} {
		file := filepath.Join(t.TempDir(), "d.svg")
		b.run(command.Done, append([]string{"draw", "-o", file}, args...)...)
		if text, err := os.ReadFile(file); err != nil || !bytes.Contains(text, []byte("<svg")) {
			t.Errorf("%v: %d bytes, %v", args, len(text), err)
		}
	}
	b.run(command.WrongUse, "draw", "-o", filepath.Join(t.TempDir(), "d.bmp"), "gauge-1")
}

func TestTheRingLendsToOneCommand(t *testing.T) {
	b := openBay(t)
	b.says("SSH_AUTH_SOCK=/", command.Done, "ring", b.key("gauge.pem"), "--", "sh", "-c", "echo SSH_AUTH_SOCK=$SSH_AUTH_SOCK")
	b.run(3, "ring", b.key("gauge.pem"), "--", "sh", "-c", "exit 3")
}

func TestAWorkspaceThatCannotBeReadHasItsStatus(t *testing.T) {
	b := openBay(t)
	b.Dir = filepath.Join(t.TempDir(), "file")
	os.WriteFile(b.Dir, nil, 0o600)
	b.run(command.Workspace, "check")
}

func TestHostileFileNamesAreCleanedWhereverTheyAreShown(t *testing.T) {
	b := openBay(t)
	text, err := os.ReadFile(b.key("gauge.pem"))
	if err != nil {
		t.Fatal(err)
	}
	hostile := b.key("tide\x1b]0;owned\x07\u202egnp\n.pem")
	if err := os.WriteFile(hostile, text, 0o600); err != nil {
		t.Fatal(err)
	}
	elsewhere := filepath.Join(t.TempDir(), "ebb\x1b[2J\u009b.pem")
	if err := os.WriteFile(elsewhere, text, 0o644); err != nil {
		t.Fatal(err)
	}
	for _, args := range [][]string{{"key", "list"}, {"key", "show", hostile}, {"key", "mend", hostile}, {"key", "adopt", elsewhere}} {
		out := b.run(command.Done, args...)
		if strings.ContainsFunc(strings.ReplaceAll(out, "\n", ""), func(r rune) bool { return unicode.IsControl(r) || r == '\u202e' }) {
			t.Errorf("%q wrote %q", args, out)
		}
	}
}

// What fails of several sessions is told, and tried again where that may help; what works stays.
func TestOfManySessionsWhatWorksIsHeld(t *testing.T) {
	b := openBay(t)
	file := filepath.Join(b.Dir, "sessions.toml")
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"quay", "gauge-3", "gauge-4"} {
		text = bytes.Replace(text, []byte("[session."+name+"]\n"), []byte("[session."+name+"]\ntunnels = [{ bring = \"127.0.0.1:0\", reach = \"tide-db.internal:5432\" }]\n"), 1)
	}
	if err := os.WriteFile(file, text, 0o600); err != nil {
		t.Fatal(err)
	}
	ctx, end := context.WithCancel(t.Context())
	var out output
	done := make(chan int, 1)
	go func() { done <- b.with(ctx, "", &out, "hold", "quay", "gauge-3", "gauge-4") }()
	for _, want := range []string{"gauge-3 is tried again in ", "gauge-4 is not held: ", "quay"} {
		await.Until(t, want, func() bool { return strings.Contains(out.String(), want) })
	}
	await.Until(t, "more tries", func() bool { return strings.Count(out.String(), "gauge-3 is tried again in ") >= 2 })
	end()
	if status := <-done; status != command.Done || strings.Contains(out.String(), "\nready\n") {
		t.Errorf("ended with %d:\n%s", status, out.String())
	}
}

// Every list that is printed as JSON leaves out the times that are not known.
func TestTimesThatAreNotKnownAreLeftOutOfJSON(t *testing.T) {
	b := openBay(t)
	for _, args := range [][]string{
		{"hosts"}, {"estate", "list"}, {"estate", "sources"}, {"estate", "sources", "--kept"}, {"estate", "pairs"}, {"estate", "changes"}, {"estate", "ways"}, {"estate", "allow"},
		{"key", "list"}, {"trail"}, {"lease"}, {"gateway", "machines"}, {"issuer", "machines"}, {"issuer", "leases"}, {"estate", "unused"}, {"tunnels"}, {"cargo", "list"}, {"session", "list"},
	} {
		var out output
		b.with(b.t.Context(), "", &out, append(args, "--json")...)
		if strings.Contains(out.String(), "0001-01-01") {
			t.Errorf("%v prints a time that is not known:\n%s", args, out.String())
		}
	}
}

// A machine that no session names is found by its name or id, its route is printed, and used after a yes.
func TestAnInstanceWithoutASessionIsReached(t *testing.T) {
	b := openBay(t)
	b.says("i-gauge-1 is instance gauge-1 of estate bay, running, the session gauge-1", command.Done, "run", "i-gauge-1", "--", "hostname")
	b.run(command.Done, "session", "remove", "lamp")
	b.says("there is nobody to ask whether to connect to i-lamp; pass --yes", 250+command.WrongUse, "run", "i-lamp", "--", "hostname")
	said := b.run(250+command.Blocked, "run", "--yes", "i-lamp", "--", "hostname")
	for _, want := range []string{"no session is called i-lamp; it is instance lamp of estate bay, running:\n  1 quay  warden@", "\n  2 lamp  keeper@10.61.4.60:22, gauge.pem\n", "compare the fingerprint"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in\n%s", want, said)
		}
	}
	b.says("there is no session \"lamp\"", command.WrongUse, "session", "show", "lamp") // nothing was written
	b.run(command.Done, "session", "remove", "gauge-1")
	_, print, _ := strings.Cut(b.run(250+command.Blocked, "run", "--yes", "gauge-1", "--", "hostname"), "--yes-identity ")
	b.says("gauge-1\n", command.Done, "run", "--yes", "--yes-identity", strings.TrimSpace(strings.SplitN(print, "\n", 2)[0]), "gauge-1", "--", "hostname")
	for _, args := range [][]string{{"nothing"}, {"name=gauge-*"}, {"net:"}} {
		b.says("there is no session", 250+command.WrongUse, "run", "--yes", args[0], "--", "hostname")
	}
}

func TestAMachineAtAGatewayIsReachedByItsNameAlone(t *testing.T) {
	b := openBay(t)
	b.run(command.Done, "session", "remove", "sounder")
	await.Until(t, "the machine to join", func() bool {
		return strings.Contains(b.run(command.Done, "gateway", "list", "lightship"), "sounder  joined")
	})
	if said := b.run(250+command.WrongUse, "run", "--yes", "i-nothing", "--", "hostname"); strings.Contains(said, "a machine at gateway") {
		t.Errorf("it is taken for another:\n%s", said)
	}
	// An instance that no rule lets anybody to has connected to the gateway.
	b.says("no session is called sounder; it is a machine at gateway lightship", 250+command.Blocked, "run", "--yes", "sounder", "--", "hostname")
}

func TestTheConsoleOfAnInstanceIsPrinted(t *testing.T) {
	b := openBay(t)
	b.says("BEGIN SSH HOST KEY FINGERPRINTS", command.Done, "estate", "console", "gauge-1")
	b.says("4 instances fit", command.Failed, "estate", "console", "gauge-*")
	ctx, end := context.WithCancel(t.Context())
	var out output
	done := make(chan int, 1)
	go func() { done <- b.with(ctx, "", &out, "estate", "console", "gauge-1", "--follow") }()
	await.Until(t, "its output", func() bool { return strings.Contains(out.String(), "END SSH HOST KEY FINGERPRINTS") })
	end()
	if status := <-done; status != command.Done && status != command.Interrupted {
		t.Errorf("ended with %d: %s", status, out.String())
	}
}
