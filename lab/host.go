package lab

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"slices"
	"strconv"
	"sync"

	"golang.org/x/crypto/ssh"
)

// Account is a login of a host. The empty password lets nobody in.
type Account struct {
	Keys     []ssh.PublicKey // that its list has at the first start; the list decides
	Line     string          // of the list, behind them
	Password string
	// Code, where set, is asked for after a key: a second step.
	Code string
	// Signer, where set, must have signed a certificate for the key; the key alone
	// is not taken.
	Signer ssh.PublicKey
}

// Host is one machine of the lab.
type Host struct {
	Name     string
	Address  string // in the simulated network, when the bay was opened
	Accounts map[string]Account
	Bastion  bool   // lets connections onward
	Banner   string // said before the login
	Faults   Faults

	bay    *Lab
	files  *tree
	Files  FileFaults // what is wrong with them
	mu     sync.Mutex
	signer ssh.Signer
	conns  map[net.Conn]bool
	moved  string // its address now, "" while that is the first
	down   bool   // its instance does not run
	logins int
	logged map[*ssh.ServerConn]bool
}

// at is its address now.
func (h *Host) at() string {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.moved != "" {
		return h.moved
	}
	return h.Address
}

// moveTo gives the host another address.
func (h *Host) moveTo(address string) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.moved = address
}

func (h *Host) off() bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.down
}

// power switches the host on, or off, which ends every connection to it.
func (h *Host) power(on bool) {
	h.mu.Lock()
	h.down = !on
	h.mu.Unlock()
	if !on {
		h.Cut()
	}
}

// Identity is the host's public key.
func (h *Host) Identity() ssh.PublicKey {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.signer.PublicKey()
}

// Replace gives the host another key, as a new machine behind its address has.
func (h *Host) Replace() error {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.signer = signer
	h.mu.Unlock()
	return nil
}

// Cut ends every connection to the host, as a lost line does.
func (h *Host) Cut() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for c := range h.conns {
		c.Close()
	}
}

// Logins is how many logins the host has let in.
func (h *Host) Logins() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.logins
}

// Push has the host open a channel that nobody asked for, at every connection to it,
// as a hostile one would. It tells how many were accepted.
func (h *Host) Push(kind string, payload []byte) (opened int, err error) {
	h.mu.Lock()
	servers := slices.Collect(maps.Keys(h.logged))
	h.mu.Unlock()
	if len(servers) == 0 {
		return 0, errors.New("nobody is logged in")
	}
	for _, s := range servers {
		channel, requests, err := s.OpenChannel(kind, payload)
		var refused *ssh.OpenChannelError
		if errors.As(err, &refused) {
			continue
		}
		if err != nil {
			return opened, err
		}
		opened++
		go ssh.DiscardRequests(requests)
		channel.Close()
	}
	return opened, nil
}

// serve takes one connection to the host's port until it ends.
func (h *Host) serve(conn net.Conn) {
	h.mu.Lock()
	h.conns[conn] = true
	signer := h.signer
	h.mu.Unlock()
	defer func() {
		conn.Close()
		h.mu.Lock()
		delete(h.conns, conn)
		h.mu.Unlock()
	}()
	if h.Faults.notSSH() {
		fmt.Fprintf(conn, "220 %s.lantern.example mail for the bay, \x1b[1mready\x1b[0m\r\n", h.Name)
		io.Copy(io.Discard, io.LimitReader(conn, 1<<10))
		return
	}
	config := &ssh.ServerConfig{
		ServerVersion:     "SSH-2.0-lantern",
		PublicKeyCallback: h.checkKey,
		MaxAuthTries:      6,
	}
	if h.takesPasswords() {
		config.PasswordCallback = h.checkPassword
	}
	if h.Banner != "" {
		config.BannerCallback = func(ssh.ConnMetadata) string { return h.Banner }
	}
	config.AddHostKey(signer)
	server, channels, requests, err := ssh.NewServerConn(conn, config)
	if err != nil {
		return
	}
	defer server.Close()
	h.mu.Lock()
	h.logins++
	if h.logged == nil {
		h.logged = map[*ssh.ServerConn]bool{}
	}
	h.logged[server] = true
	h.mu.Unlock()
	defer func() {
		h.mu.Lock()
		delete(h.logged, server)
		h.mu.Unlock()
	}()
	go ssh.DiscardRequests(requests)
	var wg sync.WaitGroup
	for channel := range channels {
		switch channel.ChannelType() {
		case "session":
			wg.Go(func() { h.session(server, channel) })
		case "direct-tcpip":
			wg.Go(func() { h.onward(channel) })
		default:
			channel.Reject(ssh.UnknownChannelType, "no such channel here")
		}
	}
	wg.Wait()
}

var errNo = errors.New("no")

func (h *Host) checkKey(meta ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
	account := h.Accounts[meta.User()]
	if account.Signer != nil {
		checker := ssh.CertChecker{IsUserAuthority: func(k ssh.PublicKey) bool { return bytes.Equal(k.Marshal(), account.Signer.Marshal()) }}
		return checker.Authenticate(meta, key)
	}
	if cert, is := key.(*ssh.Certificate); is {
		return h.leaseIn(meta, cert)
	}
	switch {
	case !h.listed(meta.User(), key, meta.RemoteAddr()):
		return nil, errNo
	case account.Code != "":
		return nil, &ssh.PartialSuccessError{Next: ssh.ServerAuthCallbacks{KeyboardInteractiveCallback: account.askCode}}
	}
	return &ssh.Permissions{}, nil
}

// askCode asks for the second step.
func (a Account) askCode(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
	answers, err := ask("the lamp", "The lamp wants its code too.", []string{"Code: "}, []bool{false})
	if err != nil || len(answers) != 1 || answers[0] != a.Code {
		return nil, errNo
	}
	return &ssh.Permissions{}, nil
}

func (h *Host) checkPassword(meta ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
	if want := h.Accounts[meta.User()].Password; want != "" && want == string(password) {
		return &ssh.Permissions{}, nil
	}
	return nil, errNo
}

func (h *Host) takesPasswords() bool {
	for _, a := range h.Accounts {
		if a.Password != "" {
			return true
		}
	}
	return false
}

// onwardRequest is the payload of a direct-tcpip channel.
type onwardRequest struct {
	Host     string
	Port     uint32
	FromHost string
	FromPort uint32
}

// onward joins a channel to another host of the lab (RFC 4254 section 7.2).
func (h *Host) onward(channel ssh.NewChannel) {
	var want onwardRequest
	if err := ssh.Unmarshal(channel.ExtraData(), &want); err != nil {
		channel.Reject(ssh.ConnectionFailed, "not understood")
		return
	}
	if !h.Bastion || h.Faults.onwardShut() {
		channel.Reject(ssh.Prohibited, "open failed")
		return
	}
	conn, err := h.bay.dial(h, net.JoinHostPort(want.Host, strconv.Itoa(int(want.Port))))
	if err != nil {
		channel.Reject(ssh.ConnectionFailed, err.Error())
		return
	}
	stream, requests, err := channel.Accept()
	if err != nil {
		conn.Close()
		return
	}
	go ssh.DiscardRequests(requests)
	var wg sync.WaitGroup
	wg.Go(func() { io.Copy(conn, stream); closeWrite(conn) })
	wg.Go(func() { io.Copy(stream, conn); stream.CloseWrite() })
	wg.Wait()
	conn.Close()
	stream.Close()
}
