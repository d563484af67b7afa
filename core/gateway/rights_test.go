package gateway_test

import (
	"context"
	"crypto/x509"
	"database/sql"
	"errors"
	"io"
	"net"
	"net/http/httptest"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/gateway"
	"meatus/core/line"
	"meatus/core/store"
	"meatus/lab/await"
)

// slowKey is a key that signs when it is let.
type slowKey struct {
	ssh.Signer
	asked, sign chan struct{}
}

func (s slowKey) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	close(s.asked)
	<-s.sign
	return s.Signer.Sign(rand, data)
}

// holds waits until another policy holds.
func (p *place) holds(rules string) {
	p.t.Helper()
	before := p.rules.Get()
	p.write(rules)
	await.Until(p.t, "another policy to hold", func() bool { return p.rules.Get() != before })
}

func TestHalfALoginDoesNotOutliveItsKey(t *testing.T) {
	mira, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	signer := slowKey{mira, make(chan struct{}), make(chan struct{})}
	came := make(chan error, 1)
	go func() {
		v, err := p.come(line.Target{}, ssh.PublicKeys(signer))
		if err == nil {
			err = v.client.Wait() // it is shown out
		}
		came <- err
	}()
	<-signer.asked // the server was asked about the key, and knows it
	p.holds("# nobody\n")
	close(signer.sign)
	if err := <-came; err == nil {
		t.Error("it got in")
	}
	p.log.has(t, "nobody was let in")
	if strings.Contains(p.log.text(), "a person is here") {
		t.Error("a key that the policy has no more got in")
	}
}

// lock keeps a store of SQLite from being written to, until it is let go.
func lock(t *testing.T, file string) (letGo func()) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+file+"?_txlock=immediate")
	if err != nil {
		t.Fatal(err)
	}
	tx, err := db.Begin()
	if err != nil {
		t.Fatal(err)
	}
	return func() {
		tx.Rollback()
		db.Close()
	}
}

func TestAStreamThatWaitsForTheStoreIsJudgedAgain(t *testing.T) {
	mira, known := key(t, "mira")
	file := filepath.Join(t.TempDir(), "gateway.db")
	p := open(t, known+"allow mira to reef\n", file, nil)
	p.join("reef", answering(t, echo))
	v := p.mustCome(mira)
	letGo := lock(t, file)
	opened := make(chan error, 1)
	go func() {
		stream, err := v.open(t, "reef")
		if err == nil {
			_, err = io.Copy(io.Discard, stream)
		}
		opened <- err
	}()
	await.Until(t, "the stream to wait for the store", func() bool { return p.server.Streams() > 0 })
	p.holds(known + "deny mira to reef\n")
	letGo()
	if err := <-opened; err == nil {
		t.Error("a stream that the policy denies was let through and went on")
	}
}

func TestASecondTokenReplacesTheMachineAtEveryGateway(t *testing.T) {
	mira, known := key(t, "mira")
	file := filepath.Join(t.TempDir(), "gateway.db")
	rules := known + "allow mira to *\n"
	a := open(t, rules, file, nil)
	b := open(t, rules, file, nil)
	var old atomic.Int64
	first := a.joiner("reef", answering(t, func(c net.Conn) { old.Add(1) }), a.token("reef"))
	firstDone := make(chan error, 1)
	ctx, cancel := context.WithCancel(t.Context())
	defer cancel()
	go func() { firstDone <- first.Run(ctx) }()
	a.awaitJoined("reef")
	was, err := a.store.Machine(t.Context(), "reef")
	if err != nil {
		t.Fatal(err)
	}
	// Another machine has a token for the name, and joins at the other gateway.
	second, err := gateway.NewJoiner(gateway.JoinOptions{URLs: []string{b.url}, HostKeys: []string{b.hostKey}, Key: filepath.Join(t.TempDir(), "new.pem"), Token: b.token("reef"), SSH: answering(t, func(c net.Conn) { io.WriteString(c, "new") }), Log: b.log.Logger})
	if err != nil {
		t.Fatal(err)
	}
	secondDone := make(chan error, 1)
	go func() { secondDone <- second.Run(ctx) }()
	await.Until(t, "the new machine to have the name", func() bool {
		m, err := a.store.Machine(t.Context(), "reef")
		return err == nil && m.Key != was.Key && m.Gateway != ""
	})
	if err := <-firstDone; !errors.Is(err, gateway.ErrNotLetIn) {
		t.Errorf("the machine of before: %v", err)
	}
	for _, p := range []*place{a, b} {
		v := p.mustCome(mira)
		stream, err := v.open(t, "reef")
		if err != nil {
			t.Errorf("%v", err)
			continue
		}
		if got, _ := io.ReadAll(stream); string(got) != "new" {
			t.Errorf("it leads to %q", got)
		}
	}
	// The name is not taken back.
	stale := store.Join{Machine: "reef", Key: was.Key, Gateway: was.Gateway, Connection: "again"}
	if err := a.store.Arrive(t.Context(), stale); !errors.Is(err, store.ErrReplaced) {
		t.Errorf("the key of before: %v", err)
	}
	if old.Load() != 0 {
		t.Errorf("the machine of before was led to %d times", old.Load())
	}
	cancel()
	<-secondDone
}

