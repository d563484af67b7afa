package localaddr

import (
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"github.com/prometheus/procfs"

	"meatus/core/sanitize"
)

// Taken says that something listens at an address. It is the error of [Try].
type Taken struct {
	Address string
	Holder  string // "postgres (pid 812)", or "" where the system does not tell
}

func (t *Taken) Error() string {
	if t.Holder == "" {
		return t.Address + " is taken"
	}
	return t.Address + " is taken by " + t.Holder
}

// claimed are the addresses at which this program listens itself.
var claimed sync.Map

// Claim notes that this program listens at an address, and Release that it does not
// any more.
func Claim(address string)   { claimed.Store(address, true) }
func Release(address string) { claimed.Delete(address) }

// Claimed tells whether this program listens at an address itself.
func Claimed(address string) bool {
	_, is := claimed.Load(address)
	return is
}

// Try tells whether something could listen at address: ADDRESS:PORT, or the path
// of a socket. It fails with a [Taken], or with why nobody could.
func Try(address string) error {
	network := "tcp"
	if strings.HasPrefix(address, "/") {
		network = "unix"
		if _, err := os.Lstat(address); err == nil {
			if conn, err := net.Dial(network, address); err == nil {
				conn.Close()
				return &Taken{Address: address}
			}
			return fmt.Errorf("%s is there already", address)
		}
	}
	l, err := net.Listen(network, strings.Replace(address, "*:", ":", 1))
	if err == nil {
		return l.Close()
	}
	if errors.Is(err, syscall.EADDRINUSE) {
		_, port, _ := net.SplitHostPort(address)
		n, _ := strconv.Atoi(port)
		return &Taken{address, Holder(n)}
	}
	var op *net.OpError
	if errors.As(err, &op) {
		err = op.Err
	}
	return fmt.Errorf("nothing can listen at %s: %w", address, err)
}

// Free returns a port near the wanted one that something could listen at on that
// host, or 0 where none of the next hundred is free.
func Free(host string, wanted int) int {
	for port := wanted + 1; port <= min(wanted+100, 65535); port++ {
		if Try(net.JoinHostPort(host, strconv.Itoa(port))) == nil {
			return port
		}
	}
	return 0
}

// The states of sockets, as the system's list has them (linux/include/net/tcp_states.h).
const (
	established = 1
	listening   = 10
)

// Holder says which program of this machine listens at a port: its name and
// process. It is "" where the system does not tell, as for programs of others.
func Holder(port int) string { return owner(port, listening) }

// User says which program of this machine connects from a port, as [Holder] does.
func User(port int) string { return owner(port, established) }

// owner finds the program with a socket of a local port in a state.
func owner(port int, state uint64) string {
	proc, err := procfs.NewDefaultFS()
	if err != nil {
		return ""
	}
	sockets := map[string]bool{}
	//lint:ignore SA1019 what takes its place is a conversation by netlink, for what two files say
	for _, list := range []func() (procfs.NetTCP, error){proc.NetTCP, proc.NetTCP6} {
		lines, err := list()
		if err != nil {
			continue
		}
		for _, l := range lines {
			if l.St == state && l.LocalPort == uint64(port) {
				sockets[fmt.Sprintf("socket:[%d]", l.Inode)] = true
			}
		}
	}
	if len(sockets) == 0 {
		return ""
	}
	processes, _ := proc.AllProcs()
	for _, p := range processes {
		files, err := p.FileDescriptorTargets()
		if err != nil || !slices.ContainsFunc(files, func(f string) bool { return sockets[f] }) {
			continue
		}
		name, _ := p.Comm()
		return fmt.Sprintf("%s (process %d)", sanitize.Line(name, 30), p.PID)
	}
	return ""
}
