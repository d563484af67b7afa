// Package pkcs8 opens and makes encrypted private keys in PKCS#8 containers (RFC 5958
// section 3) with password-based encryption PBES2 (RFC 8018 section 6.2).
//
// It reads PBKDF2 with HMAC over SHA-1 and SHA-2 and scrypt (RFC 7914), and AES, DES and
// triple DES in CBC mode; and of the older PBES1 (RFC 8018 section 6.1) what DES is in. It promises that no input makes it panic or wait: lengths are
// judged before a cipher sees them, and what a derivation costs is judged by the caller
// with [Parameters] before [Open] is called. The primitives are the standard library's
// and golang.org/x/crypto's.
package pkcs8

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/des"
	"crypto/md5"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/asn1"
	"errors"
	"fmt"
	"hash"

	"golang.org/x/crypto/scrypt"
)

// The errors of [Open]. A wrong passphrase is told by the padding, and by what comes out
// not being a whole structure.
var (
	ErrPassphrase  = errors.New("that is not the key's passphrase")
	ErrDamaged     = errors.New("the container is cut short or damaged")
	ErrUnsupported = errors.New("the file's encryption is not supported")
)

var (
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
)

// hashes are the pseudo-random functions of PBKDF2 (RFC 8018 appendix B.1.2). Without
// one in the container it is HMAC with SHA-1.
var hashes = []struct {
	oid asn1.ObjectIdentifier
	new func() hash.Hash
}{
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 7}, sha1.New},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 8}, sha256.New224},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 9}, sha256.New},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 10}, sha512.New384},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 2, 11}, sha512.New},
}

// ciphers are those of RFC 8018 appendix B.2, and AES as RFC 3565 names it.
var ciphers = []struct {
	oid   asn1.ObjectIdentifier
	size  int // of the key, in bytes
	block func(key []byte) (cipher.Block, error)
}{
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 2}, 16, aes.NewCipher},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 22}, 24, aes.NewCipher},
	{asn1.ObjectIdentifier{2, 16, 840, 1, 101, 3, 4, 1, 42}, 32, aes.NewCipher},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 3, 7}, 24, des.NewTripleDESCipher},
	{asn1.ObjectIdentifier{1, 3, 14, 3, 2, 7}, 8, des.NewCipher},
}

// older are the schemes of PBES1 with DES (RFC 8018 appendix A.3), by their hash.
var older = []struct {
	oid asn1.ObjectIdentifier
	new func() hash.Hash
}{
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 3}, md5.New},
	{asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 10}, sha1.New},
}

// pbes1Params are those of RFC 8018 appendix A.3.
type pbes1Params struct {
	Salt       []byte
	Iterations int
}

// container is EncryptedPrivateKeyInfo (RFC 5958 section 3).
type container struct {
	Algorithm pkix.AlgorithmIdentifier
	Data      []byte
}

// scheme are the parameters of PBES2 (RFC 8018 appendix A.4).
type scheme struct{ Derivation, Cipher pkix.AlgorithmIdentifier }

// pbkdf2Params and scryptParams are those of RFC 8018 appendix A.2 and RFC 7914
// section 7.
type (
	pbkdf2Params struct {
		Salt       []byte
		Iterations int
		Length     int                      `asn1:"optional"`
		Hash       pkix.AlgorithmIdentifier `asn1:"optional"`
	}
	scryptParams struct {
		Salt    []byte
		N, R, P int
		Length  int `asn1:"optional"`
	}
)

// Parameters are what a derivation costs.
type Parameters struct {
	Name    string // "PBKDF2", "scrypt", "" where it is neither
	N, R, P int    // of scrypt; of PBKDF2 N is the number of iterations
}

