package walk_test

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/servertest"
)

const load = 32 << 20

var loadCommand = fmt.Sprintf("head -c %d /dev/zero", load)

// BenchmarkThroughput compares one channel of ours with one of the library, both
// against the same server, in short rounds ([servertest.Compare]).
func BenchmarkThroughput(b *testing.B) {
	programs := remote.New(remote.Config{})
	s := servertest.Start(b)
	for _, hops := range []int{1, 2} {
		client := s.Bare(b, hops)
		w := s.Walker(b)
		p, err := w.Walk(context.Background(), s.Way(hops))
		if err != nil {
			b.Fatal(err)
		}
		b.Run(fmt.Sprintf("%dhop", hops), func(b *testing.B) {
			servertest.Compare(b, load, func() time.Duration {
				return drain(b, func() (io.Reader, func()) {
					session, err := client.NewSession()
					if err != nil {
						b.Fatal(err)
					}
					out, _ := session.StdoutPipe()
					if err := session.Start(loadCommand); err != nil {
						b.Fatal(err)
					}
					return out, func() { session.Close() }
				})
			}, func() time.Duration {
				return drain(b, func() (io.Reader, func()) {
					g, err := programs.Start(context.Background(), p, loadCommand, nil)
					if err != nil {
						b.Fatal(err)
					}
					return g.Out, func() { g.Wait(); g.Close() }
				})
			})
		})
		p.Close()
	}
}

// drain reads a load to its end and returns how long that took.
func drain(b *testing.B, start func() (io.Reader, func())) time.Duration {
	began := time.Now()
	out, end := start()
	if n, _ := io.Copy(io.Discard, out); n != load {
		b.Fatalf("%d bytes, want %d", n, load)
	}
	took := time.Since(began)
	end()
	return took
}

// BenchmarkSession compares opening a session where nothing is connected with
// opening one through a live link, two hops away.
func BenchmarkSession(b *testing.B) {
	s := servertest.Start(b)
	open := func(b *testing.B, w *walk.Walker) *walk.Passage {
		p, err := w.Walk(context.Background(), s.Way(2))
		if err != nil {
			b.Fatal(err)
		}
		g, err := remote.New(remote.Config{}).Start(context.Background(), p, "true", nil)
		if err != nil {
			b.Fatal(err)
		}
		io.Copy(io.Discard, g.Out)
		g.Wait()
		return p
	}
	b.Run("first", func(b *testing.B) {
		for b.Loop() {
			w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), "v")), Asker: &person{yes: true}})
			open(b, w).Close()
			w.Close()
		}
	})
	b.Run("second", func(b *testing.B) {
		w := s.Walker(b)
		defer open(b, w).Close()
		for b.Loop() {
			open(b, w).Close()
		}
	})
}

