package fit

import (
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
)

func TestWidths(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Cut("tide-db", 4), "tid…"},
		{Cut("quay", 4), "quay"},
		{Cut("quay", 0), ""},
		{Pad("海", 5), "海   "},
		{Spread("left", "right", 14, "─"), "left─────right"},
		{Spread("a long left side", "right", 12, "─"), "a long…right"},
	} {
		if c.got != c.want {
			t.Errorf("got %q, want %q", c.got, c.want)
		}
	}
	if got := ansi.StringWidth(Pad("\x1b[31mred\x1b[m and more", 6)); got != 6 {
		t.Errorf("a styled text became %d wide", got)
	}
}

func TestWords(t *testing.T) {
	for got, want := range map[string]string{
		Ago(41 * time.Second): "41 s", Ago(3 * time.Minute): "3 min", Ago(5 * time.Hour): "5 h", Ago(72 * time.Hour): "3 d",
		RoundTrip(0): "", RoundTrip(400 * time.Microsecond): "0.4 ms", RoundTrip(18 * time.Millisecond): "18 ms", RoundTrip(1200 * time.Millisecond): "1.2 s",
		Spark([]float64{0, 1, 4, 2}): "▁▂█▄", Spark([]float64{0, 0}): "▁▁",
	} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}

func TestWhatIsTooLongGoesOnBelowWhereThereIsRoom(t *testing.T) {
	long := "quay  \x1b[31mkey: group and others can read it\x1b[m"
	r := Hang(long, 6, 20)
	if got := ansi.Strip(r.Line); got != "quay  key: group an…" {
		t.Errorf("cut it is %q", got)
	}
	var plain []string
	for _, l := range r.Whole {
		plain = append(plain, ansi.Strip(l))
		if openAfter(l) != "" {
			t.Errorf("%q leaves a colour to what stands beside it", l)
		}
	}
	if want := []string{"quay  key: group and", "      others can", "      read it"}; !slices.Equal(plain, want) {
		t.Errorf("whole it is %q", plain)
	}
	if !strings.Contains(r.Whole[2], "\x1b[31m") {
		t.Errorf("the colour is lost in %q", r.Whole[2])
	}
	short := Hang("quay  is in", 6, 20)
	for height, want := range map[int][]int{2: {0, 1}, 3: {0, 1}, 4: {0, 1, 1, 1}, 5: {0, 1, 1, 1}} {
		if _, of := Rows([]Row{short, r}, 0, height); !slices.Equal(of, want) {
			t.Errorf("in %d lines: %v, want %v", height, of, want)
		}
	}
	if _, of := Rows([]Row{r, short, r}, 2, 5); !slices.Equal(of, []int{0, 1, 2, 2, 2}) {
		t.Errorf("the chosen row is not whole first: %v", of)
	}
}

func TestALineIsTamed(t *testing.T) {
	for line, want := range map[string]string{
		"plain, ä, \u2501":                        "plain, ä, \u2501",
		"\x1b[38;2;1;2;3mred\x1b[m \x1b[4:3mwave": "\x1b[38;2;1;2;3mred\x1b[m \x1b[4:3mwave",
		"\x1b[2Jgone":                             "\ufffd[2Jgone",
		"\x1b]0;title\aafter":                     "\ufffd]0;title\ufffdafter",
		"\x1b[31\x1b[mtwo":                        "\ufffd[31\x1b[mtwo",
		"a\nb\tc\rd\x7f":                          "a\ufffdb\ufffdc\ufffdd\ufffd",
		"\u009b2Jc1, \u00a0 is none":              "\ufffd2Jc1, \u00a0 is none",
		"the end \x1b":                            "the end \ufffd",
		"the end \x1b[":                           "the end \ufffd[",
		"the end \x1b[31":                         "the end \ufffd[31",
	} {
		if got := Tame(line); got != want {
			t.Errorf("%q becomes %q, not %q", line, got, want)
		}
	}
}

// Whatever a line holds, a terminal is told nothing but colours.
func FuzzTame(f *testing.F) {
	f.Add("\x1b[31mred\x1b[2J\x1b]8;;x\a\u009bm")
	only := regexp.MustCompile(`\x1b\[[0-9;:]*m`)
	f.Fuzz(func(t *testing.T, line string) {
		got := Tame(line)
		for _, r := range only.ReplaceAllString(got, "") {
			if r < ' ' || r >= 0x7f && r < 0xa0 {
				t.Fatalf("%q becomes %q", line, got)
			}
		}
		if Tame(got) != got {
			t.Fatalf("%q becomes %q, and then %q", line, got, Tame(got))
		}
	})
}
