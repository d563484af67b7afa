//go:build !linux

package perm

import "syscall"

const openPath = syscall.O_RDONLY | syscall.O_NONBLOCK