// Inspect reads the parameters of a container. What it cannot read has no name.
func Inspect(der []byte) Parameters {
	c, s, err := parse(der)
	if err != nil {
		var p pbes1Params
		for _, o := range older {
			if c.Algorithm.Algorithm.Equal(o.oid) && whole(c.Algorithm.Parameters.FullBytes, &p) {
				return Parameters{Name: "PBKDF1", N: p.Iterations}
			}
		}
		return Parameters{}
	}
	switch {
	case s.Derivation.Algorithm.Equal(oidPBKDF2):
		var p pbkdf2Params
		if whole(s.Derivation.Parameters.FullBytes, &p) {
			return Parameters{Name: "PBKDF2", N: p.Iterations}
		}
	case s.Derivation.Algorithm.Equal(oidScrypt):
		var p scryptParams
		if whole(s.Derivation.Parameters.FullBytes, &p) {
			return Parameters{"scrypt", p.N, p.R, p.P}
		}
	}
	return Parameters{}
}

// whole reads a value that takes up all of its bytes.
func whole(der []byte, into any) bool {
	rest, err := asn1.Unmarshal(der, into)
	return err == nil && len(rest) == 0
}

func parse(der []byte) (c container, s scheme, err error) {
	if !whole(der, &c) {
		return c, s, ErrDamaged
	}
	if !c.Algorithm.Algorithm.Equal(oidPBES2) {
		return c, s, fmt.Errorf("%w: %s", ErrUnsupported, c.Algorithm.Algorithm)
	}
	if !whole(c.Algorithm.Parameters.FullBytes, &s) {
		return c, s, ErrDamaged
	}
	return c, s, nil
}

// Open decrypts the key in a container, which is returned in PKCS#8 (RFC 5208 section 5), for
// the caller to read and to wipe. It fails with [ErrPassphrase], [ErrDamaged] or
// [ErrUnsupported].
func Open(der, passphrase []byte) ([]byte, error) {
	if key, err, is := openOlder(der, passphrase); is {
		return key, err
	}
	c, s, err := parse(der)
	if err != nil {
		return nil, err
	}
	for _, known := range ciphers {
		if !s.Cipher.Algorithm.Equal(known.oid) {
			continue
		}
		var iv []byte
		if !whole(s.Cipher.Parameters.FullBytes, &iv) {
			return nil, ErrDamaged
		}
		key, err := derive(s.Derivation, passphrase, known.size)
		if err != nil {
			return nil, err
		}
		defer clear(key)
		block, err := known.block(key)
		if err != nil {
			return nil, ErrDamaged
		}
		return decrypt(block, iv, c.Data)
	}
	return nil, fmt.Errorf("%w: cipher %s", ErrUnsupported, s.Cipher.Algorithm)
}

// openOlder opens a container of PBES1, and tells whether it is one.
func openOlder(der, passphrase []byte) (key []byte, err error, is bool) {
	var c container
	if !whole(der, &c) {
		return nil, nil, false
	}
	for _, o := range older {
		if !c.Algorithm.Algorithm.Equal(o.oid) {
			continue
		}
		var p pbes1Params
		if !whole(c.Algorithm.Parameters.FullBytes, &p) || p.Iterations < 1 || len(p.Salt) != 8 {
			return nil, ErrDamaged, true
		}
		// PBKDF1 (RFC 8018 section 5.1): key and vector are the first bytes of the hash.
		sum := append(bytes.Clone(passphrase), p.Salt...)
		for range p.Iterations {
			h := o.new()
			h.Write(sum)
			clear(sum)
			sum = h.Sum(nil)
		}
		defer clear(sum)
		block, err := des.NewCipher(sum[:8])
		if err != nil {
			return nil, ErrDamaged, true
		}
		key, err = decrypt(block, sum[8:16], c.Data)
		return key, err, true
	}
	return nil, nil, false
}

