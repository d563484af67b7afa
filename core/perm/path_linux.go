package perm

import "golang.org/x/sys/unix"

// openPath opens a file to hold it, without reading or writing it.
const openPath = unix.O_PATH
