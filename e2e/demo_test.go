package e2e

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"meatus/lab/await"
)

func TestDemoFromTheFirstScreenToTheLast(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("Lantern Bay", "22 routes", "tide-db", "blocked", "enter open shell")

	s.keys("Down", "Down", "Enter") // gauge-1
	s.until("keeper on gauge-1 (10.61.4.31) · here ▸ quay ▸ gauge-1", "keeper@gauge-1:~$")
	s.text("whoami; addr; size")
	s.keys("Enter")
	s.until("\nkeeper\n", "10.61.4.31", "120 columns, 35 rows")

	s.resize(90, 30)
	s.lead()
	s.wait("what is drawn for the new width", func(now string) bool {
		return slices.ContainsFunc(strings.Split(now, "\n"), func(line string) bool { return utf8.RuneCountInString(line) == 90 })
	})
	s.keys("Escape")
	s.gone("go to ")
	s.saying("size", "90 columns, 29 rows")

	s.text("ls /srvX")
	s.keys("BSpace")
	s.text("/gauge")
	s.keys("Enter")
	s.until("ls /srv/gauge", "offset")

	s.text("gauge")
	s.keys("Enter")
	s.until("q leaves", "level")
	s.resize(100, 28)
	s.until("q leaves")
	s.text("q")
	s.until("offset", "keeper@gauge-1:~$")

	s.text("stream 50ms")
	s.keys("Enter")
	s.until("level")
	s.keys("C-c")
	s.until("^C")

	s.keys("M-m")
	s.until("go to", "keeper on gauge-1", "Routes")
	s.keys("0")
	s.until("22 routes", "3 live", "2 links", "gauge-1")
	s.keys("Up", "Up", "Enter") // quay: a second shell, no second login
	s.until("warden on quay", "warden@quay:~$")
	s.keys("M-m", "1")
	s.until("keeper on gauge-1 (10.61.4.31)")

	s.text("exit 3")
	s.keys("Enter")
	s.until("ended, status 3")
	s.keys("Enter")
	s.until("22 routes")
	s.text("q")
	s.until("A shell is live. Leaving ends it", "warden on quay")
	s.keys("Escape")
	s.gone("Leaving ends it")
	s.text("q")
	s.until("Leaving ends it")
	s.keys("Enter")
	if status := s.ended(); status != "0" {
		t.Errorf("left with status %s", status)
	}
}

func TestDemoMistakesAndTheirRemedies(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 140, 40, program, "demo", "--dir", dir)
	s.until("22 routes · 3 blocked")

	s.keys("Down") // tide-db: its key is too open
	s.until("group and others can read it", "press m: set mode 0600")
	s.keys("Enter")
	s.until("key unusable at tide-db")
	s.text("m")
	s.until("tide.pem now has mode 0600", "22 routes")
	if info, err := os.Stat(filepath.Join(dir, "keys", "tide.pem")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("tide.pem: %v, %v", info, err)
	}
	s.keys("Enter") // now the first visit
	s.until("first visit ─ tide-db", "First connection to tide-db at 10.61.4.20:22", "ssh-ed25519")
	s.text("y")
	s.keys("Enter")
	s.until("type yes to trust the key")
	s.text("yes")
	s.keys("Enter")
	s.until("keeper on tide-db")
	s.keys("M-m", "0")

	s.keys("Down", "Down", "Enter") // gauge-2: replaced
	s.until("identity changed at gauge-2", "shows another host key than the trusted one", "12 Oct 2026")
	s.keys("Down", "Enter") // gauge-3: closed
	s.until("refused at gauge-3", "nothing listens", "check the port")
	s.keys("Down", "Enter") // gauge-4: wrong login
	s.until("no key accepted at gauge-4", "the user name is probably wrong", "SHA256:")
	s.keys("Down", "Enter") // survey-web: first visit, then a passphrase
	s.until("first visit ─ survey-web")
	s.text("yes")
	s.keys("Enter")
	s.until("survey.pem, which has a passphrase")
	s.text("high tide")
	if seen := s.see(); strings.Contains(seen, "high tide") {
		t.Errorf("the passphrase is shown:\n%s", seen)
	}
	s.keys("Enter")
	s.until("that passphrase does not open the key")
	s.text("low tide")
	s.keys("Enter")
	s.until("keeper on survey-web")
	s.keys("M-m", "0")
	s.keys("Down", "Enter") // archive: a first visit, declined
	s.until("first visit ─ archive")
	s.keys("Escape")
	s.until("its host key is not trusted yet")
	if vouched, err := os.ReadFile(filepath.Join(dir, "vouched.toml")); err != nil || strings.Contains(string(vouched), "10.61.4.50") {
		t.Errorf("a declined host was vouched for: %v\n%s", err, vouched)
	}
}

