package estate

import (
	"strings"
	"testing"
)

// Of a console that is read again what is new is given, also where its source hands out only the end of what was printed.
func TestWhatAConsolePrintedSinceIsFound(t *testing.T) {
	long := strings.Repeat("0123456789abcdef\n", 500)
	for _, c := range []struct {
		what, before, now, want string
		gap                     bool
	}{
		{"the first time", "", "boot\n", "boot\n", false},
		{"nothing new", "boot\n", "boot\n", "", false},
		{"a line more", "boot\n", "boot\nready\n", "ready\n", false},
		{"its beginning was cut", long + "one\n", long[3000:] + "one\ntwo\n", "two\n", false},
		{"everything is another", "boot\n", "panic\n", "panic\n", true},
	} {
		if got, gap := ConsoleSince(c.before, c.now); got != c.want || gap != c.gap {
			t.Errorf("%s: %q, %v; want %q, %v", c.what, got, gap, c.want, c.gap)
		}
	}
}
