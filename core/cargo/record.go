package cargo

import (
	"bufio"
	"cmp"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"

	"meatus/core/perm"
)

// Dir is the folder of a workspace in which records are kept.
func Dir(workspace string) string { return filepath.Join(workspace, "state", "cargo") }

// Record is what was written down of a carry, in a folder of its own: the plan, and line by line
// what was done. It is written before and after each step, and is on the disk before anything is put aside, so that a carry
// that was cut off at any moment, by a lost line, a kill or a power cut, can be gone on with, or undone. It is safe to use
// from many goroutines.
type Record struct {
	Plan *Plan

	dir string
	mu  sync.Mutex
	log appended
	err error // why it could not be written

	written int64      // lines
	syncing sync.Mutex // held while the log is put on the disk
	synced  int64      // so many of the lines are there; guarded by syncing
	state
}

// appended is a file opened for appending.
type appended interface {
	io.WriteCloser
	Sync() error
}

// state is what the lines of a record come to.
type state struct {
	Began  time.Time
	parts  map[string]int64 // by path, how much of it has arrived beside its place
	aside  map[string]bool  // what was to be put aside
	done   map[mark]bool
	Over   bool // it came to its end
	Undone bool
	Folder string // in which things are put aside
}

// line is one line of a record.
type line struct {
	Do   string    `json:"do"`
	Path *name     `json:"path,omitempty"`
	At   int64     `json:"at,omitempty"`
	When time.Time `json:"when,omitzero"`
	In   string    `json:"in,omitempty"`
}

// The lines' kinds.
const (
	lineBegan  = "began"
	linePart   = "part"
	lineAside  = "aside"
	lineDone   = "done"
	lineOver   = "over"
	lineUndone = "undone"
)

const (
	planFile = "plan.json"
	logFile  = "log"
)

// NewRecord begins the record of a plan in a folder of records. It fails where the plan has one.
func NewRecord(dir string, p *Plan) (*Record, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("what is moved cannot be written down: %w", err)
	}
	own := filepath.Join(dir, p.ID)
	switch err := os.Mkdir(own, 0o700); {
	case errors.Is(err, fs.ErrExist):
		return nil, fmt.Errorf("the plan %s was begun before, and a plan is carried out once: go on with it (meatus cargo resume %s), or make a new one", p.ID, p.ID)
	case err != nil:
		return nil, fmt.Errorf("what is moved cannot be written down: %w", err)
	}
	r := &Record{Plan: p, dir: own, state: newState()}
	if err := savePlan(filepath.Join(own, planFile), p); err != nil {
		os.RemoveAll(own)
		return nil, err
	}
	return r, r.open()
}

// savePlan writes a plan into a file of its own.
func savePlan(path string, p *Plan) error {
	f, err := renameio.NewPendingFile(path, renameio.WithPermissions(0o600))
	if err != nil {
		return err
	}
	defer f.Cleanup()
	w := bufio.NewWriterSize(f, 256<<10)
	if err := cmp.Or(p.WriteJSON(w), w.Flush()); err != nil {
		return err
	}
	return f.CloseAtomicallyReplace()
}

