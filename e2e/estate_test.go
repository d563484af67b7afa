package e2e

import (
	"bufio"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The sources of a workspace on the command line: listed, chosen among, shown, what has changed, and
// a document looked through.
func TestTheEstateOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	write := func(name, text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	write("sessions.toml", "")
	if r := do(t, dir, "", "estate", "list"); r.status != 1 || !strings.Contains(r.err, "names no estate") {
		t.Errorf("%+v", r)
	}
	write("sessions.toml", "[estate.bay]\nkind = \"document\"\nfile = \"bay.json\"\n\n[estate.far]\nkind = \"document\"\ncommand = [\"false\"]\n")
	bay := `{"estate": 1, "networks": [{"id": "reef", "name": "reef"}], "groups": [{"id": "g", "name": "shore", "rules": [{"direction": "in", "protocol": "tcp", "ports": "22", "cidr": "0.0.0.0/0"}]}],
		"instances": [{"id": "i-2", "name": "gauge-2", "state": "STATE", "addresses": [{"ip": "ADDRESS", "network": "reef"}], "groups": ["g"]}, {"id": "i-3", "name": "gauge-3", "state": "stopped"}]}`
	write("bay.json", strings.NewReplacer("STATE", "stopped", "ADDRESS", "10.61.4.32").Replace(bay))

	r := do(t, dir, "", "estate", "list", "--json")
	var list []map[string]any
	if err := json.Unmarshal([]byte(r.out), &list); err != nil || r.status != 0 || len(list) != 2 {
		t.Fatalf("%v, %+v", err, r)
	}
	if !strings.Contains(r.err, "estate far: false: exit status 1") || !strings.Contains(r.err, "it was never read") {
		t.Errorf("a source that fails is not told of: %q", r.err)
	}
	for _, key := range []string{"id", "name", "state", "checks", "image", "key_pair", "addresses", "groups", "tags", "launched", "source"} {
		if _, ok := list[0][key]; !ok {
			t.Errorf("%s is missing of %v", key, list[0])
		}
	}
	write("bay.json", strings.NewReplacer("STATE", "running", "ADDRESS", "10.61.4.47").Replace(bay))
	if r := do(t, dir, "", "estate", "list", "state=running", "--source", "bay"); r.status != 0 || !strings.HasPrefix(r.out, "gauge-2  running") || strings.Contains(r.out, "gauge-3") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "changes", "--kept"); r.status != 0 || !strings.Contains(r.out, "bay: gauge-2 was stopped and started: 10.61.4.32 became 10.61.4.47") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "show", "gauge-2", "--kept"); r.status != 0 || !strings.Contains(r.out, "shore: lets in tcp 22 from everybody (0.0.0.0/0)") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "show", "gauge-*", "--kept"); r.status != 1 || !strings.Contains(r.err, "fits 2 instances; say more") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "list", "colour=red"); r.status != 2 || !strings.Contains(r.err, `column 1: "colour" is nothing`) {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "list", "--source", "moon"); r.status != 1 || !strings.Contains(r.err, "no [estate.moon]") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "check", filepath.Join(dir, "bay.json")); r.status != 0 || !strings.Contains(r.out, "no mistake: 2 instances, 1 network, 1 group") {
		t.Errorf("%+v", r)
	}
	write("torn.json", `{"estate": 1, "instances": [{"state": "running"}, {"id": "`)
	if r := do(t, dir, "", "estate", "check", filepath.Join(dir, "torn.json")); r.status != 3 || !strings.Contains(r.out, "ends before it is whole") {
		t.Errorf("%+v", r)
	}
	write("sessions.toml", "[estate.bay]\nkind = \"dokument\"\nfile = \"bay.json\"\n[estate.two]\nkind = \"document\"\nfile = \"a\"\nurl = \"http://198.51.100.1/\"\n")
	if r := do(t, dir, "", "check"); r.status != 3 || !strings.Contains(r.err, `2:8: kind: `) || !strings.Contains(r.err, "a document is read over https alone") {
		t.Errorf("%+v", r)
	}
}

