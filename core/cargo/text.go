package cargo

import (
	"path"
	"strconv"
	"strings"

	"meatus/core/sanitize"
)

// maxShown is how much of a path is shown, in runes.
const maxShown = 300

// Say is a path of a tree as it can be shown, "" as ".". One that would not show as it is, since there are
// line's ends, escape sequences or bytes in it that are no UTF-8, is in quotes with these as in Go: two names are
// never shown alike.
func Say(name string) string {
	if name == "" {
		return "."
	}
	if sanitize.Line(name, len(name)+1) != name || name[0] == '"' {
		name = strconv.Quote(name)
	}
	return sanitize.Line(name, maxShown)
}

// cleaned is a path of a tree without "." and "..", "" for the root.
func cleaned(name string) string {
	name = path.Clean("/" + name)
	return strings.TrimPrefix(name, "/")
}
