package main

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var quoted = regexp.MustCompile(`'[^']*'`)

// every calls do with each command that can be run.
func every(c *cobra.Command, do func(*cobra.Command)) {
	if c.Name() == "help" || c.Parent() != nil && c.Parent().Name() == "completion" {
		return
	}
	do(c)
	for _, sub := range c.Commands() {
		every(sub, do)
	}
}

func TestEveryHelpHasExamplesThatWorkAndItsStatuses(t *testing.T) {
	top := root()
	every(top.Command, func(c *cobra.Command) {
		path := pathOf(c)
		if len(examples[path]) == 0 {
			t.Errorf("%q has no example", path)
		}
		for _, example := range examples[path] {
			line, _, _ := strings.Cut(example, " < ")
			line, _, _ = strings.Cut(line, " > ")
			line = strings.TrimSuffix(strings.TrimPrefix(line, "eval \"$("), " &)\"")
			words := strings.Fields(quoted.ReplaceAllStringFunc(line, func(s string) string { return strings.ReplaceAll(strings.Trim(s, "'"), " ", "_") }))
			found, rest, err := root().Find(words[1:])
			if words[0] != "meatus" || err != nil || pathOf(found) != path && !strings.HasPrefix(pathOf(found), path) {
				t.Errorf("%q is no example of %q: %v", example, path, err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("%q: %v", example, err)
			}
		}
		help := c.UsageString()
		for _, want := range []string{"Exit status: ", "130 interrupted", "Examples:"} {
			if !strings.Contains(help, want) {
				t.Errorf("the help of %q has no %q", path, want)
			}
		}
		if strings.Contains(help, "[=true|false]") {
			t.Errorf("the help of %q is not plain:\n%s", path, help)
		}
		for line := range strings.Lines(help) {
			if len(line) > 170 {
				t.Errorf("a line of %d in the help of %q: %s", len(line), path, line)
			}
		}
	})
}

func TestWrongUseIsToldApart(t *testing.T) {
	b := openBay(t)
	b.says(`there is no "bogus" in meatus key`, statusWrongUse, "key", "bogus")
	b.says("there is no session", statusWrongUse, "check", "no-such")
	b.says("there is no session", statusWrongUse, "run", "no-such")
	b.says("there is no session", statusWrongUse, "hold", "no-such")
	b.says("there is no session", statusWrongUse, "session", "show", "no-such")
	b.says("there is no session", statusWrongUse, "each", "no-such", "--", "true")
	b.says("name sessions or sites", statusWrongUse, "each", "gauge-1")
	b.says("unknown command", statusWrongUse, "bogus")
	b.says("meatus ", statusDone, "version")
	b.says("Commands:", statusDone, "key")
}

func TestAMistypedWorkspaceIsNotMade(t *testing.T) {
	b := openBay(t)
	b.Lab.Dir += "-typo"
	for _, args := range [][]string{{"check"}, {"export"}, {"session", "add", "x", "=", "h"}, {"key", "list"}, {"hosts"}, {"trail"}} {
		b.says("there is no workspace", statusWorkspace, args...)
	}
	if _, err := os.Stat(b.Lab.Dir); err == nil {
		t.Error("it was made")
	}
}

func TestCompletionsKnowTheWorkspace(t *testing.T) {
	b := openBay(t)
	for _, c := range []struct {
		want string
		args []string
	}{
		{"gauge-1\ngauge-2\ngauge-3\ngauge-4\n", []string{"hold", "gau"}},
		{"gauge-2\ngauge-3\ngauge-4\n", []string{"check", "gauge-1", "gau"}},
		{"reef\n", []string{"each", "re"}},
		{"keepalive=\n", []string{"session", "set", "gauge-1", "keepa"}},
		{"gauge.pem\n", []string{"key", "show", b.key("ga")}},
		{"reef\n", []string{"draw", "--site", "r"}},
		{"identity\n", []string{"check", "--as-far-as", "i"}},
		{"quay\n", []string{"run", "qu"}},
	} {
		if out := b.run(statusDone, append([]string{"__complete"}, c.args...)...); !strings.Contains(out, c.want) {
			t.Errorf("%q completes to\n%s", c.args, out)
		}
	}
}

func TestACommandIsRunAtManyMachines(t *testing.T) {
	b := openBay(t)
	out := b.run(statusDone, "each", "gauge-1", "quay", "--at-once", "2", "--", "echo the same; hostname")
	for _, want := range []string{"── gauge-1 ── status 0\n  the same\n  gauge-1\n", "── quay ── status 0\n  the same\n- gauge-1\n+ quay\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing of\n%s", want, out)
		}
	}
	b.says("── 2 machines: gauge-1, quay ── status 4\n  the same\n! loud\n", 4, "each", "gauge-1", "quay", "--", "echo the same; complain loud; exit 4")
	b.says("it could not be run at 1 of 2", statusShut, "each", "gauge-1", "buoy", "--", "hostname")
	b.says(`"status": 4`, 4, "each", "--json", "gauge-1", "--", "exit 4")
	b.says("1 of 5 signatures", statusDone, "run", "quay", "--lend", filepath.Join(b.Dir, "keys/gauge.pem"), "--lend-unasked", "--lend-uses", "1", "--", "pester 5")
	// Where care is to be taken, a site is not enough.
	b.says("careful, note of gauge-1", statusDone, "session", "set", "gauge-1", "careful=on", "note=mind the tide")
	b.says("gauge-1 is marked careful: name it itself", statusWrongUse, "each", "reef", "--", "hostname")
	b.says("gauge-1", statusDone, "each", "gauge-1", "--", "hostname")
	b.says("gauge-1 is marked careful: name it itself", statusWrongUse, "key", "rotate", filepath.Join(b.Dir, "keys/gauge.pem"), filepath.Join(b.Dir, "keys/shore.pem"))
	b.says("meatus: gauge-1 is marked careful: mind the tide", statusDone, "run", "-t", "gauge-1", "--", "hostname")
}

