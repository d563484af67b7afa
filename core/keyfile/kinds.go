package keyfile

import (
	"bytes"
	"crypto"
	"crypto/ecdh"
	"crypto/ecdsa"
	"crypto/x509/pkix"
	"encoding/asn1"
	"encoding/pem"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
)

// kinds are the algorithms of private keys that SSH has no use for, or that are not read
// here, by their object identifiers.
var kinds = map[string]string{
	"1.2.840.10040.4.1":       "a DSA key",
	"1.3.101.113":             "an Ed448 key",
	"1.3.101.110":             "an X25519 key, which agrees on secrets and does not sign",
	"1.3.101.111":             "an X448 key, which agrees on secrets and does not sign",
	"1.2.840.113549.1.1.10":   "an RSA-PSS key, which may make no other signatures",
	"1.2.840.113549.1.3.1":    "a Diffie-Hellman key",
	"1.2.643.7.1.1.1.1":       "a GOST key",
	"1.2.643.7.1.1.1.2":       "a GOST key",
	"1.2.156.10197.1.301":     "an SM2 key",
	"2.16.840.1.101.3.4.3.17": "an ML-DSA-44 key",
	"2.16.840.1.101.3.4.3.18": "an ML-DSA-65 key",
	"2.16.840.1.101.3.4.3.19": "an ML-DSA-87 key",
	"2.16.840.1.101.3.4.4.1":  "an ML-KEM-512 key, which agrees on secrets and does not sign",
	"2.16.840.1.101.3.4.4.2":  "an ML-KEM-768 key, which agrees on secrets and does not sign",
	"2.16.840.1.101.3.4.4.3":  "an ML-KEM-1024 key, which agrees on secrets and does not sign",
	"1.3.132.0.10":            "an ECDSA key on the curve secp256k1",
	"1.3.132.0.33":            "an ECDSA key on the curve P-224",
	"1.2.840.10045.3.1.1":     "an ECDSA key on the curve P-192",
	"1.3.36.3.3.2.8.1.1.7":    "an ECDSA key on the curve brainpoolP256r1",
	"1.3.36.3.3.2.8.1.1.11":   "an ECDSA key on the curve brainpoolP384r1",
	"1.3.36.3.3.2.8.1.1.13":   "an ECDSA key on the curve brainpoolP512r1",
}

// families are the same where only the beginning of the identifier is known.
var families = []struct{ prefix, name string }{
	{"2.16.840.1.101.3.4.3.", "an SLH-DSA key"},
	{"1.3.36.3.3.2.8.1.1.", "an ECDSA key on a Brainpool curve"},
	{"1.3.132.0.", "an ECDSA key on a curve that SSH has no name for"},
	{"1.2.840.10045.3.", "an ECDSA key on a curve that SSH has no name for"},
}

func kindNamed(oid asn1.ObjectIdentifier) string {
	if name, ok := kinds[oid.String()]; ok {
		return name
	}
	for _, f := range families {
		if strings.HasPrefix(oid.String(), f.prefix) {
			return f.name
		}
	}
	return ""
}

// pkcs8Outer is a private key in PKCS#8 (RFC 5958 section 2), without what it says of the key itself.
type pkcs8Outer struct {
	Version int
	Algo    pkix.AlgorithmIdentifier
	Key     []byte
	Rest    asn1.RawValue `asn1:"optional"`
}

// kindOf names the kind of a key that is not read, by the identifiers in its container;
// "" where it is none of those that are known.
func kindOf(block *pem.Block) string {
	switch block.Type {
	case "PRIVATE KEY":
		var p pkcs8Outer
		asn1.Unmarshal(block.Bytes, &p) // what was read before a mistake is there
		var curve asn1.ObjectIdentifier
		if _, err := asn1.Unmarshal(p.Algo.Parameters.FullBytes, &curve); err == nil && p.Algo.Algorithm.String() == "1.2.840.10045.2.1" {
			return kindNamed(curve)
		}
		return kindNamed(p.Algo.Algorithm)
	case "EC PRIVATE KEY":
		var p struct {
			Version int
			Key     []byte
			Curve   asn1.ObjectIdentifier `asn1:"optional,explicit,tag:0"`
			Public  asn1.BitString        `asn1:"optional,explicit,tag:1"`
		}
		asn1.Unmarshal(block.Bytes, &p)
		return kindNamed(p.Curve)
	}
	return ""
}

// writtenOut tells whether the curve of an ECDSA key is given by its parameters (RFC 3279 section 2.3.5, specifiedCurve) and
// not by its name.
func writtenOut(block *pem.Block) bool {
	var parameters asn1.RawValue
	switch block.Type {
	case "PRIVATE KEY":
		var p pkcs8Outer
		if _, err := asn1.Unmarshal(block.Bytes, &p); err != nil || p.Algo.Algorithm.String() != "1.2.840.10045.2.1" {
			return false
		}
		parameters = p.Algo.Parameters
	case "EC PRIVATE KEY":
		var p struct {
			Version    int
			Key        []byte
			Parameters asn1.RawValue  `asn1:"optional,explicit,tag:0"`
			Public     asn1.BitString `asn1:"optional,explicit,tag:1"`
		}
		if _, err := asn1.Unmarshal(block.Bytes, &p); err != nil {
			return false
		}
		parameters = p.Parameters
	}
	if parameters.Class == asn1.ClassContextSpecific { // the explicit tag is still around it
		asn1.Unmarshal(parameters.Bytes, &parameters)
	}
	return parameters.Tag == asn1.TagSequence && parameters.Class == asn1.ClassUniversal
}