func TestAReplacedMachineIsSettled(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.keys("Down", "Down", "Down", "Enter")
	s.until("identity changed at gauge-2", "press m to settle it")
	s.text("m")
	screen := s.until("changed identity ─ gauge-2", "type its last 6 characters", "vouched")
	var now string
	for line := range strings.Lines(screen) {
		if fields := strings.Fields(line); len(fields) > 2 && fields[0] == "now" {
			now = fields[2]
		}
	}
	s.text("yes")
	s.keys("Enter")
	s.until("that is neither; nothing was changed")
	s.keys("Escape")
	s.gone("changed identity ─")
	s.text("m")
	s.until("changed identity ─")
	s.text(now[len(now)-6:])
	s.keys("Enter")
	s.until("the new host key of gauge-2 is trusted")
	s.keys("Enter")
	s.until("keeper on gauge-2")
	text, _ := os.ReadFile(filepath.Join(dir, "vouched.toml"))
	if strings.Count(string(text), "until = ") != 1 || strings.Count(string(text), "10.61.4.32'") != 2 {
		t.Errorf("the record is now\n%s", text)
	}
}

func TestWaitingUntilAMachineIsUp(t *testing.T) {
	t.Parallel()
	s := show(t, 130, 36, program, "demo", "--dir", t.TempDir())
	s.until("22 routes")
	s.keys("Down", "Down", "Down", "Down", "Enter")
	s.until("refused at gauge-3", "w wait and retry")
	s.text("w")
	s.until("waiting again in")
	s.keys("Up", "Up", "Up", "Up", "Enter")
	s.until("warden@quay:~$")
	s.text("fault gauge-3 heal")
	s.keys("Enter")
	s.until("gauge-3: heal", "gauge-3 is open: alt+m")
	s.keys("M-m", "2")
	s.until("keeper on gauge-3")
}

func TestAWrongLoginIsMendedOnTheSheet(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	before, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
	s.keys("Down", "Down", "Down", "Down", "Down")
	s.text("e")
	s.until("session sheet ─ gauge-4", "without it keeper, site reef", "from like gauge-*")
	s.keys("Down", "Down", "Enter", "C-u") // user
	s.text("a b")
	s.keys("Enter")
	s.until("not written: user: ") // what was typed is there to be put right
	s.keys("C-u")
	s.text("keeper")
	s.keys("Enter")
	s.until("user is saved", "keeper")
	s.keys("Escape")
	s.gone("session sheet")
	s.keys("Enter")
	s.until("keeper on gauge-4")
	text, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
	if want := strings.Replace(string(before), "user = \"warden\"                  # should", "user = \"keeper\"                  # should", 1); string(text) != want {
		t.Errorf("the file is now\n%s", text)
	}
	s.keys("M-m", "0")
	s.until("22 routes")
	s.text("u")
	s.until("u again takes back: user of gauge-4")
	s.text("u")
	s.until("undone: user of gauge-4")
	if text, _ := os.ReadFile(filepath.Join(dir, "sessions.toml")); string(text) != string(before) {
		t.Errorf("undone, the file is\n%s", text)
	}
}

func TestAnEditFromOutsideIsShown(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	file := filepath.Join(dir, "sessions.toml")
	text, _ := os.ReadFile(file)
	if err := os.WriteFile(file, append(text, "\n[session.winch]\nhost = \"10.61.4.70\"\nsite = \"reef\"\n"...), 0o600); err != nil {
		t.Fatal(err)
	}
	s.until("23 routes", "sessions.toml was edited: new: winch", "┈┈  winch")
	s.text("e")
	s.until("session sheet ─ quay")
	s.keys("Enter")
	s.until("a host name or an address")
	if err := os.WriteFile(file, []byte(strings.Replace(string(text), "203.0.113.10", "203.0.113.11", 1)), 0o600); err != nil {
		t.Fatal(err)
	}
	s.until(`host became "203.0.113.11" outside`)
}

