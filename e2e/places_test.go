package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestRemediesAreChosenAndDone(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	sessions := func() string {
		text, _ := os.ReadFile(filepath.Join(dir, "sessions.toml"))
		return string(text)
	}

	s.text("/gauge-4") // the login is wrong
	s.keys("Enter")
	s.until("no key accepted at gauge-4", "press m for what may mend it", "1. key gauge.pem,", ": refused")
	s.keys("Escape")
	s.gone("/ gauge-4")
	s.keys("m")
	s.until("remedies ─ gauge-4, login", "log in as keeper", "user of gauge-4: warden → keeper")
	s.keys("Enter")
	s.until("user of gauge-4 is keeper now; connect again")
	if text := sessions(); !strings.Contains(text, `user = "keeper"                  # should be keeper`) {
		t.Errorf("the file is\n%s", text)
	}

	s.text("/buoy") // the key is missing
	s.keys("Tab")
	s.until("there is no such file")
	s.keys("m")
	s.until("remedies ─ buoy, key", "use buoy.pem from", "→ keys/buoy.pem, mode 0400", "use the key gauge.pem", "used for gauge-1")
	s.keys("Enter")
	s.until("buoy.pem is keys/buoy.pem now, and buoy uses it")
	if info, err := os.Stat(filepath.Join(dir, "keys", "buoy.pem")); err != nil || info.Mode().Perm() != 0o400 {
		t.Errorf("buoy.pem: %v, %v", info, err)
	}

	s.text("/tide-db") // its key is too open, and another beside it
	s.keys("Tab")
	s.until("group and others can read it")
	s.keys("M")
	s.until("set mode 0600 on tide.pem", "fix the permissions of all 2 keys in")
	s.keys("Down")
	s.until("spare.pem  0640 → 0600")
	s.keys("Enter")
	s.until("mended ", "spare.pem", "tide.pem")
	s.keys("Escape")
	s.gone("/ tide-db")

	s.text("/tables") // the door is taken
	s.keys("Tab")
	s.until("is taken by")
	s.keys("m")
	s.until("listen at port", "tunnels of tables: bring")
	s.keys("Enter")
	s.until("tunnels of tables is bring")

	s.text("/gauge-3") // waiting is a remedy too
	s.keys("Enter")
	s.until("refused at gauge-3")
	s.keys("M")
	s.until("❯ wait until it answers")
	s.keys("Enter")
	s.until("waiting")
	s.keys("Escape")
	s.gone("again in")
}

func TestAnExpectedFingerprintIsCompared(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("/archive")
	s.keys("Enter")
	screen := s.until("first visit ─ archive", "SHA256")
	shown := ""
	for line := range strings.Lines(screen) {
		if fields := strings.Fields(line); len(fields) == 2 && fields[0] == "SHA256" {
			shown = fields[1]
		}
	}
	other := strings.Repeat("A", 43)
	s.pasteText("SHA256:" + other)
	s.until("pasted", "differs")
	s.keys("Enter")
	s.until("that is another fingerprint")
	s.keys("C-u")
	s.pasteText("SHA256:" + shown)
	s.until("the same")
	s.keys("Enter")
	s.until("keeper@archive:~$")

	s.lead("H")
	s.until("hosts", "10.61.4.50:22", "SHA256:"+shown, "seen", "from")
	s.pasteText("10.61.4.20 SHA256:" + other + "\n10.61.4.99 nothing here\n")
	s.until("1 fingerprint, 1 line not understood", "Expect them?")
	s.keys("Enter")
	s.until("1 fingerprint expected now")
	s.text("D")
	s.until("End the trust in the keys of")
	s.keys("Enter")
	s.until("is history; the next visit is a first one", "before")
	s.keys("Escape")
	s.until("22 routes")
	s.keys("Escape")
	s.gone("/ archive")
	s.text("/tide-db")
	s.keys("Tab")
	s.until("group and others can read it")
	s.text("m")
	s.until("now has mode 0600")
	s.keys("Enter")
	s.until("first visit ─ tide-db", "expected", "differs")
}

