// Package fit makes text fit a width: it cuts, pads, spreads and wraps, counting
// columns as a terminal does and leaving styles whole.
package fit

import (
	"fmt"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// Cut shortens s to width columns, with "…" where something is missing.
func Cut(s string, width int) string {
	if width <= 0 {
		return ""
	}
	return ansi.Truncate(s, width, "…")
}

// Pad makes s exactly width columns wide.
func Pad(s string, width int) string {
	s = Cut(s, width)
	return s + strings.Repeat(" ", max(width-ansi.StringWidth(s), 0))
}

// Spread puts left and right at the ends of a line of width columns, with fill
// between them. The left gives way first.
func Spread(left, right string, width int, fill string) string {
	room := width - ansi.StringWidth(right)
	if room < 4 {
		return Pad(left, width)
	}
	left = Cut(left, room)
	return left + strings.Repeat(fill, max(room-ansi.StringWidth(left), 0)) + right
}

// Width is how many columns s takes.
func Width(s string) int { return ansi.StringWidth(s) }

// Wrap breaks s into lines of at most width columns, at blanks where it can.
func Wrap(s string, width int) []string {
	s = strings.ReplaceAll(s, "-", hyphen) // names are not broken at theirs
	return strings.Split(strings.ReplaceAll(ansi.Wrap(s, max(width, 1), ""), hyphen, "-"), "\n")
}

// hyphen is one that no line is broken at.
const hyphen = "\u2011"

// Block makes lines exactly height of width columns.
func Block(lines []string, width, height int) string {
	out := make([]string, height)
	for i := range out {
		if i < len(lines) {
			out[i] = Pad(lines[i], width)
		} else {
			out[i] = strings.Repeat(" ", max(width, 0))
		}
	}
	return strings.Join(out, "\n")
}

// Beside puts two blocks of lines side by side, the right one from a column on.
func Beside(left, right []string, column int) []string {
	var lines []string
	for i := range max(len(left), len(right)) {
		a, b := "", ""
		if i < len(left) {
			a = left[i]
		}
		if i < len(right) {
			b = right[i]
		}
		lines = append(lines, Pad(a, column)+" "+b)
	}
	return lines
}

// Ago says a time span as a person would: "41 s", "3 min", "2 h", "5 d".
func Ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours())/24)
}

// RoundTrip says a round trip: "0.4 ms", "18 ms", "1.2 s", or "" for 0.
func RoundTrip(d time.Duration) string {
	ms := float64(d) / float64(time.Millisecond)
	switch {
	case d == 0:
		return ""
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("%.1f s", ms/1000)
}

// Bytes says a number of bytes: "0 B", "12 kB", "3.4 MB".
func Bytes(n float64) string {
	for _, unit := range []string{"B", "kB", "MB", "GB"} {
		if n < 999.5 {
			if n < 9.95 && unit != "B" {
				return fmt.Sprintf("%.1f %s", n, unit)
			}
			return fmt.Sprintf("%.0f %s", n, unit)
		}
		n /= 1000
	}
	return fmt.Sprintf("%.1f TB", n)
}

var bars = []rune("▁▂▃▄▅▆▇█")

// Spark draws values as bars, the largest of them full height.
func Spark(values []float64) string {
	top := 0.0
	for _, v := range values {
		top = max(top, v)
	}
	var b strings.Builder
	for _, v := range values {
		i := 0
		if top > 0 {
			i = int(v / top * float64(len(bars)-1))
		}
		b.WriteRune(bars[i])
	}
	return b.String()
}