func TestSessionsAreRenamedCopiedAndRemoved(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("e")
	s.until("session sheet ─ quay")
	s.keys("C-r")
	s.until("rename to quay")
	s.keys("C-u")
	s.text("pier")
	s.keys("Enter")
	s.until("session sheet ─ pier", "renamed quay to pier", "├─◐❯ pier")
	s.keys("C-d")
	s.until("remove pier? enter removes it")
	s.keys("Enter")
	s.until("through it; give")
	s.keys("C-o")
	s.keys("Enter")
	s.until("session sheet ─ pier-2", "23 routes")
	s.keys("C-d")
	s.keys("Enter")
	s.until("removed pier-2", "22 routes")
}

func TestTheTrailTellsWhatWasDone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.keys("Down")
	s.until("press m: set mode 0600")
	s.text("m")
	s.until("tide.pem now has mode 0600")
	s.keys("Enter")
	s.until("first visit ─ tide-db")
	s.text("yes")
	s.keys("Enter")
	s.until("keeper on tide-db")
	s.text("exit 3")
	s.keys("Enter")
	s.until("ended, status 3")
	s.keys("Enter")
	s.until("22 routes")
	s.keys("Down", "Down", "Enter")
	s.until("identity changed at gauge-2")
	s.keys("M-m", "T")
	s.until("trail", "shell ended, status 3", "answered: the identity ssh-ed25519", "SHA256:", "tide.pem now has mode 0600", "connected", "identity changed")
	s.text("|")
	s.until("failures only", "gauge-2")
	s.gone("status 3")
	s.text("|/shell")
	s.until("trail / shell", "shell began")
	s.gone("identity changed")
	s.keys("Escape")
	s.until("connected")
	s.keys("Escape")
	s.until("22 routes")
	r := do(t, dir, "", "trail", "--json", "identity changed")
	if r.status != 0 || strings.Count(r.out, "\n") != 1 || !strings.Contains(r.out, `"session":"gauge-2"`) {
		t.Errorf("%+v", r)
	}
}

func TestAllMachinesAreLookedAt(t *testing.T) {
	t.Parallel()
	s := show(t, 130, 36, program, "demo", "--dir", t.TempDir())
	s.until("22 routes · 3 blocked")
	s.text("C")
	s.until("identity changed at gauge-2", "refused at gauge-3", "at hulk")
	s.gone("looking")
	s.keys("End", "Up", "Up")
	s.until("first visit, shows")
}

func TestAWalkCanBeStopped(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 100, 30, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.keys("Enter")
	s.until("warden@quay:~$")
	s.text("fault gauge-1 freeze")
	s.keys("Enter")
	s.until("gauge-1: freeze")
	s.keys("M-m", "0")
	s.keys("Down", "Down", "Enter")
	s.until("connecting", "port at gauge-1")
	s.keys("Escape")
	s.until("stopped at gauge-1, port")
}

func TestNewSessionIsWrittenAndWalked(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 110, 30, program, "demo", "--dir", dir)
	s.until("22 routes")
	before, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
	s.text("n")
	s.until("new session")
	s.text("two = keeper@10.61.4.31 via qauy")
	s.until("there is no session \"qauy\"; did you mean quay?")
	s.keys("BSpace", "BSpace", "BSpace")
	s.keys("Tab")
	s.text("with ga")
	s.keys("Tab")
	s.until("with gauge.pem", "here ─────── quay ─────── two")
	s.keys("Enter")
	s.until("23 routes")
	after, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
	if !strings.HasPrefix(string(after), string(before)) || !strings.Contains(string(after), "[session.two]") {
		t.Errorf("the file is now\n%s", after)
	}
	s.keys("Enter")
	s.until("keeper on two (10.61.4.31)")
}