// open opens the list of what is done, to be written on.
func (r *Record) open() (err error) {
	log, err := os.OpenFile(filepath.Join(r.dir, logFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("what is moved cannot be written down: %w", err)
	}
	r.log = log
	for _, dir := range []string{r.dir, filepath.Dir(r.dir)} { // the names of the log and of its folder, too
		if d, err := os.Open(dir); err == nil {
			_ = d.Sync() // some file systems cannot, and need not
			d.Close()
		}
	}
	return nil
}

// Flush flushes the record to disk. Concurrent callers share one flush.
func (r *Record) Flush() error {
	if r == nil || r.log == nil {
		return nil
	}
	r.mu.Lock()
	want := r.written
	r.mu.Unlock()
	r.syncing.Lock()
	defer r.syncing.Unlock()
	if r.synced >= want {
		return nil
	}
	r.mu.Lock()
	upTo := r.written
	r.mu.Unlock()
	if err := r.log.Sync(); err != nil {
		return fmt.Errorf("what is moved cannot be written down: %w", err)
	}
	r.synced = upTo
	return nil
}

// OpenRecord opens a record that is there, to go on with it.
func OpenRecord(dir, id string) (*Record, error) {
	r, err := ReadRecord(dir, id)
	if err != nil {
		return nil, err
	}
	return r, r.open()
}

// ReadRecord reads a record to look at it.
func ReadRecord(dir, id string) (*Record, error) {
	if !validID(id) {
		return nil, fmt.Errorf("%q is no name of a plan", id)
	}
	r := &Record{Plan: &Plan{}, dir: filepath.Join(dir, id)}
	path := filepath.Join(r.dir, planFile)
	if err := perm.Judge(path); err != nil {
		return nil, fmt.Errorf("not used: %w", err)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	if err := r.Plan.ReadJSON(bufio.NewReaderSize(f, 256<<10)); err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	r.state = newState()
	return r, r.read()
}

func newState() state {
	return state{parts: map[string]int64{}, aside: map[string]bool{}, done: map[mark]bool{}}
}

// read reads the lines. The last one may be torn.
func (r *Record) read() error {
	f, err := os.Open(filepath.Join(r.dir, logFile))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	for lines.Scan() {
		var l line
		if json.Unmarshal(lines.Bytes(), &l) != nil {
			continue // torn by an end in the middle of it
		}
		r.take(l)
	}
	return lines.Err()
}

// take takes one line into the state.
func (r *Record) take(l line) {
	var path string
	if l.Path != nil {
		path = string(*l.Path)
	}
	switch l.Do {
	case lineBegan:
		if r.Began.IsZero() {
			r.Began, r.Folder = l.When, l.In
		}
		r.Over = false
	case linePart:
		r.parts[path] = l.At
	case lineAside:
		r.aside[path] = true
	case lineDone:
		r.done[markOf(path)] = true
		delete(r.parts, path)
	case lineOver:
		r.Over = true
	case lineUndone:
		r.Undone = true
	}
}

// write adds a line. What cannot be written is told by Err, and ends the carry.
func (r *Record) write(l line) {
	if r == nil {
		return
	}
	text, err := json.Marshal(l)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.take(l)
	if r.log == nil {
		return
	}
	if err == nil {
		_, err = r.log.Write(append(text, '\n'))
		r.written++
	}
	if err != nil && r.err == nil {
		r.err = fmt.Errorf("what is moved cannot be written down: %w", err)
	}
}

func (r *Record) step(do, path string, at int64) {
	n := name(path)
	r.write(line{Do: do, Path: &n, At: at})
}

// Err is why the record could not be written, nil where it could.
func (r *Record) Err() error {
	if r == nil {
		return nil
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.err
}

// hasBegun tells whether the carry was begun before.
func (r *Record) hasBegun() bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return !r.Began.IsZero()
}

// arrived is how much of a file was written beside its place, and whether any was.
func (r *Record) arrived(path string) (at int64, begun bool) {
	if r == nil {
		return 0, false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	at, begun = r.parts[path]
	return at, begun
}

func (r *Record) isDone(path string) bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.done[markOf(path)]
}

func (r *Record) isAside(path string) bool {
	if r == nil {
		return false
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.aside[path]
}

// Close ends writing.
func (r *Record) Close() error {
	if r == nil || r.log == nil {
		return nil
	}
	return r.log.Close()
}

// Forget removes the record.
func (r *Record) Forget() error { return os.RemoveAll(r.dir) }

// mark is what is kept in memory of a path: of a digest, so much that no two are the same.
type mark [16]byte

func markOf(path string) mark {
	sum := sha256.Sum256([]byte(path))
	return mark(sum[:16])
}

// Done is how many of the plan's items were carried out.
func (r *Record) Done() int {
	if r == nil {
		return 0
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	return len(r.done)
}

// Lock keeps other programs from carrying anything to a place until unlock is called; ok is false
// where one does. dir is the folder of records.
func Lock(dir string, to Place) (unlock func(), ok bool, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, false, err
	}
	l := flock.New(filepath.Join(dir, lockName(to)), flock.SetPermissions(0o600))
	if ok, err = l.TryLock(); !ok || err != nil {
		return nil, false, err
	}
	return func() { l.Close() }, true, nil
}

// lockName is the name of the file that is locked for a place.
func lockName(to Place) string {
	digest := sha256.Sum256([]byte(to.String()))
	return fmt.Sprintf("%x.lock", digest[:8])
}

// kept is how long a record is kept of what has come to its end.
const kept = 90 * 24 * time.Hour

// Prune removes the records of what came to its end, or was undone, long ago.
func Prune(dir string, now time.Time) {
	entries, _ := os.ReadDir(dir)
	for _, e := range entries {
		info, err := os.Stat(filepath.Join(dir, e.Name(), logFile))
		if err != nil || now.Sub(info.ModTime()) < kept {
			continue
		}
		if r, err := ReadRecord(dir, e.Name()); err == nil && (r.Over || r.Undone) {
			r.Forget()
		}
	}
}

// Records are the records of a folder, the latest first. What cannot be read is told.
func Records(dir string) (all []*Record, errs []error) {
	entries, err := os.ReadDir(dir)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		errs = append(errs, err)
	}
	for _, e := range entries {
		if !e.IsDir() || !validID(e.Name()) {
			continue
		}
		r, err := ReadRecord(dir, e.Name())
		if err != nil {
			errs = append(errs, err)
			continue
		}
		all = append(all, r)
	}
	sort.Slice(all, func(i, j int) bool { return all[i].Began.After(all[j].Began) })
	return all, errs
}

// State says in a word or two how a record stands.
func (r *Record) State() string {
	switch {
	case r.Undone:
		return "undone"
	case r.Over:
		return "all there"
	}
	return "not ended"
}

// End notes that the carry is not to be gone on with.
func (r *Record) End() { r.write(line{Do: lineOver}) }
