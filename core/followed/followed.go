// Package followed detects changes of the files that a long-running program has read.
//
// It promises that a change of a file's content, owner, permissions or inode counts, even if its modification time is
// unchanged; and that a file being written counts only once it has been unchanged for half a second, or for five seconds if
// it is a text without a final line end. A change is therefore seen within about a second. A program that writes such a
// file in several steps should write a new file and rename it.
//
// It costs a stat of each file every quarter of a second at most, and a digest of recently changed files.
package followed

import (
	"crypto/sha256"
	"io"
	"os"
	"sync"
	"syscall"
	"time"
)

// The pause between two looks; how long a file must be unchanged, and how long if its last line has no end; and the age up
// to which a file is digested.
const (
	LookEvery  = 250 * time.Millisecond
	rest       = 2 * LookEvery
	unfinished = 5 * time.Second
	lately     = 5 * time.Second
)

// Files are files that are read together. It is safe for concurrent use.
type Files struct {
	paths []string
	texts bool

	mu     sync.Mutex
	looked time.Time
	now    []state   // as they were at the last look
	since  time.Time // when they became so
	taken  []state   // as they were when they were last read, nil for never
	clock  func() time.Time
}

// state is everything by which a changed file is recognized.
type state struct {
	there         bool
	dev, ino      uint64
	size          int64
	mode, uid     uint32
	written, made int64 // nanoseconds since 1970, by the file system
	sum           [sha256.Size]byte
	ended         bool // its last byte ends a line
}

// New returns files to follow, none of them read yet.
func New(paths ...string) *Files { return &Files{paths: paths, clock: time.Now} }

// Texts returns text files to follow, none of them read yet.
func Texts(paths ...string) *Files { return &Files{paths: paths, texts: true, clock: time.Now} }

// Changed reports whether the files differ from those last read and are no longer being written. It is true before the
// first [Files.Take].
func (f *Files) Changed() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	now := f.clock()
	if f.taken == nil {
		f.look(now)
		return true
	}
	if now.Sub(f.looked) < LookEvery {
		return false
	}
	f.look(now)
	if same(f.now, f.taken) {
		return false
	}
	quiet := rest
	for _, s := range f.now {
		if f.texts && s.there && s.size > 0 && !s.ended {
			quiet = unfinished
		}
	}
	return now.Sub(f.since) >= quiet
}

// Take records that the files were read since [Files.Changed], and reports whether they are still the same. If not, the
// caller must discard what it read.
func (f *Files) Take() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	read := f.now
	f.look(f.clock())
	if !same(read, f.now) {
		return false
	}
	f.taken = read
	return true
}

// look stats the files.
func (f *Files) look(now time.Time) {
	f.looked = now
	states := make([]state, len(f.paths))
	for i, path := range f.paths {
		var before *state
		if f.now != nil {
			before = &f.now[i]
		}
		states[i] = stateOf(path, before, now)
	}
	if !same(states, f.now) {
		f.since = now
	}
	f.now = states
}

func same(a, b []state) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i] != b[i] {
			return false
		}
	}
	return true
}

// stateOf stats one file. It is digested if it differs from before, or changed so recently that its times may be equal.
func stateOf(path string, before *state, now time.Time) (s state) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() {
		return s
	}
	s = state{there: true, size: info.Size(), mode: uint32(info.Mode()), written: info.ModTime().UnixNano()}
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		s.dev, s.ino, s.uid, s.made = uint64(st.Dev), st.Ino, st.Uid, madeAt(st)
	}
	if before != nil {
		old := *before
		s.sum, s.ended = old.sum, old.ended
		if s == old && now.Sub(time.Unix(0, max(s.made, s.written))) > lately {
			return s
		}
		s.sum, s.ended = [sha256.Size]byte{}, false
	}
	file, err := os.Open(path)
	if err != nil {
		return s
	}
	defer file.Close()
	digest := sha256.New()
	last := &lastByte{}
	if _, err := io.Copy(io.MultiWriter(digest, last), io.LimitReader(file, maxFile)); err != nil {
		return s
	}
	digest.Sum(s.sum[:0])
	s.ended = last.b == '\n'
	return s
}

// maxFile is the length to which a file is digested, in bytes.
const maxFile = 16 << 20

type lastByte struct{ b byte }

func (l *lastByte) Write(p []byte) (int, error) {
	if len(p) > 0 {
		l.b = p[len(p)-1]
	}
	return len(p), nil
}
