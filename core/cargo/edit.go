package cargo

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"
	"github.com/gofrs/flock"
	"github.com/sergi/go-diff/diffmatchpatch"

	"meatus/core/cargo/ends"
)

// sureSize is up to how long a file is read again before it is replaced, in bytes: of a longer one its
// size and time say whether another has changed it.
const sureSize = 1 << 20

// maxEdit is how long a file may be that is edited in place, in bytes.
const maxEdit = 32 << 20

// Edit is a file of a tree that is edited as a private copy here. Each save of the copy goes back
// by one rename. It is safe to use from many goroutines.
type Edit struct {
	end  ends.End
	name string
	dir  string // of the copy, the account's own
	lock *flock.Flock

	mu    sync.Mutex
	base  []byte     // what was there when it was read or sent last
	entry ends.Entry // and how it stood
	tell  func(Event)
	held  *Conflict // what a save has met, until somebody decides
	sends int
}

// Conflict is a save that met another's change.
type Conflict struct {
	Path         string
	Mine, Theirs []byte
	Gone         bool // it is no longer there
	entry        ends.Entry
}

func (c *Conflict) Error() string {
	if c.Gone {
		return c.Path + " is no longer there"
	}
	return c.Path + " was changed over there meanwhile"
}

// BeginEdit reads a file of a tree into a private copy. tell is told of each save that went and of
// a line that is lost. The caller closes the tree after [Edit.Close].
func BeginEdit(ctx context.Context, end ends.End, name string, tell func(Event)) (*Edit, error) {
	e := &Edit{end: end, name: name, tell: tell}
	var err error
	if e.base, e.entry, err = readWhole(ctx, end, name); err != nil {
		return nil, fmt.Errorf("%s: %w", path.Join(end.Root(), name), err)
	}
	if e.dir, err = os.MkdirTemp(editFolder(), editPrefix); err != nil {
		return nil, fmt.Errorf("a private copy cannot be made: %w", err)
	}
	err = cmp.Or(os.WriteFile(e.Copy(), e.base, 0o600), e.note())
	if err == nil {
		e.lock = flock.New(filepath.Join(e.dir, editNote))
		_, err = e.lock.TryLock()
	}
	if err != nil {
		os.RemoveAll(e.dir)
		return nil, fmt.Errorf("a private copy cannot be made: %w", err)
	}
	return e, nil
}

// readWhole reads a file that may be edited.
func readWhole(ctx context.Context, end ends.End, name string) ([]byte, ends.Entry, error) {
	f, err := end.Open(ctx, name)
	if err != nil {
		return nil, ends.Entry{}, err
	}
	defer f.Close()
	entry, err := f.Look()
	switch {
	case err != nil:
		return nil, entry, err
	case entry.Kind != ends.File:
		return nil, entry, fmt.Errorf("a %v cannot be edited", entry.Kind)
	case entry.Size > maxEdit:
		return nil, entry, fmt.Errorf("it has %d bytes, and what is edited here has %d at most: fetch it", entry.Size, maxEdit)
	}
	text, err := io.ReadAll(ends.Stoppable(ctx, io.NewSectionReader(f, 0, maxEdit+1)))
	return text, entry, err
}

// Copy is the path of the copy. Its last name is the file's, so that an editor knows what it is.
func (e *Edit) Copy() string {
	base := path.Base(path.Join(e.end.Root(), e.name))
	if ends.Unsafe(base) || strings.ContainsFunc(base, func(r rune) bool { return r < ' ' || r == 0x7f }) || strings.HasPrefix(base, "-") {
		base = "file"
	}
	return filepath.Join(e.dir, base)
}

// Sends is how many saves went back.
func (e *Edit) Sends() int {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.sends
}

// Held is what a save has met, nil where nothing waits to be decided.
func (e *Edit) Held() *Conflict {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.held
}

