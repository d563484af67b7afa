package keyfile

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"os"

	"golang.org/x/crypto/ssh"

	"meatus/core/contain"
	"meatus/core/keyfile/pkcs8"
	"meatus/core/secret"

	"meatus/core/sanitize"
)

// MaxSize is the largest key file that is read, in bytes. The largest key in
// use today is some 13 KB.
const MaxSize = 256 << 10

// maxKey is the longest key that is read, in bytes without its container: RSA of
// [maxBits] takes some 9,300.
const maxKey = 12 << 10

var errLong = &NotAKey{Say: fmt.Sprintf("it is an RSA key of more than %d bits, which costs too much to read", maxBits), Mend: "use a shorter one, or an Ed25519 key"}

// Sheet is everything a key file tells about itself without its passphrase.
type Sheet struct {
	Access
	Container  Container
	Kind       string // "RSA", "ECDSA", "Ed25519", or "" while its public key is not known
	Bits       int    // 0 while its public key is not known
	Passphrase bool
	Derivation Derivation // of the passphrase, zero where there is none
	SHA256     string     // as "SHA256:" and unpadded base64, RFC 4253 section 6.6 encoding
	MD5        string     // sixteen pairs of hexadecimal digits
	Comment    string
	Repairs    []string // what pasting damaged and was read all the same
	Public     ssh.PublicKey
}

// File is a key file read once: its sheet, and the key behind it.
type File struct {
	Sheet
	block *pem.Block
}

// ErrPassphrase says that the passphrase given does not open the key.
var ErrPassphrase = errors.New("that passphrase does not open the key")

// Blocked is the error for a key that is not used because of a [Fault].
type Blocked struct {
	Path  string
	Fault Fault
}

func (e *Blocked) Error() string { return fmt.Sprintf("%s: %s; %s", e.Path, e.Fault.Say, e.Fault.Mend) }

// Read reads the key file at path. Permissions that are too open are told in
// the sheet's faults, not as an error, so that the rest can still be shown. It
// fails with a [Blocked] where there is nothing to read, and with a [NotAKey]
// where the text is not a private key; both with the sheet so far.
func Read(path string) (*File, error) {
	in, access := open(path)
	k := &File{Sheet: Sheet{Access: access}}
	if in == nil {
		fault, _ := access.Blocked()
		return k, &Blocked{path, fault}
	}
	defer in.Close()
	if access.Size > MaxSize {
		return k, &NotAKey{Say: fmt.Sprintf("the file is %d bytes long, far more than a key", access.Size), Mend: "name a private key file"}
	}
	text, err := readWhole(in, access.Size)
	defer clear(text)
	if err != nil {
		return k, fmt.Errorf("reading %s: %w", path, err)
	}
	if err := k.parse(text); err != nil {
		return k, err
	}
	if k.Public == nil || k.Comment == "" {
		k.fromPublicHalf(path + ".pub")
	}
	return k, nil
}

// Look is [Read] for the sheet alone: nothing of the key is kept.
func Look(path string) (Sheet, error) {
	k, err := Read(path)
	k.Forget()
	return k.Sheet, err
}

// Forget wipes what is held of the key itself, which cannot be opened any more.
func (k *File) Forget() {
	if k.block != nil {
		clear(k.block.Bytes)
		k.block = nil
	}
}

// readWhole reads a file of a size into memory of that size, so that no copy is left of it.
func readWhole(in io.Reader, size int64) ([]byte, error) {
	text := make([]byte, size)
	n, err := io.ReadFull(in, text)
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) { // it has become shorter
		err = nil
	}
	return text[:n], err
}

// Parse reads a key from text that stands in no file.
func Parse(text []byte) (*File, error) {
	k := &File{}
	return k, k.parse(text)
}

// parse reads a key. What is so odd that reading it panics is damaged.
func (k *File) parse(text []byte) error {
	err := contain.Do("reading a key file", func() error { return k.read(text) })
	var fault *contain.Panic
	if errors.As(err, &fault) {
		return damaged(fault)
	}
	return err
}

