package service

import (
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
	"meatus/core/keyfile"
)

// Certificate is a certificate and its key in files, which are read again when they change. One that cannot be
// read leaves the one before in its place.
type Certificate struct {
	CertFile, KeyFile string // the same for one file with both

	mu     sync.Mutex
	looked time.Time
	stamp  [2]time.Time
	cert   *tls.Certificate
	err    error
}

// lookAgain is how often files that are followed are looked at.
const lookAgain = time.Second

// Get is the certificate as it is now.
func (c *Certificate) Get() (*tls.Certificate, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.looked) < lookAgain && c.cert != nil {
		return c.cert, nil
	}
	c.looked = time.Now()
	var stamp [2]time.Time
	for i, file := range []string{c.CertFile, c.KeyFile} {
		if info, err := os.Stat(file); err == nil {
			stamp[i] = info.ModTime()
		}
	}
	if stamp == c.stamp && c.cert != nil {
		return c.cert, nil
	}
	cert, err := c.read()
	if c.err = err; err == nil {
		c.cert, c.stamp = cert, stamp
	}
	if c.cert == nil {
		return nil, err
	}
	return c.cert, nil
}

// Wrong is why the files cannot be used as they are now, nil where they can.
func (c *Certificate) Wrong() error {
	c.Get()
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.err
}

func (c *Certificate) read() (*tls.Certificate, error) {
	if fault, stopped := keyfile.Inspect(c.KeyFile).Blocked(); stopped {
		return nil, fmt.Errorf("%s is not used: %s; %s", c.KeyFile, fault.Say, fault.Mend)
	}
	cert, err := tls.LoadX509KeyPair(c.CertFile, c.KeyFile)
	if err != nil {
		return nil, fmt.Errorf("the certificate in %s: %w", c.CertFile, err)
	}
	return &cert, nil
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
