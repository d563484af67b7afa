package fit

import (
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
		Bytes(0): "0 B", Bytes(12_300): "12 kB", Bytes(3_400_000): "3.4 MB", Bytes(999): "999 B", Bytes(1e15): "1000.0 TB",
		Spark([]float64{0, 1, 4, 2}): "▁▂█▄", Spark([]float64{0, 0}): "▁▁",
	} {
		if got != want {
			t.Errorf("got %q, want %q", got, want)
		}
	}
}
