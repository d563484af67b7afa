package theme

import (
	"image/color"
	"math"
	"strings"
	"testing"
	"unicode/utf8"

	"charm.land/lipgloss/v2"

	"meatus/core/gate"
)

// luminance is the relative luminance of a colour (WCAG 2.2, relative luminance).
func luminance(c color.Color) float64 {
	r, g, b, _ := c.RGBA()
	part := func(v uint32) float64 {
		x := float64(v) / 0xffff
		if x <= 0.04045 {
			return x / 12.92
		}
		return math.Pow((x+0.055)/1.055, 2.4)
	}
	return 0.2126*part(r) + 0.7152*part(g) + 0.0722*part(b)
}

func contrast(a, b color.Color) float64 {
	x, y := luminance(a), luminance(b)
	if x < y {
		x, y = y, x
	}
	return (x + 0.05) / (y + 0.05)
}

// Text stands out from usual dark and light grounds by 4.5 to 1 at least.
func TestTextHasContrast(t *testing.T) {
	on := map[Ground][]string{Dark: {"#000000", "#1C1C1C", "#1E1E1E"}, Light: {"#FFFFFF", "#FBF8F2", "#F5F5F0"}}
	for ground, papers := range on {
		for i, set := range grounds[ground] {
			for _, paper := range papers {
				for what, ink := range map[string]string{"faint": set.faint, "accent": set.accent, "live": set.live, "open": set.open, "ajar": set.ajar, "shut": set.shut} {
					if c := contrast(lipgloss.Color(ink), lipgloss.Color(paper)); c < 4.5 {
						t.Errorf("ground %d, set %d: %s %s on %s has %.2f to 1", ground, i, what, ink, paper, c)
					}
				}
			}
		}
	}
}

// Accent, live, warning and error are told apart, also on the terminal's own 16 colours; and a
// verdict is told by its mark without any.
func TestWhatMattersIsToldApart(t *testing.T) {
	for ground, sets := range grounds {
		for i, set := range sets {
			seen := map[string]bool{}
			for _, ink := range []string{set.accent, set.live, set.open, set.ajar, set.shut} {
				if seen[ink] {
					t.Errorf("ground %d, set %d: %s means two things", ground, i, ink)
				}
				seen[ink] = true
			}
		}
	}
	none := Made(Look{Ground: None})
	seen := map[string]bool{}
	for _, v := range []gate.Verdict{gate.Untried, gate.Open, gate.Ajar, gate.Shut} {
		seen[ASCII(marks[v])] = true
		if none.Verdict(v).GetForeground() != (lipgloss.NoColor{}) {
			t.Errorf("%s has a colour on no ground", v)
		}
	}
	if len(seen) != 4 {
		t.Errorf("the marks in ASCII are %v", seen)
	}
}

// What is drawn in ASCII is so, and as wide as it was.
func TestMarksHaveAPlainForm(t *testing.T) {
	const all = "❯▪├┞┠┣┡┝└┖┗┕│┃─━┈╍ ●◐○╳ ⇄⇐⇒→ ◜◝◞◟ ▁▂▃▄▅▆▇█ ⌂≡◇▤∿◯≣ …·•♪✓▲▸ ⡇⣿⠀"
	if got := ASCII(all); utf8.RuneCountInString(got) != utf8.RuneCountInString(all) {
		t.Errorf("%q is of another width", got)
	} else {
		for _, r := range got {
			if r > 126 {
				t.Errorf("%q stays", r)
			}
		}
	}
	if ASCII("日本 é") != "日本 é" {
		t.Error("what is no mark is changed")
	}
	drawn := Console(all)
	if utf8.RuneCountInString(drawn) != utf8.RuneCountInString(all) {
		t.Errorf("%q is of another width", drawn)
	}
	for _, r := range drawn {
		if r > 126 && !strings.ContainsRune(codePage437, r) {
			t.Errorf("the console has no %q", r)
		}
	}
	if got := Console("├─ ● ◐ ○ ╳"); got != "├─ • ◘ ○ X" {
		t.Errorf("on the console it is %q", got)
	}
	t.Setenv("LC_ALL", "C")
	if !OnlyASCII() {
		t.Error("the locale C has more than ASCII")
	}
	t.Setenv("LC_ALL", "en_GB.UTF-8")
	if OnlyASCII() {
		t.Error("UTF-8 is ASCII alone")
	}
}

func TestNothingTurnsWhereMotionIsReduced(t *testing.T) {
	if still := Made(Look{Still: true}); still.Turn(0) != still.Turn(1) {
		t.Error("it turns")
	}
	if moving := Made(Look{}); moving.Turn(0) == moving.Turn(1) {
		t.Error("it does not turn")
	}
}
