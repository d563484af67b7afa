package ring

import (
	"bytes"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"fmt"
	"path"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/scrypt"
	"golang.org/x/crypto/ssh"
)

// Entry is a key of the ring, as it can be shown.
type Entry struct {
	Name    string // the name of its file
	SHA256  string
	Until   time.Time // when it goes, zero for the end of the program
	Confirm bool      // a person is asked before each use by others
	Hosts   []string  // patterns of hosts it may be used for, none for all
	Uses    int
	Used    time.Time // last
}

type held struct {
	Entry
	signer ssh.Signer
}

// Ring holds keys. The zero Ring is empty and not locked.
type Ring struct {
	mu     sync.Mutex
	keys   []*held
	locked []byte // salt and hash of the password, nil while it is not locked
	salt   []byte
}

// ErrLocked says that the ring is locked.
var ErrLocked = errors.New("the ring is locked")

// Add puts a key into the ring, in the place of the same key that is there.
func (r *Ring) Add(signer ssh.Signer, e Entry) {
	e.SHA256 = ssh.FingerprintSHA256(signer.PublicKey())
	r.mu.Lock()
	defer r.mu.Unlock()
	r.keys = slices.DeleteFunc(r.keys, func(h *held) bool { return h.SHA256 == e.SHA256 })
	r.keys = append(r.keys, &held{e, signer})
}

// Remove takes a key out, by its fingerprint. It tells whether it was there.
func (r *Ring) Remove(sha256 string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	n := len(r.keys)
	r.keys = slices.DeleteFunc(r.keys, func(h *held) bool { return h.SHA256 == sha256 })
	return len(r.keys) < n
}

// Forget empties the ring.
func (r *Ring) Forget() {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.keys = nil
}

// fresh drops what has had its time. The lock is held.
func (r *Ring) fresh() []*held {
	now := time.Now()
	r.keys = slices.DeleteFunc(r.keys, func(h *held) bool { return !h.Until.IsZero() && now.After(h.Until) })
	return r.keys
}

// Entries lists the keys, in the order they came.
func (r *Ring) Entries() []Entry {
	r.mu.Lock()
	defer r.mu.Unlock()
	var all []Entry
	for _, h := range r.fresh() {
		all = append(all, h.Entry)
	}
	return all
}

// Signers are the keys that may be used for a host by this program itself; none
// while the ring is locked.
func (r *Ring) Signers(host string) []ssh.Signer {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked != nil {
		return nil
	}
	var all []ssh.Signer
	for _, h := range r.fresh() {
		if h.fits(host) {
			all = append(all, h.signer)
		}
	}
	return all
}

func (h *held) fits(host string) bool {
	return len(h.Hosts) == 0 || slices.ContainsFunc(h.Hosts, func(p string) bool { ok, _ := path.Match(p, host); return ok })
}

// Signer is the key with a fingerprint, nil where it is not there or the ring is
// locked.
func (r *Ring) Signer(sha256 string) ssh.Signer {
	r.mu.Lock()
	defer r.mu.Unlock()
	if h := r.find(sha256); h != nil && r.locked == nil {
		return h.signer
	}
	return nil
}

func (r *Ring) find(sha256 string) *held {
	for _, h := range r.fresh() {
		if h.SHA256 == sha256 {
			return h
		}
	}
	return nil
}

// used counts a use.
func (r *Ring) used(sha256 string) int {
	r.mu.Lock()
	defer r.mu.Unlock()
	h := r.find(sha256)
	if h == nil {
		return 0
	}
	h.Uses++
	h.Used = time.Now()
	return h.Uses
}

// Lock makes every key unusable until [Ring.Unlock] is given the same password.
func (r *Ring) Lock(password []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked != nil {
		return ErrLocked
	}
	salt := make([]byte, 16)
	rand.Read(salt)
	sum, err := hash(password, salt)
	if err != nil {
		return err
	}
	r.salt, r.locked = salt, sum
	return nil
}

// Unlock makes the keys usable again.
func (r *Ring) Unlock(password []byte) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.locked == nil {
		return errors.New("the ring is not locked")
	}
	sum, err := hash(password, r.salt)
	if err != nil {
		return err
	}
	if subtle.ConstantTimeCompare(sum, r.locked) != 1 {
		return errors.New("that is not the password it was locked with")
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
