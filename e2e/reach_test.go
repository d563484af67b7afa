package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"meatus/lab/await"
)

// opening begins "meatus estate allow" for the sluice, and waits until the rule stands.
func opening(t *testing.T, dir string) *exec.Cmd {
	t.Helper()
	c := exec.Command(program, "--workspace", dir, "estate", "allow", "sluice", "--for", "1h", "--yes")
	out := must(c.StdoutPipe())
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	if line, _ := bufio.NewReader(out).ReadString('\n'); !strings.Contains(line, "sluice: lets in tcp 22 from 10.61.4.1/32") {
		t.Fatalf("it says %q", line)
	}
	return c
}

// A rule for an hour is taken back with ^C, from another command, and by the next program where it was killed.
func TestARuleForAnHour(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	reaches := func(status int) {
		t.Helper()
		if r := do(t, dir, "", "estate", "reach", "quay", "sluice:22"); r.status != status {
			t.Fatalf("%+v", r)
		}
	}
	reaches(3)
	if r := do(t, dir, "", "check", "sluice"); r.status != 3 || !strings.Contains(r.out, "rules: no rule of sluice lets tcp 22 in from 10.61.4.1") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "allow", "sluice"); r.status != 2 || !strings.Contains(r.err, "nobody to ask") {
		t.Errorf("%+v", r)
	}
	c := opening(t, dir)
	reaches(0)
	if r := do(t, dir, "", "estate", "allow", "--json"); r.status != 0 || !strings.Contains(r.out, `"session": "sluice"`) {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "run", "sluice", "--", "whoami"); r.status != 0 || !strings.Contains(r.out, "keeper") {
		t.Errorf("it is open, and %+v", r)
	}
	c.Process.Signal(syscall.SIGINT)
	if err := c.Wait(); err != nil {
		t.Errorf("^C: %v", err)
	}
	reaches(3)
	c = opening(t, dir)
	if r := do(t, dir, "", "estate", "disallow", "sluice"); r.status != 0 || !strings.Contains(r.out, "no longer sluice") {
		t.Errorf("%+v", r)
	}
	if err := c.Wait(); err != nil { // it sees that another has closed it
		t.Errorf("closed from elsewhere: %v", err)
	}
	reaches(3)
	c = opening(t, dir)
	c.Process.Kill()
	c.Wait()
	reaches(0)
	if r := do(t, dir, "", "check", "--summary"); !strings.Contains(r.out, "sluice") || !strings.Contains(r.out, "until ") {
		t.Errorf("%+v", r)
	}
	s := show(t, 120, 50, program, "--workspace", dir)
	s.until("3 ▲ sluice", "until ", "sluice: lets in tcp 22 from 10.61.4.1/32") // behind two keys that others can read
	number := "3"
	s.text(number)
	s.until(number + " again to take the rule back now")
	s.text(number)
	await.Until(t, "the rule to be taken back", func() bool { return do(t, dir, "", "estate", "reach", "quay", "sluice:22").status == 3 })
	c = opening(t, dir)
	c.Process.Kill()
	c.Wait()
	s.text("q")
	s.ended()
	// The time is over while nothing runs: the full screen takes it back.
	files := must(filepath.Glob(filepath.Join(dir, "state", "estate", "granted", "*.json")))
	if len(files) != 1 {
		t.Fatalf("written down are %q", files)
	}
	text := string(must(os.ReadFile(files[0])))
	at := strings.Index(text, `"until":"`) + len(`"until":"`)
	if err := os.WriteFile(files[0], []byte(text[:at]+"2026-01-01T00:00:00Z"+text[at+strings.IndexByte(text[at:], '"'):]), 0o600); err != nil {
		t.Fatal(err)
	}
	s = show(t, 80, 24, program, "--workspace", dir)
	s.until("no longer sluice")
	reaches(3)
	s.text("q")
	s.ended()
	// And so does whatever command runs next.
	c = opening(t, dir)
	c.Process.Kill()
	c.Wait()
	file := must(filepath.Glob(filepath.Join(dir, "state", "estate", "granted", "*.json")))[0]
	text = string(must(os.ReadFile(file)))
	at = strings.Index(text, `"until":"`) + len(`"until":"`)
	if err := os.WriteFile(file, []byte(text[:at]+"2026-01-01T00:00:00Z"+text[at+strings.IndexByte(text[at:], '"'):]), 0o600); err != nil {
		t.Fatal(err)
	}
	if r := do(t, dir, "", "session", "show", "quay"); r.status != 0 || !strings.Contains(r.err, "its time was over, and it is taken back: sluice: lets in tcp 22") {
		t.Errorf("%+v", r)
	}
	reaches(3)
}

