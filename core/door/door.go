package door

import (
	"bufio"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"

	"meatus/core/plain"
)

// Taken says that a door is held. It is the error of [Try].
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

// ours are the doors that this program holds itself, by address.
var ours sync.Map

// Keep notes that this program holds a door, and Leave that it does not any more.
func Keep(address string)  { ours.Store(address, true) }
func Leave(address string) { ours.Delete(address) }

// Ours tells whether this program holds a door itself.
func Ours(address string) bool {
	_, is := ours.Load(address)
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

// The states of sockets in the system's list.
const (
	connected = "01"
	listening = "0A"
)

// Holder says which program of this machine listens at a port: its name and
// process. It is "" where the system does not tell, as for programs of others.
func Holder(port int) string { return owner(port, listening) }

// User says which program of this machine connects from a port, as [Holder] does.
func User(port int) string { return owner(port, connected) }

// owner finds the program with a socket of a port in a state.
func owner(port int, state string) string {
	inodes := map[string]bool{}
	for _, list := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(list)
		if err != nil {
			continue
		}
		for lines := bufio.NewScanner(f); lines.Scan(); {
			// sl local rem st queues timer retrnsmt uid timeout inode
			fields := strings.Fields(lines.Text())
			if len(fields) > 9 && fields[3] == state && strings.HasSuffix(fields[1], fmt.Sprintf(":%04X", port)) {
				inodes["socket:["+fields[9]+"]"] = true
			}
		}
		f.Close()
	}
	if len(inodes) == 0 {
		return ""
	}
	files, _ := filepath.Glob("/proc/[0-9]*/fd/*")
	for _, file := range files {
		if to, err := os.Readlink(file); err == nil && inodes[to] {
			process := filepath.Dir(filepath.Dir(file))
			name, _ := os.ReadFile(filepath.Join(process, "comm"))
			return fmt.Sprintf("%s (process %s)", plain.Line(string(name), 30), filepath.Base(process))
		}
	}
	return ""
}
