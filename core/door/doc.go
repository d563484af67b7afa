// Package door looks at the doors of this machine: whether something can listen
// at an address, and who does already.
//
// It promises to leave nothing open: trying a door opens and closes it at once. A
// look at who holds one costs a pass over the system's list of sockets and, where
// it may, over the open files of every process.
package door
