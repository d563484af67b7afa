// Package words has the few rules of wording that are needed everywhere.
package words

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Count is a number of things: "1 key", "3 keys". word is one of them; its plural takes an s.
func Count(n int, word string) string { return Plural(n, word, word+"s") }

// Plural says a number of something whose plural is another word: "1 match", "3 matches".
func Plural(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + more
}

// Choose is one word for one thing and another for any other number of them: "is", "are".
func Choose(n int, one, more string) string {
	if n == 1 {
		return one
	}
	return more
}

// And lists words: "a", "a and b", "a, b and c".
func And(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	last := len(all) - 1
	return strings.Join(all[:last], ", ") + " and " + all[last]
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

// ParseBytes reads a number of bytes as [Bytes] says it: "500kB", "2 MB", "1048576".
func ParseBytes(text string) (int, error) {
	number := strings.TrimSpace(strings.TrimRight(strings.TrimSpace(text), "kKMGTB"))
	unit := strings.ToUpper(strings.TrimSuffix(strings.TrimSpace(strings.TrimSpace(text)[len(number):]), "B"))
	powers := map[string]float64{"": 1, "K": 1e3, "M": 1e6, "G": 1e9, "T": 1e12}
	n, err := strconv.ParseFloat(number, 64)
	by, known := powers[unit]
	if err != nil || !known || n <= 0 || n*by > 1e15 {
		return 0, fmt.Errorf("%q is no number of bytes, as 500kB or 2MB", text)
	}
	return int(n * by), nil
}

// Span writes a length of time in its largest whole unit, as policies do: "90s", "5m", "8h".
func Span(d time.Duration) string {
	switch {
	case d >= time.Hour && d%time.Hour == 0:
		return fmt.Sprintf("%dh", d/time.Hour)
	case d >= time.Minute && d%time.Minute == 0:
		return fmt.Sprintf("%dm", d/time.Minute)
	}
	return fmt.Sprintf("%ds", d/time.Second)
}