// BenchmarkCiphers compares the ciphers on this processor, the library talking
// to itself over loopback.
func BenchmarkCiphers(b *testing.B) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		b.Fatal(err)
	}
	block := bytes.Repeat([]byte{7}, 1<<20)
	for _, cipher := range []string{ssh.CipherAES128GCM, ssh.CipherAES256GCM, ssh.CipherChaCha20Poly1305, ssh.CipherAES128CTR} {
		b.Run(strings.TrimSuffix(cipher, "@openssh.com"), func(b *testing.B) {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			if err != nil {
				b.Fatal(err)
			}
			defer l.Close()
			go func() {
				conn, err := l.Accept()
				if err != nil {
					return
				}
				config := &ssh.ServerConfig{NoClientAuth: true}
				config.AddHostKey(signer)
				_, channels, requests, err := ssh.NewServerConn(conn, config)
				if err != nil {
					return
				}
				go ssh.DiscardRequests(requests)
				for c := range channels {
					stream, requests, err := c.Accept()
					if err != nil {
						return
					}
					go ssh.DiscardRequests(requests)
					go io.Copy(io.Discard, stream)
				}
			}()
			config := &ssh.ClientConfig{User: "u", HostKeyCallback: ssh.InsecureIgnoreHostKey()}
			config.Ciphers = []string{cipher}
			client, err := ssh.Dial("tcp", l.Addr().String(), config)
			if err != nil {
				b.Fatal(err)
			}
			defer client.Close()
			channel, requests, err := client.OpenChannel("bench", nil)
			if err != nil {
				b.Fatal(err)
			}
			go ssh.DiscardRequests(requests)
			b.SetBytes(int64(len(block)))
			for b.Loop() {
				if _, err := channel.Write(block); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}

// socketCounter counts the connections that are open at once.
type socketCounter struct {
	net.Dialer
	open, peak atomic.Int64
}

type countedSocket struct {
	net.Conn
	once sync.Once
	gone func()
}

func (c *countedSocket) Close() error {
	c.once.Do(c.gone)
	return c.Conn.Close()
}

func (d *socketCounter) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	conn, err := d.Dialer.DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	for now := d.open.Add(1); ; {
		if peak := d.peak.Load(); now <= peak || d.peak.CompareAndSwap(peak, now) {
			break
		}
	}
	return &countedSocket{Conn: conn, gone: func() { d.open.Add(-1) }}, nil
}

// bastion lets everybody in, and answers every onward connection itself, as
// another machine's server would.
func bastion(b *testing.B, signer ssh.Signer, logins *atomic.Int64) string {
	config := &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }}
	config.AddHostKey(signer)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { l.Close() })
	inner := func(stream ssh.Channel) {
		near, far := net.Pipe()
		go func() { io.Copy(near, stream); near.Close() }()
		go func() { io.Copy(stream, near); stream.Close() }()
		ssh.NewServerConn(far, config)
		far.Close()
	}
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				_, channels, requests, err := ssh.NewServerConn(conn, config)
				if err != nil {
					return
				}
				logins.Add(1)
				go ssh.DiscardRequests(requests)
				for c := range channels {
					if stream, requests, err := c.Accept(); err == nil {
						go ssh.DiscardRequests(requests)
						go inner(stream)
					}
				}
			}()
		}
	}()
	return l.Addr().String()
}

// BenchmarkCheck1000 checks 1,000 sessions behind 5 bastions as far as their host
// keys. It reports the logins at the bastions and the most sockets open at once.
func BenchmarkCheck1000(b *testing.B) {
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		b.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(private, "")
	if err != nil {
		b.Fatal(err)
	}
	key := filepath.Join(b.TempDir(), "key.pem")
	if err := os.WriteFile(key, pem.EncodeToMemory(block), 0o600); err != nil {
		b.Fatal(err)
	}
	var logins atomic.Int64
	var routes []route.Route
	for i := range 5 {
		addr := bastion(b, signer, &logins)
		first := route.Hop{Name: fmt.Sprint("bastion-", i), Destination: route.Destination{Host: fmt.Sprintf("bastion-%d.lantern.example", i), Port: 22, Dial: addr}, Credentials: route.Credentials{User: "keeper", Keys: []string{key}}, Limits: route.Limits{Keepalive: time.Minute}}
		for n := range 200 {
			routes = append(routes, route.Route{Session: fmt.Sprintf("s-%d-%d", i, n), Hops: []route.Hop{first,
				{Name: fmt.Sprintf("s-%d-%d", i, n), Destination: route.Destination{Host: fmt.Sprintf("10.%d.0.%d", i, n), Port: 22}, Credentials: route.Credentials{User: "keeper", Keys: []string{key}}, Limits: route.Limits{Keepalive: time.Minute}}}})
		}
	}
	dialer := &socketCounter{}
	for b.Loop() {
		b.StopTimer()
		logins.Store(0)
		w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.TempDir(), vouch.FileName)), Asker: &person{yes: true}, Network: dialer})
		b.StartTimer()
		var answered atomic.Int64
		w.TouchAll(context.Background(), routes, walk.Look{Depth: walk.Identity}, func(_ int, t walk.Touched) {
			if t.Report.Hops[1].Gates[1].Verdict == gate.Open {
				answered.Add(1)
			}
		})
		b.StopTimer()
		if answered.Load() != 1000 || logins.Load() != 5 {
			b.Fatalf("%d answered, %d logins", answered.Load(), logins.Load())
		}
		w.Close()
		b.StartTimer()
	}
	b.ReportMetric(float64(dialer.peak.Load()), "sockets")
	b.ReportMetric(float64(logins.Load()), "logins")
}
