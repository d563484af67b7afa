package workspace

import (
	"fmt"
	"path/filepath"
	"slices"

	"meatus/core/statefile"
)

// marksFile is where marked sessions are remembered.
const marksFile = "state/marks.json"

// Marks are the sessions a person has marked, by name.
type Marks map[string]bool

// Marks reads the marks. Where the file is damaged it is put aside, and the error says
// so; there are then none.
func (w *Workspace) Marks() (Marks, error) {
	var names []string
	err := statefile.Read(filepath.Join(w.Dir, marksFile), &names)
	marks := Marks{}
	for _, name := range names {
		marks[name] = true
	}
	return marks, err
}

// Mark marks a session, or takes its mark away, and remembers that. It works on
// what stands in the file now, so that two programs do not undo each other.
func (w *Workspace) Mark(session string, on bool) error {
	var names []string
	err := statefile.Change(filepath.Join(w.Dir, marksFile), &names, func() {
		names = slices.DeleteFunc(names, func(name string) bool { return name == session })
		if on {
			names = append(names, session)
		}
		slices.Sort(names)
	})
	if err != nil {
		return fmt.Errorf("remembering the mark: %w", err)
	}
	return nil
}
