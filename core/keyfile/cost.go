package keyfile

import (
	"crypto/x509/pkix"
	"encoding/asn1"
	"fmt"

	"golang.org/x/crypto/ssh"
)

// Derivation is how a container makes its cipher's key of a passphrase: the more
// it costs, the longer every guess takes.
type Derivation struct {
	Name   string // "bcrypt", "PBKDF2", "scrypt", "one MD5"
	Rounds int
	Memory int64 // in bytes, 0 where it takes next to none
}

// The most a derivation may cost before it is refused: some ten seconds of one
// processor, and half a gigabyte.
const (
	mostBcrypt = 1024
	mostPBKDF2 = 30_000_000
	mostMemory = 512 << 20
)

// String says it in words: "bcrypt, 24 rounds".
func (d Derivation) String() string {
	switch {
	case d.Name == "":
		return ""
	case d.Memory > 0:
		return fmt.Sprintf("%s, %d rounds, %d MiB", d.Name, d.Rounds, d.Memory>>20)
	case d.Rounds == 0:
		return d.Name
	}
	return fmt.Sprintf("%s, %d rounds", d.Name, d.Rounds)
}

// Weak says why guessing passphrases is too cheap, "" where it is not.
func (d Derivation) Weak() string {
	switch {
	case d.Name == "one MD5":
		return "the passphrase is hashed once, so that guessing it costs next to nothing"
	case d.Name == "PBKDF2" && d.Rounds < 100_000:
		return fmt.Sprintf("%d rounds of PBKDF2 make guessing the passphrase cheap", d.Rounds)
	case d.Name == "bcrypt" && d.Rounds < 16:
		return fmt.Sprintf("%d rounds of bcrypt make guessing the passphrase cheap", d.Rounds)
	}
	return ""
}

// TooCostly is the error for a container whose derivation would take minutes, or
// the machine's memory.
type TooCostly struct{ Derivation }

func (e *TooCostly) Error() string {
	return fmt.Sprintf("unlocking it is refused: %s would take minutes or more; it was made to be a nuisance, or is damaged", e.Derivation)
}

func (d Derivation) tooCostly() error {
	if d.Name == "bcrypt" && d.Rounds > mostBcrypt || d.Name == "PBKDF2" && d.Rounds > mostPBKDF2 || d.Memory > mostMemory || d.Rounds < 0 || d.Memory < 0 {
		return &TooCostly{d}
	}
	return nil
}

// bcryptDerivation reads the options of a bcrypt container.
func bcryptDerivation(o bcryptOuter) Derivation {
	var opts struct {
		Salt   string
		Rounds uint32
	}
	if o.KdfName != "bcrypt" || ssh.Unmarshal([]byte(o.KdfOpts), &opts) != nil {
		return Derivation{Name: o.KdfName}
	}
	return Derivation{Name: "bcrypt", Rounds: int(opts.Rounds)}
}

var (
	oidPBES2  = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 13}
	oidPBKDF2 = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 5, 12}
	oidScrypt = asn1.ObjectIdentifier{1, 3, 6, 1, 4, 1, 11591, 4, 11}
)

// pkcs8Derivation reads the parameters of an encrypted PKCS#8 container (RFC 8018
// appendix A.4, RFC 7914 section 7). What it cannot read has no name.
func pkcs8Derivation(der []byte) Derivation {
	var outer struct {
		Algorithm pkix.AlgorithmIdentifier
		Data      []byte
	}
	if _, err := asn1.Unmarshal(der, &outer); err != nil || !outer.Algorithm.Algorithm.Equal(oidPBES2) {
		return Derivation{}
	}
	var scheme struct{ Derivation, Cipher pkix.AlgorithmIdentifier }
	if _, err := asn1.Unmarshal(outer.Algorithm.Parameters.FullBytes, &scheme); err != nil {
		return Derivation{}
	}
	params := scheme.Derivation.Parameters.FullBytes
	switch {
	case scheme.Derivation.Algorithm.Equal(oidPBKDF2):
		var p struct {
			Salt       asn1.RawValue
			Iterations int
			Length     int                      `asn1:"optional"`
			PRF        pkix.AlgorithmIdentifier `asn1:"optional"`
		}
		if _, err := asn1.Unmarshal(params, &p); err == nil {
			return Derivation{Name: "PBKDF2", Rounds: p.Iterations}
		}
	case scheme.Derivation.Algorithm.Equal(oidScrypt):
		var p struct {
			Salt    []byte
			N, R, P int
			Length  int `asn1:"optional"`
		}
		if _, err := asn1.Unmarshal(params, &p); err == nil {
			d := Derivation{Name: "scrypt", Rounds: p.N, Memory: mostMemory + 1}
			if p.N > 0 && p.R > 0 && p.N <= 1<<30 && p.R <= 1<<16 && p.P > 0 && p.P <= 64 {
				d.Memory = 128 * int64(p.N) * int64(p.R)
			}
			return d
		}
	}
	return Derivation{}
}
