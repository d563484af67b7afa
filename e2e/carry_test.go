package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// withFiles has the server offer the file-transfer channel.
const withFiles = "Subsystem sftp internal-sftp\n"

// pilotsList gives pilot a home with a list of keys, and returns where it is.
func (p *peers) pilotsList(text string) (home, list string) {
	p.t.Helper()
	p.pilot()
	home = p.path("home")
	list = filepath.Join(home, ".ssh", "authorized_keys")
	os.MkdirAll(filepath.Dir(list), 0o700)
	p.write(list, text, 0o600)
	for _, path := range []string{home, filepath.Dir(list), list} {
		os.Chown(path, 61000, 61000)
	}
	return home, list
}

// public is the public half of one of the test's keys, in one line.
func (p *peers) public(key string) string {
	return strings.TrimSpace(string(must(os.ReadFile(p.path("keys", key+".pem.pub")))))
}

func TestAnotherListOfKeysIsInstalledIntoAndRead(t *testing.T) {
	t.Parallel()
	for name, lines := range map[string]string{"file transfer": withFiles, "commands": ""} {
		t.Run(name, func(t *testing.T) {
			p := startPeers(t)
			_, usual := p.pilotsList("")
			folder := p.path("lists")
			list := filepath.Join(folder, "pilot")
			if err := os.Mkdir(folder, 0o755); err != nil {
				t.Fatal(err)
			}
			p.write(list, p.public("inner")+"\n", 0o600)
			for _, path := range []string{folder, list} {
				os.Chown(path, 61000, 61000)
			}
			p.vouch("quay")
			p.again(lines, "Match User pilot\nAuthorizedKeysFile "+list+"\n")
			p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/inner.pem\"\nkey_list = %q\n", bastionAddr, pilotLogin, list))
			if r := p.run("check", "--depth", "login", "pilot"); !strings.Contains(r.out, "answers") || r.status != 0 {
				t.Errorf("checked: %+v", r)
			}
			r := p.run("key", "install", p.path("keys", "other.pem"), "pilot", "--comment", "spring survey")
			if r.status != 0 || !strings.Contains(r.out, "proven") || strings.Contains(r.err, "cannot") {
				t.Errorf("installed: %+v", r)
			}
			want := p.public("inner") + "\n" + strings.Join(strings.Fields(p.public("other"))[:2], " ") + " spring survey\n"
			if got := string(must(os.ReadFile(list))); got != want {
				t.Errorf("the list is\n%s\nwant\n%s", got, want)
			}
			if got := must(os.ReadFile(usual)); len(got) > 0 {
				t.Errorf("the usual list is\n%s", got)
			}
			// Other tests leave keys in the temporary folder, which a sweep finds, too.
			if r := p.run("key", "sweep", "pilot"); r.status != 0 && r.status != 3 || strings.Contains(r.out, "unknown key") || !strings.Contains(r.out, "nothing was changed") {
				t.Errorf("swept: %+v", r)
			}
			p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/inner.pem\"\nkey_list = %q\n", bastionAddr, pilotLogin, p.path("nowhere", "pilot")))
			if r := p.run("key", "install", p.path("keys", "locked.pem"), "pilot"); r.status == 0 || !strings.Contains(r.err, "not proven") && !strings.Contains(r.err, "list") {
				t.Errorf("into a folder that is not there: %+v", r)
			}
		})
	}
}

