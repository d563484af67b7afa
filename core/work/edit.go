package work

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path"
	"path/filepath"

	"github.com/google/shlex"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/secret"
)

// Editor is the command line of the person's editor for some files: VISUAL, EDITOR, or vi where
// there is one.
func Editor(files ...string) (*exec.Cmd, error) {
	for _, name := range []string{os.Getenv("VISUAL"), os.Getenv("EDITOR"), "vi"} {
		words, err := shlex.Split(name)
		if err != nil || len(words) == 0 {
			continue
		}
		if program, err := exec.LookPath(words[0]); err == nil {
			cmd := exec.Command(program, append(words[1:], files...)...)
			cmd.Env = secret.Plain()
			return cmd, nil
		}
	}
	return nil, cargo.ErrNoEditor
}

// Editing is a file that is edited in place, with the tree it is of.
type Editing struct {
	*cargo.Edit
	Place cargo.Place
	end   ends.End
	dir   string
	Left  []cargo.LeftEdit // what edits have left that were cut off
}

// Edit opens a file of a place to be edited in place.
func (t Tools) Edit(ctx context.Context, p cargo.Place, tell func(cargo.Event)) (*Editing, error) {
	folder := p
	if folder.Path = path.Dir(p.Path); folder.Path == "." {
		folder.Path = ""
	}
	if p.Session == "" || p.Into() {
		return nil, fmt.Errorf("%s is no file at a session's machine: it is written SESSION:PATH", p)
	}
	end, err := t.Open(ctx, folder)
	if err != nil {
		return nil, err
	}
	edit, err := cargo.BeginEdit(ctx, end, path.Base(p.Path), tell)
	if err != nil {
		end.Close()
		return nil, err
	}
	e := &Editing{Edit: edit, Place: p, end: end, dir: t.Workspace().Dir}
	if e.Left, err = cargo.TakeLeftEdits(filepath.Join(e.dir, "state", "unsent")); err != nil {
		return e, nil // what is left stays where it is
	}
	for _, left := range e.Left {
		if tell != nil {
			tell(cargo.Event{Say: left.Say()})
		}
	}
	return e, nil
}

// KeepHere keeps the copy in the workspace, and returns where.
func (e *Editing) KeepHere() (string, error) {
	return e.Keep(filepath.Join(e.dir, "state", "unsent"))
}

// Close removes the copy, and gives the tree up. What did not go back is kept in the workspace first;
// where that is, is returned.
func (e *Editing) Close() (kept string, err error) {
	if e.Unsent() {
		if kept, err = e.KeepHere(); err != nil {
			return "", fmt.Errorf("what was not sent is in %s: %w", e.Copy(), err)
		}
	}
	e.end.Close()
	return kept, e.Edit.Close()
}
