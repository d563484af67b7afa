// Package followed sees when files that a long-running program reads become others.
//
// It promises that a file counts as another whenever its content, owner, permissions or place on the disk differ, whatever
// its time of change says; and that one that is being written counts once it has rested: for half a second, and for longer
// where it is a text whose last line has no end yet. So a change is seen within about a second. Whoever writes such a file
// in several steps writes it beside and renames it.
//
// It costs a look at each file every quarter of a second at most, and a digest of those that changed lately.
package followed

import (
	"crypto/sha256"
	"io"
	"os"
	"sync"
	"syscall"
	"time"
)

// How often files are looked at, how long they have to rest, and how long where their last line has no end.
const (
	LookEvery  = 250 * time.Millisecond
	rest       = 2 * LookEvery
	unfinished = 5 * time.Second
	lately     = 5 * time.Second
)

// Files are files that are read together. It is safe to use from many goroutines.
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

// state is what tells a file from what it was.
type state struct {
	there         bool
	dev, ino      uint64
	size          int64
	mode, uid     uint32
	written, made int64 // nanoseconds since 1970, by the file system
	sum           [sha256.Size]byte
	ended         bool // its last byte ends a line
}

// New are files to follow.
func New(paths ...string) *Files { return &Files{paths: paths, clock: time.Now} }

// Texts are files to follow that are texts in lines.
func Texts(paths ...string) *Files { return &Files{paths: paths, texts: true, clock: time.Now} }

// Changed tells whether the files are others than those that were taken, and rest. Before any were taken it is true.
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

// Take notes that the files were read since [Files.Changed], and tells whether they are still what they were then. Where
// they are not, what was read does not count.
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

// look looks at the files.
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

// stateOf looks at one file. It is digested where it is another than before, or has changed so lately that its times may
// not tell.
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

// maxFile is how much of a file is digested, in bytes.
const maxFile = 16 << 20

type lastByte struct{ b byte }

func (l *lastByte) Write(p []byte) (int, error) {
	if len(p) > 0 {
		l.b = p[len(p)-1]
	}
	return len(p), nil
}