// quiet is how long a copy is left alone after it was written to, so that one save is sent once.
const quiet = 60 * time.Millisecond

// Follow sends each save until ctx ends. What it meets waits in Held.
func (e *Edit) Follow(ctx context.Context) error {
	w, err := fsnotify.NewWatcher()
	if err != nil {
		return fmt.Errorf("the copy cannot be watched: %w", err)
	}
	defer w.Close()
	if err := w.Add(e.dir); err != nil {
		return fmt.Errorf("the copy cannot be watched: %w", err)
	}
	settled := time.NewTimer(time.Hour)
	settled.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case _, ok := <-w.Events:
			if !ok {
				return nil
			}
			settled.Reset(quiet)
		case <-settled.C:
			if err := e.Save(ctx); err != nil && ctx.Err() == nil {
				e.say(Event{Path: e.name, Err: err})
			}
		case err := <-w.Errors:
			e.say(Event{Path: e.name, Err: err})
		}
	}
}

func (e *Edit) say(event Event) {
	if e.tell != nil {
		e.tell(event)
	}
}

// Save sends the copy where it differs from what was sent last. It fails with a [Conflict] where
// another has changed the file. A line that is lost is waited for.
func (e *Edit) Save(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	mine, err := os.ReadFile(e.Copy())
	if err != nil {
		return fmt.Errorf("the copy cannot be read: %w", err)
	}
	if bytes.Equal(mine, e.base) {
		return nil
	}
	if e.held != nil {
		e.held.Mine = mine
		return e.held
	}
	return e.insistLocked(ctx, func() error { return e.sendLocked(ctx, mine) })
}

// insistLocked does something, and does it again each time it fails because the line was lost and has come back.
func (e *Edit) insistLocked(ctx context.Context, do func() error) error {
	for {
		err := do()
		if err == nil || !e.end.Lost(err) || ctx.Err() != nil {
			return err
		}
		e.say(Event{Waiting: true, Say: "the line to " + e.end.Name() + " is lost: what was saved is kept, and sent when it is back"})
		if err := e.end.Again(ctx); err != nil {
			return err
		}
		e.say(Event{Say: "the line to " + e.end.Name() + " is back"})
	}
}

// sendLocked sends a text where the file is still as it was.
func (e *Edit) sendLocked(ctx context.Context, mine []byte) error {
	now, err := e.end.Lstat(ctx, e.name)
	switch {
	case isNotThere(err):
		e.held = &Conflict{Path: e.path(), Mine: mine, Gone: true}
		return e.held
	case err != nil:
		return err
	case !now.Same(e.entry) || now.Size <= sureSize: // a far side tells times in seconds: two changes may share one
		theirs, entry, err := readWhole(ctx, e.end, e.name)
		if err != nil {
			return err
		}
		if bytes.Equal(theirs, e.base) || bytes.Equal(theirs, mine) { // the time alone is another
			e.entry = entry
			return e.putLocked(ctx, mine, entry)
		}
		e.held = &Conflict{Path: e.path(), Mine: mine, Theirs: theirs, entry: entry}
		return e.held
	}
	return e.putLocked(ctx, mine, now)
}

func (e *Edit) path() string { return path.Join(e.end.Root(), e.name) }

// putLocked puts a text in the file's place, with the mode and where that may be the owner it has.
func (e *Edit) putLocked(ctx context.Context, mine []byte, now ends.Entry) error {
	if _, err := Pour(ctx, bytes.NewReader(mine), e.end, e.name, Options{Proof: ProveAll}); err != nil { // read back, digests or not
		return err
	}
	entry, err := e.end.Lstat(ctx, e.name)
	if err != nil {
		return err
	}
	if now.Owned && entry.Owned && (now.UID != entry.UID || now.GID != entry.GID) {
		if err := e.end.Chown(ctx, e.name, now); err != nil {
			e.say(Event{Path: e.name, Say: "whose it is cannot be kept: " + cause(err)})
		} else if err := e.end.Chmod(ctx, e.name, now.Mode); err != nil {
			return err
		}
	}
	e.base, e.entry, e.held = mine, entry, nil
	_ = e.note() // one that is older keeps more, once the program is killed
	e.sends++
	e.say(Event{Path: e.name, Say: "saved over there"})
	return nil
}

