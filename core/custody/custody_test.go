package custody

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/route"
)

// person gives the same passphrases one after another, and counts what happens.
type person struct {
	says                  []string
	asked, derived, ended int
	gaveUp                error
}

func (p *person) Passphrase(_ *keyfile.File, try int) ([]byte, error) {
	if p.asked++; len(p.says) < try {
		return nil, errors.New("nobody is there")
	}
	return []byte(p.says[try-1]), nil
}

func (p *person) Deriving() (done func())    { p.derived++; return func() { p.ended++ } }
func (p *person) GaveUp(*keyfile.File) error { return p.gaveUp }

// file writes a key file; a passphrase of "" is none.
func file(t *testing.T, name, passphrase string, mode os.FileMode) (path string, public ssh.PublicKey) {
	t.Helper()
	pub, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if passphrase != "" {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "", []byte(passphrase))
	}
	if err != nil {
		t.Fatal(err)
	}
	path = filepath.Join(t.TempDir(), name)
	if err := os.WriteFile(path, pem.EncodeToMemory(block), mode); err != nil {
		t.Fatal(err)
	}
	if err := os.Chmod(path, mode); err != nil {
		t.Fatal(err)
	}
	if public, err = ssh.NewPublicKey(pub); err != nil {
		t.Fatal(err)
	}
	return path, public
}

func names(signers []Signer) []string {
	var all []string
	for _, s := range signers {
		name, _, _ := strings.Cut(s.Name, ",")
		all = append(all, name)
	}
	return all
}

func TestFilesComeFirstThenTheRingThenOthers(t *testing.T) {
	first, _ := file(t, "first.pem", "", 0o600)
	open, _ := file(t, "open.pem", "", 0o644)
	_, key, _ := ed25519.GenerateKey(rand.Reader)
	c := New(nil)
	if _, err := c.Ring.Add(key, ring.Entry{Name: "held.pem"}); err != nil {
		t.Fatal(err)
	}
	_, other, _ := ed25519.GenerateKey(rand.Reader)
	signer, err := ssh.NewSignerFromKey(other)
	if err != nil {
		t.Fatal(err)
	}
	c.Further = []Provider{provider{{Signer: signer, Name: "of an inventory"}, {Signer: signer, Name: "the same again"}}}
	hop := route.Hop{Destination: route.Destination{Host: "10.61.4.20"}, Credentials: route.Credentials{Keys: []string{open, first}}}
	got, err := c.Signers(hop, &person{}) // what was put into the ring for any host is not offered unasked
	if want := []string{"first.pem", "of an inventory"}; err != nil || !slices.Equal(names(got), want) {
		t.Errorf("%v, %v, want %v", names(got), err, want)
	}
	c.Ring.Change(c.Ring.Entries()[0].SHA256, func(e *ring.Entry) { e.Hosts = []string{"10.61.4.*"} })
	got, err = c.Signers(hop, &person{})
	if want := []string{"first.pem", "unlocked before", "of an inventory"}; err != nil || !slices.Equal(names(got), want) {
		t.Errorf("%v, %v, want %v", names(got), err, want)
	}
	if got[0].Source != first || got[1].Source != "" {
		t.Errorf("sources %q, %q", got[0].Source, got[1].Source)
	}
	c.Ring.Change(c.Ring.Entries()[0].SHA256, func(e *ring.Entry) { e.Hosts = nil })
	if got, err := c.Signers(route.Hop{Destination: route.Destination{Host: "10.61.4.20"}}, &person{}); err != nil || len(got) != 2 {
		t.Errorf("where the session names no key: %v, %v", names(got), err)
	}
	hop.Alone = first
	if got, err = c.Signers(hop, &person{}); err != nil || len(got) != 1 {
		t.Errorf("alone: %v, %v", names(got), err)
	}
	var blocked *keyfile.Blocked
	if _, err = c.Signers(route.Hop{Credentials: route.Credentials{Keys: []string{open}}}, &person{}); !errors.As(err, &blocked) || blocked.Path != open {
		t.Errorf("a key others can read: %v", err)
	}
	if got, err = c.Signers(route.Hop{}, &person{}); err != nil || len(got) != 2 {
		t.Errorf("without files: %v, %v", names(got), err)
	}
	c.Further = []Provider{failing{}}
	if _, err = c.Signers(route.Hop{Credentials: route.Credentials{Keys: []string{first}}}, &person{}); err == nil {
		t.Error("a provider that fails is passed over")
	}
}

type provider []Signer

func (p provider) Signers(route.Hop, Asking) ([]Signer, error) { return p, nil }

type failing struct{}

func (failing) Signers(route.Hop, Asking) ([]Signer, error) { return nil, errors.New("it has expired") }