func TestHowFarAChecksGoesIsChosen(t *testing.T) {
	t.Parallel()
	s := show(t, 130, 36, program, "demo", "--dir", t.TempDir())
	s.until("22 routes", "check: identity")
	s.text("v")
	s.until("check: login")
	s.text("v")
	s.until("check: here")
	s.text("v")
	s.until("check: knock")
	s.text("C")
	s.until("22, answers as lantern in", "refused at gauge-3")
	if seen := s.see(); strings.Contains(seen, "identity changed") {
		t.Errorf("a knock looked at a host key:\n%s", seen)
	}
	s.text("F")
	s.until("check: knock every 1 min")
	s.keys("Down", "Down", "Space")
	s.until("❯▪gauge-1")
	s.text("o")
	s.until("most recent first")
	s.text("o")
	s.until("marked first")
	if see := s.see(); strings.Index(see, "▪gauge-1") > strings.Index(see, "quay  ") {
		t.Errorf("the marked one is not first:\n%s", see)
	}
}

func TestListsGoOutAndComeIn(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	list := filepath.Join(dir, "list.csv")
	out := do(t, dir, "", "export")
	if out.status != 0 || !strings.HasPrefix(out.out, "name,site,host,port,user,key,lease,via,keepalive,agent,tunnels,") {
		t.Fatalf("%+v", out)
	}
	changed := strings.Replace(out.out, "10.61.4.31", "10.61.4.91", 1) + "pier,shore,203.0.113.20,,warden" + strings.Repeat(",", 33) + "\n"
	if err := os.WriteFile(list, []byte(changed), 0o600); err != nil {
		t.Fatal(err)
	}
	r := do(t, dir, "", "import", list)
	if r.status != 2 || !strings.Contains(r.out, "add      pier\n           site      shore\n           host      203.0.113.20\n") || !strings.Contains(r.out, "change   gauge-1\n           host: 10.61.4.31 → 10.61.4.91") || !strings.Contains(r.out, "1 to add, 1 to change, 26 as they are") || !strings.Contains(r.err, "nobody to ask") {
		t.Errorf("%+v", r)
	}
	if again := do(t, dir, "", "export"); again.out != out.out {
		t.Error("it was imported without a yes")
	}
	if r := do(t, dir, "", "import", "--yes", list); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if again := do(t, dir, "", "export", "--format", "json"); !strings.Contains(again.out, "10.61.4.91") || !strings.Contains(again.out, `"pier"`) {
		t.Errorf("%+v", again)
	}
	os.WriteFile(list, []byte("name,hots\na,b\n"), 0o600)
	if r := do(t, dir, "", "import", "--yes", list); r.status != 2 || !strings.Contains(r.err, `did you mean "host"?`) {
		t.Errorf("%+v", r)
	}
}

func TestHostsOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	if r := do(t, dir, "", "hosts"); r.status != 0 || !strings.Contains(r.out, "203.0.113.10:22 ") || !strings.Contains(r.out, "  ssh-ed25519  SHA256:") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "archive.internal IN SSHFP 4 2 "+strings.Repeat("ab", 32)+"\n", "hosts", "import", "-"); r.status != 0 || !strings.Contains(r.out, "1 read, 1 of them new") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "nothing", "hosts", "import", "-"); r.status != 2 {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "check", "--depth", "moon"); r.status != 2 || !strings.Contains(r.err, "here, knock, identity") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "check", "--depth", "knock", "gauge-1", "gauge-3"); r.status != 3 || !strings.Contains(r.out, "answers as lantern") || !strings.Contains(r.out, "nothing listens") {
		t.Errorf("%+v", r)
	}
}

func TestSitesAreEditedOnTheirSheet(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 130, 36, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.keys("Down", "Down")
	s.text("e")
	s.until("session sheet ─ gauge-1")
	s.keys("PageDown")
	s.until("costs 30 kB an hour")
	s.keys("Tab")
	s.until("like sheet ─ gauge-*", "gives values to 4")
	s.keys("Tab")
	s.until("site sheet ─ reef", "gives values to 16")
	s.keys("Down", "Enter")
	s.until("a user name")
	s.keys("C-u")
	s.text("warden")
	s.keys("Enter")
	s.until("user of site reef is saved")
	s.keys("C-z")
	s.until("ctrl+z again takes back: user of site reef")
	s.keys("C-z")
	s.until("undone: user of site reef")
	s.keys("C-n")
	s.until("add ")
	s.text("pier")
	s.keys("Enter")
	s.until("added site pier")
	if text, _ := os.ReadFile(filepath.Join(dir, "sessions.toml")); !strings.HasSuffix(string(text), "\n[site.pier]\n") || !strings.Contains(string(text), "# reached only through quay") {
		t.Errorf("the file is\n%s", text)
	}
}