// derive makes the cipher's key of a passphrase.
func derive(how pkix.AlgorithmIdentifier, passphrase []byte, size int) ([]byte, error) {
	switch {
	case how.Algorithm.Equal(oidPBKDF2):
		var p pbkdf2Params
		if !whole(how.Parameters.FullBytes, &p) || p.Iterations < 1 || p.Length != 0 && p.Length != size {
			return nil, ErrDamaged
		}
		newHash := sha1.New
		if len(p.Hash.Algorithm) > 0 {
			newHash = nil
			for _, h := range hashes {
				if h.oid.Equal(p.Hash.Algorithm) {
					newHash = h.new
				}
			}
		}
		if newHash == nil {
			return nil, fmt.Errorf("%w: hash %s", ErrUnsupported, p.Hash.Algorithm)
		}
		return pbkdf2.Key(newHash, string(passphrase), p.Salt, p.Iterations, size)
	case how.Algorithm.Equal(oidScrypt):
		var p scryptParams
		if !whole(how.Parameters.FullBytes, &p) || p.Length != 0 && p.Length != size {
			return nil, ErrDamaged
		}
		key, err := scrypt.Key(passphrase, p.Salt, p.N, p.R, p.P, size)
		if err != nil {
			return nil, ErrDamaged
		}
		return key, nil
	}
	return nil, fmt.Errorf("%w: derivation %s", ErrUnsupported, how.Algorithm)
}

// decrypt decrypts the key itself. What is not of whole blocks never gets to the cipher.
func decrypt(block cipher.Block, iv, data []byte) ([]byte, error) {
	size := block.BlockSize()
	if len(iv) != size || len(data) == 0 || len(data)%size != 0 {
		return nil, ErrDamaged
	}
	plain := bytes.Clone(data)
	defer clear(plain)
	cipher.NewCBCDecrypter(block, iv).CryptBlocks(plain, plain)
	pad := int(plain[len(plain)-1])
	if pad == 0 || pad > size {
		return nil, ErrPassphrase
	}
	end := plain[len(plain)-pad:]
	if subtle.ConstantTimeCompare(end, bytes.Repeat([]byte{byte(pad)}, pad)) != 1 {
		return nil, ErrPassphrase
	}
	inner := plain[:len(plain)-pad]
	var sequence asn1.RawValue
	if rest, err := asn1.Unmarshal(inner, &sequence); err != nil || len(rest) > 0 || sequence.Tag != asn1.TagSequence {
		return nil, ErrPassphrase
	}
	return bytes.Clone(inner), nil
}

// names are what containers are encrypted with that are not read here, by their object
// identifiers.
var names = map[string]string{
	"1.2.840.113549.1.12.1.3":   "PKCS#12 with triple DES",
	"1.2.840.113549.1.12.1.4":   "PKCS#12 with triple DES of two keys",
	"1.2.840.113549.1.12.1.1":   "PKCS#12 with RC4",
	"1.2.840.113549.1.12.1.2":   "PKCS#12 with RC4",
	"1.2.840.113549.1.12.1.5":   "PKCS#12 with RC2",
	"1.2.840.113549.1.12.1.6":   "PKCS#12 with RC2",
	"1.2.840.113549.1.5.1":      "PBES1 with MD2",
	"1.2.840.113549.1.5.4":      "PBES1 with MD2 and RC2",
	"1.2.840.113549.1.5.6":      "PBES1 with MD5 and RC2",
	"1.2.840.113549.1.5.11":     "PBES1 with SHA-1 and RC2",
	"1.2.392.200011.61.1.1.1.2": "Camellia-128",
	"1.2.392.200011.61.1.1.1.3": "Camellia-192",
	"1.2.392.200011.61.1.1.1.4": "Camellia-256",
	"1.2.410.200046.1.1.2":      "ARIA-128",
	"1.2.410.200046.1.1.7":      "ARIA-192",
	"1.2.410.200046.1.1.12":     "ARIA-256",
	"1.2.410.200004.1.4":        "SEED",
	"1.2.156.10197.1.104.2":     "SM4",
	"2.16.840.1.101.3.4.1.6":    "AES-128 in GCM",
	"2.16.840.1.101.3.4.1.26":   "AES-192 in GCM",
	"2.16.840.1.101.3.4.1.46":   "AES-256 in GCM",
	"1.2.840.113549.2.12":       "HMAC with SHA-512/224",
	"1.2.840.113549.2.13":       "HMAC with SHA-512/256",
	"2.16.840.1.101.3.4.2.13":   "HMAC with SHA3-224",
	"2.16.840.1.101.3.4.2.14":   "HMAC with SHA3-256",
	"1.3.6.1.4.1.11591.4.11":    "scrypt",
}

