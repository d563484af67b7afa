package keyfile

import "golang.org/x/crypto/ssh"

// Strength is a plain judgement of a key.
type Strength uint8

// The judgements, from the best.
const (
	Unknown Strength = iota // not known while its public key is not known
	Sound
	Aging   // still taken, better replaced when there is time
	TooWeak // broken or about to be: replace it
)

var strengthWords = [...]string{"not known", "sound", "aging", "too weak"}

func (s Strength) String() string { return strengthWords[s] }

// Strength judges the key's kind and size (NIST SP 800-57 part 1: 2,048 bits of
// RSA until 2030, 3,072 after). why is "" for a sound one.
func (s Sheet) Strength() (judged Strength, why string) {
	switch {
	case s.Kind == "":
		return Unknown, "its public key is not known"
	case s.Kind == "RSA" && s.Bits < 2048:
		return TooWeak, "RSA below 2,048 bits can be broken; make a new key"
	case s.Kind == "RSA" && s.Bits < 3072:
		return Aging, "RSA below 3,072 bits is not recommended beyond 2030"
	case s.Kind == "RSA", s.Kind == "ECDSA", s.Kind == "Ed25519":
		return Sound, ""
	}
	return TooWeak, "this kind of key is retired"
}

// maxBits is the longest RSA key that is read or checked with, in bits: what it costs grows
// with the cube, and no server has a longer one.
const maxBits = 16384

// Oversized tells whether checking a signature of a key would cost more than any real key
// does.
func Oversized(key ssh.PublicKey) bool {
	_, bits := Describe(key)
	return bits > maxBits
}
