// Package farfile replaces and removes single files on a far machine, whole or not at all.
//
// It promises, at whatever moment the line is cut or a program killed at either end: under the file's name stands what
// stood there before or what was to be there, byte by byte; the new text is in its place only after the far machine found
// its length and digest right and had it on the disk; what somebody else changed meanwhile is not overwritten; owner,
// permissions and a symbolic link's target stay as they were. After a lost answer it looks again, and tells what it found,
// or that it is not known.
//
// It costs one command or a few requests for a file, and one more reading where the far machine has no command that
// digests. It is for files of up to [Max] bytes: configuration and lists. Whole trees are for package cargo.
package farfile