func TestAKeyIsRotatedAtARealServer(t *testing.T) {
	t.Parallel()
	for name, lines := range map[string]string{"file transfer": withFiles, "commands": ""} {
		t.Run(name, func(t *testing.T) {
			p := startPeers(t)
			home, list := p.pilotsList("# the pilots' keys\n")
			p.write(list, "# the pilots' keys\nno-port-forwarding "+p.public("inner")+" old", 0o600) // no line break at its end
			p.vouch("quay")
			p.again("StrictModes yes\n"+lines, "Match User pilot\nAuthorizedKeysFile "+list+"\n")
			p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/inner.pem\"   # theirs\n", bastionAddr, pilotLogin))
			r := p.run("key", "rotate", p.path("keys", "inner.pem"), p.path("keys", "other.pem"), "pilot")
			for _, want := range []string{"pilot: the new key is in the list", "pilot: tested", "pilot use other.pem from now on", "pilot: the old key is out of the list"} {
				if !strings.Contains(r.out, want) {
					t.Errorf("%q is missing: %+v", want, r)
				}
			}
			if want := "# the pilots' keys\nno-port-forwarding " + strings.Join(strings.Fields(p.public("other"))[:2], " "); !strings.HasPrefix(string(must(os.ReadFile(list))), want) || strings.Count(string(must(os.ReadFile(list))), "\n") != 2 {
				t.Errorf("the list is\n%s", must(os.ReadFile(list)))
			}
			if text := string(must(os.ReadFile(filepath.Join(p.dir, "sessions.toml")))); !strings.Contains(text, `"keys/other.pem"   # theirs`) {
				t.Errorf("the sessions are\n%s", text)
			}
			if r := p.run("run", "pilot", "--", "echo in"); r.out != "in\n" {
				t.Errorf("%+v", r)
			}
			if files := must(os.ReadDir(filepath.Join(home, ".ssh"))); len(files) != 1 {
				t.Errorf("left beside the list: %v", files)
			}
			if r := p.run("trail", "pilot"); !strings.Contains(r.out, "the old key is out of the list") {
				t.Errorf("the trail: %+v", r)
			}
		})
	}
}

func TestARotationAtAServerThatIgnoresTheListLosesNothing(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	home, list := p.pilotsList("")
	p.vouch("quay")
	p.again("StrictModes yes\n"+withFiles, "Match User pilot\nAuthorizedKeysFile "+list+"\nAuthorizedKeysCommand /bin/echo "+p.public("inner")+"\nAuthorizedKeysCommandUser nobody\n")
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/inner.pem\"\n", bastionAddr, pilotLogin))
	os.Chmod(home, 0o777) // the server passes the list over, and takes the old key by its other way
	before := string(must(os.ReadFile(filepath.Join(p.dir, "sessions.toml"))))
	r := p.run("key", "rotate", p.path("keys", "inner.pem"), p.path("keys", "other.pem"), "pilot")
	if r.status == 0 || !strings.Contains(r.out, "the home folder is writable by others") || !strings.Contains(r.err, "stopped at pilot") || !strings.Contains(r.err, "the sessions still use it") {
		t.Errorf("%+v", r)
	}
	if after := string(must(os.ReadFile(filepath.Join(p.dir, "sessions.toml")))); after != before {
		t.Errorf("the sessions were changed:\n%s", after)
	}
	if r := p.run("run", "pilot", "--", "echo still in"); r.out != "still in\n" {
		t.Errorf("%+v", r)
	}
	os.Chmod(home, 0o755)
	if r := p.run("key", "rotate", p.path("keys", "inner.pem"), p.path("keys", "other.pem"), "pilot"); r.status != 0 || !strings.Contains(r.out, "stood in the list already") || !strings.Contains(r.out, "the old key did not stand in the list") {
		t.Errorf("put right: %+v", r)
	}
}

func TestASweepOverARealFileTransferChannel(t *testing.T) {
	t.Parallel()
	p := startPeers(t)
	home, _ := p.pilotsList(p.public("inner") + "\n")
	p.again(withFiles, "Match User pilot\nAuthorizedKeysFile "+p.path("server-quay", "authorized")+"\n")
	p.vouch("quay")
	p.workspace(fmt.Sprintf("\n[session.pilot]\nhost = %q\nuser = %q\nkey = \"keys/outer.pem\"\n", bastionAddr, pilotLogin))
	for name, text := range map[string]string{"deep/down/key": string(must(os.ReadFile(p.path("keys", "locked.pem")))), "letter.pem": "no key at all\n"} {
		os.MkdirAll(filepath.Dir(filepath.Join(home, name)), 0o755)
		p.write(filepath.Join(home, name), text, 0o644)
		os.Chown(filepath.Join(home, name), 61000, 61000)
	}
	filepath.Walk(home, func(path string, _ os.FileInfo, _ error) error { return os.Chown(path, 61000, 61000) })
	r := p.run("key", "sweep", "--json", "pilot")
	if r.status != 3 || !strings.Contains(r.out, `"deep/down/key"`) || strings.Contains(r.out, "letter") || !strings.Contains(r.out, `"Explained": 1`) {
		t.Errorf("%+v", r)
	}
	if r := p.run("trail", "sweep"); !strings.Contains(r.out, "private key: deep/down/key") {
		t.Errorf("the trail: %+v", r)
	}
}

