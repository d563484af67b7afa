// Package custody is where the keys are that logins and lending use: it reads key files
// whose permissions allow it, unlocks those with a passphrase by asking, and keeps what
// was unlocked in the ring.
package custody

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"errors"
	"os"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/sanitize"
)

// Tries is how often a wrong passphrase may be given.
const Tries = 3

// Signer is a key that a login may offer.
type Signer struct {
	ssh.Signer
	Name string // how a person knows it, "bay.pem" or "certificate of bay.pem"
	// Source is the key file that the session names and the signer was made of, "" for
	// what comes from elsewhere.
	Source string
}

// Provider is where a login gets its keys: files, the ring, and whatever else has keys
// to offer. Its methods are called from many goroutines.
type Provider interface {
	// Signers are the keys for the login at a hop, in the order in which they are
	// offered. It fails where the hop wants keys of this provider and none of them can
	// be used.
	Signers(hop route.Hop, asking Asking) ([]Signer, error)
}

// Asking is whoever wants a key, and can have a person asked for its passphrase.
type Asking interface {
	// Passphrase asks for a key's passphrase. try counts from 1; above it, the last
	// answer was wrong. Its error ends the asking.
	Passphrase(file *keyfile.File, try int) ([]byte, error)
	// Deriving is called before a passphrase is tried, which takes as long as it is
	// meant to, and the function it returns when it was.
	Deriving() (done func())
	// GaveUp is told that every try was wrong, and returns the error to fail with.
	GaveUp(file *keyfile.File) error
}

// Unanswered is the error of an [Asking]: no key was looked at behind it.
type Unanswered struct{ Err error }

func (u *Unanswered) Error() string { return u.Err.Error() }
func (u *Unanswered) Unwrap() error { return u.Err }

// Custody provides the keys of files and those in the ring.
type Custody struct {
	Ring *ring.Ring
	// Further provide keys behind those of files and the ring.
	Further []Provider

	asking sync.Mutex // held while a passphrase is asked for: one question for each key
	// prints are the fingerprints of public keys whose private files do not show them, by the file's digest. They are known
	// once the passphrase was typed. Guarded by asking.
	prints map[fileIdentity]string
}

// New returns a custody with a ring, one of its own where nil.
func New(r *ring.Ring) *Custody {
	if r == nil {
		r = &ring.Ring{}
	}
	return &Custody{Ring: r}
}

// Signers are, in this order, those of the key files that the session names, each behind
// its certificate, those unlocked before that may be used for the hop, and what further
// providers have. A hop that is to use one key alone gets that.
func (c *Custody) Signers(hop route.Hop, asking Asking) ([]Signer, error) {
	signers, err := c.ofFiles(hop, asking)
	if err != nil || hop.Alone != "" {
		return signers, err
	}
	add := func(more ...Signer) {
		for _, s := range more {
			wire := s.PublicKey().Marshal()
			if !slices.ContainsFunc(signers, func(n Signer) bool { return bytes.Equal(n.PublicKey().Marshal(), wire) }) {
				signers = append(signers, s)
			}
		}
	}
	for _, s := range c.Ring.Signers(len(hop.Keys) > 0, hop.Host, hop.Name) {
		add(Signer{Signer: s, Name: "unlocked before, " + keyfile.Fingerprint(s.PublicKey())})
	}
	for _, p := range c.Further {
		more, err := p.Signers(hop, asking)
		if err != nil {
			return nil, err
		}
		add(more...)
	}
	return signers, nil
}

// ofFiles leaves out what cannot be used. Where nothing is left it fails with the first
// reason.
func (c *Custody) ofFiles(hop route.Hop, asking Asking) ([]Signer, error) {
	var signers []Signer
	var reason error
	for _, path := range hop.Keys {
		s, err := c.ofFile(path, hop, asking)
		if unanswered := (*Unanswered)(nil); errors.As(err, &unanswered) {
			return nil, err
		}
		if err != nil {
			if reason == nil {
				reason = err
			}
			continue
		}
		name := sanitize.Name(path)
		if cert := certificate(path, s); cert != nil {
			signers = append(signers, Signer{cert, "certificate of " + name, path})
		}
		signers = append(signers, Signer{s, name, path})
	}
	if len(signers) == 0 {
		return nil, reason
	}
	return signers, nil
}

