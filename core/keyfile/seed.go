package keyfile

import (
	"bytes"
	"crypto/ed25519"
	"encoding/asn1"
	"encoding/binary"

	"golang.org/x/crypto/cryptobyte"
	cryptoasn1 "golang.org/x/crypto/cryptobyte/asn1"
	"golang.org/x/crypto/ssh"
)

// Ed25519 keys are taken out of their containers here: the libraries that read every kind leave copies of the seed in
// memory, which nobody can wipe.

var oidEd25519 = asn1.ObjectIdentifier{1, 3, 101, 112}

// edKey is the Ed25519 key of an open container. ok is false for keys of other kinds and for what is damaged, which the
// libraries tell in words.
func edKey(label string, der []byte) (key ed25519.PrivateKey, ok bool) {
	switch label {
	case "PRIVATE KEY":
		return edOfPKCS8(der)
	case "OPENSSH PRIVATE KEY":
		if o, err := outer(der); err == nil && o.CipherName == "none" {
			return edOfBlock(o.PrivBlock)
		}
	}
	return nil, false
}

// edOfPKCS8 reads a key in PKCS#8 (RFC 8410 section 7).
func edOfPKCS8(der []byte) (key ed25519.PrivateKey, ok bool) {
	in := cryptobyte.String(der)
	var all, algorithm, octets, seed cryptobyte.String
	var version int
	var oid asn1.ObjectIdentifier
	if !in.ReadASN1(&all, cryptoasn1.SEQUENCE) || !in.Empty() || !all.ReadASN1Integer(&version) || !all.ReadASN1(&algorithm, cryptoasn1.SEQUENCE) ||
		!algorithm.ReadASN1ObjectIdentifier(&oid) || !oid.Equal(oidEd25519) || !algorithm.Empty() ||
		!all.ReadASN1(&octets, cryptoasn1.OCTET_STRING) || !octets.ReadASN1(&seed, cryptoasn1.OCTET_STRING) || !octets.Empty() || len(seed) != ed25519.SeedSize {
		return nil, false
	}
	return ed25519.NewKeyFromSeed(seed), true
}

// edOfBlock reads the open inner block of a bcrypt container (OpenSSH's PROTOCOL.key).
func edOfBlock(block []byte) (key ed25519.PrivateKey, ok bool) {
	in := cryptobyte.String(block)
	var check1, check2 uint32
	text := func(out *cryptobyte.String) bool {
		var n []byte
		return in.ReadBytes(&n, 4) && in.ReadBytes((*[]byte)(out), int(min(binary.BigEndian.Uint32(n), 1<<20)))
	}
	var kind, public, private, comment cryptobyte.String
	if !in.ReadUint32(&check1) || !in.ReadUint32(&check2) || check1 != check2 || !text(&kind) || string(kind) != ssh.KeyAlgoED25519 ||
		!text(&public) || !text(&private) || !text(&comment) || len(private) != ed25519.PrivateKeySize || !bytes.Equal(private[ed25519.SeedSize:], public) {
		return nil, false
	}
	for i, b := range in { // the padding counts up from 1
		if int(b) != i+1 {
			return nil, false
		}
	}
	return bytes.Clone(private), true
}
