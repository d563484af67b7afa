package cargo

import (
	"path/filepath"
	"time"

	"meatus/core/statefile"
)

// Last are the folders of a session that files were moved between last, and how fast that was.
type Last struct {
	Here  string  `json:"here"`
	There string  `json:"there"`
	Rate  float64 `json:"rate,omitempty"` // bytes a second, 0 where it is not known
}

// toTell is how many bytes have to be moved for the time that takes to tell how fast the line is.
const toTell = 1 << 20

func lastFile(workspace string) string { return filepath.Join(workspace, "state", "cargo-places.json") }

// Remember keeps the folders of a session for the next time.
func Remember(workspace, session string, l Last) error {
	all := map[string]Last{}
	return statefile.Change(lastFile(workspace), &all, func() {
		l.Rate = all[session].Rate
		all[session] = l
	})
}

// RememberRate keeps how fast a session's files were moved, where enough were moved to tell.
func RememberRate(workspace, session string, moved int64, took time.Duration) error {
	if moved < toTell || took <= 0 {
		return nil
	}
	all := map[string]Last{}
	return statefile.Change(lastFile(workspace), &all, func() {
		l := all[session]
		l.Rate = float64(moved) / took.Seconds()
		all[session] = l
	})
}

// Remembered are the folders that were kept, by session. One that has no folders had its rate measured alone.
func Remembered(workspace string) map[string]Last {
	all := map[string]Last{}
	if statefile.Peek(lastFile(workspace), &all) != nil {
		return nil
	}
	return all
}

// Known tells whether there are folders.
func (l Last) Known() bool { return l.Here != "" || l.There != "" }
