package lab

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/policy"
	serving "meatus/core/service"
	"meatus/core/store"
)

// lightship is the bay's gateway, a real one on loopback. The sounder has joined it, the skerry joins a little after
// the start, and the hulk comes with a token that was used already. None of them has a port that anybody can knock
// at.
type lightship struct {
	bay    *Lab
	dir    string
	store  *store.Machines
	policy *serving.PolicyFile
	cert   *serving.Certificate
	port   string

	mu      sync.Mutex
	serving *gateway.Server
}

// Lightship is the name of the bay's gateway.
const Lightship = "lightship"

// Afloat is how long after the start the skerry joins.
const Afloat = 20 * time.Second

// openLightship starts the gateway, and what joins it.
func (b *Lab) openLightship(keys map[string]ssh.PublicKey) (err error) {
	l := &lightship{bay: b, dir: filepath.Join(b.Dir, "lab", Lightship)}
	if err := os.MkdirAll(l.dir, 0o700); err != nil {
		return err
	}
	if l.store, err = store.OpenMachines(b.ctx, filepath.Join(l.dir, "gateway.db")); err != nil {
		return err
	}
	b.lightship = l // it is closed with the bay from here on
	own := filepath.Join(l.dir, "gateway.pem")
	l.cert = &serving.Certificate{CertFile: own, KeyFile: own}
	if err := l.cert.Make(Lightship); err != nil {
		return err
	}
	rules := filepath.Join(l.dir, "gateway.policy")
	if _, err := os.Stat(rules); errors.Is(err, os.ErrNotExist) {
		text := fmt.Sprintf(bayPolicy, ssh.FingerprintSHA256(keys["shore.pem"]), ssh.FingerprintSHA256(keys["tide.pem"]))
		if err := os.WriteFile(rules, []byte(text), 0o600); err != nil {
			return err
		}
	}
	if l.policy, err = serving.OpenPolicy(policy.Gateway, rules, nil); err != nil {
		return err
	}
	go l.policy.Follow(b.ctx, slog.New(slog.DiscardHandler))
	if l.port, err = keptText(filepath.Join(l.dir, "port"), func() string { return "0" }); err != nil {
		return err
	}
	if err := l.start(); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(l.dir, "port"), []byte(l.port), 0o600); err != nil {
		return err
	}
	for name, after := range map[string]time.Duration{"sounder": 0, "skerry": Afloat, "hulk": 0} {
		if err := l.join(name, after); err != nil {
			return err
		}
	}
	return nil
}

// bayPolicy is who may what at the lightship.
const bayPolicy = `# Who may reach which machines through the lightship.
person warden key %s
person keeper key %s

allow warden to sounder skerry hulk
allow keeper to tag:reef on mon-fri at 06:00-18:00
limit keeper streams 4
reads warden
`

// start serves, at the port of the start before.
func (l *lightship) start() error {
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", l.port))
	if err != nil {
		return fmt.Errorf("the lightship's port %s is taken: %w; stop what holds it (perhaps another lab in %s)", l.port, err, l.bay.Dir)
	}
	if l.port == "0" { // it is the same from then on
		_, l.port, _ = net.SplitHostPort(listener.Addr().String())
	}
	s := gateway.NewServer(gateway.Options{Options: serving.Options{Policy: l.policy, Certificate: l.cert}, Store: l.store, Name: Lightship})
	l.mu.Lock()
	l.serving = s
	l.mu.Unlock()
	l.bay.wg.Go(func() { _ = s.Serve(listener) }) // it ends with the bay
	return nil
}

// stop ends what is served, at once.
func (l *lightship) stop() {
	l.mu.Lock()
	s := l.serving
	l.serving = nil
	l.mu.Unlock()
	if s == nil {
		return
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	s.Close(ctx)
}

// close ends the gateway. The machines have ended before.
func (l *lightship) close() {
	l.stop()
	_ = l.store.Close() // nothing of it waits to be written
}

// RestartLightship ends the gateway, with all that goes through it, and starts it again after a while.
func (b *Lab) RestartLightship(after time.Duration) {
	b.wg.Go(func() {
		b.lightship.stop()
		select {
		case <-b.ctx.Done():
			return
		case <-time.After(after):
		}
		_ = b.lightship.start() // where its port was taken meanwhile it stays away
	})
}

// URL is where the gateway is reached.
func (l *lightship) URL() string { return "wss://127.0.0.1:" + l.port }

// HostKey is the fingerprint of its key.
func (l *lightship) HostKey() string {
	cert, err := l.cert.Get()
	if err != nil {
		return ""
	}
	return line.FingerprintOf(cert)
}

// join has a host join after a while, with a token where it comes for the first time.
func (l *lightship) join(name string, after time.Duration) error {
	h := l.bay.Host(name)
	at := "127.0.0.1:1" // the hulk has no server left
	if h != nil {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		context.AfterFunc(l.bay.ctx, func() { listener.Close() })
		l.bay.wg.Go(func() {
			for {
				conn, err := listener.Accept()
				if err != nil {
					return
				}
				if h.off() || h.Faults.portClosed() {
					conn.Close()
					continue
				}
				l.bay.start(h, bridge(conn, &h.Faults))
			}
		})
		at = listener.Addr().String()
	}
	key := filepath.Join(l.dir, name+".pem")
	token := ""
	if _, err := os.Stat(key); errors.Is(err, os.ErrNotExist) {
		if token, err = l.store.NewToken(l.bay.ctx, store.Token{Machine: name, Tags: []string{"reef"}, Instance: "i-" + name}, time.Hour); err != nil {
			return err
		}
	}
	if name == "hulk" && token != "" { // somebody else was faster
		if _, err := l.store.Enrol(l.bay.ctx, token, "SHA256:"+strings.Repeat("A", 43)); err != nil {
			return err
		}
	}
	j, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{l.URL()}, HostKeys: []string{l.HostKey()}, Key: key, Token: token, SSH: at})
	if err != nil {
		return err
	}
	l.bay.wg.Go(func() {
		select {
		case <-l.bay.ctx.Done():
			return
		case <-time.After(after):
		}
		_ = j.Run(l.bay.ctx) // the hulk is not let in
	})
	return nil
}
