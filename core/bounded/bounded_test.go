package bounded

import (
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"testing/iotest"
)

func TestNothingIsCutOff(t *testing.T) {
	for text, whole := range map[string]bool{"": true, "1234": true, "12345": true, "123456": false, strings.Repeat("x", 1000): false} {
		got, err := Read(strings.NewReader(text), 5)
		var long *TooLong
		if whole != (err == nil && string(got) == text) || !whole && (!errors.As(err, &long) || long.Most != 5 || got != nil) {
			t.Errorf("%q: %q, %v", text, got, err)
		}
	}
	if _, err := Read(iotest.ErrReader(io.ErrUnexpectedEOF), 5); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Error(err)
	}
	endless := &counting{}
	if _, err := Read(endless, 1<<10); err == nil || endless.n > 1<<13 {
		t.Errorf("%v after %d bytes", err, endless.n)
	}
}

// counting has no end.
type counting struct{ n int }

func (c *counting) Read(p []byte) (int, error) {
	c.n += len(p)
	return len(p), nil
}

func TestOnlyAFileIsReadAsOne(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "token")
	if err := os.WriteFile(path, []byte("secret"), 0o600); err != nil {
		t.Fatal(err)
	}
	if text, err := File(path, 6); err != nil || string(text) != "secret" {
		t.Errorf("%q %v", text, err)
	}
	if _, err := File(path, 5); err == nil {
		t.Error("a longer file is read")
	}
	pipe := filepath.Join(dir, "pipe")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{pipe, dir, filepath.Join(dir, "missing")} {
		if _, err := File(path, 5); err == nil {
			t.Errorf("%s is read", filepath.Base(path))
		}
	}
}
