// Package servertest starts the distribution's SSH server on loopback for benchmarks,
// and walks to it.
package servertest

import (
	"cmp"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/labtest"
)

// Server is the distribution's SSH server on loopback, and a key it takes.
type Server struct {
	Address string
	Key     string // a key file that it takes
	Signer  ssh.Signer
	Config  string // the file of its configuration
	PID     int    // of the process that listens
	first   string // where the first hop is knocked at instead, or ""
}

// Far is the server at the end of a line on which a byte and its answer take a round
// trip, and which is as wide as memory. Only the first hop of a way is so far.
func (s Server) Far(b testing.TB, roundTrip time.Duration) Server {
	b.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	go func() {
		for {
			near, err := l.Accept()
			if err != nil {
				return
			}
			far, err := net.Dial("tcp", s.Address)
			if err != nil {
				near.Close()
				continue
			}
			go late(far, near, roundTrip/2)
			go late(near, far, roundTrip/2)
		}
	}()
	s.first = l.Addr().String()
	return s
}

// late copies what comes, each piece so much later.
func late(to, from net.Conn, by time.Duration) {
	defer to.Close()
	type piece struct {
		due  time.Time
		data []byte
	}
	way := make(chan piece, 1<<16)
	go func() {
		defer close(way)
		for {
			buf := make([]byte, 64<<10)
			n, err := from.Read(buf)
			if err != nil {
				return
			}
			way <- piece{time.Now().Add(by), buf[:n]}
		}
	}()
	for p := range way {
		time.Sleep(time.Until(p.due))
		if _, err := to.Write(p.data); err != nil {
			from.Close()
		}
	}
}

// Start starts the server. It ends with the test.
func Start(b testing.TB) Server { return StartWith(b, "") }

// StartWith is Start with more lines of configuration; "#nosubsystem" leaves out the subsystem of
// file transfer.
func StartWith(b testing.TB, extra string) Server {
	b.Helper()
	const path = "/usr/sbin/sshd"
	if _, err := os.Stat(path); err != nil {
		b.Skip("the SSH server is not installed")
	}
	dir := b.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			b.Fatal(err)
		}
		return file
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		b.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		b.Fatal(err)
	}
	key := write("key", string(pem.EncodeToMemory(block)))
	free, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	addr := free.Addr().String()
	free.Close()
	_, port, _ := net.SplitHostPort(addr)
	// The account's own start-up files are no part of a test: each command would run them.
	config := write("config", fmt.Sprintf("ListenAddress 127.0.0.1:%s\nHostKey %s\nAuthorizedKeysFile %s\nPidFile none\nStrictModes no\nUsePAM no\nMaxStartups 100\nSubsystem sftp /usr/lib/openssh/sftp-server\nSetEnv HOME=%s PATH=/usr/local/bin:/usr/bin:/bin\n%s",
		port, key, write("authorized", string(ssh.MarshalAuthorizedKey(signer.PublicKey()))), dir, extra))
	if strings.Contains(extra, "#nosubsystem") {
		text, _ := os.ReadFile(config)
		write("config", strings.Replace(string(text), "Subsystem sftp", "#", 1))
	}
	os.MkdirAll("/run/sshd", 0o755)
	cmd := exec.Command(path, "-D", "-e", "-f", config)
	if err := cmd.Start(); err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	for range 500 {
		if c, err := net.Dial("tcp", addr); err == nil {
			c.Close()
			return Server{Address: addr, Key: key, Signer: signer, Config: config, PID: cmd.Process.Pid}
		}
		time.Sleep(10 * time.Millisecond)
	}
	b.Fatal("the SSH server did not start")
	return Server{}
}

// CutAll ends every connection that the server has, as a machine that goes away does.
func (s Server) CutAll(b testing.TB) {
	b.Helper()
	out, err := exec.Command("pgrep", "-P", strconv.Itoa(s.PID)).Output()
	if err != nil {
		return // it has none
	}
	for _, pid := range strings.Fields(string(out)) {
		exec.Command("pkill", "-KILL", "-P", pid).Run()
		exec.Command("kill", "-KILL", pid).Run()
	}
}

// Way is a route of so many hops, all of them this server.
func (s Server) Way(hops int) route.Route {
	r := route.Route{Session: "bench"}
	host, port, _ := net.SplitHostPort(s.Address)
	h := route.Hop{Destination: route.Destination{Host: host}, Credentials: route.Credentials{User: os.Getenv("USER"), Keys: []string{s.Key}}, Limits: route.Limits{Keepalive: time.Minute}}
	if h.User == "" {
		h.User = "root"
	}
	fmt.Sscan(port, &h.Port)
	for i := range hops {
		h.Name = fmt.Sprint("hop", i+1)
		if h.Dial = ""; i == 0 {
			h.Dial = s.first
		}
		r.Hops = append(r.Hops, h)
	}
	return r
}

// Walker is a walker that vouches for whatever it meets.
func (s Server) Walker(b testing.TB) *walk.Walker {
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), "v")), Asker: labtest.Yes{}})
	b.Cleanup(w.Close)
	return w
}

// Bare is the protocol library alone through so many hops.
func (s Server) Bare(b testing.TB, hops int) *ssh.Client {
	config := &ssh.ClientConfig{User: s.Way(1).Hops[0].User, Auth: []ssh.AuthMethod{ssh.PublicKeys(s.Signer)}, HostKeyCallback: ssh.InsecureIgnoreHostKey()}
	config.Ciphers = login.Ciphers()
	client, err := ssh.Dial("tcp", cmp.Or(s.first, s.Address), config)
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { client.Close() })
	for range hops - 1 {
		conn, err := client.Dial("tcp", s.Address)
		if err != nil {
			b.Fatal(err)
		}
		c, chans, reqs, err := ssh.NewClientConn(conn, s.Address, config)
		if err != nil {
			b.Fatal(err)
		}
		client = ssh.NewClient(c, chans, reqs)
	}
	return client
}
