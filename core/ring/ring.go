package ring

import (
	"bytes"
	"context"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"meatus/core/secret"

	"golang.org/x/crypto/scrypt"
	"golang.org/x/crypto/ssh"
)

// Entry is a key of the ring, as it can be shown.
type Entry struct {
	Name    string // the name of its file, or what it was called when it came
	SHA256  string
	Kind    string    // the protocol's word for it
	Until   time.Time // when it goes, zero for the end of the program
	Confirm bool      // a person is asked before each use by others
	Hosts   []string  // patterns of hosts it may be used for, none for all
	Said    []string  // the same as a person put it
	Uses    int
	Used    time.Time // last
	Pinned  bool      // it is kept out of swap
	Behind  bool      // it is held by the agent that the ring stands in front of
}

// heldKey is a key in the ring.
type heldKey struct {
	Entry
	public ssh.PublicKey
	cell   *cell
	gone   *time.Timer // takes it out when its time is over, or nil
}

// Ring holds keys. The zero Ring is empty and not locked.
type Ring struct {
	// Names tells which hosts have the host key with a fingerprint, may be nil. It
	// is set before the ring is used.
	Names func(sha256 string) []string

	mu     sync.Mutex
	keys   []*heldKey
	locked []byte // digest of what comes of the password, nil while it is not locked
	salt   []byte
	front  *front
}

// ErrLocked says that the ring is locked.
var ErrLocked = errors.New("the ring is locked")

// Add puts a private key into the ring, in the place of the same key that is
// there. The caller's copy is wiped. It fails with [ErrLocked] while the ring is locked.
func (r *Ring) Add(key crypto.PrivateKey, e Entry) (Entry, error) { return r.add(key, nil, e) }

// AddCertified is Add for a key with a certificate, which is an entry of its own beside the
// key alone, and goes when the certificate ends. It fails where the certificate is not for a
// login with that key.
func (r *Ring) AddCertified(key crypto.PrivateKey, cert *ssh.Certificate, e Entry) (Entry, error) {
	if cert.CertType != ssh.UserCert {
		secret.Wipe(key)
		return e, errors.New("its certificate is not for logins")
	}
	if cert.ValidBefore < 1<<62 {
		if end := time.Unix(int64(cert.ValidBefore), 0); e.Until.IsZero() || end.Before(e.Until) {
			e.Until = end
		}
	}
	if !e.Until.IsZero() && !time.Now().Before(e.Until) {
		secret.Wipe(key)
		return e, errors.New("its certificate has ended")
	}
	return r.add(key, cert, e)
}

func (r *Ring) add(key crypto.PrivateKey, cert *ssh.Certificate, e Entry) (Entry, error) {
	cell, public, err := newCell(key)
	if err != nil {
		return e, err
	}
	if cert != nil {
		if !same(cert.Key, public) {
			cell.wipe()
			return e, errors.New("its certificate is for another key")
		}
		public = cert
	}
	e.SHA256, e.Kind, e.Pinned, e.Behind = ssh.FingerprintSHA256(public), public.Type(), cell.locked, false
	h := &heldKey{Entry: e, public: public, cell: cell}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked != nil {
		cell.wipe()
		return e, ErrLocked
	}
	if old := r.find(e.SHA256); old != nil {
		h.Uses, h.Used = old.Uses, old.Used
		r.drop(func(o *heldKey) bool { return o == old })
	}
	r.expire(h)
	r.keys = append(r.keys, h)
	return h.Entry, nil
}

// expire has a key taken out when its time is over. The lock is held.
func (r *Ring) expire(h *heldKey) {
	if h.gone != nil {
		h.gone.Stop()
		h.gone = nil
	}
	if !h.Until.IsZero() {
		h.gone = time.AfterFunc(time.Until(h.Until), func() {
			r.mu.Lock()
			defer r.mu.Unlock()
			r.drop(func(o *heldKey) bool { return o == h })
		})
	}
}

// drop takes keys out and wipes them. The lock is held.
func (r *Ring) drop(which func(*heldKey) bool) (n int) {
	r.keys = slices.DeleteFunc(r.keys, func(h *heldKey) bool {
		if !which(h) {
			return false
		}
		if h.gone != nil {
			h.gone.Stop()
		}
		go h.cell.wipe() // a signature under way ends first
		n++
		return true
	})
	return n
}

