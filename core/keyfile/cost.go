package keyfile

import (
	"fmt"

	"meatus/core/keyfile/pkcs8"

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
		return "the passphrase is protected by a single hash: it is easy to guess"
	case d.Name == "PBKDF1":
		return "the encryption is outdated (DES): it can be broken"
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
	return fmt.Sprintf("unlocking is refused: %s would take minutes or more; the file is damaged or hostile", e.Derivation)
}

func (d Derivation) tooCostly() error {
	if d.Name == "bcrypt" && d.Rounds > mostBcrypt || (d.Name == "PBKDF2" || d.Name == "PBKDF1") && d.Rounds > mostPBKDF2 || d.Memory > mostMemory || d.Rounds < 0 || d.Memory < 0 {
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

// pkcs8Derivation reads the parameters of an encrypted PKCS#8 container. What it cannot
// read has no name.
func pkcs8Derivation(der []byte) Derivation {
	p := pkcs8.Inspect(der)
	d := Derivation{Name: p.Name, Rounds: p.N}
	if p.Name == "scrypt" {
		d.Memory = mostMemory + 1
		if p.N > 0 && p.R > 0 && p.N <= 1<<30 && p.R <= 1<<16 && p.P > 0 && p.P <= 64 {
			d.Memory = 128 * int64(p.N) * int64(p.R)
		}
	}
	return d
}
