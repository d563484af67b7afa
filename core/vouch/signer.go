package vouch

import (
	"bytes"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
)

// Signer is a key that is trusted to sign the host certificates of every host
// whose name is like a pattern.
type Signer struct {
	Pattern string    `toml:"pattern"` // "*.reef.internal"
	Key     string    `toml:"key"`     // algorithm and wire form in base64
	SHA256  string    `toml:"sha256"`
	When    time.Time `toml:"when"`
	By      string    `toml:"by"`
}

// SignersFor lists the signing keys that are vouched for a host's name.
func (r *Record) SignersFor(host string) ([]Signer, error) {
	all, err := r.Signers()
	var fit []Signer
	for _, s := range all {
		if ok, _ := path.Match(strings.ToLower(s.Pattern), strings.ToLower(host)); ok {
			fit = append(fit, s)
		}
	}
	return fit, err
}

// Signers lists every vouched signing key.
func (r *Record) Signers() ([]Signer, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if err := r.refresh(); err != nil {
		return nil, err
	}
	return r.signers, nil
}

// Trust vouches for a signing key, given as its one-line public form, for the
// hosts like a pattern.
func (r *Record) Trust(pattern, line string, when time.Time) (Signer, error) {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return Signer{}, errors.New("that is no public key; paste its one line, as in ssh-ed25519 AAAA…")
	}
	if _, err := path.Match(pattern, "x"); err != nil || pattern == "" {
		return Signer{}, fmt.Errorf("%q is no pattern; use * for any letters, ? for one", pattern)
	}
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return Signer{}, err
	}
	defer unlock()
	if _, err := r.Signers(); err != nil {
		return Signer{}, err
	}
	text, err := r.text()
	if err != nil {
		return Signer{}, err
	}
	s := Signer{
		Pattern: pattern, Key: string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(key))), SHA256: ssh.FingerprintSHA256(key),
		When: when.UTC().Truncate(time.Second), By: account(),
	}
	return s, r.put(text, file{Signer: []Signer{s}})
}

// Revoked are the revoked, unexpired certificates of a CA key.
type Revoked struct {
	Signer  string    `toml:"signer"`  // the key's fingerprint, "SHA256:…"
	Serials []uint64  `toml:"serials"` // of the certificates
	When    time.Time `toml:"when"`
}

// Revoke records revoked certificates of a CA key. An untrusted key is ignored.
func (r *Record) Revoke(line string, serials []uint64) error {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil {
		return errors.New("that is no public key")
	}
	print := ssh.FingerprintSHA256(key)
	fresh := func() ([]uint64, error) {
		all, err := r.Signers()
		if err != nil || !slices.ContainsFunc(all, func(s Signer) bool { return s.SHA256 == print }) {
			return nil, err
		}
		return slices.DeleteFunc(slices.Clone(serials), func(n uint64) bool { return r.IsRevoked(print, n) }), nil
	}
	if some, err := fresh(); err != nil || len(some) == 0 {
		return err
	}
	unlock, err := atomicfile.Lock(r.path)
	if err != nil {
		return err
	}
	defer unlock()
	some, err := fresh()
	if err != nil || len(some) == 0 {
		return err
	}
	text, err := r.text()
	if err != nil {
		return err
	}
	return r.put(text, file{Revoked: []Revoked{{print, some, time.Now().UTC().Truncate(time.Second)}}})
}

// IsRevoked reports whether a certificate of a CA key is revoked, by the key's fingerprint.
func (r *Record) IsRevoked(signer string, serial uint64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.refresh() == nil && slices.ContainsFunc(r.revoked, func(v Revoked) bool { return v.Signer == signer && slices.Contains(v.Serials, serial) })
}

// Span says in words when a certificate is valid.
func Span(cert *ssh.Certificate) string {
	day := func(at uint64) string { return time.Unix(int64(at), 0).Local().Format("2 Jan 2006 15:04") }
	switch {
	case cert.ValidAfter == 0 && cert.ValidBefore == ssh.CertTimeInfinity:
		return "always"
	case cert.ValidBefore == ssh.CertTimeInfinity:
		return "from " + day(cert.ValidAfter)
	case cert.ValidAfter == 0:
		return "until " + day(cert.ValidBefore)
	}
	return day(cert.ValidAfter) + " to " + day(cert.ValidBefore)
}