func TestSessionsAreEditedByScripts(t *testing.T) {
	b := openBay(t)
	b.says("the new session pier", statusDone, "session", "add", "pier = keeper@10.61.4.31:2022 via quay with gauge.pem")
	b.says("2022", statusDone, "session", "show", "pier")
	b.says("keepalive, port of pier, gauge-1", statusDone, "session", "set", "pier", "gauge-1", "keepalive=1m", "port=22")
	b.says(`"value": "1m"`, statusDone, "session", "show", "--json", "gauge-1")
	b.says("keepalive of pier", statusDone, "session", "set", "pier", "keepalive=30s")
	b.says("port of pier", statusDone, "session", "set", "pier", "port=")
	b.says("is no port", statusWrongUse, "session", "set", "pier", "gauge-1", "port=70000")
	b.says("there is no setting", statusWrongUse, "session", "set", "pier", "colour=red")
	b.says("there is no session", statusWrongUse, "session", "set", "nowhere", "port=22")
	b.says("column", statusWrongUse, "session", "add", "pier = keeper@10.61.4.31 vai quay")
	b.says("pier", statusWrongUse, "session", "add", "pier = keeper@10.61.4.31")
	if out := b.run(statusDone, "session", "through", "quay"); !strings.HasPrefix(out, "tide-db\ngauge-1\n") || strings.Contains(out, "quay") || !strings.Contains(out, "pier\n") {
		t.Errorf("through quay go\n%s", out)
	}
	b.says("[]", statusDone, "session", "through", "--json", "pier")
	b.says("removed pier", statusDone, "session", "remove", "pier")
	b.says("there is no session", statusWrongUse, "session", "remove", "pier")
	b.says("quay", statusWrongUse, "session", "remove", "quay")
	b.says("removed pier", statusDone, "trail", "pier")
}
