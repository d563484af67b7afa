package localaddr

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/user"
	"strconv"
	"time"

	"golang.org/x/sys/unix"
)

// errUnknown says that the system does not tell whose a connection is.
var errUnknown = errors.New("the system does not tell whose it is")

// Foreign is the error for a connection that a program of another account made.
type Foreign struct{ Account string }

func (f *Foreign) Error() string { return "it was made by a program of " + f.Account }

// askTime is how long the system may take to answer.
const askTime = time.Second

// Ours tells whether a connection from this machine was made by a program of this account
// or of the superuser: nil where it was, a [Foreign] where it was not, and another error
// where the system does not tell. It asks the kernel for the one socket (sock_diag(7)),
// which costs some 20 µs however many there are.
func Ours(conn net.Conn) error {
	from, ok1 := conn.RemoteAddr().(*net.TCPAddr)
	to, ok2 := conn.LocalAddr().(*net.TCPAddr)
	if !ok1 || !ok2 {
		return errUnknown
	}
	uid, state, err := ask(from.AddrPort(), to.AddrPort())
	switch {
	case err != nil:
		return err
	case int(uid) == os.Geteuid():
		return nil
	case uid == 0 && state == established:
		return nil
	case uid == 0: // its program has closed it, and the kernel forgets whose it was
		return &Foreign{"an account that cannot be told any more"}
	}
	name := strconv.Itoa(int(uid))
	if u, err := user.LookupId(name); err == nil {
		name = u.Username
	}
	return &Foreign{name}
}

// ask asks for the account and the state of the socket from one address to another.
func ask(from, to netip.AddrPort) (uid uint32, state uint64, err error) {
	s, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, unix.NETLINK_SOCK_DIAG)
	if err != nil {
		return 0, 0, fmt.Errorf("%w: %w", errUnknown, err)
	}
	defer unix.Close(s)
	limit := unix.NsecToTimeval(int64(askTime))
	unix.SetsockoptTimeval(s, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &limit)
	family := byte(unix.AF_INET6)
	if from.Addr().Unmap().Is4() {
		family = unix.AF_INET
	}
	request := make([]byte, 16+8+48) // nlmsghdr, and inet_diag_req_v2 with its inet_diag_sockid
	binary.NativeEndian.PutUint32(request, uint32(len(request)))
	binary.NativeEndian.PutUint16(request[4:], unix.SOCK_DIAG_BY_FAMILY)
	binary.NativeEndian.PutUint16(request[6:], unix.NLM_F_REQUEST)
	body := request[16:]
	body[0], body[1] = family, unix.IPPROTO_TCP
	binary.NativeEndian.PutUint32(body[4:], ^uint32(0)) // in any state
	id := body[8:]
	binary.BigEndian.PutUint16(id, from.Port())
	binary.BigEndian.PutUint16(id[2:], to.Port())
	copy(id[4:], from.Addr().Unmap().AsSlice())
	copy(id[20:], to.Addr().Unmap().AsSlice())
	binary.NativeEndian.PutUint32(id[40:], ^uint32(0)) // no cookie
	binary.NativeEndian.PutUint32(id[44:], ^uint32(0))
	if err := unix.Sendto(s, request, 0, &unix.SockaddrNetlink{Family: unix.AF_NETLINK}); err != nil {
		return 0, 0, fmt.Errorf("%w: %w", errUnknown, err)
	}
	answer := make([]byte, 4096)
	n, _, err := unix.Recvfrom(s, answer, 0)
	if err != nil {
		return 0, 0, fmt.Errorf("%w: %w", errUnknown, err)
	}
	const uidAt = 16 + 4 + 48 + 12 // behind expires, rqueue and wqueue of inet_diag_msg
	if n < uidAt+4 || binary.NativeEndian.Uint16(answer[4:]) != unix.SOCK_DIAG_BY_FAMILY {
		return 0, 0, errUnknown
	}
	return binary.NativeEndian.Uint32(answer[uidAt:]), uint64(answer[16+1]), nil
}