// TestAnInstanceIsStoppedStartedAndWalkedTo goes through the place Estate at 80x24: the ways to the
// instances, a session that is made of one, an address that moved, and no question about it.
func TestAnInstanceIsStoppedStartedAndWalkedTo(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := show(t, 80, 24, program, "demo", "--dir", dir)
	s.until("22 routes")
	s.text("Y")
	s.until("shore 10.61.0.0/24, from here", "reef 10.61.4.0/24, through quay", " quay ")
	s.text("d")
	s.until("lets in tcp 22 from everybody")
	s.text("d")
	s.text("/name=gauge-1")
	s.keys("Enter")
	s.until("❯○ gauge-1", "i-gauge-1", "keeper")
	s.text("n")
	s.until("n again to write a session gauge-1-2")
	s.text("n")
	s.until("session gauge-1-2 is bound to instance i-gauge-1")
	s.text("D")
	s.until("D again to stop gauge-1", "that are bound to it follow")
	s.text("D")
	s.until("● stop gauge-1", "it is stopped", "gauge-1 stopped", "gauge-1 is stopped")
	s.text("m")
	s.until("m again to start gauge-1")
	s.text("m")
	s.until("● start gauge-1", "it is running", "10.61.4.70", "running since")
	s.keys("Enter")
	// The console's fingerprint is the one that it shows: it is compared, and a yes is all.
	s.until("gauge-1-2 asks: first visit")
	s.keys("M-m", "a")
	s.until("first visit ─ gauge-1-2", "expected", "● the same", "Enter trusts it")
	s.keys("Enter")
	s.until("keeper on gauge-1-2")
}

// An instance is launched by a command: what becomes of it is said before, and it can be walked to. A launch
// that is cut short is told of by the next.
func TestAnInstanceIsLaunchedByACommand(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	for _, c := range []struct {
		args   []string
		status int
		out    []string // in what it prints, or says
	}{
		{[]string{"estate", "offer", "--json"}, 0, []string{`"name": "skiff"`, `"login": "keeper"`}},
		{[]string{"estate", "sources"}, 0, []string{"bay  openstack  every 10s", "of at most 600 requests"}},
		{[]string{"estate", "launch", "--like", "quay", "--dry-run"}, 0, []string{"! everybody may knock at 22, by group shore", "--from ADDRESS"}},
		{[]string{"estate", "launch", "--like", "quay", "--from", "10.61.4.1/24"}, 2, []string{"write 10.61.4.0/24"}},
		{[]string{"estate", "launch", "--like", "gauge-1", "--image", "none", "--yes"}, 1, []string{"there is no image none"}},
		{[]string{"estate", "launch", "--like", "gauge-1"}, 2, []string{"nobody to ask whether to launch"}},
		{[]string{"estate", "launch", "--like", "gauge-1", "--name", "gauge-9", "--tag", "role=test", "--yes"}, 0, []string{"gauge-9 is running", "session gauge-9 leads to gauge-9, via quay", "has 1 fingerprint"}},
		{[]string{"check", "gauge-9", "--depth", "identity"}, 0, []string{"shows the key that the console of gauge-9 told"}},
		{[]string{"estate", "pairs", "sounding"}, 0, []string{"Who has the private half of key pair sounding", "sounder"}},
		{[]string{"estate", "pairs", "upload", "keys/spare.pem"}, 0, []string{"key pair spare is at estate bay"}},
		{[]string{"estate", "pairs", "upload", "keys/spare.pem"}, 1, []string{"there is a key pair spare already"}},
		{[]string{"estate", "unused", "--json"}, 0, []string{`"name": "tide-db"`}},
		{[]string{"estate", "password", "gauge-9"}, 1, []string{"it has no first password"}},
		{[]string{"estate", "password", "sounder"}, 1, []string{"no file of its key pair sounding is here"}},
	} {
		r := do(t, dir, "", c.args...)
		for _, want := range c.out {
			if r.status != c.status || !strings.Contains(r.out+r.err, want) {
				t.Fatalf("%v: %q is missing: %+v", c.args, want, r)
			}
		}
	}
	cut := exec.Command(program, "--workspace", dir, "estate", "launch", "--like", "gauge-1", "--name", "wave", "--count", "2", "--yes")
	out := must(cut.StdoutPipe())
	if err := cut.Start(); err != nil {
		t.Fatal(err)
	}
	if line, _ := bufio.NewReader(out).ReadString('\n'); !strings.Contains(line, "builds wave-1") {
		t.Fatalf("it says %q", line)
	}
	cut.Process.Kill()
	cut.Wait()
	if r := do(t, dir, "", "estate", "launch", "--like", "gauge-1", "--dry-run"); !strings.Contains(r.err, "a launch of 2 instances") || !strings.Contains(r.err, "wave-1 (") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "launch", "--like", "gauge-1", "--dry-run"); strings.Contains(r.err, "cut short") {
		t.Errorf("it is told twice: %+v", r)
	}
}

