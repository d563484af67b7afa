package main

import (
	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
)

var quoted = regexp.MustCompile(`'[^']*'`)

// every calls do with each command and its path behind "meatus".
func every(c *command.Command, path string, do func(c *command.Command, path string)) {
	do(c, path)
	for _, sub := range c.Commands {
		name, _, _ := strings.Cut(sub.Use, " ")
		every(sub, strings.TrimSpace(path+" "+name), do)
	}
}

// first are words that a summary does not begin with: a verb says what a command does.
var first = []string{"a", "an", "the", "what", "whether", "which", "who", "where", "how", "everything", "have", "be", "say"}

func TestEveryCommandIsDeclaredWhole(t *testing.T) {
	every(commands(new(live.Opener)), "", func(c *command.Command, path string) {
		if word, _, _ := strings.Cut(c.Summary, " "); slices.Contains(first, word) || len(c.Summary) > 80 || strings.HasSuffix(c.Summary, ".") || word != strings.ToLower(word) {
			t.Errorf("the summary of %q: %s", path, c.Summary)
		}
		if len(c.Examples) == 0 {
			t.Errorf("%q has no example", path)
		}
		if c.Run == nil && len(c.Commands) == 0 {
			t.Errorf("%q does nothing", path)
		}
		for _, example := range c.Examples {
			line, _, _ := strings.Cut(example, " < ")
			line, _, _ = strings.Cut(line, " > ")
			line = strings.TrimSuffix(strings.TrimPrefix(line, "eval \"$("), " &)\"")
			words := strings.Fields(quoted.ReplaceAllStringFunc(line, func(s string) string { return strings.ReplaceAll(strings.Trim(s, "'"), " ", "_") }))
			found, rest, err := program().Find(words[1:])
			if err != nil || words[0] != "meatus" || !strings.HasPrefix(found.CommandPath(), strings.TrimSpace("meatus "+path)) {
				t.Errorf("%q is no example of %q: %v", example, path, err)
				continue
			}
			if err := found.ParseFlags(rest); err != nil {
				t.Errorf("%q: %v", example, err)
			}
		}
	})
}

func TestEveryHelpIsPlain(t *testing.T) {
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		help := c.UsageString()
		for _, want := range []string{"Exit status: ", "130 interrupted"} {
			if !strings.Contains(help, want) {
				t.Errorf("the help of %q has no %q", c.CommandPath(), want)
			}
		}
		if strings.Contains(help, "[=true|false]") {
			t.Errorf("the help of %q is not plain:\n%s", c.CommandPath(), help)
		}
		for line := range strings.Lines(help) {
			if len(line) > 170 {
				t.Errorf("a line of %d in the help of %q: %s", len(line), c.CommandPath(), line)
			}
		}
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(program())
}

func TestWrongUseIsToldApart(t *testing.T) {
	b := openBay(t)
	b.says(`there is no "bogus" in meatus key`, command.WrongUse, "key", "bogus")
	b.says("there is no session", command.WrongUse, "check", "no-such")
	b.says("there is no session", 250+command.WrongUse, "run", "no-such")
	b.says("there is no session", command.WrongUse, "hold", "no-such")
	b.says("there is no session", command.WrongUse, "session", "show", "no-such")
	b.says("there is no session", 250+command.WrongUse, "each", "no-such", "--", "true")
	b.says("name sessions or sites", 250+command.WrongUse, "each", "gauge-1")
	b.says("unknown command", command.WrongUse, "bogus")
	b.says("meatus ", command.Done, "version")
	b.says("Commands:", command.Done, "key")
}

func TestAMistypedWorkspaceIsNotMade(t *testing.T) {
	b := openBay(t)
	b.Lab.Dir += "-typo"
	for _, args := range [][]string{{"check"}, {"export"}, {"session", "add", "x", "=", "h"}, {"key", "list"}, {"hosts"}, {"trail"}} {
		b.says("there is no workspace", command.Workspace, args...)
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
		{"identity\n", []string{"check", "--depth", "i"}},
		{"quay\n", []string{"run", "qu"}},
	} {
		if out := b.run(command.Done, append([]string{"__complete"}, c.args...)...); !strings.Contains(out, c.want) {
			t.Errorf("%q completes to\n%s", c.args, out)
		}
	}
}