// Remove takes a key out, by its fingerprint. It tells whether it was there.
func (r *Ring) Remove(sha256 string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.drop(func(h *heldKey) bool { return h.SHA256 == sha256 }) > 0
}

// Forget empties the ring. It tells how many keys there were.
func (r *Ring) Forget() int {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.drop(func(*heldKey) bool { return true })
}

// Change gives a key another time, mark or hosts.
func (r *Ring) Change(sha256 string, change func(*Entry)) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	h := r.find(sha256)
	if h == nil {
		return false
	}
	change(&h.Entry)
	r.expire(h)
	return true
}

// Entries lists the keys, in the order they came.
func (r *Ring) Entries() []Entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	var all []Entry
	for _, h := range r.keys {
		if h.timely() {
			all = append(all, h.Entry)
		}
	}
	return all
}

func (h *heldKey) timely() bool { return h.Until.IsZero() || time.Now().Before(h.Until) }

// Signers are the keys that may be used by this program itself for a host, which
// goes by these names; none while the ring is locked. With named they are only those that
// are named for it; a key that is for any host is offered where nothing else is asked for.
// Certificates come first.
// Those of an agent behind the ring, which names no hosts, come last.
func (r *Ring) Signers(named bool, host ...string) []ssh.Signer {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked != nil {
		return nil
	}
	var certified, all []ssh.Signer
	for _, h := range r.keys {
		if !h.timely() || len(h.Hosts) == 0 && named || !fits(h.Hosts, host) {
			continue
		}
		if _, is := h.public.(*ssh.Certificate); is {
			certified = append(certified, signer{r, h.public})
		} else {
			all = append(all, signer{r, h.public})
		}
	}
	all = append(certified, all...)
	if r.front != nil && !named {
		for _, k := range r.front.last() {
			all = append(all, signer{r, k})
		}
	}
	return all
}

// fits tells whether a host, by one of its names, is among patterns; with no
// patterns every host is.
func fits(patterns, names []string) bool {
	return len(patterns) == 0 || slices.ContainsFunc(patterns, func(p string) bool {
		return slices.ContainsFunc(names, func(n string) bool { ok, _ := path.Match(p, n); return ok })
	})
}

// Signer is the key with a fingerprint, nil where it is not there or the ring is
// locked.
func (r *Ring) Signer(sha256 string) ssh.Signer {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h := r.find(sha256); h != nil && r.locked == nil {
		return signer{r, h.public}
	}
	return nil
}

func (r *Ring) find(sha256 string) *heldKey {
	for _, h := range r.keys {
		if h.SHA256 == sha256 && h.timely() {
			return h
		}
	}
	return nil
}

// signer is a key of the ring, for the program itself. It works for as long as the
// key is there.
type signer struct {
	r      *Ring
	public ssh.PublicKey
}

func (s signer) PublicKey() ssh.PublicKey { return s.public }

func (s signer) Algorithms() []string {
	kind := bare(s.public).Type()
	if kind == ssh.KeyAlgoRSA {
		return []string{ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256} // never SHA-1
	}
	return []string{kind}
}

func (s signer) Sign(rand io.Reader, data []byte) (*ssh.Signature, error) {
	return s.SignWithAlgorithm(rand, data, s.Algorithms()[0])
}

func (s signer) SignWithAlgorithm(_ io.Reader, data []byte, algorithm string) (*ssh.Signature, error) {
	return s.r.sign(s.public, data, algorithm)
}

// sign makes a signature and counts the use.
func (r *Ring) sign(key ssh.PublicKey, data []byte, algorithm string) (signature *ssh.Signature, err error) {
	r.mu.Lock()
	h, front, locked := r.find(ssh.FingerprintSHA256(key)), r.front, r.locked != nil
	r.mu.Unlock()
	switch {
	case locked:
		return nil, ErrLocked
	case h == nil && front != nil && front.has(key):
		return front.sign(key, data, algorithm)
	case h == nil:
		return nil, errGone
	}
	err = h.cell.use(func(s ssh.AlgorithmSigner) (err error) {
		signature, err = s.SignWithAlgorithm(rand.Reader, data, algorithm)
		return err
	})
	if err == nil {
		r.mu.Lock()
		h.Uses++
		h.Used = time.Now()
		r.mu.Unlock()
	}
	return signature, err
}

