package dial

import (
	"net"
	"syscall"

	"golang.org/x/sys/unix"
)

// acker has the system acknowledge at once what was received over a connection, nil where that cannot be asked for.
//
// A server that has not turned its own waiting off (Nagle's algorithm, RFC 9293 section 3.7.4) sends a second small
// packet when the first one is acknowledged, and an acknowledgement is put off for 40 ms where nothing is to be
// sent (RFC 9293 section 3.8.6.3): together every command begins as much later.
func acker(c net.Conn) func() {
	tcp, ok := c.(*net.TCPConn)
	if !ok {
		return nil
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return nil
	}
	return func() { raw.Control(acknowledge) }
}

// acknowledge asks for that once: the system goes back to waiting by itself.
func acknowledge(fd uintptr) {
	_ = syscall.SetsockoptInt(int(fd), unix.IPPROTO_TCP, unix.TCP_QUICKACK, 1) // without it there is a wait, and nothing worse
}
