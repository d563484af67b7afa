package ends

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// The tool that digests fastest is taken where it says what is right, and never for names that it could
// print as if they were a line of another file.
func TestTheDigestsOfACommandAreOfTheirNames(t *testing.T) {
	forged := strings.Repeat("0", 64)
	digest := func(tool string, more ...string) map[string]Sum {
		t.Helper()
		dir, tools := t.TempDir(), t.TempDir()
		names := []string{"./plain", "./x\n" + forged + " *.", "./-n"}
		for _, name := range names {
			if err := os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(dir, name), []byte(name), 0o600); err != nil {
				t.Fatal(err)
			}
		}
		if err := os.WriteFile(filepath.Join(tools, "openssl"), []byte("#!/bin/sh\n"+tool), 0o700); err != nil {
			t.Fatal(err)
		}
		c := exec.Command("sh", append([]string{"-c", DigestScript, "sh", dir}, more...)...)
		c.Env = []string{"PATH=" + tools + ":/usr/local/bin:/usr/bin:/bin"}
		c.Stdin = strings.NewReader(strings.Join(names, "\x00") + "\x00")
		out, err := c.Output()
		if err != nil {
			t.Fatal(err)
		}
		_, out, _ = bytes.Cut(out, []byte(mark+"\n"))
		got := map[string]Sum{}
		for line := range strings.Lines(string(out)) {
			if sum, name, ok := ParseSum(line); ok {
				got[name] = sum
			}
		}
		return got
	}
	raw := `case $# in 3) sha256sum - ;; *) shift 3; for f; do printf '%s *%s\n' "$(sha256sum < "$f" | cut -c 1-64)" "$f"; done; esac`
	sum := func(name string) Sum { return sha256.Sum256([]byte(name)) }
	for name, c := range map[string]struct {
		tool string
		more []string
		want string // the name with a line's end, as it is told
	}{
		"a tool that prints names as they are": {tool: raw, want: "./x"},
		"the same, and odd names":              {tool: raw, more: []string{"odd"}, want: Escaped("./x\n" + forged + " *.")},
		"a tool that errs":                     {tool: "echo " + forged + " *stdin", want: Escaped("./x\n" + forged + " *.")},
		"no such tool":                         {tool: "exit 127", want: Escaped("./x\n" + forged + " *.")},
	} {
		got := digest(c.tool, c.more...)
		if got["./plain"] != sum("./plain") || got["./-n"] != sum("./-n") || got[c.want] != sum("./x\n"+forged+" *.") {
			t.Errorf("%s: %q", name, fmt.Sprint(got))
		}
	}
}

func TestWhatStandsInAHome(t *testing.T) {
	for _, c := range []struct {
		home, folder string
		in           bool
	}{
		{"/home/keeper", "/home/keeper", true},
		{"/home/keeper", "/home/keeper/tables/..", true},
		{"/home/keeper", "/home/keeper/../warden", false},
		{"/home/keeper", "/home/keepers", false},
		{"/", "/etc", false},
		{"", "/etc", false},
	} {
		if got := within(c.home, c.folder); got != c.in {
			t.Errorf("that %q is in %q is %v", c.folder, c.home, got)
		}
	}
}
