package keyfile

import (
	"os"

	"golang.org/x/sys/unix"
)

// renameNew gives a file a name that nothing has.
func renameNew(from, to string) error {
	err := unix.Renameat2(unix.AT_FDCWD, from, unix.AT_FDCWD, to, unix.RENAME_NOREPLACE)
	if err == unix.EINVAL || err == unix.ENOSYS { // a file system that cannot
		return linkThenRemove(from, to)
	}
	if err != nil {
		return &os.LinkError{Op: "renaming", Old: from, New: to, Err: err}
	}
	return nil
}