// legacyCipher is the cipher of an encrypted container of the old kind (RFC 1421 section 4.6.1.3) that is not read here, ""
// for those that are.
func legacyCipher(block *pem.Block) string {
	name, _, _ := strings.Cut(block.Headers["DEK-Info"], ",")
	switch name {
	case "DES-CBC", "DES-EDE3-CBC", "AES-128-CBC", "AES-192-CBC", "AES-256-CBC":
		return ""
	}
	return sanitize.Line(name, 40)
}

// unusable is the error for a key that was read and that no login can be made with.
func unusable(key crypto.PrivateKey, err error) error {
	switch key := key.(type) {
	case *ecdh.PrivateKey:
		return notTaken(kinds["1.3.101.110"])
	case *ecdsa.PrivateKey:
		return notTaken("an ECDSA key on the curve " + key.Curve.Params().Name)
	}
	return unsupported(err)
}

// notTaken is the error for a sound key that no login can be made with here.
func notTaken(kind string) error {
	return &NotAKey{Say: "this is " + kind + "; the file is intact, but this key type cannot be used to log in here", Mend: "use an RSA, ECDSA or Ed25519 key"}
}

// unread is the error for a sound key whose container is closed in a way that is not read.
func unread(what string) error {
	return &NotAKey{
		Say:  "the file's encryption is not supported: " + what,
		Mend: "convert it to PKCS#8 with AES in the program that made it",
	}
}

// onToken is the error for a key whose secret half is on a security token.
var onToken = &NotAKey{
	Say:  "this key lives on a security token, and the file is only a handle to it",
	Mend: "have the agent that knows the token hold it, and start with --before-agent",
}

// unusual is the error for a key of a bcrypt container that no login can be made with, nil
// for the others.
func (o bcryptOuter) unusual() error {
	pub, err := ssh.ParsePublicKey(o.PubKey)
	if err != nil {
		var p struct {
			Name string
			Rest []byte `ssh:"rest"`
		}
		if ssh.Unmarshal(o.PubKey, &p) == nil && len(p.Name) < 60 && strings.ContainsFunc(p.Name, func(r rune) bool { return r == '-' }) && isWord(p.Name) {
			return notTaken(fmt.Sprintf("a key of the kind %q", p.Name))
		}
		return nil
	}
	switch name := pub.Type(); {
	case strings.HasPrefix(name, "sk-"):
		return onToken
	case name == "ssh-dss":
		return notTaken("a DSA key, which servers no longer accept")
	}
	return nil
}

// isWord tells whether a text is printable ASCII without blanks.
func isWord(s string) bool {
	return s != "" && !strings.ContainsFunc(s, func(r rune) bool { return r <= ' ' || r >= 0x7f })
}

// derContainers are what binary files are tried as, and how each is told.
var derContainers = []struct {
	label string
	fits  func(der []byte) bool
}{
	{"ENCRYPTED PRIVATE KEY", func(der []byte) bool {
		var p struct {
			Algo pkix.AlgorithmIdentifier
			Data []byte
		}
		rest, err := asn1.Unmarshal(der, &p)
		return err == nil && len(rest) == 0
	}},
	{"PRIVATE KEY", func(der []byte) bool {
		var p pkcs8Outer
		_, err := asn1.Unmarshal(der, &p)
		return err == nil
	}},
	{"EC PRIVATE KEY", func(der []byte) bool {
		var p struct {
			Version int
			Key     []byte
			Curve   asn1.RawValue `asn1:"optional"`
			Public  asn1.RawValue `asn1:"optional"`
		}
		_, err := asn1.Unmarshal(der, &p)
		return err == nil && p.Version == 1
	}},
	{"RSA PRIVATE KEY", func(der []byte) bool {
		var p []asn1.RawValue
		_, err := asn1.Unmarshal(der, &p)
		return err == nil && len(p) >= 9 && p[0].Tag == asn1.TagInteger
	}},
}

// fromDER takes a binary file (X.690) for what it holds, nil where that is no private key.
func fromDER(text []byte) *pem.Block {
	if len(text) < 2 || text[0] != 0x30 || bytes.HasPrefix(text, []byte("0")) && isText(text) {
		return nil
	}
	for _, c := range derContainers {
		if c.fits(text) {
			return &pem.Block{Type: c.label, Bytes: bytes.Clone(text)}
		}
	}
	return nil
}

// isText tells whether a file has no byte that text has not.
func isText(b []byte) bool {
	return !bytes.ContainsFunc(b, func(r rune) bool { return r < ' ' && r != '\n' && r != '\r' && r != '\t' || r == 0xfffd })
}

// modulus is how long the modulus of an RSA key in an open container is, in bytes; 0 where
// it is none.
func modulus(block *pem.Block) int {
	der := block.Bytes
	switch block.Type {
	case "OPENSSH PRIVATE KEY":
		o, err := outer(der)
		var p struct {
			Check1, Check2 uint32
			Kind           string
			N              []byte
			Rest           []byte `ssh:"rest"`
		}
		if err != nil || ssh.Unmarshal(o.PrivBlock, &p) != nil || p.Kind != ssh.KeyAlgoRSA {
			return 0
		}
		return len(p.N)
	case "PRIVATE KEY":
		var p pkcs8Outer
		if _, err := asn1.Unmarshal(der, &p); err != nil || p.Algo.Algorithm.String() != "1.2.840.113549.1.1.1" {
			return 0
		}
		der = p.Key
	case "RSA PRIVATE KEY":
	default:
		return 0
	}
	var sequence asn1.RawValue
	if _, err := asn1.Unmarshal(der, &sequence); err != nil {
		return 0
	}
	var version, n asn1.RawValue
	rest, err := asn1.Unmarshal(sequence.Bytes, &version)
	if err == nil {
		_, err = asn1.Unmarshal(rest, &n)
	}
	if err != nil {
		return 0
	}
	return len(n.Bytes)
}
