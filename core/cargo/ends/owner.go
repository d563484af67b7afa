package ends

import (
	"io/fs"
	"syscall"
)

// owner is whose a file of this machine is.
func owner(info fs.FileInfo) (uid, gid uint32, ok bool) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 0, 0, false
	}
	return s.Uid, s.Gid, true
}