func TestWindowsOfAllSizes(t *testing.T) {
	t.Parallel()
	s := show(t, 80, 24, program, "demo")
	s.until("Lantern Bay", "gauge-2", "open shell", "address")
	for _, line := range strings.Split(s.see(), "\n") {
		if n := len([]rune(line)); n > 80 {
			t.Errorf("a line of %d columns: %q", n, line)
		}
	}
	s.resize(50, 14) // the board or the card
	s.until("needs you", "d the card")
	s.text("d")
	s.until("address", "d the board")
	s.text("d")
	s.resize(49, 14)
	s.until("too small", "quay: ")
	s.resize(200, 60)
	s.until("Lantern Bay", "open shell")
	s.text("?")
	s.until("all keys", "in a shell", "marks", "╳ blocked")
	s.text("x")
	s.text("q")
	s.ended()
}

func TestAnEmptyWorkspaceSaysWhatToDo(t *testing.T) {
	t.Parallel()
	s := show(t, 100, 30, program, "--workspace", t.TempDir())
	s.until("Where do you want to go?", "ctrl+d")
	s.text("ssh -i x.pem -p 2022 warden@203.0.113.10")
	s.keys("Tab")
	s.until("warden@203.0.113.10:2022 with x.pem", "nothing was run", "there is no key")
	s.keys("Escape")
	s.until("No sessions yet", "n writes one")
	s.text("n")
	s.until("ctrl+d look at the demo")
	s.keys("C-d")
	s.until("Lantern Bay", "22 routes")
	s.text("q")
	s.ended()
}

// startLab runs the lab alone with its workspace in a folder of the test.
func startLab(t *testing.T) string {
	t.Helper()
	dir := t.TempDir()
	said := must(os.Create(filepath.Join(t.TempDir(), "said")))
	defer said.Close()
	cmd := exec.Command(program, "lab", "--dir", dir)
	cmd.Stdout = said
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
	})
	await.Until(t, "the lab's start", func() bool {
		text, _ := os.ReadFile(said.Name())
		return bytes.Contains(text, []byte("listens on"))
	})
	return dir
}

func TestCommandLine(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	if r := do(t, dir, "", "run", "gauge-1", "--", "hostname; complain loud; exit 9"); r.out != "gauge-1\n" || r.err != "loud\n" || r.status != 9 {
		t.Errorf("run: %+v", r)
	}
	if r := do(t, dir, "typed\n", "run", "quay", "--", "copy"); r.out != "typed\n" || r.status != 0 {
		t.Errorf("standard input: %+v", r)
	}
	if r := do(t, dir, "", "run", "quay", "--", "echo", "two  words", "it's"); r.out != "two  words it's\n" || r.status != 0 {
		t.Errorf("several arguments: %+v", r)
	}
	for args, want := range map[string]struct {
		status int
		says   string
	}{
		"run tide-db":    {253, "tide-db: key: mode 0644"},
		"run gauge-2":    {253, "gauge-2: identity: "},
		"run gauge-3":    {253, "gauge-3: port: "},
		"run gauge-4":    {253, "gauge-4: login: "},
		"run archive":    {253, "pass --yes-identity archive=SHA256:"},
		"run nowhere":    {252, "there is no session"},
		"run":            {252, "meatus run --help"},
		"run a b":        {252, "put -- before the command"},
		"check --colour": {2, "unknown flag"},
		"fly":            {2, "unknown command"},
	} {
		if r := do(t, dir, "", strings.Fields(args)...); r.status != want.status || !strings.Contains(r.err, want.says) {
			t.Errorf("%s: %+v, want %d and %q", args, r, want.status, want.says)
		}
	}
	r := do(t, dir, "", "run", "archive", "--", "hostname")
	_, fingerprint, _ := strings.Cut(r.err, "--yes-identity ")
	fingerprint, _, _ = strings.Cut(fingerprint, "\n")
	if r := do(t, dir, "", "trail", "--csv", "--session", "gauge-1"); !strings.Contains(r.out, "connected") || !strings.Contains(r.out, "status 9") {
		t.Errorf("the trail: %+v", r)
	}
	if r := do(t, dir, "", "run", "--yes-identity", "archive=SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA", "archive", "--", "hostname"); r.status != 253 {
		t.Errorf("another fingerprint was accepted: %+v", r)
	}
	if r := do(t, dir, "", "run", "--trace", "--yes-identity", fingerprint, "archive", "--", "hostname"); r.out != "archive\n" || !strings.Contains(r.err, "identity  open") {
		t.Errorf("with the fingerprint: %+v", r)
	}
}

