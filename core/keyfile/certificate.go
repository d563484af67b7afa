package keyfile

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
)

// Certificate is what the file beside a key says that a signing key vouches for
// it: for which logins, and when.
type Certificate struct {
	Path   string
	Cert   *ssh.Certificate
	Signer string // SHA-256 fingerprint of the key that signed it
}

// ReadCertificate reads the certificate beside the key at path: the file of the
// same name with "-cert.pub" behind it. It returns nil where there is none.
func ReadCertificate(path string) (*Certificate, error) {
	path += "-cert.pub"
	info, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() || info.Size() > MaxSize {
		return nil, fmt.Errorf("%s is no certificate", path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(text)
	cert, ok := key.(*ssh.Certificate)
	if err != nil || !ok || cert.CertType != ssh.UserCert {
		return nil, fmt.Errorf("%s is no certificate for logins", path)
	}
	return &Certificate{path, cert, Fingerprint(cert.SignatureKey)}, nil
}

// Wrong says why a server would not take the certificate for a login at a time,
// or why it does not belong to a key, which may be nil; "" where nothing speaks
// against it.
func (c *Certificate) Wrong(login string, key ssh.PublicKey, now time.Time) string {
	at := func(t uint64) string { return time.Unix(int64(t), 0).Local().Format("2 Jan 2006 15:04") }
	switch names := c.Cert.ValidPrincipals; {
	case key != nil && !bytes.Equal(c.Cert.Key.Marshal(), key.Marshal()):
		return "the certificate belongs to another key"
	case uint64(now.Unix()) < c.Cert.ValidAfter:
		return "the certificate is not valid before " + at(c.Cert.ValidAfter)
	case c.Cert.ValidBefore != ssh.CertTimeInfinity && uint64(now.Unix()) >= c.Cert.ValidBefore:
		return "the certificate ended on " + at(c.Cert.ValidBefore)
	case len(names) > 0 && !slices.Contains(names, login):
		return fmt.Sprintf("the certificate is for %s, not for %s", sanitize.Line(strings.Join(names, ", "), 60), login)
	}
	return ""
}

// Said is the certificate in a few words: whose signature, and until when.
func (c *Certificate) Said() string {
	until := "for ever"
	if c.Cert.ValidBefore != ssh.CertTimeInfinity {
		until = "until " + time.Unix(int64(c.Cert.ValidBefore), 0).Local().Format("2 Jan 2006 15:04")
	}
	return fmt.Sprintf("certificate %q %s, signed by %s", sanitize.Line(c.Cert.KeyId, 30), until, c.Signer)
}
