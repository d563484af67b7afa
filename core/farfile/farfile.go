package farfile

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"meatus/core/sanitize"
)

// Max is the longest file, in bytes.
const Max = 1 << 20

// State is a file's content, or its absence.
type State struct {
	There bool
	Text  []byte
}

// None is the state of an absent file.
var None = State{}

// Text is the state of a file with the given content, which may be empty.
func Text(text []byte) State { return State{There: true, Text: text} }

// Same reports whether two states are equal to the byte.
func (s State) Same(o State) bool { return s.There == o.There && bytes.Equal(s.Text, o.Text) }

// sum is the SHA-256 digest of the content in hexadecimal, or "none" of an absent file.
func (s State) sum() string {
	if !s.There {
		return none
	}
	sum := sha256.Sum256(s.Text)
	return hex.EncodeToString(sum[:])
}

const none = "none"

// Change is the replacement or removal of one file.
type Change struct {
	Path   string
	Before State // as it was seen; where it is something else by now nothing is changed
	After  State
	Mode   fs.FileMode // permissions of a file that is new
	Deny   fs.FileMode // permissions that are taken from a file that was there
	Keep   bool        // keep what was there beside it, until [Drop] or [Kept]
}

// Account accesses the files of one account of a remote machine. It is for one goroutine at a time.
type Account interface {
	// Read reads a file, following symbolic links.
	Read(ctx context.Context, path string) (State, error)
	// apply makes a change; name is the unique ending of its temporary file.
	apply(ctx context.Context, c Change, name string) error
	// settle makes sure that an interrupted change cannot complete any more, and reads the file.
	settle(ctx context.Context, path, name string) (State, error)
	// remove removes file, which may be absent, and the temporary files beside path.
	remove(ctx context.Context, path, file string) error
	// Close ends the access.
	Close()
}

// Again reconnects to the same account after a lost connection.
type Again func(ctx context.Context) (Account, error)

// Errors of a change that was not made.
var (
	// ErrChanged means that the file differs from [Change.Before].
	ErrChanged = errors.New("it was changed meanwhile, and is left as it is: look again")
	// ErrNotWhole means that the content received over there differs from the content sent.
	ErrNotWhole = errors.New("what arrived was not whole, and nothing was changed")
	// errRefused means that the remote machine refused before it changed anything.
	errRefused = errors.New("nothing was changed")
	// ErrCannotReplace means that the remote machine cannot replace a file in one step.
	ErrCannotReplace = errors.New("the server has no rename that replaces a file, and runs no commands: a cut line could leave no file at all, so nothing was changed; change it by hand there")
)

// Unknown is the error of a change with an unknown outcome: the connection was lost, and the file could not be read again.
type Unknown struct {
	Path string
	Look string // a command that shows the file
	Err  error  // why the line was lost
}

func (u *Unknown) Error() string {
	return fmt.Sprintf("the line was lost (%v), and whether %s was replaced is not known: it is whole, as before or as it was to be; look with: %s", u.Err, sanitize.Line(u.Path, 200), u.Look)
}

func (u *Unknown) Unwrap() error { return u.Err }

// NotMade is the error of a change that was not made, as reading the file again after the lost connection showed.
type NotMade struct {
	Path string
	Err  error
}

func (n *NotMade) Error() string {
	return fmt.Sprintf("%v; looked at again, %s is as it was before", n.Err, sanitize.Line(n.Path, 200))
}

func (n *NotMade) Unwrap() error { return n.Err }

// Apply makes a change. After a lost connection it reconnects by again, which may be nil, and reads the file: it returns
// nil if the change was made, and otherwise [NotMade] or [Unknown], which names show, a command that displays the file.
func Apply(ctx context.Context, a Account, c Change, again Again, show string) error {
	if len(c.After.Text) > Max {
		return fmt.Errorf("%s would be longer than %d bytes", sanitize.Line(c.Path, 200), Max)
	}
	if c.After.Same(c.Before) {
		return nil
	}
	name := strings.ToLower(rand.Text()[:10])
	err := a.apply(ctx, c, name)
	if err == nil || definite(err) {
		return err
	}
	now, lookErr := a.settle(context.WithoutCancel(ctx), c.Path, name)
	if lookErr != nil {
		now, lookErr = lookAgain(ctx, c.Path, name, again)
	}
	switch {
	case lookErr != nil:
		return &Unknown{c.Path, show, err}
	case now.Same(c.After):
		return nil
	case now.Same(c.Before):
		return &NotMade{c.Path, err}
	}
	return fmt.Errorf("%w (%w)", ErrChanged, err)
}

// definite reports whether an error itself proves that nothing was changed.
func definite(err error) bool {
	return errors.Is(err, ErrChanged) || errors.Is(err, ErrNotWhole) || errors.Is(err, ErrCannotReplace) || errors.Is(err, errRefused)
}

// lookAgain reconnects and reads the file, even after the caller's context has ended, so that the error tells the file's
// real state.
func lookAgain(ctx context.Context, path, name string, again Again) (State, error) {
	if again == nil {
		return None, errors.New("there is no other way there")
	}
	a, err := again(context.WithoutCancel(ctx))
	if err != nil {
		return None, err
	}
	defer a.Close()
	return a.settle(context.WithoutCancel(ctx), path, name)
}

// againEvery is the pause between two tries to reconnect.
const againEvery = time.Second

// Patiently repeats an [Again], at least once, until patience has passed.
func Patiently(again Again, patience time.Duration) Again {
	return func(ctx context.Context) (Account, error) {
		ctx, cancel := context.WithTimeout(ctx, max(patience, againEvery))
		defer cancel()
		for until := time.Now().Add(patience); ; {
			a, err := again(ctx)
			if err == nil || time.Now().Add(againEvery).After(until) {
				return a, err
			}
			select {
			case <-ctx.Done():
				return nil, err
			case <-time.After(againEvery):
			}
		}
	}
}

// The endings of temporary files beside a file.
const (
	keptEnd = ".meatus-before" // what was there, until a change is proven
	newEnd  = ".meatus-new-"   // what is to be there, until it is whole
)

// Kept is the name of the old copy of a file, see [Change.Keep].
func Kept(path string) string { return path + keptEnd }

// Drop removes the old copy of a file once its change is proven or undone, and the temporary files of interrupted changes.
// Nobody else may be changing the file.
func Drop(ctx context.Context, a Account, path string) error { return a.remove(ctx, path, Kept(path)) }

// Discard removes a file that Meatus created, whatever its content, and its temporary files. An absent file is no error.
func Discard(ctx context.Context, a Account, path string) error { return a.remove(ctx, path, path) }
