package secret

import (
	"os/exec"
	"strings"
	"testing"
)

func TestProgramsThatAreStartedDoNotGetSecrets(t *testing.T) {
	t.Setenv(TokenVariable, "a token")
	t.Setenv("REEF_TOKEN", "another")
	t.Setenv("OS_PASSWORD", "a third")
	t.Setenv("HARMLESS", "yes")
	Hide("REEF_TOKEN")
	run := func(env []string) string {
		cmd := exec.Command("/usr/bin/env")
		cmd.Env = env
		out, err := cmd.Output()
		if err != nil {
			t.Fatal(err)
		}
		return string(out)
	}
	for _, env := range [][]string{Environ(), Plain()} {
		if out := run(env); strings.Contains(out, "token") || strings.Contains(out, "another") || !strings.Contains(out, "HARMLESS=yes") {
			t.Errorf("it gets\n%s", out)
		}
	}
	if strings.Contains(run(Plain()), "OS_PASSWORD") || !strings.Contains(run(Environ()), "OS_PASSWORD") {
		t.Error("a cloud's credentials go where they are not wanted, or not where they are")
	}
}
