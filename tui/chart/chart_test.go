package chart

import (
	"math"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"meatus/tui/theme"
)

// tide is a chart of n samples of a second each.
func tide(n int) Chart {
	from := time.Date(2026, 10, 12, 9, 30, 0, 0, time.UTC)
	c := Chart{Theme: theme.New(true), From: from, To: from.Add(time.Duration(n) * time.Second), Cursor: -1}
	for i := range n {
		v := 1 + math.Sin(float64(i)/9)
		c.Samples = append(c.Samples, Sample{Up: 2000 * v, Down: 300 * v, Trip: 20 * time.Millisecond, Best: 10 * time.Millisecond, Worst: time.Duration(30+i%9) * time.Millisecond, Known: true})
	}
	return c
}

func drawn(c Chart, width, height int) string {
	return ansi.Strip(strings.Join(c.Lines(width, height), "\n"))
}

func TestAChartFitsAndSaysWhatItShows(t *testing.T) {
	c := tide(120)
	for _, size := range [][2]int{{80, 14}, {60, 8}, {200, 50}, {40, 5}} {
		lines := c.Lines(size[0], size[1])
		if len(lines) != size[1] {
			t.Errorf("%v: %d lines", size, len(lines))
		}
		for _, l := range lines {
			if w := ansi.StringWidth(l); w > size[0] {
				t.Errorf("%v: a line of %d columns: %q", size, w, ansi.Strip(l))
			}
		}
	}
	see := drawn(c, 100, 20)
	for _, want := range []string{"↓ 5.0 kB/s", "  2.5 kB/s", "↑ 1.0 kB/s", "⇄ 50 ms", "╵", "UTC", "┈", "┼──"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	if c.Lines(10, 10) != nil || c.Lines(80, 3) != nil || (Chart{Theme: c.Theme}).Lines(80, 20) != nil {
		t.Error("it is drawn where there is no room, or nothing to draw")
	}
}

func TestGapsMarksAndTheCursorAreSeen(t *testing.T) {
	c := tide(60)
	for i := 20; i < 40; i++ {
		c.Samples[i] = Sample{}
	}
	c.Cursor = 30
	c.Marks = []Mark{{At: c.From.Add(20 * time.Second), Rune: '╳', Bad: true}, {At: c.From.Add(-time.Hour), Rune: 'x'}, {At: c.To.Add(time.Hour), Rune: 'y'}}
	see := drawn(c, 80, 16)
	if !strings.Contains(see, "·····") || strings.Count(see, "╳") != 1 || strings.ContainsAny(see, "xy") {
		t.Errorf("gap or mark:\n%s", see)
	}
	column := -1
	for _, l := range strings.Split(see, "\n")[:5] {
		before, _, found := strings.Cut(string([]rune(l)[axisWidth:]), "│")
		at := len([]rune(before))
		if !found {
			at = -1
		}
		if at < 0 || column >= 0 && at != column {
			t.Errorf("the cursor is not one line:\n%s", see)
			break
		}
		column = at
	}
}

func TestADirectionInWhichNothingWentTakesNoRoom(t *testing.T) {
	c := tide(60)
	for i := range c.Samples {
		c.Samples[i].Down = 0
	}
	see := strings.Split(drawn(c, 80, 9), "\n")
	if !strings.Contains(see[6], "─") || !strings.Contains(see[7], "↑ nothing") {
		t.Errorf("drawn\n%s", strings.Join(see, "\n"))
	}
}

func TestScalesAreRound(t *testing.T) {
	for v, want := range map[float64]float64{0: 0, 1: 1, 1.1: 2, 4.9: 5, 5: 5, 51: 100, 1999: 2000, 2001: 5000, 0.3: 0.5} {
		if got := Round(v); math.Abs(got-want) > want*1e-9 {
			t.Errorf("%g becomes %g, want %g", v, got, want)
		}
	}
	if got := RoundTime(37 * time.Millisecond); got != 50*time.Millisecond {
		t.Errorf("37 ms becomes %s", got)
	}
	for _, span := range []time.Duration{2 * time.Minute, time.Hour, 24 * time.Hour, 28 * 24 * time.Hour} {
		c := tide(60)
		c.To = c.From.Add(span)
		if line := drawn(c, 100, 8); strings.Count(line, "╵") < 2 {
			t.Errorf("over %s the axis is\n%s", span, line)
		}
	}
}

func BenchmarkLines(b *testing.B) {
	c := tide(400)
	for b.Loop() {
		c.Lines(200, 40)
	}
}
