// Package rights names what a login over SSH may do, as policies write it and certificates carry it
// (docs/leases.md).
package rights

import (
	"slices"
	"strings"
)

// Set is what a login may do, as bits.
type Set uint8

// What a login may do.
const (
	Shell   Set = 1 << iota // and commands, and files with them
	Files                   // the file-transfer channel alone
	Agent                   // have keys lent
	Tunnels                 // and further machines behind it
	Windows                 // have programs draw here
)

// Words are the names of the rights, in the order of their bits.
var Words = []string{"shell", "files", "agent", "tunnels", "windows"}

// Named returns the right of a name, ok false where there is none.
func Named(word string) (s Set, ok bool) {
	i := slices.Index(Words, word)
	if i < 0 {
		return 0, false
	}
	return 1 << i, true
}

// String names the rights, separated by blanks.
func (s Set) String() string {
	var all []string
	for i, word := range Words {
		if s&(1<<i) != 0 {
			all = append(all, word)
		}
	}
	return strings.Join(all, " ")
}
