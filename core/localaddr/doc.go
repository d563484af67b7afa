// Package localaddr looks at the listening addresses of this machine: whether
// something can listen at one, and which program does already.
//
// It promises to leave nothing open: trying an address opens and closes it at once. A
// look at who listens costs a pass over the system's list of sockets and, where it may,
// over the open files of every process.
package localaddr
