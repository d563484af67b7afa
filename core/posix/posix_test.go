package posix

import (
	"bytes"
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// The login shells that take a command line with -c, as an SSH server hands it to them.
var shells = [][]string{{"dash"}, {"bash"}, {"busybox", "sh"}, {"zsh"}, {"fish"}, {"csh"}, {"tcsh"}}

// Words that shells take for something else.
var odd = []string{
	"", "plain", "a b", "it's", `a\`, `\'; touch ran; '`, `'; touch ran; '`, `$(touch ran)`, "`touch ran`", "!!", "a!b", `\!`,
	"a\nb", "a\n", "\n", "*", "~", "-n", `%s%b`, `\0101`, `\\`, "{a,b}", "#", "ünïcode", "\x01\x1b[2J", "\xff", "a;b&c|d>e<f", "(1 2)", "^a^b", "$HOME", "\t",
}

func TestEveryLoginShellPassesWordsOn(t *testing.T) {
	for _, shell := range shells {
		if _, err := exec.LookPath(shell[0]); err != nil {
			t.Skipf("%s is not installed; scripts/test installs it", shell[0])
		}
		for _, script := range []string{`for w in "$@"; do printf "%s]" "$w"; done; cat`, "for w in \"$@\"\ndo printf '%s]' \"$w\" # it's\ndone; cat"} {
			run := exec.Command(shell[0], append(append([]string{}, shell[1:]...), "-c", Line(script, odd...))...)
			run.Dir = t.TempDir()
			run.Env = []string{"PATH=/usr/bin:/bin", "HOME=" + run.Dir}
			run.Stdin = strings.NewReader("input")
			var errs bytes.Buffer
			run.Stderr = &errs
			out, err := run.Output()
			if want := strings.Join(odd, "]") + "]input"; err != nil || string(out) != want {
				t.Errorf("%v: %v: %s\n got %q\nwant %q", shell, err, errs.String(), out, want)
			}
			left, _ := exec.Command("ls", "-A", run.Dir).Output()
			if strings.Contains(string(left), "ran") {
				t.Errorf("%v ran a part of a word", shell)
			}
		}
	}
}

func TestEveryLoginShellTakesAQuotedWordAsOne(t *testing.T) {
	for _, shell := range shells {
		if _, err := exec.LookPath(shell[0]); err != nil {
			t.Skipf("%s is not installed; scripts/test installs it", shell[0])
		}
		words := odd
		if strings.HasSuffix(shell[0], "csh") {
			words = slices.DeleteFunc(slices.Clone(odd), func(w string) bool { return strings.Contains(w, "\n") })
		}
		run := exec.Command(shell[0], append(append([]string{}, shell[1:]...), "-c", "/usr/bin/printf '%s]' "+Words(words))...)
		run.Dir = t.TempDir()
		if out, err := run.CombinedOutput(); err != nil || string(out) != strings.Join(words, "]")+"]" {
			t.Errorf("%v: %q: %v", shell, out, err)
		}
	}
}

func TestAStatusComesThrough(t *testing.T) {
	for _, script := range []string{"exit 7", "# it's\nexit 7"} {
		err := exec.Command("sh", "-c", Line(script)).Run()
		if exit, ok := err.(*exec.ExitError); !ok || exit.ExitCode() != 7 {
			t.Errorf("%q: %v", script, err)
		}
	}
}

func FuzzLine(f *testing.F) {
	for _, word := range odd {
		f.Add(word, word)
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if Decode(encode(a)) != strings.ReplaceAll(a, "\x00", "") {
			t.Errorf("%q is not decoded as it was encoded", a)
		}
		out, err := exec.Command("sh", "-c", Line(`printf "%s]%s" "$1" "$2"`, a, b)).Output()
		if want := strings.ReplaceAll(a+"]"+b, "\x00", ""); err != nil || string(out) != want {
			t.Errorf("%q: got %q, %v", want, out, err)
		}
	})
}

func TestSeveralArgumentsArriveAsOneWordEach(t *testing.T) {
	for _, c := range []struct {
		args []string
		want string
	}{
		{nil, ""},
		{[]string{"uptime; df | head"}, "uptime; df | head"},
		{[]string{"ls", "-l", "/srv"}, "ls -l /srv"},
		{[]string{"echo", "two words", "it's", "*", ""}, `echo 'two words' 'it'\''s' '*' ''`},
	} {
		if got := Command(c.args); got != c.want {
			t.Errorf("%q became %q, want %q", c.args, got, c.want)
		}
	}
}