// A shell that lives at an instance comes back where the instance is after it was stopped and started.
func TestALiveShellFollowsItsInstance(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	if r := do(t, dir, "", "estate", "launch", "--like", "gauge-1", "--name", "gauge-9", "--yes"); r.status != 0 {
		t.Fatalf("%+v", r)
	}
	s := show(t, 120, 36, program, "--workspace", dir)
	s.until("23 routes")
	s.choose("gauge-9")
	s.keys("Enter")
	s.until("Enter trusts it")
	s.keys("Enter")
	s.until("keeper on gauge-9")
	s.lead("0")
	s.until("23 routes")
	s.text("Y")
	s.text("/gauge-9")
	s.keys("Enter")
	s.until("1 instance · bay", "❯━ gauge-9", "state      running since") // it alone is found, and known to run
	s.text("D")
	s.until("D again to stop gauge-9", "what is live there ends")
	s.text("D")
	s.until("gauge-9 stopped")
	s.text("m")
	s.until("m again to start gauge-9")
	s.text("m")
	s.until("10.61.4.71")
	s.keys("Enter") // another shell, beside the one that comes back
	s.until("keeper on gauge-9")
	s.lead("0")
	s.until("23 routes", "shells", "10.61.4.71")
}

// Who gets where on the command line: the proof, what would open it, exposure, expectations.
func TestWhoGetsWhereOnTheCommandLine(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	expected := filepath.Join(dir, "bay.expect")
	if err := os.WriteFile(expected, []byte("only quay reaches sounder:22 # nobody does\noutside does not reach tide-db:5432\noutside does not reach quay:22\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	torn := filepath.Join(dir, "torn.expect")
	if err := os.WriteFile(torn, []byte("\nquay tide-db\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   []string
		status int
		out    []string
	}{
		{[]string{"estate", "reach", "quay", "tide-db:5432"}, 0, []string{"● both are in network reef", "● tide: lets in tcp 5432 from 10.61.4.1/32"}},
		{[]string{"estate", "reach", "198.51.100.7", "quay:80"}, 3, []string{"╳ no rule of quay lets tcp 80 in from 198.51.100.7", "→ let tcp 80 in from 198.51.100.7, in group shore, which quay alone is in"}},
		{[]string{"estate", "reach", "quay", "sounder:22", "--json"}, 3, []string{`"open": false`, `"at": "route"`, `"say": "join network`}},
		{[]string{"estate", "reach", "quay", "gauge-*:22"}, 1, []string{"4 instances fit gauge-*"}},
		{[]string{"estate", "reach", "quay", "tide-db"}, 2, []string{"write TO:PORT"}},
		{[]string{"estate", "ways", "tide-db:5432"}, 0, []string{"here ── quay ── tide-db  tcp 5432", "quay, session quay, as warden with keys/shore.pem", "tide: lets in tcp 5432 from 10.61.4.1/32"}},
		{[]string{"estate", "ways", "gauge-1", "--from", "198.51.100.7", "--json"}, 0, []string{`"session": "quay"`, `"name": "gauge-1"`, `"misses": []`}},
		{[]string{"estate", "ways", "sounder"}, 3, []string{"there is no way; the nearest misses are", "give sounder an address outside"}},
		{[]string{"estate", "ways", "gauge-1", "--from", "nowhere"}, 2, []string{"--from: "}},
		{[]string{"estate", "exposure", "name=quay"}, 0, []string{"! quay  tcp 22  everybody, from outside"}},
		{[]string{"estate", "exposure", "name=tide-db", "--json"}, 0, []string{`"10.61.4.9/32"`, `tide: lets in tcp 5432 from 10.61.4.9/32`}},
		{[]string{"estate", "test", expected}, 3, []string{":1: only quay reaches sounder:22", "quay does not reach sounder", ":3: outside does not reach quay:22", "lets in tcp 22 from everybody"}},
		{[]string{"estate", "test", torn}, 2, []string{"line 2", "write WHO reaches TO:PORT"}},
	} {
		r := do(t, dir, "", c.args...)
		for _, want := range c.out {
			if r.status != c.status || !strings.Contains(r.out+r.err, want) {
				t.Errorf("%v: %q is missing: %+v", c.args, want, r)
			}
		}
	}
}
