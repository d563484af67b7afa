package ring

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"meatus/lab/await"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
)

// key is a private key and what is seen of it.
type key struct {
	private ed25519.PrivateKey
	ssh.Signer
}

func newSigner(t testing.TB) key {
	t.Helper()
	_, k, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(slices.Clone(k)) // the ring wipes what it is given
	if err != nil {
		t.Fatal(err)
	}
	return key{k, s}
}

// hold puts a key into a ring.
func hold(t testing.TB, r *Ring, k key, e Entry) {
	t.Helper()
	if _, err := r.Add(slices.Clone(k.private), e); err != nil {
		t.Fatal(err)
	}
}

func print(s ssh.Signer) string { return ssh.FingerprintSHA256(s.PublicKey()) }

// login is what a login asks to be signed.
func login(key ssh.PublicKey, method, login string, rest ...[]byte) []byte {
	return loginIn("session", key, method, login, rest...)
}

func loginIn(session string, key ssh.PublicKey, method, login string, rest ...[]byte) []byte {
	data := ssh.Marshal(struct {
		Session               []byte
		Kind                  byte
		User, Service, Method string
		Has                   bool
		Algorithm             string
		Key                   []byte
	}{[]byte(session), 50, login, "ssh-connection", method, true, key.Type(), key.Marshal()})
	for _, r := range rest {
		data = append(data, ssh.Marshal(struct{ R []byte }{r})...)
	}
	return data
}

// over serves a lend and returns the other end of the line, as the protocol
// library's own client.
func over(t *testing.T, l *Lend) (agent.ExtendedAgent, net.Conn) {
	t.Helper()
	near, far := net.Pipe()
	go l.Serve(near, "")
	t.Cleanup(func() { far.Close() })
	return agent.NewClient(far), far
}

// told collects uses.
type told struct {
	mu   sync.Mutex
	uses []Use
}

func (c *told) tell(u Use) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.uses = append(c.uses, u)
}

func (c *told) last() Use {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.uses[len(c.uses)-1]
}

func TestKeysComeAndGo(t *testing.T) {
	synctest.Test(t, keysComeAndGo) // the clock is the test's own
}

func keysComeAndGo(t *testing.T) {
	var r Ring
	a, b, c := newSigner(t), newSigner(t), newSigner(t)
	hold(t, &r, a, Entry{Name: "a"})
	hold(t, &r, b, Entry{Name: "b", Until: time.Now().Add(30 * time.Millisecond)})
	hold(t, &r, c, Entry{Name: "c", Hosts: []string{"10.61.*"}})
	hold(t, &r, a, Entry{Name: "a again"})
	if got := r.Entries(); len(got) != 3 || got[2].Name != "a again" {
		t.Fatalf("entries %+v", got)
	}
	if got := len(r.Signers(false, "quay")); got != 2 {
		t.Errorf("%d for quay", got)
	}
	if got := len(r.Signers(false, "10.61.4.20")); got != 3 {
		t.Errorf("%d for a host in the reef", got)
	}
	<-time.After(40 * time.Millisecond)
	if r.Signer(print(b)) != nil || len(r.Entries()) != 2 {
		t.Error("a key outlives its time")
	}
	if !r.Remove(print(a)) || r.Remove(print(a)) {
		t.Error("removing")
	}
	r.Forget()
	if len(r.Entries()) != 0 {
		t.Error("forgotten keys are there")
	}
}

func TestALockedRingSignsNothing(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	if err := r.Lock([]byte("low tide")); err != nil {
		t.Fatal(err)
	}
	if r.Signer(print(a)) != nil || len(r.Signers(false, "")) != 0 || !errors.Is(r.Lock([]byte("x")), ErrLocked) {
		t.Error("a locked ring gives keys")
	}
	var c told
	lend := r.Lend(Terms{Keys: []string{print(a)}, Tell: c.tell})
	client, _ := over(t, lend)
	if keys, err := client.List(); err != nil || len(keys) != 0 {
		t.Errorf("listed %v, %v", keys, err)
	}
	if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err == nil || !errors.Is(c.last().Refuse, ErrLocked) {
		t.Errorf("signed: %v", err)
	}
	if r.Unlock([]byte("high tide")) == nil {
		t.Error("unlocked by another password")
	}
	if err := r.Unlock([]byte("low tide")); err != nil || r.Signer(print(a)) == nil {
		t.Errorf("unlocking: %v", err)
	}
}

