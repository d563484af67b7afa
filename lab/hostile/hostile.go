// Package hostile is a server for tests that keeps to no rules: it logs everybody in,
// and can send any packet behind the encryption, which the protocol library does not
// let its users do.
package hostile

import (
	"crypto/ed25519"
	"crypto/rand"
	"io"
	"net"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"unsafe"

	"golang.org/x/crypto/ssh"
)

// Server takes connections on loopback. Of the channels that connect onward, those to
// port 7 are echoed, those to port 9 never read, those to port 3 of no kind that it knows,
// and all refused as one too many once Limit are open on a connection.
type Server struct {
	Address string
	Limit   int // 0 for none

	// Once, where set, has every connection after the first hung up on.
	Once atomic.Bool

	mu     sync.Mutex
	conns  []*Conn
	hungUp int
}

// HungUp is how many connections were hung up on.
func (s *Server) HungUp() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hungUp
}

// Conn is one connection to the server.
type Conn struct {
	conn *ssh.ServerConn
	mu   sync.Mutex
	last ssh.Channel // that was opened
	open int
	asks []string // global requests
}

// Asks are the kinds of the global requests so far.
func (c *Conn) Asks() []string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return slices.Clone(c.asks)
}

// answer grants listeners that it does not open, and closing them.
func (c *Conn) answer(requests <-chan *ssh.Request) {
	for r := range requests {
		c.mu.Lock()
		c.asks = append(c.asks, r.Type)
		c.mu.Unlock()
		if r.WantReply {
			r.Reply(strings.HasSuffix(r.Type, "tcpip-forward"), nil)
		}
	}
}

// Start starts the server; it ends with the test.
func Start(t testing.TB, limit int) *Server {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := &Server{Address: l.Addr().String(), Limit: limit}
	t.Cleanup(func() {
		l.Close()
		for _, c := range s.Conns() {
			c.conn.Close()
		}
	})
	go func() {
		for {
			raw, err := l.Accept()
			if err != nil {
				return
			}
			if s.Once.Load() && len(s.Conns()) > 0 {
				raw.Close()
				s.mu.Lock()
				s.hungUp++
				s.mu.Unlock()
				continue
			}
			go s.serve(raw, config)
		}
	}()
	return s
}

// Conns are the connections so far, the oldest first.
func (s *Server) Conns() []*Conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	return append([]*Conn(nil), s.conns...)
}

func (s *Server) serve(raw net.Conn, config *ssh.ServerConfig) {
	conn, channels, requests, err := ssh.NewServerConn(raw, config)
	if err != nil {
		raw.Close()
		return
	}
	c := &Conn{conn: conn}
	go c.answer(requests)
	s.mu.Lock()
	s.conns = append(s.conns, c)
	s.mu.Unlock()
	for channel := range channels {
		var to struct {
			Host     string
			Port     uint32
			FromHost string
			FromPort uint32
		}
		if channel.ChannelType() != "direct-tcpip" || ssh.Unmarshal(channel.ExtraData(), &to) != nil {
			channel.Reject(ssh.UnknownChannelType, "no")
			continue
		}
		if to.Port == 3 {
			channel.Reject(ssh.UnknownChannelType, "unknown channel type")
			continue
		}
		c.mu.Lock()
		full := s.Limit > 0 && c.open >= s.Limit
		if !full {
			c.open++
		}
		c.mu.Unlock()
		if full {
			channel.Reject(ssh.ResourceShortage, "no more here")
			continue
		}
		stream, asked, err := channel.Accept()
		if err != nil {
			continue
		}
		go ssh.DiscardRequests(asked)
		c.mu.Lock()
		c.last = stream
		c.mu.Unlock()
		if to.Port == 9 {
			continue
		}
		go func() {
			io.Copy(stream, stream)
			stream.Close()
			c.mu.Lock()
			c.open--
			c.mu.Unlock()
		}()
	}
}

// Open is how many channels are open.
func (c *Conn) Open() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.open
}

// Channel is the number by which the other side knows the channel opened last.
func (c *Conn) Channel() uint32 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return uint32(reflect.ValueOf(c.last).Elem().FieldByName("remoteId").Uint())
}

// Send sends a packet as it stands.
func (c *Conn) Send(packet []byte) error {
	transport := reflect.ValueOf(c.conn.Conn).Elem().FieldByName("transport").Elem().UnsafePointer()
	return writePacket(transport, packet)
}

//go:linkname writePacket golang.org/x/crypto/ssh.(*handshakeTransport).writePacket
func writePacket(transport unsafe.Pointer, packet []byte) error