// ofFile returns a signer for the key at path. A key with a passphrase whose public half
// is known is unlocked only when a server would take it.
func (c *Custody) ofFile(path string, hop route.Hop, asking Asking) (ssh.Signer, error) {
	file, err := read(path)
	switch {
	case err != nil:
		return nil, err
	case !file.Passphrase && hop.Ring == "on":
		defer file.Forget()
		return c.put(file, nil, hop.Terms[path])
	case !file.Passphrase:
		defer file.Forget()
		return file.Signer(nil)
	case file.Public == nil:
		return c.unlock(file, hop, asking)
	}
	return &lockedKey{c, file, hop, asking}, nil
}

// read reads a key file that its permissions let be used.
func read(path string) (*keyfile.File, error) {
	file, err := keyfile.Read(path)
	if err != nil {
		return nil, err
	}
	if fault, stopped := file.Blocked(); stopped {
		return nil, &keyfile.Blocked{Path: path, Fault: fault}
	}
	return file, nil
}

// certificate is a signer for the certificate beside a key, nil where there is
// none that fits it.
func certificate(path string, key ssh.Signer) ssh.Signer {
	cert, err := keyfile.ReadCertificate(path)
	if err != nil || cert == nil {
		return nil
	}
	s, err := ssh.NewCertSigner(cert.Cert, key)
	if err != nil {
		return nil
	}
	return s
}

// Lendable puts the key at path into the ring, where a key has to be to be lent, and
// returns its signer. The passphrase is asked for now.
func (c *Custody) Lendable(path string, hop route.Hop, asking Asking) (ssh.Signer, error) {
	file, err := read(path)
	if err != nil {
		return nil, err
	}
	if file.Passphrase {
		hop.Ring = "on"
		return c.unlock(file, hop, asking)
	}
	defer file.Forget()
	return c.put(file, nil, hop.Terms[path])
}

// unlock finds a locked key in the ring, which knows it by its public half, or asks for
// its passphrase and puts it there where the hop lets it.
func (c *Custody) unlock(file *keyfile.File, hop route.Hop, asking Asking) (ssh.Signer, error) {
	c.asking.Lock()
	defer c.asking.Unlock()
	identity := identityOf(file)
	print := cmp.Or(file.SHA256, c.prints[identity])
	if s := c.Ring.Signer(print); print != "" && s != nil {
		return s, nil
	}
	for try := 1; try <= Tries; try++ {
		pass, err := asking.Passphrase(file, try)
		if err != nil {
			return nil, &Unanswered{err}
		}
		done := asking.Deriving()
		var s ssh.Signer
		if hop.Ring == "off" {
			s, err = file.Signer(pass)
		} else {
			s, err = c.put(file, pass, hop.Terms[file.Path])
		}
		done()
		clear(pass)
		if err == nil {
			if file.SHA256 == "" && identity != (fileIdentity{}) {
				if c.prints == nil {
					c.prints = map[fileIdentity]string{}
				}
				c.prints[identity] = keyfile.Fingerprint(s.PublicKey())
			}
			return s, nil
		}
		if !errors.Is(err, keyfile.ErrPassphrase) {
			return nil, err
		}
	}
	return nil, &Unanswered{asking.GaveUp(file)}
}

// fileIdentity returns the digest of a key file's current content, or zero if it cannot be read.
type fileIdentity = [sha256.Size]byte

func identityOf(file *keyfile.File) (id fileIdentity) {
	if file.SHA256 != "" {
		return id
	}
	text, err := os.ReadFile(file.Path)
	if err != nil {
		return id
	}
	defer clear(text)
	return sha256.Sum256(text)
}

// put puts a key into the ring where it is not there, and returns its signer.
func (c *Custody) put(file *keyfile.File, pass []byte, t route.Terms) (ssh.Signer, error) {
	if s := c.Ring.Signer(file.SHA256); s != nil && file.SHA256 != "" {
		return s, nil
	}
	e, err := c.Hold(file, pass, t)
	if err != nil {
		return nil, err
	}
	if s := c.Ring.Signer(e.SHA256); s != nil {
		return s, nil
	}
	return nil, ring.ErrLocked
}

// Hold puts a key into the ring, unlocked with its passphrase where it has one, on
// the terms that are said of it.
func (c *Custody) Hold(file *keyfile.File, pass []byte, t route.Terms) (ring.Entry, error) {
	key, err := file.Secret(pass)
	if err != nil {
		return ring.Entry{}, err
	}
	e := ring.Entry{Name: sanitize.Name(file.Path), Confirm: t.Confirm, Hosts: t.Hosts, Said: t.Said}
	if t.Stay > 0 {
		e.Until = time.Now().Add(t.Stay)
	}
	return c.Ring.Add(key, e)
}
