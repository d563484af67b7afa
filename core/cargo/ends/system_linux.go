package ends

import "golang.org/x/sys/unix"

// renameNew gives a name in an open folder to what stands under another, where nothing is. It fails with
// [unix.EINVAL] or [unix.ENOSYS] where the file system has no such rename.
func renameNew(fromDir int, from string, toDir int, to string) error {
	return unix.Renameat2(fromDir, from, toDir, to, unix.RENAME_NOREPLACE)
}

// syncAll has everything on the disk that was written to the file system of an open file.
func syncAll(fd int) error { return unix.Syncfs(fd) }
