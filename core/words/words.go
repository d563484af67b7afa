// Package words has the few rules of wording that are needed everywhere.
package words

import (
	"strconv"
	"strings"
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

// And lists words: "a", "a and b", "a, b and c".
func And(all []string) string {
	if len(all) < 2 {
		return strings.Join(all, "")
	}
	last := len(all) - 1
	return strings.Join(all[:last], ", ") + " and " + all[last]
}