// Lock makes every key unusable, and unreadable in memory, until [Ring.Unlock] is given the
// same password: they are encrypted with it.
func (r *Ring) Lock(password []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked != nil {
		return ErrLocked
	}
	salt := make([]byte, 16)
	rand.Read(salt)
	derived, err := hash(password, salt)
	if err != nil {
		return err
	}
	defer clear(derived)
	shut, err := sealer(derived)
	if err != nil {
		return err
	}
	for _, h := range r.keys {
		if err := h.cell.seal(shut); err != nil {
			return err
		}
	}
	check := sha256.Sum256(derived)
	r.salt, r.locked = salt, check[:]
	return nil
}

// sealer is the cipher that keys are sealed with while the ring is locked: of what comes
// of the password, which is kept by a digest alone.
func sealer(derived []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(derived)
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

// wrongDelay is waited after a wrong password, so that a program cannot try many.
const wrongDelay = 100 * time.Millisecond

// Unlock makes the keys usable again.
func (r *Ring) Unlock(password []byte) error {
	r.mu.Lock()
	locked, salt := r.locked, r.salt
	r.mu.Unlock()
	if locked == nil {
		return errors.New("the ring is not locked")
	}
	derived, err := hash(password, salt)
	if err != nil {
		return err
	}
	defer clear(derived)
	shut, err := sealer(derived)
	if err != nil {
		return err
	}
	if check := sha256.Sum256(derived); subtle.ConstantTimeCompare(check[:], locked) != 1 {
		time.Sleep(wrongDelay)
		return errors.New("that is not the password it was locked with")
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if !bytes.Equal(r.locked, locked) {
		return nil
	}
	for _, h := range r.keys {
		if err := h.cell.open(shut); err != nil {
			return fmt.Errorf("%s is damaged in memory: %w", h.Entry, err)
		}
	}
	r.locked = nil
	return nil
}

// Locked tells whether the ring is locked.
func (r *Ring) Locked() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.locked != nil
}

func hash(password, salt []byte) ([]byte, error) {
	return scrypt.Key(password, salt, 1<<14, 8, 1, 32)
}

// same tells whether two public keys are the same.
func same(a, b ssh.PublicKey) bool { return bytes.Equal(a.Marshal(), b.Marshal()) }

// String names an entry for a person.
func (e Entry) String() string {
	if e.Name != "" {
		return e.Name
	}
	return fmt.Sprintf("the key %s", e.SHA256)
}

// Stay is how long a key stays, in words: "to the end", "another 12 min".
func (e Entry) Stay() string {
	if e.Until.IsZero() {
		return "to the end"
	}
	left := time.Until(e.Until).Round(time.Second)
	if left >= time.Minute {
		left = left.Round(time.Minute)
	}
	word := left.String()
	if strings.HasSuffix(word, "m0s") {
		word = strings.TrimSuffix(word, "0s")
	}
	if strings.HasSuffix(word, "h0m") {
		word = strings.TrimSuffix(word, "0m")
	}
	return "another " + word
}

// StandBefore has the ring stand in front of the agent that listens at a socket,
// "" for none: that agent's keys are shown and used beside its own. It fails where
// nobody answers there.
func (r *Ring) StandBefore(ctx context.Context, socket string) error {
	var f *front
	if socket != "" {
		f = &front{socket: socket}
		if err := f.refresh(ctx); err != nil {
			return fmt.Errorf("the agent at %s: %w", socket, err)
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.front = f
	return nil
}

// Front is the socket of the agent that the ring stands in front of, "" for none,
// and that agent's keys as it tells them now.
func (r *Ring) Front(ctx context.Context) (socket string, keys []Entry, err error) {
	r.mu.Lock()
	f := r.front
	r.mu.Unlock()
	if f == nil {
		return "", nil, nil
	}
	err = f.refresh(ctx)
	return f.socket, f.entries(), err
}
