package workspace

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"meatus/core/atomicfile"
)

// marksFile is where marked sessions are remembered.
const marksFile = "state/marks.json"

// Marks are the sessions a person has marked, by name.
type Marks map[string]bool

// Marks reads the marks. A file that cannot be read holds none.
func (w *Workspace) Marks() Marks {
	var names []string
	if text, err := os.ReadFile(filepath.Join(w.Dir, marksFile)); err == nil {
		json.Unmarshal(text, &names)
	}
	marks := Marks{}
	for _, name := range names {
		marks[name] = true
	}
	return marks
}

// Mark marks a session, or takes its mark away, and remembers that. It works on
// what stands in the file now, so that two programs do not undo each other.
func (w *Workspace) Mark(session string, on bool) error {
	path := filepath.Join(w.Dir, marksFile)
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return fmt.Errorf("the mark is not remembered: %w", err)
	}
	defer unlock()
	marks := w.Marks()
	if delete(marks, session); on {
		marks[session] = true
	}
	text, err := json.Marshal(slices.Sorted(maps.Keys(marks)))
	if err == nil {
		err = atomicfile.Write(path, text)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("the mark is not remembered: %w", err)
	}
	return nil
}
