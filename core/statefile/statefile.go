// Package statefile keeps small state of a workspace as JSON files: marks, folders, what
// can be undone.
//
// It promises that a file which cannot be read is never overwritten: it is put aside
// under another name, and the error says so. A missing file is an empty one.
package statefile

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"meatus/core/atomicfile"
	"meatus/core/perm"
)

// Damaged says that a file held no JSON of the form that is wanted, and where it was put.
type Damaged struct {
	Path, Aside string
	Err         error
}

func (d *Damaged) Error() string {
	return fmt.Sprintf("%s was damaged (%v); it is put aside as %s, and a new one is begun", d.Path, d.Err, filepath.Base(d.Aside))
}

func (d *Damaged) Unwrap() error { return d.Err }

// Read reads the file at path into a value. Where the file is damaged it is put aside,
// the value is left as it was, and the error is a [Damaged]: what comes after it may go
// on with that value.
func Read(path string, into any) error {
	err := Peek(path, into)
	var syntax *notJSON
	if !errors.As(err, &syntax) {
		return err
	}
	aside := fmt.Sprintf("%s.damaged-%s", path, time.Now().UTC().Format("20060102-150405.000"))
	if rerr := os.Rename(path, aside); rerr != nil {
		return fmt.Errorf("%s is damaged (%w) and cannot be put aside: %w; move it away", path, err, rerr)
	}
	return &Damaged{path, aside, err}
}

// Peek reads the file at path into a value, and leaves a damaged one where it is.
func Peek(path string, into any) error {
	err := perm.Judge(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("not used: %w", err)
	}
	text, err := os.ReadFile(path)
	if err == nil {
		if jerr := json.Unmarshal(text, into); jerr != nil {
			err = &notJSON{jerr}
		}
	}
	return err
}

// notJSON says that a file was read and is damaged.
type notJSON struct{ error }

func (n *notJSON) Unwrap() error { return n.error }

// Change reads the file at path into a value, has it changed, and writes it, while no
// other program of ours does. What a [Damaged] file held is put aside, and the change is
// made to the value as it was; the error then says so, and the change was written all the
// same.
func Change(path string, value any, change func()) error {
	unlock, err := atomicfile.Lock(path)
	if err != nil {
		return err
	}
	defer unlock()
	err = Read(path, value)
	var damaged *Damaged
	if err != nil && !errors.As(err, &damaged) {
		return err
	}
	change()
	text, merr := json.Marshal(value)
	if merr == nil {
		merr = atomicfile.Write(path, text)
	}
	return errors.Join(merr, err)
}
