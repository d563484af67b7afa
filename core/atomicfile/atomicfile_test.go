package atomicfile

import (
	"os"
	"path/filepath"
	"testing"
)

func TestALinkStaysALinkAndAModeStays(t *testing.T) {
	dir := t.TempDir()
	real, link := filepath.Join(dir, "real"), filepath.Join(dir, "link")
	if err := os.WriteFile(real, []byte("old"), 0o640); err != nil {
		t.Fatal(err)
	}
	if err := os.Symlink(real, link); err != nil {
		t.Fatal(err)
	}
	if err := Write(link, []byte("new")); err != nil {
		t.Fatal(err)
	}
	text, _ := os.ReadFile(real)
	info, _ := os.Lstat(link)
	mode, _ := os.Stat(real)
	if string(text) != "new" || info.Mode()&os.ModeSymlink == 0 || mode.Mode().Perm() != 0o640 {
		t.Errorf("text %q, link %v, mode %o", text, info.Mode(), mode.Mode().Perm())
	}
	fresh := filepath.Join(dir, "fresh")
	if err := Write(fresh, nil); err != nil {
		t.Fatal(err)
	}
	if info, _ := os.Stat(fresh); info.Mode().Perm() != 0o600 {
		t.Errorf("a new file has mode %o", info.Mode().Perm())
	}
}

func TestAFailedWriteLeavesTheFile(t *testing.T) {
	dir := t.TempDir()
	if err := Write(filepath.Join(dir, "none", "f"), []byte("x")); err == nil {
		t.Error("a folder that is not there was written to")
	}
	if left, _ := os.ReadDir(dir); len(left) != 0 {
		t.Errorf("%d files were left behind", len(left))
	}
}

func TestTheLockIsHeldByOneAtATime(t *testing.T) {
	path := filepath.Join(t.TempDir(), "new", "f")
	unlock, err := Lock(path)
	if err != nil {
		t.Fatal(err)
	}
	second := make(chan func())
	go func() {
		u, err := Lock(path)
		if err != nil {
			t.Error(err)
		}
		second <- u
	}()
	select {
	case <-second:
		t.Fatal("two hold the lock")
	default:
	}
	unlock()
	(<-second)()
}
