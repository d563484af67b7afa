//go:build !linux

package keyfile

func renameNew(from, to string) error { return linkThenRemove(from, to) }
