//go:build !linux

package localaddr

import (
	"errors"
	"net"
)

// Foreign is the error for a connection that a program of another account made.
type Foreign struct{ Account string }

func (f *Foreign) Error() string { return "it was made by a program of " + f.Account }

// Ours cannot tell on this system.
func Ours(net.Conn) error { return errors.New("the system does not tell whose it is") }
