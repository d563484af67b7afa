package keyfile

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile/pkcs8"

	"meatus/core/atomicfile"
	"meatus/core/sanitize"
)

func digestOf(key ssh.PublicKey) [sha256.Size]byte { return sha256.Sum256(key.Marshal()) }

// Forms are the kinds of keys that can be made: the default first.
var Forms = []struct {
	Kind string
	Bits []int // the default first
}{
	{"Ed25519", []int{256}},
	{"ECDSA", []int{256, 384, 521}},
	{"RSA", []int{3072, 4096}},
}

// Make makes a private key. bits may be 0 for the kind's default. It fails for
// kinds and sizes that are not among [Forms].
func Make(kind string, bits int) (crypto.PrivateKey, error) {
	for _, f := range Forms {
		if !strings.EqualFold(f.Kind, kind) {
			continue
		}
		if bits == 0 {
			bits = f.Bits[0]
		}
		for _, b := range f.Bits {
			if b == bits {
				return makeKey(f.Kind, bits)
			}
		}
		return nil, fmt.Errorf("%s keys are made with %v bits, not %d", f.Kind, f.Bits, bits)
	}
	return nil, fmt.Errorf("unknown kind of key %q; the kinds are Ed25519, ECDSA and RSA", sanitize.Line(kind, 20))
}

func makeKey(kind string, bits int) (crypto.PrivateKey, error) {
	switch kind {
	case "RSA":
		return rsa.GenerateKey(rand.Reader, bits)
	case "ECDSA":
		curve := map[int]elliptic.Curve{256: elliptic.P256(), 384: elliptic.P384(), 521: elliptic.P521()}[bits]
		return ecdsa.GenerateKey(curve, rand.Reader)
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	return key, err
}

// Wrapping is how a private key is to be written.
type Wrapping struct {
	Container  Container // [Bcrypt] where empty; the encrypted form of PKCS#8 where it has a passphrase
	Passphrase []byte    // none where empty
	Comment    string    // kept by [Bcrypt] alone
}

// pbkdf2Rounds is how often a passphrase is hashed for an encrypted PKCS#8
// container. It is a variable so that tests, which try thousands of passphrases, can make
// it cheap.
var pbkdf2Rounds = usualRounds

const usualRounds = 600_000

// wrap puts a key into a container. It fails where the container cannot hold that
// kind of key, or none with a passphrase.
func (w Wrapping) wrap(key crypto.PrivateKey) ([]byte, error) {
	var block *pem.Block
	var err error
	locked := len(w.Passphrase) > 0
	switch w.Container {
	case "", Bcrypt:
		if locked {
			block, err = ssh.MarshalPrivateKeyWithPassphrase(key, w.Comment, w.Passphrase)
		} else {
			block, err = ssh.MarshalPrivateKey(key, w.Comment)
		}
	case PKCS8, PKCS8Encrypted:
		block = &pem.Block{Type: "PRIVATE KEY"}
		if !locked {
			block.Bytes, err = x509.MarshalPKCS8PrivateKey(key)
			break
		}
		block.Type = "ENCRYPTED PRIVATE KEY"
		block.Bytes, err = pkcs8.Seal(key, w.Passphrase, pkcs8.Cost{Iterations: pbkdf2Rounds})
	case PKCS1, SEC1:
		if locked {
			return nil, fmt.Errorf("%s cannot protect a passphrase; use the format pkcs8 or bcrypt", w.Container)
		}
		block, err = bare(w.Container, key)
	default:
		return nil, fmt.Errorf("%q is no container that is written here", w.Container)
	}
	if err != nil {
		return nil, err
	}
	return pem.EncodeToMemory(block), nil
}

func bare(c Container, key crypto.PrivateKey) (*pem.Block, error) {
	switch k := key.(type) {
	case *rsa.PrivateKey:
		if c == PKCS1 {
			return &pem.Block{Type: "RSA PRIVATE KEY", Bytes: x509.MarshalPKCS1PrivateKey(k)}, nil
		}
	case *ecdsa.PrivateKey:
		if c == SEC1 {
			der, err := x509.MarshalECPrivateKey(k)
			return &pem.Block{Type: "EC PRIVATE KEY", Bytes: der}, err
		}
	}
	return nil, fmt.Errorf("%s cannot hold this kind of key", c)
}

// Write writes a private key to a new file at path, readable by its owner alone
// from the first byte on, and its public half beside it. It never writes over a
// file: it fails with [fs.ErrExist] where one of the two is there. The private
// half is written first; where the public one cannot be written the key is there
// all the same, and the error says so.
func Write(path string, key crypto.PrivateKey, w Wrapping) error {
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		return unsupported(err)
	}
	text, err := w.wrap(key)
	if err != nil {
		return err
	}
	defer clear(text)
	if _, err := os.Lstat(path + ".pub"); err == nil {
		return fmt.Errorf("%s.pub exists already: %w; name another file", path, os.ErrExist)
	}
	if err := writeNewAs(path, text, 0o600); err != nil {
		return err
	}
	public := []byte(PublicLine(signer.PublicKey(), w.Comment))
	if err := writeNewAs(path+".pub", public, 0o644); err != nil {
		return fmt.Errorf("the key is in %s, but its public key could not be written: %w; write it later with meatus key public", path, err)
	}
	return nil
}