func TestASweepIsReportedAndRemembered(t *testing.T) {
	t.Parallel()
	s := show(t, 120, 36, program, "demo", "--dir", t.TempDir())
	s.until("22 routes")
	s.text("S")
	s.until("sweep ─ quay, warden", "done", "rounds.old/gauges.pem, -rw-r--r--", "/tmp/ssh-night/agent.2201", "visitor, spring survey")
	s.keys("Escape")
	s.gone("sweep ─")
	s.lead("T")
	s.until("private key: rounds.old/gauges.pem")
}

func TestAKeyIsMadeInstalledAndRotatedInTheInterface(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("K")
	s.until("8 keys")
	s.text("n")
	s.until("name of the new key")
	s.keys("C-u")
	s.text("shore-2.pem")
	for _, next := range []string{"kind (Ed25519", "anyone with the file", "the same again", "shore-2.pem is made"} {
		s.keys("Enter")
		s.until(next)
	}
	s.text("/shore-2")
	s.keys("Enter")
	s.until("❯ ● shore-2.pem")
	s.text("I")
	s.until("at which session's machine")
	s.text("sill")
	s.keys("Enter")
	s.until("with (from=ADDRESSES")
	s.keys("Enter")
	s.until("password of keeper at sill")
	s.text("ebb")
	s.keys("Enter")
	s.until("install ─ shore-2.pem", "stopped", "the home folder is writable by others", "the server refuses it")
	s.keys("Escape")
	s.gone("install ─")

	s.text("K")
	s.until("keys / shore-2")
	s.keys("Escape")
	s.gone("keys / shore-2")
	s.until("9 keys", "shore.pem")
	s.text("/shore.pem")
	s.keys("Enter")
	s.until("❯ ● shore.pem")
	s.text("E")
	s.until("in the place of shore.pem: shore-2.pem")
	s.keys("Enter")
	s.until("all 2 that use it")
	s.keys("Enter")
	s.until("rotate ─ shore.pem → shore-2.pem", "done", "quay, spit use shore-2.pem", "the old key is out of the list")
	if text := string(must(os.ReadFile(filepath.Join(dir, "sessions.toml")))); strings.Count(text, "keys/shore.pem") != 2 { // a gateway and an issuer know the warden by it still
		t.Errorf("the sessions are\n%s", text)
	}
	s.keys("Escape")
	s.gone("rotate ─")
	s.keys("Home", "Enter")
	s.until("warden@quay:~$")
}

func TestTheRingHoldsWhatItIsTold(t *testing.T) {
	t.Parallel()
	s := show(t, 120, 36, program, "demo", "--dir", t.TempDir())
	s.until("22 routes")
	s.text("K")
	s.until("8 keys", "❯ ● gauge.pem")
	s.text("e")
	s.until("limit to hosts or sessions")
	s.text("gauge-*")
	s.keys("Enter")
	s.until("how long it stays")
	s.text("1h")
	s.keys("Enter")
	s.until("ask before others")
	s.keys("Enter")
	s.until("the limits of gauge.pem are saved")
	s.text("l")
	s.until("gauge.pem is held in memory another 1h")
	s.until("meant for   gauge-*", "in the ring another")
	s.lead("G")
	s.until("1 key in memory", "❯ ● gauge.pem", "nistp256", "gauge-*", "may use it", "not yet")
	s.text("a")
	s.until("must ask")
	s.text("p")
	s.until("p again opens a socket")
	s.text("p")
	s.until("open to programs of this account: SSH_AUTH_SOCK=")
	s.text("pp")
	s.until("closed to other programs")
	s.text("L")
	s.until("lock the ring with a password")
	s.text("neap tides")
	s.keys("Enter")
	s.until("the same again")
	s.text("neap tides")
	if strings.Contains(s.see(), "neap") {
		t.Error("the password is shown")
	}
	s.keys("Enter")
	s.until("locked", "╳ gauge.pem")
	s.text("L")
	s.until("the password it was locked with")
	s.text("spring tides")
	s.keys("Enter")
	s.until("that is not the password")
	s.text("L")
	s.until("the password it was locked with")
	s.text("neap tides")
	s.keys("Enter")
	s.until("the ring is open again", "● gauge.pem")
	s.text("Z")
	s.until("Z again wipes 1 key from memory")
	s.text("Z")
	s.until("1 key gone from memory", "No key is held")
	s.keys("Escape")
	s.until("archive ", "warning", "gauge.pem is limited")
}

