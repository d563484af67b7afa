package ring

import (
	"fmt"
	"net"
	"os"

	"golang.org/x/sys/unix"

	"meatus/core/sanitize"
)

// caller names the program at the other end of a line. ours is false where it is
// another account's.
func caller(conn *net.UnixConn) (name string, ours bool) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return "", false
	}
	var who *unix.Ucred
	cerr := raw.Control(func(fd uintptr) { who, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED) })
	if err != nil || cerr != nil || int(who.Uid) != os.Getuid() {
		return "", false
	}
	text, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", who.Pid))
	return fmt.Sprintf("%s (process %d)", sanitize.Line(string(text), 20), who.Pid), true
}
