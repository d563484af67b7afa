package shell

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"sync"
	"time"

	"meatus/core/term"
)

// log writes what the far side prints as plain text, a line when it is whole. It
// never sees what is typed: a secret typed without echo is never printed, and so
// never in it. What full-screen programs draw is left out.
type log struct {
	path string

	mu     sync.Mutex
	file   *os.File // nil once it is closed
	screen *term.Screen
	lines  int // that were scrolled off the one-line screen so far
	err    error
}

// StartLog begins to write a plain-text log of what the far side prints to a new
// file, which only this account can read. It fails where there is one already,
// or the file is there.
func (s *Shell) StartLog(path string) error {
	if l := s.log.Load(); l != nil {
		return fmt.Errorf("a log is being written to %s already", l.path)
	}
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	// One row, so that every line that ends scrolls off, with what was written
	// over in it.
	l := &log{path: path, file: file, screen: term.New(term.MaxCols, 1, 1)}
	fmt.Fprintf(file, "# %s, %s\n", s.Route().Session, time.Now().Format(time.RFC3339))
	if !s.log.CompareAndSwap(nil, l) {
		file.Close()
		os.Remove(path)
		return errors.New("a log was begun at the same moment")
	}
	return nil
}

// StopLog ends the log. It returns where the log is, "" where none was written,
// and why it is not whole, if it is not.
func (s *Shell) StopLog() (path string, err error) {
	l := s.log.Swap(nil)
	if l == nil {
		return "", nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil {
		return l.path, l.err
	}
	if rest := l.screen.Text(); rest != "" && l.err == nil {
		_, l.err = fmt.Fprintln(l.file, rest)
	}
	err = errors.Join(l.err, l.file.Close())
	l.file = nil
	return l.path, err
}

// Logging is where the log is written, "" where none is, and why it has stopped,
// if it has.
func (s *Shell) Logging() (path string, err error) {
	l := s.log.Load()
	if l == nil {
		return "", nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.path, l.err
}

func (l *log) write(p []byte) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.file == nil || l.err != nil {
		return
	}
	for len(p) > 0 {
		part := p
		if i := bytes.IndexByte(p, '\n'); i >= 0 {
			part = p[:i+1]
		}
		p = p[len(part):]
		l.screen.Write(part)
		l.screen.Replies() // it has nobody to answer
		first, end := l.screen.Rows()
		if gone := end - 1; gone > l.lines && part[len(part)-1] == '\n' {
			l.lines = gone
			if first < gone {
				if _, l.err = fmt.Fprintln(l.file, l.screen.ScrolledLine(l.screen.Scrolled()-1)); l.err != nil {
					return
				}
			}
		}
	}
}

// Save writes the whole of what the shell has shown, or what is on the screen, to
// a new file, which only this account can read.
func (s *Shell) Save(path string, whole bool) error {
	text := ""
	s.With(func(screen *term.Screen) {
		first, end := screen.Rows()
		if !whole {
			_, rows := screen.Size()
			first = end - rows
		}
		text = screen.TextBetween(term.Point{Row: first}, term.Point{Row: end, Col: term.MaxCols})
	})
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	_, err = file.WriteString(string(bytes.TrimRight([]byte(text), "\n ")) + "\n")
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		os.Remove(path)
	}
	return err
}
