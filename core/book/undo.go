package book

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"meatus/core/atomicfile"
	"meatus/core/statefile"
)

// maxUndo is how many edits can be undone.
const maxUndo = 20

// undoFile is where the edits are remembered, beside the sessions file.
const undoFile = "state/undo.json"

// past is one edit that can be undone: the text before it, and the sum of the
// text after it, by which it is known that nothing else came after.
type past struct {
	What   string    `json:"what"`
	When   time.Time `json:"when"`
	Before string    `json:"before"`
	After  string    `json:"after"`
}

func sum(text []byte) string {
	s := sha256.Sum256(text)
	return hex.EncodeToString(s[:])
}

func undoPath(path string) string { return filepath.Join(filepath.Dir(path), undoFile) }

// readPast reads the edits. Where the file is damaged it is put aside, and the error says
// so.
func readPast(path string) ([]past, error) {
	var edits []past
	err := statefile.Read(undoPath(path), &edits)
	return edits, err
}

func writePast(path string, edits []past) error { return writeEdits(undoPath(path), edits) }

func writeEdits(file string, edits []past) error {
	text, err := json.Marshal(edits)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(file, text)
}

// remember notes an edit that was written. Where that fails the edit stands, and
// the error says that it cannot be undone.
func remember(path, what string, before, after []byte) error {
	edits, err := readPast(path)
	var damaged *statefile.Damaged
	if err == nil || errors.As(err, &damaged) {
		edits = append(edits, past{what, time.Now().UTC().Truncate(time.Second), string(before), sum(after)})
		if werr := errors.Join(writePast(path, edits[max(len(edits)-maxUndo, 0):]), writeRedo(path, nil)); werr != nil {
			return fmt.Errorf("written, but it cannot be undone: %w", werr)
		}
	}
	if err != nil {
		return fmt.Errorf("written, but what was done before cannot be undone: %w", err)
	}
	return nil
}

// Step is an edit that can be taken back, or one that was and can be done again.
type Step struct {
	What     string
	When     time.Time // when it was done first
	Sessions []string  // that it changes, makes or removes
}

// Words tell a step to whoever decides about it.
func (s Step) Words() string {
	return fmt.Sprintf("%s, of %s", s.What, s.When.Local().Format("2 Jan 15:04"))
}

// The two ways through what was done.
var (
	errNoUndo = errors.New("there is nothing to undo")
	errNoRedo = errors.New("there is nothing to do again")
)

// NextUndo is what [Undo] would take back. It fails with [ErrMoved] where the file was changed by
// other means since.
func NextUndo(path string) (Step, error) {
	edits, err := readPast(path)
	if err != nil {
		return Step{}, err
	}
	if len(edits) == 0 {
		return Step{}, errNoUndo
	}
	last := edits[len(edits)-1]
	return last.step(path, last.After, last.Before, "undoing")
}

// NextRedo is what [Redo] would do again.
func NextRedo(path string) (Step, error) {
	undone, err := readRedo(path)
	if err != nil {
		return Step{}, err
	}
	if len(undone) == 0 {
		return Step{}, errNoRedo
	}
	last := undone[len(undone)-1]
	return last.step(path, last.After, last.Before, "doing again")
}

// step describes the step from the text with a sum to another.
func (p past) step(path, from, to, doing string) (Step, error) {
	s := Step{What: p.What, When: p.When}
	text, err := os.ReadFile(path)
	if err != nil {
		return s, err
	}
	if sum(text) != from {
		return s, fmt.Errorf("%s %s: %w", doing, p.What, ErrMoved)
	}
	name := filepath.Base(path)
	s.Sessions = touched(Parse(name, text), Parse(name, []byte(to)))
	return s, nil
}

// Undo takes the last edit of the sessions file at path back, also one of an
// earlier program run. It returns what was undone and the book as it then is. It
// fails with [ErrMoved] where the file was changed by other means since.
func Undo(path string) (what string, b *Book, err error) {
	return through(path, "undoing", errNoUndo, readPast, writePast, readRedo, writeRedo)
}

// Redo does the edit again that was undone last, as long as nothing was edited since. It
// returns what [Undo] does.
func Redo(path string) (what string, b *Book, err error) {
	return through(path, "doing again", errNoRedo, readRedo, writeRedo, readPast, writePast)
}

// through goes one step from one list of edits to the other. What is put on the other list
// leads back.
func through(path, doing string, none error, read func(string) ([]past, error), write func(string, []past) error, readOther func(string) ([]past, error), writeOther func(string, []past) error) (what string, b *Book, err error) {
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return "", nil, err
	}
	defer unlock()
	edits, err := read(path)
	if err != nil {
		return "", nil, err
	}
	if len(edits) == 0 {
		return "", nil, none
	}
	last := edits[len(edits)-1]
	text, err := os.ReadFile(path)
	if err != nil {
		return "", nil, err
	}
	if sum(text) != last.After {
		return last.What, nil, fmt.Errorf("%s %s: %w", doing, last.What, ErrMoved)
	}
	if !bytes.Equal(text, []byte(last.Before)) {
		if err := atomicfile.Write(path, []byte(last.Before)); err != nil {
			return last.What, nil, err
		}
	}
	b = Parse(filepath.Base(path), []byte(last.Before))
	b.Path = path
	other, err := readOther(path)
	if err == nil {
		back := past{last.What, last.When, string(text), sum([]byte(last.Before))}
		other = append(other, back)
		err = writeOther(path, other[max(len(other)-maxUndo, 0):])
	}
	return last.What, b, errors.Join(err, write(path, edits[:len(edits)-1]))
}

// redoFile is where the edits are that were undone, in the form of undoFile: the text that an
// edit led to, and the sum of the one that it led there from.
const redoFile = "state/redo.json"

func redoPath(path string) string { return filepath.Join(filepath.Dir(path), redoFile) }

func readRedo(path string) ([]past, error) {
	var edits []past
	err := statefile.Read(redoPath(path), &edits)
	return edits, err
}

func writeRedo(path string, edits []past) error {
	if len(edits) == 0 {
		if err := os.Remove(redoPath(path)); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		return nil
	}
	return writeEdits(redoPath(path), edits)
}

// touched are the sessions that are something else in another reading, or not there.
func touched(before, after *Book) []string {
	var names []string
	for _, s := range after.Sessions {
		if old := before.Session(s.Name); old == nil || differs(old, s) {
			names = append(names, s.Name)
		}
	}
	for _, s := range before.Sessions {
		if after.Session(s.Name) == nil {
			names = append(names, s.Name)
		}
	}
	return names
}