func TestALockedRingTakesAndGivesUpNothing(t *testing.T) {
	var r Ring
	a, b := newSigner(t), newSigner(t)
	hold(t, &r, a, Entry{})
	if err := r.Lock([]byte("low tide")); err != nil {
		t.Fatal(err)
	}
	var c told
	client, _ := over(t, r.Lend(Terms{All: true, Tell: c.tell}))
	if client.RemoveAll() == nil || client.Remove(a.PublicKey()) == nil || len(r.Entries()) != 1 {
		t.Error("a locked ring gave keys up")
	}
	if _, err := r.Add(slices.Clone(b.private), Entry{}); !errors.Is(err, ErrLocked) {
		t.Errorf("a locked ring took a key: %v", err)
	}
	if err := r.Unlock([]byte("low tide")); err != nil {
		t.Fatal(err)
	}
	if sig, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err != nil || a.PublicKey().Verify(login(a.PublicKey(), "publickey", "keeper"), sig) != nil {
		t.Errorf("after unlocking: %v", err)
	}
}

func TestALoginWithRunesThatDoNotShowIsOne(t *testing.T) {
	a := newSigner(t)
	for _, user := range []string{"\u200b", "", " ", "\x00", "keeper\u202e"} {
		if r := readRequest(login(a.PublicKey(), "publickey", user), a.PublicKey()); r.login == "" || r.kind != "" {
			t.Errorf("%q is read as %+v", user, r)
		}
	}
}

func TestAKeyForSomeHostsSignsNothingElse(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{Hosts: []string{"gauge-*"}})
	var c told
	client, _ := over(t, r.Lend(Terms{All: true, Tell: c.tell}))
	if _, err := client.Sign(a.PublicKey(), []byte("SSHSIG\x00\x00\x00\x03git")); err == nil || !strings.Contains(fmt.Sprint(c.last().Refuse), "not a login") {
		t.Errorf("it signed: %v, %v", err, c.last().Refuse)
	}
}

func TestOnlyWhatIsNamedIsLentAndOnlyForLogins(t *testing.T) {
	var r Ring
	lent, kept, host := newSigner(t), newSigner(t), newSigner(t)
	hold(t, &r, lent, Entry{Name: "gauge.pem"})
	hold(t, &r, kept, Entry{Name: "shore.pem"})
	var c told
	lend := r.Lend(Terms{Keys: []string{print(lent)}, Tell: c.tell})
	client, _ := over(t, lend)
	keys, err := client.List()
	if err != nil || len(keys) != 1 || keys[0].Comment != "gauge.pem" {
		t.Fatalf("listed %v, %v", keys, err)
	}
	data := login(lent.PublicKey(), "publickey-hostbound-v00@openssh.com", "kee\x1bper", host.PublicKey().Marshal())
	sig, err := client.Sign(lent.PublicKey(), data)
	if err != nil || lent.PublicKey().Verify(data, sig) != nil {
		t.Fatalf("signing: %v", err)
	}
	if u := c.last(); u.Login != `"kee\x1bper"` || u.Host != print(host) || u.Key.Name != "gauge.pem" || u.Count != 1 || u.Refuse != nil {
		t.Errorf("told %+v", u)
	}
	if e := r.Entries(); e[0].Uses != 1 || e[0].Used.IsZero() {
		t.Errorf("counted %+v", e[0])
	}
	for what, f := range map[string]func() error{
		"another key": func() error {
			_, err := client.Sign(kept.PublicKey(), login(kept.PublicKey(), "publickey", "x"))
			return err
		},
		"no login": func() error { _, err := client.Sign(lent.PublicKey(), []byte("any text")); return err },
		"a login with another key": func() error {
			_, err := client.Sign(lent.PublicKey(), login(kept.PublicKey(), "publickey", "x"))
			return err
		},
		"adding":    func() error { return client.Add(agent.AddedKey{PrivateKey: ed25519.NewKeyFromSeed(make([]byte, 32))}) },
		"removing":  func() error { return client.RemoveAll() },
		"locking":   func() error { return client.Lock([]byte("x")) },
		"extending": func() error { _, err := client.Extension("x@y", nil); return err },
	} {
		if f() == nil {
			t.Errorf("%s is done", what)
		}
	}
	if r.Locked() || len(r.Entries()) != 2 {
		t.Error("the far side changed the ring")
	}
}

