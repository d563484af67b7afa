package ring

import (
	"bytes"
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"meatus/lab/await"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// bind is what binds a line to a session with a host.
func bind(t testing.TB, host ssh.Signer, session string, forwarded bool) []byte {
	t.Helper()
	sig, err := host.Sign(nil, []byte(session))
	if err != nil {
		t.Fatal(err)
	}
	return ssh.Marshal(struct {
		Host, Session, Signature []byte
		Forwarded                bool
	}{host.PublicKey().Marshal(), []byte(session), ssh.Marshal(sig), forwarded})
}

func TestABoundLineTellsTheHostAndServesNoOtherSession(t *testing.T) {
	a, gauge, bastion := newSigner(t), newSigner(t), newSigner(t)
	r := &Ring{Names: func(p string) []string {
		if p == print(gauge) {
			return []string{"10.61.4.31"}
		}
		return nil
	}}
	hold(t, r, a, Entry{})
	var c told
	client, _ := over(t, r.Lend(Terms{Keys: []string{print(a)}, Hosts: []string{"10.61.*"}, Tell: c.tell}))
	try := func(session string) error {
		_, err := client.Sign(a.PublicKey(), loginIn(session, a.PublicKey(), "publickey", "keeper"))
		return err
	}
	if try("s1") == nil || !strings.Contains(c.last().Refuse.Error(), "names no host") {
		t.Errorf("a request that names no host: %+v", c.last())
	}
	for what, payload := range map[string][]byte{
		"rubbish": []byte("x"), "cut": bind(t, gauge, "s1", false)[:40],
		"another's signature": slices.Concat(bind(t, gauge, "s1", false)[:51], bind(t, bastion, "s1", false)[51:]),
	} {
		if _, err := client.Extension("session-bind@openssh.com", payload); err == nil {
			t.Errorf("%s binds", what)
		}
	}
	for _, payload := range [][]byte{bind(t, bastion, "s0", true), bind(t, gauge, "s1", false)} {
		if _, err := client.Extension("session-bind@openssh.com", payload); err != nil {
			t.Fatal(err)
		}
	}
	if err := try("s1"); err != nil {
		t.Fatalf("%v: %+v", err, c.last())
	}
	if u := c.last(); u.Host != print(gauge) || !slices.Equal(u.At, []string{"10.61.4.31"}) || !slices.Equal(u.Via, []string{print(bastion)}) || u.For() != "to log in as keeper at 10.61.4.31" {
		t.Errorf("told %+v: %s", u, u.For())
	}
	if try("s2") == nil || !strings.Contains(c.last().Refuse.Error(), "another session") {
		t.Errorf("another session: %+v", c.last())
	}
	if _, err := client.Extension("session-bind@openssh.com", bind(t, gauge, "s3", false)); err == nil {
		t.Error("a line that is bound to a login is bound again")
	}
}

func TestAKeyIsUsedForItsHostsAlone(t *testing.T) {
	a, gauge, other := newSigner(t), newSigner(t), newSigner(t)
	r := &Ring{Names: func(p string) []string {
		return map[string][]string{print(gauge): {"gauge-1"}, print(other): {"archive"}}[p]
	}}
	hold(t, r, a, Entry{Hosts: []string{"gauge-*"}})
	var c told
	client, _ := over(t, r.Lend(Terms{Keys: []string{print(a)}, Tell: c.tell}))
	for i, host := range []key{gauge, other} {
		want := i == 0
		data := login(a.PublicKey(), "publickey-hostbound-v00@openssh.com", "keeper", host.PublicKey().Marshal())
		if _, err := client.Sign(a.PublicKey(), data); (err == nil) != want {
			t.Errorf("%v: %+v", err, c.last())
		}
	}
	if c.last().Refuse != otherHost("gauge-*") {
		t.Errorf("refused as %v", c.last().Refuse)
	}
}

func TestKeysAreWipedWhenTheyGo(t *testing.T) {
	var r Ring
	a := newSigner(t)
	mine := slices.Clone(a.private)
	if _, err := r.Add(mine, Entry{}); err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(mine, make([]byte, len(mine))) {
		t.Error("what was handed in is still there")
	}
	h := r.keys[0]
	if runtime.GOOS == "linux" && !r.Entries()[0].Pinned {
		t.Log("the system does not let memory be kept out of swap")
	}
	if sig, err := r.Signer(print(a)).Sign(nil, []byte("x")); err != nil || a.PublicKey().Verify([]byte("x"), sig) != nil {
		t.Fatal(err)
	}
	s := r.Signer(print(a))
	if n := r.Forget(); n != 1 {
		t.Errorf("%d were forgotten", n)
	}
	await.Until(t, "the key to be wiped", func() bool {
		h.cell.mu.RLock()
		defer h.cell.mu.RUnlock()
		return h.cell.page == nil
	})
	if err := h.cell.use(func(ssh.AlgorithmSigner) error { return nil }); !errors.Is(err, errGone) {
		t.Errorf("a wiped key: %v", err)
	}
	if _, err := s.Sign(nil, []byte("x")); !errors.Is(err, errGone) {
		t.Errorf("a signer of a key that went: %v", err)
	}
}

func TestAKeyGoesByItself(t *testing.T) {
	synctest.Test(t, func(t *testing.T) { // the clock is the test's own
		var r Ring
		a := newSigner(t)
		hold(t, &r, a, Entry{})
		r.Change(print(a), func(e *Entry) { e.Until = time.Now().Add(10 * time.Millisecond); e.Confirm = true })
		if e := r.Entries(); len(e) != 1 || !e[0].Confirm || !strings.HasPrefix(e[0].Stay(), "another") {
			t.Errorf("%+v", e)
		}
		<-time.After(11 * time.Millisecond)
		synctest.Wait()
		r.mu.Lock()
		defer r.mu.Unlock()
		if n := len(r.keys); n != 0 {
			t.Error("it stays though nobody looks")
		}
	})
}

func TestOtherProgramsUseTheRingOverASocket(t *testing.T) {
	var r Ring
	a, b := newSigner(t), newSigner(t)
	hold(t, &r, a, Entry{Name: "a", Confirm: true})
	var c told
	asked := 0
	s, err := r.Open(Terms{Tell: c.tell, Ask: func(context.Context, Use) error { asked++; return nil }})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if info, err := os.Stat(s.Path); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the socket: %v, %v", info, err)
	}
	if info, err := os.Stat(filepath.Dir(s.Path)); err != nil || info.Mode().Perm() != 0o700 {
		t.Errorf("its folder: %v, %v", info, err)
	}
	conn, err := net.Dial("unix", s.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	client := agent.NewClient(conn)
	if err := client.Add(agent.AddedKey{PrivateKey: slices.Clone(b.private), Comment: "b", LifetimeSecs: 60}); err != nil {
		t.Fatal(err)
	}
	if keys, err := client.List(); err != nil || len(keys) != 2 {
		t.Fatalf("%v, %v", keys, err)
	}
	if e := r.Entries()[1]; e.Name != "b" || e.Until.IsZero() {
		t.Errorf("%+v", e)
	}
	for _, k := range []key{a, b} {
		data := []byte("SSHSIG\x00\x00\x00\x04file and so on")
		if sig, err := client.Sign(k.PublicKey(), data); err != nil || k.PublicKey().Verify(data, sig) != nil {
			t.Errorf("%v", err)
		}
	}
	if u := c.last(); asked != 1 || !strings.Contains(u.From, "process") || u.For() != "for a signature for file" {
		t.Errorf("asked %d times, %+v: %s", asked, u, u.For())
	}
	if err := client.Lock([]byte("x")); err != nil || !r.Locked() {
		t.Errorf("locking: %v", err)
	}
	if keys, _ := client.List(); len(keys) != 0 {
		t.Error("a locked ring lists keys")
	}
	if client.Unlock([]byte("y")) == nil || client.Unlock([]byte("x")) != nil {
		t.Error("unlocking")
	}
	if err := client.Remove(b.PublicKey()); err != nil || len(r.Entries()) != 1 {
		t.Errorf("removing: %v", err)
	}
	s.Close()
	if _, err := os.Stat(filepath.Dir(s.Path)); err == nil {
		t.Error("the folder stays")
	}
	if _, err := client.List(); err == nil {
		t.Error("a closed socket answers")
	}
}

func TestCertificatesOfOtherProgramsAreHeldAndWhatIsNotTakenIsNamed(t *testing.T) {
	var r Ring
	k, authority := newSigner(t), newSigner(t)
	certify := func(kind uint32, of ssh.PublicKey, until time.Time) *ssh.Certificate {
		cert := &ssh.Certificate{Key: of, CertType: kind, ValidPrincipals: []string{"keeper"}, ValidBefore: uint64(until.Unix())}
		if err := cert.SignCert(rand.Reader, authority); err != nil {
			t.Fatal(err)
		}
		return cert
	}
	var mu sync.Mutex
	var declined []Declined
	s, err := r.Open(Terms{Tell: func(Use) {}, Declined: func(d Declined) {
		mu.Lock()
		defer mu.Unlock()
		declined = append(declined, d)
	}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	conn, err := net.Dial("unix", s.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	client := agent.NewClient(conn)
	end := time.Now().Add(time.Hour)
	good := certify(ssh.UserCert, k.PublicKey(), end)
	add := func(change func(*agent.AddedKey)) error {
		a := agent.AddedKey{PrivateKey: slices.Clone(k.private), Comment: "watch"}
		change(&a)
		return client.Add(a)
	}
	if err := errors.Join(add(func(*agent.AddedKey) {}), add(func(a *agent.AddedKey) { a.Certificate = good })); err != nil {
		t.Fatal(err)
	}
	keys, err := client.List()
	if err != nil || len(keys) != 2 || keys[1].Format != ssh.CertAlgoED25519v01 {
		t.Fatalf("%v, %v", keys, err)
	}
	data := login(good, "publickey", "keeper")
	if sig, err := client.Sign(keys[1], data); err != nil || k.PublicKey().Verify(data, sig) != nil {
		t.Errorf("a login with the certificate: %v", err)
	}
	if e := r.Entries()[1]; e.Until.Unix() != end.Unix() {
		t.Errorf("it goes at %v, and its certificate ends at %v", e.Until, end)
	}
	if own := r.Signers(false, "tide-db"); len(own) != 2 || own[0].PublicKey().Type() != ssh.CertAlgoED25519v01 {
		t.Errorf("the program's own logins get %d", len(own))
	}
	raw := func(message []byte) { // over a line of its own: the client reads ahead
		conn, err := net.Dial("unix", s.Path)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(message))), message...))
		answer := make([]byte, 5)
		if _, err := io.ReadFull(conn, answer); err != nil || answer[4] != failure {
			t.Errorf("% x, %v", answer, err)
		}
	}
	for _, c := range []struct {
		put       func() error
		what, why string
	}{
		{func() error {
			return add(func(a *agent.AddedKey) {
				a.Certificate = certify(ssh.UserCert, k.PublicKey(), time.Now().Add(-time.Hour))
			})
		}, "cert-v01", "has ended"},
		{func() error {
			return add(func(a *agent.AddedKey) { a.Certificate = certify(ssh.HostCert, k.PublicKey(), end) })
		}, "cert-v01", "not for logins"},
		{func() error {
			return add(func(a *agent.AddedKey) {
				a.ConstraintExtensions = []agent.ConstraintExtension{{ExtensionName: "limits@lantern.example"}}
			})
		}, "kind ssh-ed25519", `limited by "limits@lantern.example"`},
		{func() error {
			raw(append([]byte{addKey}, ssh.Marshal(struct{ Kind, Rest string }{"sk-ssh-ed25519@openssh.com", "x"})...))
			return errNever
		}, "sk-ssh-ed25519", "not read here"},
		{func() error { raw([]byte{addToken, 0, 0, 0, 1, 'x', 0, 0, 0, 0}); return errNever }, "security token", "stay in their token"},
	} {
		if c.put() == nil {
			t.Errorf("%s: taken", c.why)
		}
		mu.Lock()
		if n := len(declined); n == 0 || !strings.Contains(declined[n-1].What, c.what) || !strings.Contains(declined[n-1].Why.Error(), c.why) || !strings.Contains(declined[n-1].From, "process") {
			t.Errorf("wanted %s, %s: told %+v", c.what, c.why, declined)
		}
		mu.Unlock()
	}
	if n := len(r.Entries()); n != 2 || len(declined) != 5 {
		t.Errorf("%d entries, told %d times", n, len(declined))
	}
}

