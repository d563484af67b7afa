// Package bounded reads input up to a limit of length, and fails for longer input rather than cutting it off.
package bounded

import (
	"fmt"
	"io"
	"meatus/core/words"
	"os"
)

// TooLong says that input is longer than its limit. Nothing of it is returned.
type TooLong struct {
	Most int64 // in bytes
}

func (e *TooLong) Error() string { return "it is longer than " + words.Bytes(float64(e.Most)) }

// Read reads to the end. It fails with a [TooLong], and reads one byte more than most at the most.
func Read(r io.Reader, most int64) ([]byte, error) {
	text, err := io.ReadAll(io.LimitReader(r, most+1))
	if err == nil && int64(len(text)) > most {
		return nil, &TooLong{most}
	}
	return text, err
}

// File reads a file as [Read] does. It fails for pipes, devices and folders: a pipe may never end.
func File(path string, most int64) ([]byte, error) {
	info, err := os.Stat(path) // before it is opened: opening a pipe waits
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &os.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is no regular file")}
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return Read(f, most)
}