// From a session whose rules are shut to its ways, to a scratch of rules, to who is let in, at 80x24.
func TestRulesOnTheScreen(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	s := show(t, 80, 24, program, "--workspace", dir)
	s.until("22 routes")
	s.choose("sluice")
	s.until("rules     shut by inbound rules")
	s.text("m")
	s.until("connect through archive", "allow it for an hour, then connect", "copy the request text")
	s.keys("Escape")
	s.gone("copy the request text")
	s.text("@")
	s.until("ways to sluice", "here ── quay ── archive ── sluice")
	s.text("e")
	s.until("rules of sluice", "Drop a rule or add one")
	s.text("n")
	s.text("everybody")
	s.until("everybody who can come to its network gets there now", "session sluice opens")
	s.keys("Escape")
	s.gone("add to sluice")
	s.keys("Escape")
	s.gone("rules of sluice")
	s.text("*")
	s.until("everybody, from outside", "10.61.4.9, which no instance has")
	s.keys("Escape")
	s.gone("everybody, from outside")
	s.text("V")
	s.until("ways to sluice")
	s.text("x")
	s.until("enter with addresses")
	s.keys("Enter")
	s.until("drawn, as .svg and .pdf")
	s.lead("0")
	s.choose("sluice")
	s.text("m")
	s.until("allow it for an hour")
	s.keys("Down", "Down", "Enter")
	s.until("keeper on sluice")
	s.lead("0")
	s.until("22 routes")
	if r := do(t, dir, "", "estate", "allow"); !strings.Contains(r.out, "sluice: lets in tcp 22 from 10.61.4.1/32") {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "disallow"); r.status != 0 {
		t.Errorf("%+v", r)
	}
	if r := do(t, dir, "", "estate", "reach", "quay", "sluice:22"); r.status != 3 {
		t.Errorf("%+v", r)
	}
}

// What a change would do, on the command line, and the change made and undone.
func TestWhatAChangeOfRulesDoes(t *testing.T) {
	t.Parallel()
	dir := startLab(t)
	change := filepath.Join(dir, "tidy.rules")
	if err := os.WriteFile(change, []byte("# yesterday's bastion\ndrop from tide: lets in tcp 5432 from 10.61.4.9\nadd to sluice: lets in tcp 22 from 10.61.4.1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		args   []string
		status int
		says   []string
	}{
		{[]string{"estate", "whatif", change}, 0, []string{"session sluice opens, at sluice at tcp 22", "tide-db at tcp 5432: no longer from 10.61.4.9/32"}},
		{[]string{"estate", "whatif", change, "--json"}, 0, []string{`"opens": [`, `"sluice"`, `"exposes": []`}},
		{[]string{"estate", "whatif", change, "--yes"}, 0, []string{"add to sluice: lets in tcp 22 from 10.61.4.1/32"}},
		{[]string{"estate", "reach", "quay", "sluice:22"}, 0, nil},
		{[]string{"estate", "whatif", change}, 1, []string{"has no rule that lets in tcp 5432 from 10.61.4.9/32"}},
		{[]string{"estate", "whatif", "--undo", "--yes"}, 0, []string{"drop from sluice", "add to tide"}},
		{[]string{"estate", "reach", "quay", "sluice:22"}, 3, nil},
		{[]string{"estate", "whatif", "--undo"}, 1, []string{"no change of its rules was made from here that stands"}},
		{[]string{"estate", "whatif", filepath.Join(dir, "clouds.yaml")}, 2, []string{"line 1", "neither add to nor drop from"}},
		{[]string{"estate", "whatif"}, 2, nil},
		{[]string{"estate", "exposure", "--unused"}, 0, []string{"never from here", "tide: lets in tcp 5432 from 10.61.4.9/32"}},
		{[]string{"draw", "--estate", "--way-to", "sluice", "-o", filepath.Join(dir, "estate.pdf")}, 0, nil},
		{[]string{"draw", "--estate", "--way-to", "sounder", "-o", filepath.Join(dir, "none.pdf")}, 1, []string{"there is no way to sounder"}},
		{[]string{"draw", "--estate", "--chart", "-o", filepath.Join(dir, "none.pdf")}, 2, nil},
	} {
		r := do(t, dir, "", c.args...)
		if r.status != c.status {
			t.Fatalf("%v: %+v", c.args, r)
		}
		for _, want := range c.says {
			if !strings.Contains(r.out+r.err, want) {
				t.Errorf("%v does not say %q: %+v", c.args, want, r)
			}
		}
	}
}