func (k *File) read(text []byte) error {
	block, repairs, err := unwrap(text)
	if err != nil {
		return err
	}
	k.block, k.Repairs = block, repairs
	k.Container = pemContainers[block.Type]
	k.Passphrase = k.Container == PKCS8Encrypted || block.Headers["DEK-Info"] != ""
	switch {
	case k.Container == PKCS8Encrypted:
		k.Derivation = pkcs8Derivation(block.Bytes)
	case k.Container != Bcrypt && k.Passphrase:
		k.Derivation = Derivation{Name: "one MD5"}
		if cipher := legacyCipher(block); cipher != "" {
			return unread("the cipher " + cipher)
		}
	}
	if k.Container == Bcrypt {
		o, err := outer(block.Bytes)
		if err != nil {
			return err
		}
		if k.Passphrase = o.CipherName != "none"; k.Passphrase {
			k.Derivation = bcryptDerivation(o)
		}
		k.Comment = sanitize.Line(o.comment(), 120)
		if err := o.unusual(); err != nil {
			return err
		}
		if pub, err := ssh.ParsePublicKey(o.PubKey); err == nil {
			k.describe(pub)
		}
	}
	if k.Passphrase {
		return nil
	}
	key, err := k.private(nil)
	if err != nil {
		return err
	}
	defer secret.Wipe(key)
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		if kind := kindOf(k.block); kind != "" {
			return notTaken(kind)
		}
		return unusable(key, err)
	}
	k.describe(signer.PublicKey())
	return nil
}

// fromPublicHalf takes the public key or the comment that the file itself does
// not show from the public half beside it.
func (k *File) fromPublicHalf(path string) {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || info.Size() > MaxSize {
		return
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return
	}
	pub, comment, _, _, err := ssh.ParseAuthorizedKey(text)
	if err != nil || (k.Public != nil && Fingerprint(pub) != k.SHA256) {
		return
	}
	k.Comment = sanitize.Line(comment, 120)
	if k.Public == nil {
		k.describe(pub)
	}
}

func (k *File) describe(pub ssh.PublicKey) {
	k.Public = pub
	k.SHA256, k.MD5 = Fingerprint(pub), ssh.FingerprintLegacyMD5(pub)
	k.Kind, k.Bits = Describe(pub)
}

// Fingerprint returns the SHA-256 digest of the key's wire encoding (RFC 4253
// section 6.6) as "SHA256:" and unpadded base64.
func Fingerprint(pub ssh.PublicKey) string { return ssh.FingerprintSHA256(pub) }

// Describe returns the key's kind and its size in bits. For a kind it does not
// know it returns the protocol's name for it and 0.
func Describe(pub ssh.PublicKey) (kind string, bits int) {
	holder, ok := pub.(ssh.CryptoPublicKey)
	if !ok {
		return pub.Type(), 0
	}
	switch key := holder.CryptoPublicKey().(type) {
	case *rsa.PublicKey:
		return "RSA", key.N.BitLen()
	case *ecdsa.PublicKey:
		return "ECDSA", key.Curve.Params().BitSize
	case ed25519.PublicKey:
		return "Ed25519", 256
	}
	return pub.Type(), 0
}

// Signer returns the key ready to sign, unlocking it with the passphrase where
// it has one. It fails with a [Blocked] while others can read the file, and
// with [ErrPassphrase] where the passphrase is wrong.
func (k *File) Signer(passphrase []byte) (ssh.Signer, error) {
	key, err := k.Secret(passphrase)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return nil, unusable(key, err)
	}
	return signer, nil
}

// Secret returns the private key itself, for a ring to hold. It fails as
// [File.Signer] does.
func (k *File) Secret(passphrase []byte) (crypto.PrivateKey, error) {
	if fault, stopped := k.Blocked(); stopped {
		return nil, &Blocked{k.Path, fault}
	}
	if k.block == nil {
		return nil, &NotAKey{Say: "there is no key in this file", Mend: "name a private key file"}
	}
	return k.private(passphrase)
}

