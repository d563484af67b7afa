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

// Max is how long a file may be, in bytes.
const Max = 1 << 20

// State is what stands under a name.
type State struct {
	There bool
	Text  []byte
}

// None is the state of a name under which nothing stands.
var None = State{}

// Text is the state of a file with a text, which may be empty.
func Text(text []byte) State { return State{There: true, Text: text} }

// Same tells whether two states are the same to the byte.
func (s State) Same(o State) bool { return s.There == o.There && bytes.Equal(s.Text, o.Text) }

// sum is the SHA-256 digest in hexadecimal, "none" where nothing stands there.
func (s State) sum() string {
	if !s.There {
		return none
	}
	sum := sha256.Sum256(s.Text)
	return hex.EncodeToString(sum[:])
}

const none = "none"

// Change is one file that is to be another.
type Change struct {
	Path   string
	Before State // as it was seen; where it is something else by now nothing is changed
	After  State
	Mode   fs.FileMode // permissions of a file that is new
	Deny   fs.FileMode // permissions that are taken from a file that was there
	Keep   bool        // keep what was there beside it, until [Drop] or [Kept]
}

// Account reaches files of one account of a far machine. It is safe to use from one goroutine.
type Account interface {
	// Read reads a file, following symbolic links.
	Read(ctx context.Context, path string) (State, error)
	// apply makes a change under a name of its own for what is not in its place yet.
	apply(ctx context.Context, c Change, name string) error
	// settle makes sure that a change that may still be under way is not made any more, and reads the file.
	settle(ctx context.Context, path, name string) (State, error)
	// remove removes a file of ours, if it is there, and what cut changes have left beside path.
	remove(ctx context.Context, path, file string) error
	// Close gives it up.
	Close()
}

// Again reaches the same account anew, after its line was lost.
type Again func(ctx context.Context) (Account, error)

// Errors by which a change that was not made is told apart.
var (
	// ErrChanged says that the file is not what was seen.
	ErrChanged = errors.New("it was changed meanwhile, and is left as it is: look again")
	// ErrNotWhole says that what arrived was not what was sent.
	ErrNotWhole = errors.New("what arrived was not whole, and nothing was changed")
	// errRefused says that the far machine itself said no before it changed something.
	errRefused = errors.New("nothing was changed")
	// ErrCannotReplace says that the far machine has no way to replace a file in one step.
	ErrCannotReplace = errors.New("the server has no rename that replaces a file, and runs no commands: a cut line could leave no file at all, so nothing was changed; change it by hand there")
)

// Unknown says that it is not known whether a change was made: the line was lost, and the file could not be looked at.
type Unknown struct {
	Path string
	Look string // a command that shows the file
	Err  error  // why the line was lost
}

func (u *Unknown) Error() string {
	return fmt.Sprintf("the line was lost (%v), and whether %s was replaced is not known: it is whole, as before or as it was to be; look with: %s", u.Err, sanitize.Line(u.Path, 200), u.Look)
}

func (u *Unknown) Unwrap() error { return u.Err }

// NotMade says that the line was lost, and that the file was looked at again: it is as it was before.
type NotMade struct {
	Path string
	Err  error
}

func (n *NotMade) Error() string {
	return fmt.Sprintf("%v; looked at again, %s is as it was before", n.Err, sanitize.Line(n.Path, 200))
}

func (n *NotMade) Unwrap() error { return n.Err }

// Apply makes a change. It returns nil where the file is what it was to be, also where that was found out by looking again
// after a lost line, for which again is used; it may be nil. Show is a command by which a person sees the file, for where
// it is not known.
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

// definite tells whether an error says itself that nothing was changed.
func definite(err error) bool {
	return errors.Is(err, ErrChanged) || errors.Is(err, ErrNotWhole) || errors.Is(err, ErrCannotReplace) || errors.Is(err, errRefused)
}

// lookAgain reaches the account anew, and looks at the file. It does so where the caller gave up, too: what is said of the
// file is to be true.
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

// againEvery is how often a lost line is tried to be had again.
const againEvery = time.Second

// Patiently is an [Again] that tries for a while, at least once.
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

// Besides are the ends of names of files that stand beside one for a while.
const (
	keptEnd = ".meatus-before" // what was there, until a change is proven
	newEnd  = ".meatus-new-"   // what is to be there, until it is whole
)

// Kept is the name of what is kept of a file, see [Change.Keep].
func Kept(path string) string { return path + keptEnd }

// Drop removes what is kept of a file, once its change is proven or taken back, and what changes of it that were cut off
// have left beside it: nobody else may be changing it.
func Drop(ctx context.Context, a Account, path string) error { return a.remove(ctx, path, Kept(path)) }

// Discard removes a file of ours, whatever it holds, and what is left beside it; it need not be there.
func Discard(ctx context.Context, a Account, path string) error { return a.remove(ctx, path, path) }
