// Package undo takes edits of the sessions back and does them again: its key says first what
// it would do, and does it when it is pressed once more.
package undo

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/tui/place"
)

// Undo is the undoing of one place.
type Undo struct {
	S *place.Services
	// Of is the session that the place is about: an edit that changes others alone is not
	// taken back from there. "" is every session.
	Of   func() string
	Tell func(say string)
	// Keys are what a person presses for undoing and for doing again, the letters where they are "".
	Keys [2]string
	// Do has an edit done, which returns what it did.
	Do func(edit func(path string) (what string, b *book.Book, err error)) tea.Cmd
}

// Looked is what would be done. It comes as a result of the place's own.
type Looked struct {
	redo bool
	step book.Step
	err  error
}

// Back takes the last edit back, and Again does the one again that was taken back last.
func (u *Undo) Back() tea.Cmd  { return u.press(false) }
func (u *Undo) Again() tea.Cmd { return u.press(true) }

// keyOf is what a person presses for it.
func (u *Undo) keyOf(redo bool) string {
	key, verb := u.Keys[0], "undo"
	if redo {
		key, verb = u.Keys[1], "redo"
	}
	return cmp.Or(key, u.S.Press(verb))
}

// press looks what would be done; that is done where it was asked for before.
func (u *Undo) press(redo bool) tea.Cmd {
	path := u.S.Workspace().SessionsPath()
	return u.S.Run(func() tea.Msg {
		l := Looked{redo: redo}
		if redo {
			l.step, l.err = book.NextRedo(path)
		} else {
			l.step, l.err = book.NextUndo(path)
		}
		return l
	})
}

// words say what a second press does.
func (u *Undo) words(l Looked) string {
	does := "takes back"
	if l.redo {
		does = "does again"
	}
	return fmt.Sprintf("%s again %s: %s", u.keyOf(l.redo), does, l.step.Words())
}

// Take takes what was found out.
func (u *Undo) Take(l Looked) tea.Cmd {
	of := u.Of()
	switch {
	case l.err != nil:
		u.Tell(l.err.Error())
	case of != "" && !slices.Contains(l.step.Sessions, of):
		u.Tell(fmt.Sprintf("the last edit is not of %s: %s; %s on Routes is for every session", of, l.step.Words(), u.S.Press(map[bool]string{true: "redo", false: "undo"}[l.redo])))
	default:
		return u.S.Confirm(place.Confirm{Subject: fmt.Sprint(l.redo, l.step), Say: u.words(l), Tell: u.Tell, Do: func() tea.Cmd { return u.do(l) }})
	}
	return nil
}

func (u *Undo) do(l Looked) tea.Cmd {
	return u.Do(func(path string) (string, *book.Book, error) {
		look, do, word := book.NextUndo, book.Undo, "undone: "
		if l.redo {
			look, do, word = book.NextRedo, book.Redo, "done again: "
		}
		now, err := look(path)
		if err == nil && now.Words() != l.step.Words() {
			err = errors.New("something else was edited meanwhile: nothing was done")
		}
		if err != nil {
			return "", nil, err
		}
		what, b, err := do(path)
		return word + what, b, err
	})
}
