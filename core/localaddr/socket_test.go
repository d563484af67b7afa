package localaddr

import (
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"
)

func TestASocketIsPrivateFromTheStart(t *testing.T) {
	if runtime.GOOS != "linux" {
		t.Skip("Linux alone takes the mode before the name")
	}
	old := syscall.Umask(0)
	defer syscall.Umask(old)
	path := filepath.Join(t.TempDir(), "door")
	l, err := bind(path)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	info, err := os.Stat(path)
	if err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the socket is made with mode %v, %v", info.Mode(), err)
	}
}
