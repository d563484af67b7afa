package dial

import (
	"net"

	"golang.org/x/sys/unix"
)

// Packets are what the system counted on a connection of its own: segments each way,
// and those it had to send again.
func Packets(conn net.Conn) (in, out, again uint32) {
	tcp, ok := conn.(*net.TCPConn)
	if !ok {
		return 0, 0, 0
	}
	raw, err := tcp.SyscallConn()
	if err != nil {
		return 0, 0, 0
	}
	raw.Control(func(fd uintptr) {
		if info, err := unix.GetsockoptTCPInfo(int(fd), unix.IPPROTO_TCP, unix.TCP_INFO); err == nil {
			in, out, again = info.Segs_in, info.Segs_out, info.Total_retrans
		}
	})
	return in, out, again
}