// private decodes the key itself.
func (k *File) private(passphrase []byte) (crypto.PrivateKey, error) {
	defer secret.ScrubStack()
	var key crypto.PrivateKey
	err := contain.Do("opening a key file", func() (err error) { key, err = k.decode(passphrase); return err })
	var fault *contain.Panic
	if errors.As(err, &fault) {
		return nil, damaged(fault)
	}
	if p, ok := key.(*ed25519.PrivateKey); ok { // the protocol library's way to return one
		return *p, err
	}
	return key, err
}

func (k *File) decode(passphrase []byte) (crypto.PrivateKey, error) {
	if k.block == nil {
		return nil, &NotAKey{Say: "there is no key in this file", Mend: "name a private key file"}
	}
	if err := k.Derivation.tooCostly(); err != nil {
		return nil, err
	}
	switch {
	case k.Container == PKCS8Encrypted:
		der, err := pkcs8.Open(k.block.Bytes, passphrase)
		switch {
		case errors.Is(err, pkcs8.ErrPassphrase):
			return nil, ErrPassphrase
		case errors.Is(err, pkcs8.ErrUnsupported):
			return nil, unread(pkcs8.Named(k.block.Bytes))
		case err != nil:
			return nil, damaged(err)
		}
		defer clear(der)
		return raw(&pem.Block{Type: "PRIVATE KEY", Bytes: der})
	case k.Container == Bcrypt && k.Passphrase:
		o, err := outer(k.block.Bytes)
		if err != nil {
			return nil, err
		}
		if len(passphrase) == 0 {
			return nil, ErrPassphrase
		}
		plain, err := o.unlocked(passphrase)
		if err != nil {
			return nil, err
		}
		defer clear(plain)
		if key, ok := edOfBlock(plain); ok {
			return key, nil
		}
		open := o.around(plain)
		defer clear(open.Bytes)
		return raw(open)
	case k.Passphrase:
		//lint:ignore SA1019 old and weak as it is, there are keys in it, and Weak says so
		key, err := x509.DecryptPEMBlock(k.block, passphrase)
		if errors.Is(err, x509.IncorrectPasswordError) {
			return nil, ErrPassphrase
		}
		if err != nil {
			return nil, damaged(err)
		}
		defer clear(key)
		block := &pem.Block{Type: k.block.Type, Bytes: key}
		opened, err := raw(block)
		if err != nil && kindOf(block) == "" && !writtenOut(block) {
			return nil, ErrPassphrase // its padding was right by chance, and no more
		}
		return opened, err
	}
	return raw(k.block)
}

// raw reads the key of a container that is open.
func raw(block *pem.Block) (crypto.PrivateKey, error) {
	if len(block.Bytes) > maxKey || modulus(block) > maxBits/8+1 {
		return nil, errLong
	}
	if key, ok := edKey(block.Type, block.Bytes); ok {
		return key, nil
	}
	var text bytes.Buffer
	text.Grow(2*len(block.Bytes) + 512) // it does not grow: what grows leaves copies
	if err := pem.Encode(&text, block); err != nil {
		return nil, damaged(err)
	}
	defer clear(text.Bytes())
	key, err := ssh.ParseRawPrivateKey(text.Bytes())
	if err != nil {
		return nil, kindFault(block, err)
	}
	return key, nil
}

// kindFault is the error for a key that could not be read: of a kind that is known for
// what it is, or damaged.
func kindFault(block *pem.Block, err error) error {
	if kind := kindOf(block); kind != "" {
		return notTaken(kind)
	}
	if writtenOut(block) {
		return &NotAKey{
			Say:  "this is an ECDSA key whose curve is written out in numbers and not named",
			Mend: "convert it to a named curve: openssl pkey -in OLD -ec_param_enc named_curve -out NEW",
		}
	}
	return damaged(err)
}

func damaged(err error) error {
	if err == nil {
		return nil
	}
	return &NotAKey{
		Say:  fmt.Sprintf("the key is cut short or damaged inside (%s)", sanitize.Line(err.Error(), 80)),
		Mend: "copy the whole key again",
	}
}

func unsupported(err error) error {
	return &NotAKey{
		Say:  fmt.Sprintf("this kind of key is not one servers take (%s)", sanitize.Line(err.Error(), 80)),
		Mend: "use an RSA, ECDSA or Ed25519 key",
	}
}
