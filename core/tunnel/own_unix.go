//go:build unix

package tunnel

import (
	"io/fs"
	"os"
	"syscall"
)

// own tells whether a file is this account's.
func own(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Getuid()
}
