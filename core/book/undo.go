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

func writePast(path string, edits []past) error {
	text, err := json.Marshal(edits)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(undoPath(path)), 0o700); err != nil {
		return err
	}
	return atomicfile.Write(undoPath(path), text)
}

// remember notes an edit that was written. Where that fails the edit stands, and
// the error says that it cannot be undone.
func remember(path, what string, before, after []byte) error {
	edits, err := readPast(path)
	var damaged *statefile.Damaged
	if err == nil || errors.As(err, &damaged) {
		edits = append(edits, past{what, time.Now().UTC().Truncate(time.Second), string(before), sum(after)})
		if werr := writePast(path, edits[max(len(edits)-maxUndo, 0):]); werr != nil {
			return fmt.Errorf("written, but it cannot be undone: %w", werr)
		}
	}
	if err != nil {
		return fmt.Errorf("written, but what was done before cannot be undone: %w", err)
	}
	return nil
}

// Undo takes the last edit of the sessions file at path back, also one of an
// earlier program run. It returns what was undone and the book as it then is. It
// fails with [ErrMoved] where the file was changed by other means since.
func Undo(path string) (what string, b *Book, err error) {
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return "", nil, err
	}
	defer unlock()
	edits, err := readPast(path)
	if err != nil {
		return "", nil, err
	}
	if len(edits) == 0 {
		return "", nil, errors.New("there is nothing to undo")
	}
	last := edits[len(edits)-1]
	text, err := os.ReadFile(path)
	if err != nil {
		return "", nil, err
	}
	if sum(text) != last.After {
		return last.What, nil, fmt.Errorf("undoing %s: %w", last.What, ErrMoved)
	}
	if !bytes.Equal(text, []byte(last.Before)) {
		if err := atomicfile.Write(path, []byte(last.Before)); err != nil {
			return last.What, nil, err
		}
	}
	b = Parse(filepath.Base(path), []byte(last.Before))
	b.Path = path
	return last.What, b, writePast(path, edits[:len(edits)-1])
}
