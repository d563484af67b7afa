package service

import (
	"cmp"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"math/big"
	"os"
	"path/filepath"
	"sync"
	"time"

	"meatus/core/atomicfile"
	"meatus/core/followed"
	"meatus/core/keyfile"
	"meatus/core/perm"
)

// Certificate is a certificate and its key in files, which are read again when they change. One that cannot be
// read leaves the one before in its place.
type Certificate struct {
	CertFile, KeyFile string // the same for one file with both

	mu     sync.Mutex
	files  *followed.Files
	judged time.Time
	open   error // why the key is not used, however good it is: somebody else can read or change it
	cert   *tls.Certificate
	err    error
}

// Get returns the current certificate. It fails if none was ever read, or if another account can read or change its key.
func (c *Certificate) Get() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.files == nil {
		c.files = followed.New(c.CertFile, c.KeyFile)
	}
	if now := time.Now(); now.Sub(c.judged) >= followed.LookEvery {
		c.judged, c.open = now, JudgeKey(c.KeyFile)
	}
	if c.open != nil {
		return nil, c.open
	}
	if c.files.Changed() || c.cert == nil {
		cert, err := tls.LoadX509KeyPair(c.CertFile, c.KeyFile)
		if err != nil {
			err = fmt.Errorf("the certificate in %s: %w", c.CertFile, err)
		}
		if !c.files.Take() && c.cert != nil {
			return c.cert, nil // it is being written
		}
		if c.err = err; err == nil {
			c.cert = &cert
		}
	}
	if c.cert == nil {
		return nil, c.err
	}
	return c.cert, nil
}

// JudgeKey returns how another account can read or change a service's key file, or nil if none can. An absent file is no
// fault: it may be in the middle of a replacement.
func JudgeKey(path string) error {
	fault, stopped := keyfile.Inspect(path).Blocked()
	judged := perm.Judge(path)
	if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) || errors.Is(judged, fs.ErrNotExist) {
		return nil
	}
	if stopped {
		return fmt.Errorf("the key is not used: %w", &keyfile.Blocked{Path: path, Fault: fault})
	}
	return judged
}

// Wrong is why the files cannot be used as they are now, nil where they can.
func (c *Certificate) Wrong() error {
	c.Get()
	c.mu.Lock()
	defer c.mu.Unlock()
	return cmp.Or(c.open, c.err)
}

// Make makes a certificate that is signed by its own key, in a file that nobody else may read, where there is
// none. Whoever connects has to be told its fingerprint.
func (c *Certificate) Make(name string) error {
	if _, err := os.Stat(c.CertFile); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return WriteOwn(c.CertFile, name, x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth)
}

// WriteOwn writes a new key, and a certificate for it that it signs itself, into one file that nobody else may read.
func WriteOwn(file, name string, uses ...x509.ExtKeyUsage) error {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return err
	}
	serial, err := rand.Int(rand.Reader, new(big.Int).Lsh(big.NewInt(1), 120))
	if err != nil {
		return err
	}
	template := &x509.Certificate{SerialNumber: serial, Subject: pkix.Name{CommonName: name}, DNSNames: []string{name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().AddDate(20, 0, 0), KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: uses}
	cert, err := x509.CreateCertificate(rand.Reader, template, template, key.Public(), key)
	if err != nil {
		return err
	}
	private, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return err
	}
	text := append(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: cert}), pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: private})...)
	defer clear(private)
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	return atomicfile.Put(file, text)
}
