package words

import (
	"testing"
	"time"
)

func TestThingsAreCounted(t *testing.T) {
	for n, want := range map[int]string{0: "0 keys", 1: "1 key", 2: "2 keys", 100: "100 keys"} {
		if got := Count(n, "key"); got != want {
			t.Errorf("%d: %s", n, got)
		}
	}
}

func TestBytesAreSaidAndRead(t *testing.T) {
	for n, want := range map[float64]string{0: "0 B", 12_300: "12 kB", 3_400_000: "3.4 MB", 999: "999 B", 1e15: "1000.0 TB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%v: %s, want %s", n, got, want)
		}
	}
	for text, want := range map[string]int{"500kB": 500_000, "2 MB": 2_000_000, "1048576": 1 << 20, "1.5G": 1_500_000_000, "": 0, "-3k": 0, "much": 0, "1XB": 0} {
		if got, err := ParseBytes(text); got != want || (err == nil) != (want > 0) {
			t.Errorf("%q: %d, %v", text, got, err)
		}
	}
}

func TestASpanHasItsLargestWholeUnit(t *testing.T) {
	for d, want := range map[time.Duration]string{90 * time.Second: "90s", 5 * time.Minute: "5m", 8 * time.Hour: "8h", 90 * time.Minute: "90m", 0: "0s", 1500 * time.Millisecond: "1s"} {
		if got := Span(d); got != want {
			t.Errorf("%v: %s, want %s", d, got, want)
		}
	}
}
