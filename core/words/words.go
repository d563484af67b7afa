// Package words has the few rules of wording that are needed everywhere.
package words

import "strconv"

// Count is a number of things: "1 key", "3 keys". word is one of them; its plural takes an s.
func Count(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return strconv.Itoa(n) + " " + word + "s"
}