// Named says what a container is encrypted with that is not read here.
func Named(der []byte) string {
	var c container
	if !whole(der, &c) {
		return "nothing that is known"
	}
	found := []asn1.ObjectIdentifier{c.Algorithm.Algorithm}
	var s scheme
	if c.Algorithm.Algorithm.Equal(oidPBES2) && whole(c.Algorithm.Parameters.FullBytes, &s) {
		var p pbkdf2Params
		found = []asn1.ObjectIdentifier{s.Cipher.Algorithm}
		for _, known := range ciphers {
			if s.Cipher.Algorithm.Equal(known.oid) {
				found = []asn1.ObjectIdentifier{s.Derivation.Algorithm}
				if whole(s.Derivation.Parameters.FullBytes, &p) && len(p.Hash.Algorithm) > 0 {
					found = []asn1.ObjectIdentifier{p.Hash.Algorithm}
				}
			}
		}
	}
	if name := names[found[0].String()]; name != "" {
		return name
	}
	return found[0].String()
}

// Cost is what the derivation of a new container is to cost.
type Cost struct {
	Iterations int // of PBKDF2 with HMAC and SHA-256; scrypt is used where it is 0
	N, R, P    int // of scrypt
}

// Seal puts a key into a container, encrypted with AES-256 in CBC mode.
func Seal(key crypto.PrivateKey, passphrase []byte, cost Cost) ([]byte, error) {
	plain, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	defer clear(plain)
	salt, iv := make([]byte, 16), make([]byte, aes.BlockSize)
	rand.Read(salt)
	rand.Read(iv)
	how := pkix.AlgorithmIdentifier{Algorithm: oidPBKDF2}
	var params any = pbkdf2Params{Salt: salt, Iterations: cost.Iterations, Hash: pkix.AlgorithmIdentifier{Algorithm: hashes[2].oid, Parameters: asn1.NullRawValue}}
	if cost.Iterations == 0 {
		how.Algorithm, params = oidScrypt, scryptParams{Salt: salt, N: cost.N, R: cost.R, P: cost.P}
	}
	if how.Parameters, err = raw(params); err != nil {
		return nil, err
	}
	const aes256 = 2 // in ciphers
	secret, err := derive(how, passphrase, ciphers[aes256].size)
	if err != nil {
		return nil, err
	}
	defer clear(secret)
	block, err := aes.NewCipher(secret)
	if err != nil {
		return nil, err
	}
	pad := aes.BlockSize - len(plain)%aes.BlockSize
	data := append(bytes.Clone(plain), bytes.Repeat([]byte{byte(pad)}, pad)...)
	cipher.NewCBCEncrypter(block, iv).CryptBlocks(data, data)
	with := pkix.AlgorithmIdentifier{Algorithm: ciphers[aes256].oid}
	if with.Parameters, err = raw(iv); err != nil {
		return nil, err
	}
	outer := pkix.AlgorithmIdentifier{Algorithm: oidPBES2}
	if outer.Parameters, err = raw(scheme{how, with}); err != nil {
		return nil, err
	}
	return asn1.Marshal(container{outer, data})
}

func raw(v any) (asn1.RawValue, error) {
	der, err := asn1.Marshal(v)
	return asn1.RawValue{FullBytes: der}, err
}