func TestCheckTellsEveryVerdictAsJSON(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	r := do(t, dir, "", "check", "--json")
	var reports []struct {
		Session, Verdict string
		Hops             []struct {
			Name, User, Address string
			Gates               []struct{ Gate, Verdict, Seen, Reason, Remedy string }
		}
	}
	if err := json.Unmarshal([]byte(r.out), &reports); err != nil || r.status != 3 || len(reports) != 22 {
		t.Fatalf("%v, status %d, %d reports", err, r.status, len(reports))
	}
	tide := reports[1]
	if tide.Session != "tide-db" || tide.Verdict != "shut" || len(tide.Hops) != 2 || tide.Hops[1].User != "keeper" || tide.Hops[1].Address != "10.61.4.20:22" {
		t.Errorf("tide-db: %+v", tide)
	}
	key := tide.Hops[1].Gates[3]
	if key.Gate != "key" || key.Verdict != "shut" || key.Remedy == "" || key.Reason == "" {
		t.Errorf("its key: %+v", key)
	}
	if r := do(t, dir, "", "check", "--depth", "identity"); r.status != 3 || !strings.Contains(r.out, "gauge-3: port: ") || !strings.Contains(r.out, "gauge-2: identity: ") {
		t.Errorf("check --depth identity: %+v", r)
	}
	if r := do(t, dir, "", "check", "quay"); r.status != 0 || !strings.Contains(r.out, "shore.pem, owner only") {
		t.Errorf("check quay: %+v", r)
	}
}

func TestABrokenWorkspaceIsToldWhole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	text := "[session.good]\nhost = \"127.0.0.1\"\n[session.bad]\nhsot = \"x\"\nport = 0\n[session.c]\nhost = \"c\"\nvia = [\"c\"]\n"
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	r := do(t, dir, "", "check")
	for _, want := range []string{`sessions.toml:4:1: unknown key "hsot"`, `did you mean "host"?`, "sessions.toml:5:8: port", "circle: c → c"} {
		if !strings.Contains(r.err, want) {
			t.Errorf("not told: %s in\n%s", want, r.err)
		}
	}
	if r.status != 3 || !strings.Contains(r.out, "good") {
		t.Errorf("status %d, %s", r.status, r.out)
	}
	file := filepath.Join(dir, "sessions.toml")
	if r := do(t, file, "", "check"); r.status != 4 {
		t.Errorf("a file as workspace: %+v", r)
	}
}

func TestWhatEndsAtOnceIsStillSeen(t *testing.T) {
	t.Parallel()
	for range 10 {
		s := show(t, 80, 24, "printf", "the first line is\\nscrolled off when it is gone\\n")
		s.until("scrolled off when it is gone")
	}
}

// A terminal that cannot place its cursor gets lines of text, and the Linux console marks that its font has.
func TestTerminalsThatHaveLess(t *testing.T) {
	t.Parallel()
	dumb := show(t, 110, 400, "env", "TERM=dumb", program, "demo", "--dir", t.TempDir())
	dumb.until("22 routes")
	if now := dumb.see(); strings.Contains(now, "│") || strings.Contains(now, "━") {
		t.Errorf("frames are drawn:\n%s", now)
	}
	dumb.text("quit")
	dumb.keys("Enter")
	if status := dumb.ended(); status != "0" {
		t.Errorf("ended with %s", status)
	}
	console := show(t, 110, 30, "env", "TERM=linux", "COLORTERM=", program, "demo", "--dir", t.TempDir())
	now := console.until("22 routes", "tide-db", "blocked")
	for _, r := range "●◐╳❯━┈" {
		if strings.ContainsRune(now, r) {
			t.Errorf("the console is given %q:\n%s", r, now)
		}
	}
	console.keys("q")
	console.ended()
}
