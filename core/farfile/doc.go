// Package farfile replaces and removes single files on a remote machine atomically.
//
// It promises, for a connection cut or a program killed at any moment at either end: the file's content is the old or the
// new one, byte by byte; the new content is in place only after the remote machine verified its length and digest and
// flushed it to disk; a change by anyone else meanwhile is not overwritten; owner, permissions and a symbolic link's target
// are preserved. After a lost answer the file is read again, and the error tells its real state, or that it is unknown.
//
// It costs one command or a few requests for a file, and one more read where the remote machine has no digest command.
// Files are at most [Max] bytes: configuration and lists. Whole trees are moved by package cargo.
package farfile
