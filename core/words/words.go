// Package words has the few rules of wording that are needed everywhere.
package words

import "strconv"

// Count is a number of things: "1 key", "3 keys". word is one of them; its plural takes an s.
func Count(n int, word string) string { return Plural(n, word, word+"s") }

// Plural says a number of something whose plural is another word: "1 match", "3 matches".
func Plural(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + more
}
