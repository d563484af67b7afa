package gateway_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/service"
	"meatus/core/store"
	"meatus/lab/await"
)

// place is a gateway of a test, with a machine's service behind it.
type place struct {
	t       testing.TB
	dir     string
	store   *store.Machines
	policy  string
	server  *gateway.Server
	url     string
	hostKey string
	cert    *service.Certificate
	log     *log
	rules   *service.PolicyFile
}

// log keeps what is logged.
type log struct {
	file string
	*slog.Logger
}

func newLog(t testing.TB) *log {
	file := filepath.Join(t.TempDir(), "log")
	f, err := os.Create(file)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return &log{file, slog.New(slog.NewTextHandler(f, nil))}
}

func (l *log) text() string {
	text, _ := os.ReadFile(l.file)
	return string(text)
}

// has waits until something was logged.
func (l *log) has(t testing.TB, what string) {
	t.Helper()
	if !await.Within(await.Patience, func() bool { return strings.Contains(l.text(), what) }) {
		t.Fatalf("the log never said %q:\n%s", what, l.text())
	}
}

// open makes a gateway with a policy. where is its store, "" for one of its own.
func open(t testing.TB, rules, where string, change func(*gateway.Options)) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), log: newLog(t)}
	if where == "" {
		where = filepath.Join(p.dir, "gateway.db")
	}
	var err error
	if p.store, err = store.OpenMachines(t.Context(), where); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.store.Close() })
	p.policy = filepath.Join(p.dir, "gateway.policy")
	p.write(rules)
	own := filepath.Join(p.dir, "gateway.pem")
	p.cert = &service.Certificate{CertFile: own, KeyFile: own}
	if err := p.cert.Make("gateway"); err != nil {
		t.Fatal(err)
	}
	if p.rules, err = service.OpenPolicy(policy.Gateway, p.policy, nil); err != nil {
		t.Fatal(err)
	}
	following, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	go p.rules.Follow(following, p.log.Logger)
	p.start("127.0.0.1:0", change)
	return p
}

func (p *place) write(rules string) {
	p.t.Helper()
	if err := os.WriteFile(p.policy, []byte(rules), 0o600); err != nil {
		p.t.Fatal(err)
	}
}

// start starts the gateway at an address.
func (p *place) start(at string, change func(*gateway.Options)) {
	p.t.Helper()
	l, err := net.Listen("tcp", at)
	if err != nil {
		p.t.Fatal(err)
	}
	o := gateway.Options{Options: service.Options{Policy: p.rules, Certificate: p.cert, Log: p.log.Logger}, Store: p.store, Address: l.Addr().String()}
	if change != nil {
		change(&o)
	}
	p.server = gateway.NewServer(o)
	served := make(chan error, 1)
	go func() { served <- p.server.Serve(l) }()
	p.url = "wss://" + l.Addr().String()
	cert, err := p.cert.Get()
	if err != nil {
		p.t.Fatal(err)
	}
	p.hostKey = line.FingerprintOf(cert)
	p.t.Cleanup(func() { p.stop(); <-served })
}

// stop ends the gateway now.
func (p *place) stop() {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	p.server.Close(ctx)
}

// token makes a token for a machine.
func (p *place) token(name string, tags ...string) string {
	p.t.Helper()
	token, err := p.store.NewToken(p.t.Context(), store.Token{Machine: name, Tags: tags}, time.Hour)
	if err != nil {
		p.t.Fatal(err)
	}
	return token
}

// join has a machine join, and waits until it has. It returns what ends it.
func (p *place) join(name, ssh string, urls ...string) (stop func()) {
	p.t.Helper()
	j := p.joiner(name, ssh, p.token(name), urls...)
	ctx, cancel := context.WithCancel(p.t.Context())
	done := make(chan error, 1)
	go func() { done <- j.Run(ctx) }()
	p.awaitJoined(name)
	ended := false
	stop = func() {
		if !ended {
			ended = true
			cancel()
			<-done
		}
	}
	p.t.Cleanup(stop)
	return stop
}

func (p *place) joiner(name, ssh, token string, urls ...string) *gateway.Joiner {
	p.t.Helper()
	if len(urls) == 0 {
		urls = []string{p.url}
	}
	j, err := gateway.NewJoiner(gateway.JoinOptions{URLs: urls, HostKeys: []string{p.hostKey}, Key: filepath.Join(p.dir, name+".pem"), Token: token, SSH: ssh, Log: p.log.Logger})
	if err != nil {
		p.t.Fatal(err)
	}
	return j
}

func (p *place) awaitJoined(name string) {
	p.t.Helper()
	await.Until(p.t, name+" to join", func() bool {
		m, err := p.store.Machine(p.t.Context(), name)
		return err == nil && m.Gateway != ""
	})
}

// answering is something that listens for a machine and does what is asked with each connection.
func answering(t testing.TB, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
	return l.Addr().String()
}

func echo(conn net.Conn) { io.Copy(conn, conn) }

// key is a person's, and its line of a policy.
func key(t testing.TB, name string) (ssh.Signer, string) {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return signer, fmt.Sprintf("person %s key %s\n", name, ssh.FingerprintSHA256(signer.PublicKey()))
}

// visit is a person's connection to a gateway.
type visit struct {
	session *yamux.Session
	client  ssh.Conn
}

// come connects as a person.
func (p *place) come(target line.Target, auth ...ssh.AuthMethod) (*visit, error) {
	target.URL, target.Path, target.HostKeys = p.url, line.ForPersons, []string{p.hostKey}
	conn, err := line.Connect(p.t.Context(), target)
	if err != nil {
		return nil, err
	}
	session, err := line.Mux(conn, true)
	if err != nil {
		return nil, err
	}
	p.t.Cleanup(func() { session.Close() })
	control, err := session.OpenStream(p.t.Context())
	if err != nil {
		return nil, err
	}
	client, chans, requests, err := ssh.NewClientConn(control, "gateway", &ssh.ClientConfig{User: "meatus", Auth: auth, HostKeyCallback: ssh.FixedHostKey(conn.Key)})
	if err != nil {
		return nil, err
	}
	go ssh.DiscardRequests(requests)
	go func() {
		for c := range chans {
			c.Reject(ssh.Prohibited, "")
		}
	}()
	return &visit{session, client}, nil
}

// mustCome is come for somebody who is known.
func (p *place) mustCome(signer ssh.Signer) *visit {
	p.t.Helper()
	v, err := p.come(line.Target{}, ssh.PublicKeys(signer))
	if err != nil {
		p.t.Fatal(err)
	}
	return v
}

func (v *visit) open(t testing.TB, machine string) (line.Stream, error) {
	stream, err := line.Open(t.Context(), v.session, line.Reach{Machine: machine, Port: 22})
	if err != nil {
		return nil, err
	}
	return stream, nil
}

// untilRefused waits until a machine is led to no more, for a reason that holds some words.
func (v *visit) untilRefused(t testing.TB, machine, says string) {
	t.Helper()
	await.Until(t, machine+" to be refused: "+says, func() bool {
		stream, err := v.open(t, machine)
		if err == nil {
			stream.Close()
		}
		return err != nil && strings.Contains(err.Error(), says)
	})
}
