// Package install carries a public key to a server: into the list of keys of the
// account that a passage is logged in as.
//
// It promises that a key stands in the list exactly once; that every other byte
// of the list is kept, a missing last line break put right aside; that the list is
// replaced whole or not at all; and that it tells what would make the server pass
// the list over. It needs a POSIX shell over there, and runs two commands.
package install