func TestALockedKeyIsUnlockedOnceAndKeptWhereItMay(t *testing.T) {
	path, public := file(t, "locked.pem", "low tide", 0o600)
	c, p := New(nil), &person{says: []string{"wrong", "low tide"}}
	hop := route.Hop{Credentials: route.Credentials{Keys: []string{path}}}
	signers, err := c.Signers(hop, p)
	if err != nil || len(signers) != 1 || p.asked != 0 {
		t.Fatalf("%v, %v, asked %d times before a signature is wanted", names(signers), err, p.asked)
	}
	for range 2 {
		s, err := signers[0].Sign(rand.Reader, []byte("a login"))
		if err != nil {
			t.Fatal(err)
		}
		if err := public.Verify([]byte("a login"), s); err != nil {
			t.Error(err)
		}
	}
	if p.asked != 2 || p.derived != 2 || p.ended != 2 || len(c.Ring.Entries()) != 1 {
		t.Errorf("asked %d, derived %d and %d, %d in the ring", p.asked, p.derived, p.ended, len(c.Ring.Entries()))
	}
	// With the ring off it is asked for each time, and nothing is kept.
	c, p = New(nil), &person{says: []string{"low tide"}}
	hop.Ring = "off"
	signers, _ = c.Signers(hop, p)
	for range 2 {
		if _, err := signers[0].Sign(rand.Reader, []byte("a login")); err != nil {
			t.Fatal(err)
		}
	}
	if p.asked != 2 || len(c.Ring.Entries()) != 0 {
		t.Errorf("asked %d times, %d in the ring", p.asked, len(c.Ring.Entries()))
	}
}

func TestThreeWrongPassphrasesEndIt(t *testing.T) {
	path, _ := file(t, "locked.pem", "low tide", 0o600)
	enough := errors.New("that is enough")
	c, p := New(nil), &person{says: []string{"a", "b", "c", "low tide"}, gaveUp: enough}
	signers, err := c.Signers(route.Hop{Credentials: route.Credentials{Keys: []string{path}}}, p)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := signers[0].Sign(rand.Reader, nil); !errors.Is(err, enough) || p.asked != Tries {
		t.Errorf("%v after %d tries", err, p.asked)
	}
	p.says, p.asked = nil, 0
	var unanswered *Unanswered
	if _, err := signers[0].Sign(rand.Reader, nil); !errors.As(err, &unanswered) || p.asked != 1 {
		t.Errorf("%v after %d tries", err, p.asked)
	}
}

func TestWhatIsLentIsInTheRing(t *testing.T) {
	plain, public := file(t, "plain.pem", "", 0o600)
	locked, _ := file(t, "locked.pem", "low tide", 0o600)
	open, _ := file(t, "open.pem", "", 0o640)
	c, p := New(nil), &person{says: []string{"low tide"}}
	hop := route.Hop{Credentials: route.Credentials{Ring: "off", Terms: map[string]route.Terms{plain: {Said: []string{"gauge-*"}, Hosts: []string{"10.61.4.31"}, Confirm: true}}}}
	s, err := c.Lendable(plain, hop, p)
	if err != nil || keyfile.Fingerprint(s.PublicKey()) != keyfile.Fingerprint(public) {
		t.Fatal(err)
	}
	if _, err := c.Lendable(locked, hop, p); err != nil || p.asked != 1 {
		t.Errorf("%v, asked %d times", err, p.asked)
	}
	if _, err := c.Lendable(open, hop, p); err == nil {
		t.Error("a key that others can read is lent")
	}
	entries := c.Ring.Entries()
	if len(entries) != 2 || !entries[0].Confirm || !slices.Equal(entries[0].Hosts, []string{"10.61.4.31"}) {
		t.Errorf("in the ring is %+v", entries)
	}
	if err := c.Ring.Lock([]byte("for now")); err != nil {
		t.Fatal(err)
	}
	if _, err := c.Lendable(plain, hop, p); err == nil {
		t.Error("a locked ring lends")
	}
}

// A container that does not show the public half is asked about once, too.
func TestAKeyWithoutItsPublicHalfIsAskedAboutOnce(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "pkcs8.pem")
	if err := keyfile.Write(path, key, keyfile.Wrapping{Container: keyfile.PKCS8, Passphrase: []byte("low tide")}); err != nil {
		t.Fatal(err)
	}
	os.Remove(path + ".pub")
	c, who := New(nil), &person{says: []string{"low tide"}}
	for range 3 {
		signers, err := c.Signers(route.Hop{Credentials: route.Credentials{Keys: []string{path}}}, who)
		if err != nil || len(signers) != 1 {
			t.Fatalf("%v, %v", signers, err)
		}
	}
	if who.asked != 1 {
		t.Errorf("the passphrase was asked for %d times", who.asked)
	}
}