func TestAPersonIsAskedAndANoHolds(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	var c told
	yes := false
	lend := r.Lend(Terms{Keys: []string{print(a)}, Tell: c.tell, Ask: func(_ context.Context, u Use) error {
		if u.Login != "keeper" {
			t.Errorf("asked about %+v", u)
		}
		if !yes {
			return errors.New("no")
		}
		return nil
	}})
	client, _ := over(t, lend)
	if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err == nil || c.last().Refuse == nil {
		t.Error("a no is passed over")
	}
	yes = true
	if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err != nil {
		t.Error(err)
	}
}

func TestRefusalsEnd(t *testing.T) {
	a, b := newSigner(t), newSigner(t)
	no := errors.New("no")
	for name, c := range map[string]struct {
		answer error
		asked  int
		ended  error
	}{"one by one": {no, refusals, errRefused}, "all at once": {fmt.Errorf("asked: %w", ErrNoMore), 1, errAll}} {
		for _, program := range []bool{false, true} {
			var r Ring
			hold(t, &r, a, Entry{Confirm: true})
			hold(t, &r, b, Entry{})
			asked := 0
			lend := r.Lend(Terms{Keys: []string{print(a)}, All: program, Tell: func(Use) {}, Ask: func(context.Context, Use) error { asked++; return c.answer }})
			client, _ := over(t, lend)
			for range 8 {
				if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err == nil {
					t.Fatalf("%s: signed", name)
				}
			}
			ended := c.ended
			if program { // the ring serves every other program, and this one what needs no yes
				ended = nil
				if _, err := client.Sign(b.PublicKey(), login(b.PublicKey(), "publickey", "keeper")); err != nil {
					t.Errorf("%s: the other key: %v", name, err)
				}
			}
			if asked != c.asked || !errors.Is(lend.Ended(), ended) {
				t.Errorf("%s: asked %d times, ended: %v", name, asked, lend.Ended())
			}
		}
	}
}

func TestABurstStopsTheLend(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	var c told
	lend := r.Lend(Terms{Keys: []string{print(a)}, Tell: c.tell})
	client, _ := over(t, lend)
	made := 0
	for range 500 {
		if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err == nil {
			made++
		}
	}
	await.Until(t, "the refusal to be told", func() bool { return c.last().Refuse != nil }) // the answer may come before it
	if made != burst || !errors.Is(lend.Ended(), errBurst) || !strings.Contains(c.last().Refuse.Error(), "trying keys") {
		t.Errorf("%d signatures, ended: %v, last %+v", made, lend.Ended(), c.last())
	}
}

func TestALendIsLimitedByUsesAndByTime(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	yes := true
	var c told
	lend := r.Lend(Terms{Keys: []string{print(a)}, Most: 2, Tell: c.tell, Ask: func(context.Context, Use) error {
		if !yes {
			return errors.New("no")
		}
		return nil
	}})
	client, _ := over(t, lend)
	sign := func() error {
		_, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper"))
		return err
	}
	if err := sign(); err != nil {
		t.Fatal(err)
	}
	yes = false
	if sign() == nil { // what was refused is no use
		t.Fatal("signed against a no")
	}
	if n, limited := lend.Left(); n != 1 || !limited || lend.Ended() != nil {
		t.Errorf("%d left, %t, ended: %v", n, limited, lend.Ended())
	}
	yes = true
	if err := sign(); err != nil {
		t.Fatal(err)
	}
	if sign() == nil || lend.Ended() == nil || !strings.Contains(lend.Ended().Error(), "2 times") {
		t.Errorf("after two uses: %v", lend.Ended())
	}
	timed := r.Lend(Terms{Keys: []string{print(a)}, For: time.Millisecond, Tell: c.tell})
	await.Until(t, "the lend to stop by itself", func() bool { return errors.Is(timed.Ended(), errTime) })
	if again, _ := over(t, timed); again != nil {
		if _, err := again.List(); err == nil {
			t.Error("a lend whose time is over answers")
		}
	}
	stopped := r.Lend(Terms{Keys: []string{print(a)}, For: time.Hour, Tell: c.tell})
	if stopped.Stop(); !errors.Is(stopped.Ended(), errHere) || stopped.Until().IsZero() {
		t.Errorf("stopped here: %v, until %s", stopped.Ended(), stopped.Until())
	}
}