// Rewrap writes the key of a file anew: in another container, with another
// passphrase or none. old opens it as it is. The file is replaced whole or not at
// all, keeps its mode, and is read back before it takes the old one's place.
func Rewrap(path string, old []byte, w Wrapping) error {
	k, err := Read(path)
	if err != nil {
		return err
	}
	if fault, stopped := k.Blocked(); stopped {
		return &Blocked{path, fault}
	}
	key, err := k.private(old)
	if err != nil {
		return err
	}
	if w.Comment == "" {
		w.Comment = k.Comment
	}
	text, err := w.wrap(key)
	if err != nil {
		return err
	}
	defer clear(text)
	again, err := Parse(text)
	if err != nil {
		return fmt.Errorf("the converted %s cannot be read back: %w; the file is unchanged", path, err)
	}
	defer again.Forget()
	check, err := again.private(w.Passphrase)
	same, ok := key.(interface{ Equal(crypto.PrivateKey) bool })
	if err != nil || !ok || !same.Equal(check) {
		return fmt.Errorf("the converted %s is not the same key; the file is unchanged", path)
	}
	return atomicfile.Write(k.Real, text)
}

// Mended writes a key that was read although pasting had damaged it as it should
// stand, whole or not at all. It returns what was put right.
func Mended(path string) (repairs []string, err error) {
	k, err := Read(path)
	if err != nil {
		return nil, err
	}
	if len(k.Repairs) == 0 {
		return nil, nil
	}
	return k.Repairs, atomicfile.Write(k.Real, pem.EncodeToMemory(k.block))
}

// PublicLine is a public key in its one-line form, as servers list it.
func PublicLine(key ssh.PublicKey, comment string) string {
	line := string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(key)))
	if comment = sanitize.Line(comment, 120); comment != "" {
		line += " " + comment
	}
	return line + "\n"
}

// PublicRFC4716 is a public key in the form of RFC 4716 section 3.
func PublicRFC4716(key ssh.PublicKey, comment string) string {
	var b strings.Builder
	b.WriteString("---- BEGIN SSH2 PUBLIC KEY ----\n")
	if comment = strings.Map(func(r rune) rune {
		if r == '"' || r == '\\' {
			return -1
		}
		return r
	}, sanitize.Line(comment, 50)); comment != "" {
		fmt.Fprintf(&b, "Comment: %q\n", comment)
	}
	text := base64.StdEncoding.EncodeToString(key.Marshal())
	for len(text) > 0 { // lines of at most 72 bytes
		n := min(len(text), 70)
		b.WriteString(text[:n] + "\n")
		text = text[n:]
	}
	b.WriteString("---- END SSH2 PUBLIC KEY ----\n")
	return b.String()
}

// JudgePassphrase says why a passphrase is easy to guess, "" where it is not. It
// looks at its length and variety alone: it cannot know what others have chosen.
func JudgePassphrase(passphrase []byte) string {
	kinds := map[string]bool{}
	for _, r := range string(passphrase) {
		switch {
		case r >= 'a' && r <= 'z':
			kinds["small"] = true
		case r >= 'A' && r <= 'Z':
			kinds["large"] = true
		case r >= '0' && r <= '9':
			kinds["digit"] = true
		case r == ' ':
		default:
			kinds["other"] = true
		}
	}
	n := len([]rune(string(passphrase)))
	distinct := map[rune]bool{}
	for _, r := range string(passphrase) {
		distinct[r] = true
	}
	switch {
	case n == 0:
		return "no passphrase: anyone with the file can use the key"
	case n < 10:
		return "it is short; four or more unrelated words are easy to remember and hard to guess"
	case len(distinct) < 5:
		return "it repeats few letters"
	case n < 16 && len(kinds) < 2:
		return "it is short for letters of one kind alone"
	}
	return ""
}

// Unseal opens a first password that was encrypted to an RSA key pair, as a
// console shows it: base64 of PKCS#1 v1.5 (RFC 8017 section 7.2). The caller wipes
// what it returns.
func (k *File) Unseal(sealed string, passphrase []byte) ([]byte, error) {
	raw, err := base64.StdEncoding.DecodeString(strings.Join(strings.Fields(sealed), ""))
	if err != nil || len(raw) == 0 {
		return nil, errors.New("that is not an encrypted password: it is not base64")
	}
	key, err := k.private(passphrase)
	if err != nil {
		return nil, err
	}
	private, ok := key.(*rsa.PrivateKey)
	if !ok {
		return nil, errors.New("only RSA keys open sealed passwords")
	}
	//lint:ignore SA1019 it is the form consoles seal in; nobody outside learns how it went
	open, err := rsa.DecryptPKCS1v15(rand.Reader, private, raw)
	if err != nil {
		return nil, errors.New("this key cannot decrypt it: it was encrypted for another key pair")
	}
	return open, nil
}
