package run

import "testing"

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
		if got := commandLine(c.args); got != c.want {
			t.Errorf("%q became %q, want %q", c.args, got, c.want)
		}
	}
}

func TestSignalsHaveTheirNumbers(t *testing.T) {
	for name, want := range map[string]int{"TERM": 15, "KILL": 9, "HUP": 1, "no such": 0} {
		if got := signalNumber(name); got != want {
			t.Errorf("%s is %d, want %d", name, got, want)
		}
	}
}
