package cargo

import (
	"path/filepath"

	"meatus/core/statefile"
)

// Last are the folders of a session that files were moved between last.
type Last struct {
	Here  string `json:"here"`
	There string `json:"there"`
}

func lastFile(workspace string) string { return filepath.Join(workspace, "state", "cargo-places.json") }

// Remember keeps the folders of a session for the next time.
func Remember(workspace, session string, l Last) error {
	all := map[string]Last{}
	return statefile.Change(lastFile(workspace), &all, func() { all[session] = l })
}

// Remembered are the folders of a session that were kept; ok is false where none were.
func Remembered(workspace, session string) (l Last, ok bool) {
	all := map[string]Last{}
	if statefile.Peek(lastFile(workspace), &all) != nil {
		return l, false
	}
	l, ok = all[session]
	return l, ok
}