func TestKeysAreLentToOneShellAndABetterWayIsOffered(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes", "❯ quay")
	s.keys("End", "Up") // spit is above sill
	s.keys("Home")
	s.text("l")
	s.until("lend to one shell ─ quay", "□ gauge.pem", "before each use")
	s.text("h")
	s.text("buoy")
	s.keys("Enter")
	s.keys("Enter")
	s.until("choose at least one key")
	s.keys("Space")
	s.until("■ gauge.pem")
	s.keys("Enter")
	s.until("warden@quay:~$", "lends gauge.pem")
	s.text("reach gauge-1")
	s.keys("Enter")
	s.until("gauge-1 does not let keeper in", "it is for buoy alone")
	s.text("clear; reach buoy")
	s.keys("Enter")
	s.until("needs you: quay asks for gauge.pem")
	s.lead("a")
	s.until("wants to use gauge.pem to log in as keeper at 10.61.4.62", "The host's key is SHA256:")
	s.keys("C-y", "Enter")
	s.until("\nkeeper\nbuoy", "it goes with nothing lent, too")
	s.lead("G")
	s.until("gauge.pem to quay, asked for 2 times, only for buoy", "quay used gauge.pem to log in as keeper at 10.61.4.62", "it is for buoy alone")
	s.keys("Escape")
	s.until("A better way: here ▸ quay ▸ 10.61.4.62", "B makes")
	s.text("B")
	s.until("10-61-4-62 = keeper@10.61.4.62 via quay with keys/gauge.pem")
	s.keys("Enter")
	s.until("23 routes", "❯ 10-61-4-62")
	s.keys("Enter")
	s.until("keeper on 10-61-4-62")
	if text := string(must(os.ReadFile(filepath.Join(dir, "sessions.toml")))); strings.Contains(text, "[session.quay]\nagent") {
		t.Error("what was lent once was written down")
	}
}

func TestAMachineIsAskedWhichKeyOpensIt(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 120, 36, program, "demo", "--dir", dir)
	s.until("22 routes", "❯ quay")
	s.text("a")
	s.until("which key opens this? ─ quay, warden", "done", "shore.pem   accepted  SHA256:", "mast.pem    not accepted", "not asked: the server limits the number of tries")
	s.keys("Escape")
	s.gone("which key opens this?")
	r := do(t, dir, "", "key", "find", "--at", "sill")
	if r.status != 3 || !strings.Contains(r.out, "refused ") || !strings.Contains(r.err, "accepts none of the keys") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "find", "--at", "buoy"); r.status != 0 || !strings.Contains(r.out, "taken ") || !strings.Contains(r.out, "gauge.pem") {
		t.Errorf("%+v", r)
	}
}

func TestAKeyIsLentToOneRunAlone(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	gauge := filepath.Join(dir, "keys", "gauge.pem")
	lent := []string{"run", "--at", "quay", "--lend", gauge, "--lend-to", "gauge-1"}
	if r := do(t, dir, "", append(lent, "gauge-1", "--", "reach gauge-1")...); !strings.Contains(r.err, "does not let keeper in") {
		t.Errorf("with nobody to ask: %+v", r)
	}
	lent = append(lent, "--lend-unasked", "gauge-1", "--")
	if r := do(t, dir, "", append(lent, "hostname; reach gauge-1; reach archive")...); !strings.HasPrefix(r.out, "quay\nkeeper\ngauge-1\n") || strings.Contains(r.out, "archive\n") || !strings.Contains(r.err, "quay was refused the use of gauge.pem: it is for gauge-1 alone") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "run", "quay", "--", "reach gauge-1"); !strings.Contains(r.err, "no agent is lent") {
		t.Errorf("the run after it: %+v", r)
	}
	if r := do(t, dir, "", "trail", "lend"); !strings.Contains(r.out, "used gauge.pem to log in as keeper at 10.61.4.31") || !strings.Contains(r.out, "it is for gauge-1 alone") {
		t.Errorf("the trail: %+v", r)
	}
	if r := do(t, dir, "", "run", "--at", "lamp", "gauge-1"); r.status != 252 || !strings.Contains(r.err, "does not go through lamp") {
		t.Errorf("%+v", r)
	}
}