// Overwrite settles a conflict: what is in the copy takes the file's place. What stood there is put
// aside.
func (e *Edit) Overwrite(ctx context.Context) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.held == nil {
		return nil
	}
	mine := e.held.Mine
	return e.insistLocked(ctx, func() error {
		now, err := e.end.Lstat(ctx, e.name)
		if err != nil && !isNotThere(err) {
			return err
		}
		if err == nil && !now.Same(e.held.entry) {
			return errChanged("it has changed once more")
		}
		if isNotThere(err) {
			now = e.entry
		}
		return e.putLocked(ctx, mine, now)
	})
}

// Keep settles a conflict: the file stays as another made it, and the copy is kept in a folder here.
// It returns where.
func (e *Edit) Keep(folder string) (string, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	text, err := os.ReadFile(e.Copy())
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return "", err
	}
	kept := filepath.Join(folder, time.Now().Format("20060102-150405-")+filepath.Base(e.Copy()))
	if err := os.WriteFile(kept, text, 0o600); err != nil {
		return "", err
	}
	e.held, e.base = nil, text
	return kept, nil
}

// Unsent tells whether the copy has something that did not go back.
func (e *Edit) Unsent() bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	text, err := os.ReadFile(e.Copy())
	return err == nil && !bytes.Equal(text, e.base)
}

// Close removes the copy.
func (e *Edit) Close() error {
	err := os.RemoveAll(e.dir)
	_ = e.lock.Close() // nobody waits for it
	return err
}

// note records the file that is edited, and the text read from it last.
func (e *Edit) note() error {
	return noteEdit(e.dir, e.end.Name()+":"+path.Join(e.end.Root(), e.name), e.base)
}

// DiffLine is one line of two texts that are compared: of both, of the first alone ("-"), or of the
// second alone ("+").
type DiffLine struct {
	Mark rune
	Text string
}

// maxDiff is how many lines of a difference are told.
const maxDiff = 2000

// Lines compares two texts line by line, and leaves out what is the same but for some lines around
// what differs.
func Lines(first, second []byte) []DiffLine {
	d := diffmatchpatch.New()
	d.DiffTimeout = 2 * time.Second
	a, b, table := d.DiffLinesToChars(string(first), string(second))
	const around = 3
	var all []DiffLine
	diffs := d.DiffCharsToLines(d.DiffMain(a, b, false), table)
	for i, part := range diffs {
		lines := strings.SplitAfter(part.Text, "\n")
		if n := len(lines); n > 0 && lines[n-1] == "" {
			lines = lines[:n-1]
		}
		mark := map[diffmatchpatch.Operation]rune{diffmatchpatch.DiffDelete: '-', diffmatchpatch.DiffInsert: '+', diffmatchpatch.DiffEqual: ' '}[part.Type]
		from, to := 0, len(lines)
		if mark == ' ' {
			if i > 0 {
				to = min(around, len(lines))
			} else {
				to = 0
			}
			if i < len(diffs)-1 {
				from = max(len(lines)-around, to)
			} else {
				from = len(lines)
			}
		}
		for n, text := range lines {
			if mark == ' ' && n >= to && n < from {
				if n == to {
					all = append(all, DiffLine{'…', ""})
				}
				continue
			}
			if all = append(all, DiffLine{mark, strings.TrimRight(text, "\r\n")}); len(all) > maxDiff {
				return all
			}
		}
	}
	return all
}

// ErrNoEditor says that no editor is named.
var ErrNoEditor = errors.New("no editor is named: set VISUAL or EDITOR")
