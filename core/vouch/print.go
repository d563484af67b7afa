package vouch

import (
	"bytes"
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/keyfile"
)

// Notation is a way to write a fingerprint of a key. All are taken over the
// key's wire encoding (RFC 4253 section 6.6).
type Notation struct {
	Name  string
	Write func(key ssh.PublicKey) string
}

// Notations are the ways that consoles and colleagues write fingerprints, the
// best first.
var Notations = []Notation{
	{"SHA256", func(k ssh.PublicKey) string { return strings.TrimPrefix(ssh.FingerprintSHA256(k), "SHA256:") }},
	{"SHA256 hex", func(k ssh.PublicKey) string { return keyfile.Pairs(digest256(k)) }},
	{"SHA1", func(k ssh.PublicKey) string {
		sum := sha1.Sum(k.Marshal())
		return base64.RawStdEncoding.EncodeToString(sum[:])
	}},
	{"SHA1 hex", func(k ssh.PublicKey) string { sum := sha1.Sum(k.Marshal()); return keyfile.Pairs(sum[:]) }},
	{"MD5", func(k ssh.PublicKey) string { sum := md5.Sum(k.Marshal()); return keyfile.Pairs(sum[:]) }},
}

func digest256(k ssh.PublicKey) []byte {
	sum := sha256.Sum256(k.Marshal())
	return sum[:]
}

// readPrint reads a fingerprint as somebody wrote it: its bytes, and by how many there
// are its digest.
func readPrint(written string) (sum []byte, ok bool) {
	s := strings.TrimSpace(written)
	for _, prefix := range []string{"SHA256:", "SHA1:", "MD5:"} {
		if len(s) > len(prefix) && strings.EqualFold(s[:len(prefix)], prefix) {
			s = s[len(prefix):]
			break
		}
	}
	if sum, err := hex.DecodeString(strings.NewReplacer(":", "", " ", "").Replace(s)); err == nil && digestName(len(sum)) != "" {
		return sum, true
	}
	sum, err := base64.RawStdEncoding.DecodeString(strings.TrimRight(s, "="))
	return sum, err == nil && (len(sum) == sha256.Size || len(sum) == sha1.Size)
}

// writePrint is a fingerprint as it is kept: SHA-256 in base64, the others as pairs
// of digits.
func writePrint(sum []byte) string {
	if len(sum) == sha256.Size {
		return "SHA256:" + base64.RawStdEncoding.EncodeToString(sum)
	}
	return digestName(len(sum)) + ":" + keyfile.Pairs(sum)
}

func digestName(size int) string {
	return map[int]string{sha256.Size: "SHA256", sha1.Size: "SHA1", md5.Size: "MD5"}[size]
}

// Match is how a fingerprint that was expected compares with a key.
type Match struct {
	Same     bool
	Notation string // in which both are written below
	Expected string
	Shown    string // the key's own
}

// Compare compares a fingerprint as somebody wrote it, or a whole public key,
// with a key, in the notation it was written in. ok is false where it is neither.
func Compare(written string, key ssh.PublicKey) (m Match, ok bool) {
	if other, _, _, _, err := ssh.ParseAuthorizedKey([]byte(written)); err == nil {
		written = ssh.FingerprintSHA256(other)
	}
	sum, ok := readPrint(written)
	if !ok {
		return m, false
	}
	name := digestName(len(sum))
	isHex := strings.Count(written, ":") > 3 || name == "MD5"
	if isHex && name != "MD5" {
		name += " hex"
	}
	for _, n := range Notations {
		if n.Name != name {
			continue
		}
		m = Match{Notation: name, Shown: n.Write(key), Expected: base64.RawStdEncoding.EncodeToString(sum)}
		if isHex {
			m.Expected = keyfile.Pairs(sum)
		}
	}
	m.Same = m.Expected == m.Shown && !bytes.Equal(sum, nil)
	return m, true
}