func TestTheRingServesACommand(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	farside := filepath.Join(t.TempDir(), "farside")
	if out, err := exec.Command("go", "build", "-o", farside, "meatus/e2e/farside").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	r := do(t, dir, "low tide\n", "ring", "--passphrase-fd", "0", "--stay", "1h", filepath.Join(dir, "keys", "survey.pem"), "--", farside)
	for _, want := range []string{"listed survey.pem", "signed a login: <nil>", "signed a contract: <nil>", "removing: <nil>"} {
		if !strings.Contains(r.out, want) {
			t.Errorf("%q is missing: %+v", want, r)
		}
	}
	if r.status != 0 || !strings.Contains(r.err, "holds survey.pem") || !strings.Contains(r.err, "stays another 1h") || !strings.Contains(r.err, "farside (process ") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "high tide\n", "ring", "--passphrase-fd", "0", filepath.Join(dir, "keys", "survey.pem"), "--", farside); r.status != 251 || !strings.Contains(r.err, "that is not its passphrase") {
		t.Errorf("a wrong passphrase: %+v", r)
	}
}

func TestAKeyIsBoundOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	gauge := filepath.Join(dir, "keys", "gauge.pem")
	if r := do(t, dir, "", "key", "bind", gauge, "--host", "gauge-*", "--stay", "2h", "--confirm"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if r := do(t, dir, "", "check", "archive", "--depth", "here"); !strings.Contains(r.out, "gauge.pem is limited to gauge-*, and this is 10.61.4.50") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "check", "gauge-1", "--depth", "here"); strings.Contains(r.out, "limited to") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "bind", gauge, "--stay", "soon"); r.status != 2 || !strings.Contains(r.err, "is no time for a key to stay") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "key", "rename", gauge, "gauges.pem"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	if text := string(must(os.ReadFile(filepath.Join(dir, "sessions.toml")))); !strings.Contains(text, `[key."keys/gauges.pem"]`) || strings.Contains(text, "gauge.pem") {
		t.Errorf("the sessions are\n%s", text)
	}
}

func TestTheRingStandsBeforeARunningAgent(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	s := show(t, 120, 36, program, "--workspace", dir, "ring", filepath.Join(dir, "keys", "mast.pem"), "--", program, "--workspace", dir)
	s.until("22 routes")
	s.text("G")
	s.until("0 keys in memory", "No key is held")
	s.text("B")
	s.until("0 keys in memory, 1 behind", "mast.pem", "held by the agent behind", "the agent behind listens at")
	s.keys("BSpace")
	s.until("that key belongs to the running agent")
	s.text("B")
	s.until("No key is held")
}

func TestARunningAgentsKeysAreUsed(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	if err := os.Chmod(filepath.Join(dir, "keys", "spare.pem"), 0o600); err != nil {
		t.Fatal(err)
	}
	gauge, spare := filepath.Join(dir, "keys", "gauge.pem"), filepath.Join(dir, "keys", "spare.pem")
	text := strings.Replace(string(must(os.ReadFile(filepath.Join(dir, "sessions.toml")))), `key  = "keys/gauge.pem"`, "", 1)
	os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(text), 0o600)
	if r := do(t, dir, "", "run", "gauge-1", "--", "whoami"); r.status != 253 {
		t.Errorf("without a key: %+v", r)
	}
	inner := []string{program, "--workspace", dir, "--before-agent", "key", "install", "--json", spare, "gauge-1"}
	r := do(t, dir, "", append([]string{"ring", gauge, "--"}, inner...)...)
	if r.status != 0 || !strings.Contains(r.out, `"session":"gauge-1"`) || !strings.Contains(r.out, "proven: a login with that key alone") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "--before-agent", "run", "gauge-1", "--", "true"); r.status != 252 || !strings.Contains(r.err, "names no running agent") {
		t.Errorf("where there is none: %+v", r)
	}
}

func TestALendIsNotAskedForOverATerminalThatIsTheFarSides(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	s := show(t, 100, 24, program, "--workspace", dir, "run", "-t", "--lend", filepath.Join(dir, "keys", "gauge.pem"), "quay")
	s.until("warden@quay:~$")
	s.text("reach gauge-1")
	s.keys("Enter")
	s.until("gauge-1 does not let keeper in", "nobody can be asked")
	s.text("exit")
	s.keys("Enter")
	s.ended()
}