func TestACommandIsRunAtManyMachines(t *testing.T) {
	b := openBay(t)
	out := b.run(command.Done, "each", "gauge-1", "quay", "--at-once", "2", "--", "echo the same; hostname")
	for _, want := range []string{"── gauge-1 ── status 0\n  the same\n  gauge-1\n", "── quay ── status 0\n  the same\n- gauge-1\n+ quay\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is missing of\n%s", want, out)
		}
	}
	b.says("── 2 machines: gauge-1, quay ── status 4\n  the same\n! loud\n", 4, "each", "gauge-1", "quay", "--", "echo the same; complain loud; exit 4")
	b.says("it could not be run at 1 of 2", 250+command.Blocked, "each", "gauge-1", "buoy", "--", "hostname")
	b.says(`"status": 4`, 4, "each", "--json", "gauge-1", "--", "exit 4")
	b.says("1 of 5 signatures", command.Done, "run", "quay", "--lend", filepath.Join(b.Dir, "keys/gauge.pem"), "--lend-unasked", "--lend-uses", "1", "--", "pester 5")
	// Where care is to be taken, a site is not enough.
	b.says("careful, note of gauge-1", command.Done, "session", "set", "gauge-1", "careful=on", "note=mind the tide")
	b.says("gauge-1 is marked careful: name it itself", 250+command.WrongUse, "each", "reef", "--", "hostname")
	b.says("gauge-1", command.Done, "each", "gauge-1", "--", "hostname")
	b.says("gauge-1 is marked careful: name it itself", command.WrongUse, "key", "rotate", filepath.Join(b.Dir, "keys/gauge.pem"), filepath.Join(b.Dir, "keys/shore.pem"))
	b.says("meatus: gauge-1 is marked careful: mind the tide", command.Done, "run", "-t", "gauge-1", "--", "hostname")
}

func TestSessionsAreEditedByScripts(t *testing.T) {
	b := openBay(t)
	b.says("the new session pier", command.Done, "session", "add", "pier = keeper@10.61.4.31:2022 via quay with gauge.pem")
	b.says("2022", command.Done, "session", "show", "pier")
	b.says("keepalive, port of pier, gauge-1", command.Done, "session", "set", "pier", "gauge-1", "keepalive=1m", "port=22")
	b.says(`"value": "1m"`, command.Done, "session", "show", "--json", "gauge-1")
	b.says("keepalive of pier", command.Done, "session", "set", "pier", "keepalive=30s")
	b.says("port of pier", command.Done, "session", "set", "pier", "port=")
	b.says("is no port", command.WrongUse, "session", "set", "pier", "gauge-1", "port=70000")
	b.says("there is no setting", command.WrongUse, "session", "set", "pier", "colour=red")
	b.says("there is no session", command.WrongUse, "session", "set", "nowhere", "port=22")
	b.says("column", command.WrongUse, "session", "add", "pier = keeper@10.61.4.31 vai quay")
	b.says("pier", command.WrongUse, "session", "add", "pier = keeper@10.61.4.31")
	if out := b.run(command.Done, "session", "list", "--via", "quay"); !strings.HasPrefix(out, "tide-db ") || strings.Contains(out, "\nquay") || !strings.Contains(out, "\npier ") {
		t.Errorf("through quay go\n%s", out)
	}
	b.says("[]", command.Done, "session", "list", "--json", "--via", "pier")
	b.says("\"host\": \"10.61.4.31\"", command.Done, "session", "list", "--json", "--site", "reef")
	b.says("there is no site", command.WrongUse, "session", "list", "--site", "no-such")
	// The command of a connect page, as a shell hands it on.
	out := b.run(command.Done, "session", "add", "ssh", "-i", b.key("gauge.pem"), "-o", "ServerAliveInterval=45", "-o", "ConnectTimeout=9", "-J", "warden@198.51.100.9:2200", "keeper@mole.example")
	for _, want := range []string{"left out: -o ConnectTimeout=9", "the new session 198.51.100.9\n", "the new session mole\n"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	b.says("45s", command.Done, "session", "show", "mole")
	b.says("2200", command.Done, "session", "show", "198.51.100.9")
	b.says("removed mole", command.Done, "session", "remove", "mole")
	b.says("the new session mole", command.Done, "session", "add", `mole = keeper@10.61.4.31 set careful=on note="mind the tide"`)
	b.says("mind the tide", command.Done, "session", "show", "mole")
	b.says("removed pier", command.Done, "session", "remove", "pier")
	b.says("there is no session", command.WrongUse, "session", "remove", "pier")
	b.says("quay", command.WrongUse, "session", "remove", "quay")
	b.says("removed pier", command.Done, "trail", "pier")
}
