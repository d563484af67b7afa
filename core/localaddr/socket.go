package localaddr

import (
	"context"
	"net"
	"os"
	"syscall"
)

// ListenSocket listens at a socket file that this account alone can use. It is made with
// mode 0600: it is never open to others, not even for the moment before a mode is set.
func ListenSocket(path string) (*net.UnixListener, error) {
	l, err := bind(path)
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(path, 0o600); err != nil { // for systems that take no mode before
		l.Close()
		return nil, err
	}
	return l, nil
}

// bind gives the socket its mode before it has a name: Linux makes the file with it,
// whatever the umask (unix(7) says that the file is made with all permissions; the socket's
// own mode bounds them).
func bind(path string) (*net.UnixListener, error) {
	private := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		return c.Control(func(fd uintptr) { syscall.Fchmod(int(fd), 0o600) })
	}}
	l, err := private.Listen(context.Background(), "unix", path)
	if err != nil {
		return nil, err
	}
	return l.(*net.UnixListener), nil
}
