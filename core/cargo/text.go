package cargo

import (
	"path"
	"strings"

	"meatus/core/sanitize"
)

// Say is a path of a tree as it can be shown, "" as ".".
func Say(name string) string {
	if name == "" {
		return "."
	}
	if shown := sanitize.Line(name, 300); shown != "" {
		return shown
	}
	return "(a name that cannot be shown)"
}

// cleaned is a path of a tree without "." and "..", "" for the root.
func cleaned(name string) string {
	name = path.Clean("/" + name)
	return strings.TrimPrefix(name, "/")
}