func TestTheRingStandsBeforeAnotherAgent(t *testing.T) {
	var behind, r Ring
	theirs, ours := newSigner(t), newSigner(t)
	hold(t, &behind, theirs, Entry{Name: "theirs"})
	s, err := behind.Open(Terms{Tell: func(Use) {}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	hold(t, &r, ours, Entry{Name: "ours"})
	if err := r.StandBefore(t.Context(), s.Path); err != nil {
		t.Fatal(err)
	}
	if path, keys, err := r.Front(t.Context()); path != s.Path || err != nil || len(keys) != 1 || keys[0].Name != "theirs" || !keys[0].Behind {
		t.Errorf("%q, %+v, %v", path, keys, err)
	}
	signers := r.Signers(false, "anywhere")
	if len(signers) != 2 || print(signers[1]) != print(theirs) {
		t.Fatalf("%d signers", len(signers))
	}
	if sig, err := signers[1].Sign(nil, []byte("x")); err != nil || theirs.PublicKey().Verify([]byte("x"), sig) != nil {
		t.Error(err)
	}
	front, err := r.Open(Terms{Tell: func(Use) {}})
	if err != nil {
		t.Fatal(err)
	}
	defer front.Close()
	conn, err := net.Dial("unix", front.Path)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	client := agent.NewClient(conn)
	if keys, err := client.List(); err != nil || len(keys) != 2 {
		t.Errorf("%v, %v", keys, err)
	}
	if sig, err := client.Sign(theirs.PublicKey(), []byte("x")); err != nil || theirs.PublicKey().Verify([]byte("x"), sig) != nil {
		t.Error(err)
	}
	var c told
	far, _ := over(t, r.Lend(Terms{Keys: []string{print(ours)}, Tell: c.tell}))
	if keys, err := far.List(); err != nil || len(keys) != 1 {
		t.Errorf("a far side sees %v, %v", keys, err)
	}
	if _, err := far.Sign(theirs.PublicKey(), login(theirs.PublicKey(), "publickey", "x")); err == nil {
		t.Error("a key of the agent behind is lent")
	}
	s.Close()
	if _, _, err := r.Front(t.Context()); err == nil {
		t.Error("an agent that is gone is not told")
	}
	if err := r.StandBefore(t.Context(), filepath.Join(t.TempDir(), "none")); err == nil {
		t.Error("it stands before nothing")
	}
	if r.StandBefore(t.Context(), "") != nil || len(r.Signers(false, "x")) != 1 {
		t.Error("it still stands before it")
	}
}

func TestAnAgentBehindThatHangsIsGivenUp(t *testing.T) {
	path := filepath.Join(t.TempDir(), "s")
	l, err := net.Listen("unix", path)
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var r Ring
	if err := r.StandBefore(t.Context(), path); err == nil || !strings.Contains(err.Error(), "did not answer") {
		t.Errorf("%v", err)
	}
}

func TestFloodsAndLongMessagesHarmNobody(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	s, err := r.Open(Terms{Tell: func(Use) {}})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	dial := func() net.Conn {
		conn, err := net.Dial("unix", s.Path)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		return conn
	}
	long := dial()
	binary.Write(long, binary.BigEndian, uint32(maxMessage+1))
	if _, err := long.Read(make([]byte, 1)); err != io.EOF {
		t.Errorf("a long message: %v", err)
	}
	flood := dial() // ten thousand questions, whose answers nobody reads
	go func() {
		for range 10_000 {
			if _, err := flood.Write([]byte{0, 0, 0, 1, 11}); err != nil {
				return
			}
		}
	}()
	var stalled []net.Conn
	for range 2 * maxClients { // that begin a message and say no more
		conn := dial()
		conn.Write([]byte{0, 0})
		stalled = append(stalled, conn)
	}
	refused := map[net.Conn]bool{} // all stay open until it is known which
	for round := 0; round < 500 && len(refused) < maxClients; round++ {
		for _, conn := range stalled {
			conn.SetReadDeadline(time.Now().Add(time.Millisecond))
			if _, err := conn.Read(make([]byte, 1)); !errors.Is(err, os.ErrDeadlineExceeded) {
				refused[conn] = true
			}
		}
	}
	for _, conn := range stalled {
		conn.Close()
	}
	if len(refused) < maxClients {
		t.Errorf("only %d of %d lines were refused", len(refused), len(stalled))
	}
	flood.Close()
	await.Until(t, "room when they have gone", func() bool {
		keys, err := agent.NewClient(dial()).List()
		return err == nil && len(keys) == 1
	})
}

// FuzzServe throws bytes at a lend and at the agent for programs here.
func FuzzServe(f *testing.F) {
	var r Ring
	a := newSigner(f)
	message := func(kind byte, payload any) []byte {
		body := append([]byte{kind}, ssh.Marshal(payload)...)
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(body))), body...)
	}
	f.Add([]byte{0, 0, 0, 1, 11}, true)
	f.Add(message(13, struct {
		Key, Data []byte
		Flags     uint32
	}{a.PublicKey().Marshal(), login(a.PublicKey(), "publickey", "keeper"), 2}), false)
	f.Add(message(27, struct {
		Kind string
		Rest []byte `ssh:"rest"`
	}{"session-bind@openssh.com", bind(f, a, "s", true)}), true)
	f.Add(message(17, struct {
		Kind, Public, Private []byte
		Comment               string
	}{[]byte("ssh-ed25519"), a.PublicKey().Marshal()[19:], slices.Clone([]byte(a.private)), "c"}), true)
	f.Add(message(22, struct{ Password string }{"x"}), true)
	f.Fuzz(func(t *testing.T, data []byte, all bool) {
		hold(t, &r, a, Entry{})
		signed := false
		l := r.Lend(Terms{Keys: []string{print(a)}, All: all, Tell: func(u Use) { signed = signed || u.Refuse == nil && u.Login == "" }})
		near, far := net.Pipe()
		go io.Copy(io.Discard, far)
		go func() { far.Write(data); far.Close() }()
		l.Serve(near, "")
		if !all && (signed || r.Locked() || len(r.Entries()) != 1) {
			t.Error("a far side did more than log in")
		}
		r.mu.Lock()
		r.locked = nil
		r.mu.Unlock()
		r.Forget()
	})
}

func BenchmarkSigning(b *testing.B) {
	rsaKey, err1 := rsa.GenerateKey(rand.Reader, 3072)
	ecdsaKey, err2 := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err := errors.Join(err1, err2); err != nil {
		b.Fatal(err)
	}
	for _, c := range []struct {
		name string
		key  crypto.Signer
	}{{"Ed25519", newSigner(b).private}, {"ECDSA-256", ecdsaKey}, {"RSA-3072", rsaKey}} {
		library, err := ssh.NewSignerFromKey(c.key)
		if err != nil {
			b.Fatal(err)
		}
		data := login(library.PublicKey(), "publickey", "keeper")
		b.Run(c.name+"/library", func(b *testing.B) {
			for b.Loop() {
				if _, err := library.Sign(rand.Reader, data); err != nil {
					b.Fatal(err)
				}
			}
		})
		b.Run(c.name+"/ring", func(b *testing.B) {
			var r Ring
			e, err := r.Add(c.key, Entry{}) // the last that uses it: it is wiped
			if err != nil {
				b.Fatal(err)
			}
			s := r.Signer(e.SHA256)
			for b.Loop() {
				if _, err := s.Sign(rand.Reader, data); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
