package cargo

import (
	"fmt"
	"path"
	"strings"

	"meatus/core/cargo/ends"
)

// ParsePlace reads a place as the command line has it: SESSION:PATH, or a path of this machine.
// known tells whether there is a session of a name. A path of this machine with a ":" before its
// first "/" is written with "./" in front.
func ParsePlace(text string, known func(session string) bool) (Place, error) {
	session, at, far := strings.Cut(text, ":")
	if !far || strings.Contains(session, "/") {
		if text == "" {
			return Place{}, fmt.Errorf("a place is SESSION:PATH, or a path here")
		}
		return Place{Path: text}, nil
	}
	if !known(session) {
		return Place{}, fmt.Errorf("there is no session %q; a file here whose name has a colon is written ./%s", Say(session), Say(text))
	}
	return Place{Session: session, Path: at}, nil
}

// Into tells whether a place names a folder that things are put into, and not what is to be made:
// it is empty or ends with "/".
func (p Place) Into() bool {
	return p.Path == "" || p.Path == "~" || p.Path == "." || strings.HasSuffix(p.Path, "/") || strings.HasSuffix(p.Path, "/.")
}

// Under is the place of a name in a folder.
func (p Place) Under(base string) Place {
	if p.Path == "" {
		p.Path = base
	} else {
		p.Path = strings.TrimSuffix(p.Path, "/") + "/" + base
	}
	return p
}

// Base is the last name of a tree's path.
func Base(e ends.End) string { return path.Base(e.Root()) }