func TestAJoinThatTheStoreRefusedLeavesNothing(t *testing.T) {
	mira, known := key(t, "mira")
	file := filepath.Join(t.TempDir(), "gateway.db")
	p := open(t, known+"allow mira to *\n", file, nil)
	db, err := sql.Open("sqlite", "file:"+file+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TRIGGER full BEFORE UPDATE OF connection ON machine WHEN new.connection <> '' BEGIN SELECT RAISE(FAIL, 'no room'); END"); err != nil {
		t.Fatal(err)
	}
	j := p.joiner("reef", answering(t, echo), p.token("reef"))
	ctx, cancel := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- j.Run(ctx) }()
	defer func() { cancel(); <-done }()
	p.log.has(t, "it does not join")
	await.Until(t, "nothing to be joined", func() bool { return p.server.Joined() == 0 })
	if _, err := db.Exec("DROP TRIGGER full"); err != nil {
		t.Fatal(err)
	}
	p.awaitJoined("reef")
	stream, err := p.mustCome(mira).open(t, "reef")
	if err != nil {
		t.Fatal(err)
	}
	stream.Close()
}

// A certificate that an authority signed is none with the key that is named, and gets no token.
func TestANamedKeyIsTheOnlyOneThatHolds(t *testing.T) {
	p := open(t, "", "", nil)
	cert, err := p.cert.Get()
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(cert.Certificate[0])
	if err != nil {
		t.Fatal(err)
	}
	roots := x509.NewCertPool()
	roots.AddCert(leaf)
	for pinned, want := range map[bool]string{true: "it has another key than the one that is named", false: "certificate is"} {
		_, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForMachines, Roots: roots, HostKeys: []string{"SHA256:" + strings.Repeat("A", 43)}, Pinned: pinned})
		if err == nil || !strings.Contains(err.Error(), want) && pinned {
			t.Errorf("pinned %v: %v", pinned, err)
		}
	}
	// Both of two keys hold, of gateways with a certificate of their own each.
	if conn, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForPersons, HostKeys: []string{"SHA256:" + strings.Repeat("A", 43), p.hostKey}, Pinned: true}); err != nil {
		t.Error(err)
	} else {
		conn.Close()
	}
}

func TestARevokedMachineIsToldSo(t *testing.T) {
	p := open(t, "", "", nil)
	token := p.token("reef")
	j := p.joiner("reef", answering(t, echo), token)
	done := make(chan error, 1)
	go func() { done <- j.Run(t.Context()) }()
	p.awaitJoined("reef")
	if err := p.store.Revoke(t.Context(), "reef"); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err == nil || !strings.Contains(err.Error(), "revoked") {
		t.Errorf("it is told: %v", err)
	}
}

// A stranger has one stream, with a window that does not grow, until it is known who that is.
func TestAStrangerHasOneStream(t *testing.T) {
	mira, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	p.join("reef", answering(t, echo))
	conn, err := line.Connect(t.Context(), line.Target{URL: p.url, Path: line.ForPersons, HostKeys: []string{p.hostKey}})
	if err != nil {
		t.Fatal(err)
	}
	session, err := line.Mux(conn, true)
	if err != nil {
		t.Fatal(err)
	}
	defer session.Close()
	for range 250 {
		stream, err := session.OpenStream(t.Context())
		if err != nil {
			break
		}
		go stream.Write(make([]byte, 256<<10))
	}
	select {
	case <-session.CloseChan():
	case <-t.Context().Done():
	}
	v := p.mustCome(mira) // who is known has as many as are wanted
	for range 50 {
		stream, err := v.open(t, "reef")
		if err != nil {
			t.Fatal(err)
		}
		defer stream.Close()
	}
}

// Few strangers of one address are let in at a time; who is known is counted no more.
func TestFewStrangersOfOneAddressAreLetIn(t *testing.T) {
	mira, known := key(t, "mira")
	p := open(t, known+"allow mira to *\n", "", nil)
	for range 70 {
		p.mustCome(mira)
	}
	var idle []net.Conn
	defer func() {
		for _, c := range idle {
			c.Close()
		}
	}()
	for range 70 {
		c, err := net.Dial("tcp", strings.TrimPrefix(p.url, "wss://"))
		if err != nil {
			t.Fatal(err)
		}
		idle = append(idle, c)
	}
	await.Until(t, "some to be turned away", func() bool {
		r := httptest.NewRecorder()
		p.server.Status().ServeHTTP(r, httptest.NewRequest("GET", "http://127.0.0.1/metrics", nil))
		return strings.Contains(r.Body.String(), "meatus_gateway_strangers_refused_total 6")
	})
	for _, c := range idle {
		c.Close()
	}
	await.Until(t, "somebody to be let in again", func() bool { _, err := p.come(line.Target{}, ssh.PublicKeys(mira)); return err == nil })
}