// Two who ask at once do not make more signatures than may be made.
func TestTheLastUseIsMadeOnce(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	lend := r.Lend(Terms{Keys: []string{print(a)}, Most: 1, Tell: func(Use) {}})
	var made atomic.Int64
	var all sync.WaitGroup
	for range 8 {
		client, _ := over(t, lend)
		all.Go(func() {
			if _, err := client.Sign(a.PublicKey(), login(a.PublicKey(), "publickey", "keeper")); err == nil {
				made.Add(1)
			}
		})
	}
	all.Wait()
	if made.Load() != 1 {
		t.Errorf("%d signatures", made.Load())
	}
}

func TestAnEndedLendServesNobody(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	lend := r.Lend(Terms{Keys: []string{print(a)}, Tell: func(Use) {}})
	client, far := over(t, lend)
	if keys, err := client.List(); err != nil || len(keys) != 1 {
		t.Fatal(err)
	}
	lend.End()
	if _, err := far.Read(make([]byte, 1)); err == nil {
		t.Error("the line is still open")
	}
	again, _ := over(t, lend)
	if _, err := again.List(); err == nil {
		t.Error("an ended lend answers")
	}
}

func TestRSAIsNeverSignedWithSHA1(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	var r Ring
	if _, err := r.Add(key, Entry{}); err != nil {
		t.Fatal(err)
	}
	client, _ := over(t, r.Lend(Terms{Keys: []string{print(s)}, Tell: func(Use) {}}))
	for flags, want := range map[agent.SignatureFlags]string{0: ssh.KeyAlgoRSASHA256, agent.SignatureFlagRsaSha256: ssh.KeyAlgoRSASHA256, agent.SignatureFlagRsaSha512: ssh.KeyAlgoRSASHA512} {
		sig, err := client.SignWithFlags(s.PublicKey(), login(s.PublicKey(), "publickey", "keeper"), flags)
		if err != nil || sig.Format != want {
			t.Errorf("flags %d: %v, %v", flags, sig, err)
		}
	}
}

func TestRubbishHarmsNobody(t *testing.T) {
	var r Ring
	a := newSigner(t)
	hold(t, &r, a, Entry{})
	lend := r.Lend(Terms{Keys: []string{print(a)}, Tell: func(Use) {}})
	for _, rubbish := range []string{"", "\x00", "\xff\xff\xff\xff", "\x00\x00\x00\x01\x0b", "\x00\x00\x00\x05\x0d\xff\xff\xff\xff", strings.Repeat("x", 1<<16)} {
		near, far := net.Pipe()
		go func() { io.WriteString(far, rubbish); far.Close() }()
		go io.Copy(io.Discard, far)
		done := make(chan struct{})
		go func() { lend.Serve(near, ""); close(done) }()
		select {
		case <-done:
		case <-time.After(5 * time.Second):
			t.Errorf("%.20q is still being served", rubbish)
		}
	}
	client, _ := over(t, lend)
	if keys, err := client.List(); err != nil || len(keys) != 1 {
		t.Errorf("afterwards: %v, %v", keys, err)
	}
}

func FuzzReadRequest(f *testing.F) {
	a := newSigner(f)
	f.Add(login(a.PublicKey(), "publickey", "keeper"))
	f.Add(login(a.PublicKey(), "publickey-hostbound-v00@openssh.com", "keeper", a.PublicKey().Marshal()))
	f.Add([]byte("SSHSIG\x00\x00\x00\x04file\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r := readRequest(data, a.PublicKey())
		if strings.ContainsAny(r.login+r.kind, "\x1b\x00\n") || (r.login == "") == (r.kind == "") {
			t.Errorf("%+v", r)
		}
	})
}
