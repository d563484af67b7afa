package ring

import (
	"crypto"
	"crypto/cipher"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/x509"
	"errors"
	"slices"
	"sync"

	"meatus/core/secret"

	"golang.org/x/crypto/ssh"
)

// cell holds one private key in memory of its own.
type cell struct {
	mu     sync.RWMutex
	page   []byte // nil once it is wiped
	der    []byte // of page: the key in PKCS#8, or an Ed25519 key as it is
	ed     bool
	locked bool // the page stays out of swap
	sealed bool // der is encrypted, in memory of its own beside the page
}

// seal encrypts the key in its place, so that nothing readable of it is left; open undoes
// it. shut is an AEAD with a fresh key, for one sealing.
func (c *cell) seal(shut cipher.AEAD) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.page == nil || c.sealed {
		return nil
	}
	nonce := make([]byte, shut.NonceSize())
	rand.Read(nonce)
	kept := shut.Seal(nonce, nonce, c.der, nil)
	clear(c.page)
	c.der, c.sealed = kept, true
	return nil
}

// open decrypts a sealed key into its page again.
func (c *cell) open(shut cipher.AEAD) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.page == nil || !c.sealed {
		return nil
	}
	n := shut.NonceSize()
	plain, err := shut.Open(c.page[:0], c.der[:n], c.der[n:], nil)
	if err != nil {
		return err
	}
	c.der, c.sealed = plain, false
	return nil
}

var errGone = errors.New("that key is no longer in the ring")

// newCell copies a private key into a cell. The caller's copy is wiped.
func newCell(key crypto.PrivateKey) (*cell, ssh.PublicKey, error) {
	defer secret.ScrubStack()
	if k, ok := key.(*ed25519.PrivateKey); ok {
		key = *k
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, nil, err
	}
	public, err := ssh.ParsePublicKey(signer.PublicKey().Marshal()) // shares no memory with the key
	if err != nil {
		return nil, nil, err
	}
	defer secret.Wipe(key)
	der, ed := []byte(nil), false
	if k, ok := key.(ed25519.PrivateKey); ok {
		der, ed = k, true // reading it from PKCS#8 costs as much as a signature
	} else if der, err = x509.MarshalPKCS8PrivateKey(key); err != nil {
		return nil, nil, err
	}
	defer clear(der)
	page, locked, err := newPage(len(der))
	if err != nil {
		return nil, nil, err
	}
	copy(page, der)
	return &cell{page: page, der: page[:len(der)], ed: ed, locked: locked}, public, nil
}

// use lends the key for the time of a call.
func (c *cell) use(do func(ssh.AlgorithmSigner) error) error {
	c.mu.RLock()
	defer c.mu.RUnlock()
	defer secret.ScrubStack()
	if c.page == nil {
		return errGone
	}
	if c.sealed {
		return ErrLocked
	}
	var key crypto.PrivateKey
	var err error
	if c.ed {
		key = ed25519.PrivateKey(slices.Clone(c.der))
	} else if key, err = x509.ParsePKCS8PrivateKey(c.der); err != nil {
		return err
	}
	defer secret.Wipe(key)
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return err
	}
	return do(signer.(ssh.AlgorithmSigner))
}

// wipe makes the key unusable and unreadable.
func (c *cell) wipe() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.page == nil {
		return
	}
	clear(c.page)
	freePage(c.page)
	c.page, c.der = nil, nil
}
