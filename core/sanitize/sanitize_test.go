package sanitize

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestLineDropsWhatSteersATerminal(t *testing.T) {
	cases := []struct{ in, want string }{
		{"quay", "quay"},
		{"a\x1b[31mred\x1b[0m", "a[31mred[0m"},
		{"two\r\nlines\there", "two lines here"},
		{"bell\x07 and \u009b31m", "bell and 31m"},
		{"\u202egnp.exe", "gnp.exe"},
		{"bad \xff\xfe utf", "bad utf"},
		{"  trimmed  ", "trimmed"},
		{"", ""},
	}
	for _, c := range cases {
		if got := Line(c.in, 80); got != c.want {
			t.Errorf("Line(%q) = %q, want %q", c.in, got, c.want)
		}
	}
}

func TestLineIsBounded(t *testing.T) {
	if got := Line(strings.Repeat("x", 1000), 10); got != "xxxxxxxxx…" {
		t.Errorf("got %q", got)
	}
	if got := Line("exactly10!", 10); got != "exactly10!" {
		t.Errorf("a text that fits was cut: %q", got)
	}
}

func TestTextKeepsLineBreaks(t *testing.T) {
	if got := Text("one\r\ntwo\rthree\nfour", 80); got != "one\ntwo\nthree\nfour" {
		t.Errorf("got %q", got)
	}
}

func FuzzText(f *testing.F) {
	f.Add("plain", 5)
	f.Add("\x1b]0;title\x07", 40)
	f.Fuzz(func(t *testing.T, s string, max int) {
		max = 1 + abs(max)%200
		got := Text(s, max)
		if !utf8.ValidString(got) || utf8.RuneCountInString(got) > max || strings.ContainsAny(got, "\x1b\x07\r\u009b") {
			t.Errorf("Text(%q, %d) = %q", s, max, got)
		}
	})
}

func abs(n int) int {
	if n < 0 {
		return -(n + 1)
	}
	return n
}

func TestLinesOfFilesKeepTheirBlanks(t *testing.T) {
	for text, want := range map[string]string{"  oil: low": "  oil: low", "\tif  x {\r": "    if  x {", "\x1b[31mred\u202e": "[31mred", "caf\xe9": "caf"} {
		if got := Code(text, 100); got != want {
			t.Errorf("%q: %q", text, got)
		}
	}
	if got := Code("12345678", 5); got != "12345…" {
		t.Errorf("%q", got)
	}
}
