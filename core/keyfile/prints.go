package keyfile

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/x509"
	"encoding/hex"
	"strings"

	"golang.org/x/crypto/ssh"
)

// Print is a fingerprint of a key, in one of the notations that a console or a
// colleague might quote.
type Print struct {
	Name  string `json:"name"` // "SHA256", "MD5", "SHA1 DER"
	Over  string `json:"over"` // what it is computed over
	Value string `json:"value"`
}

// Prints lists the key's fingerprints. Those over the private key's own form,
// which some consoles print for keys they made, need the key unlocked: passphrase
// may be nil, and they are left out where it does not open the key.
func (k *File) Prints(passphrase []byte) []Print {
	if k.Public == nil {
		return nil
	}
	prints := PublicPrints(k.Public)
	key, err := k.private(passphrase)
	if err != nil || k.Kind != "RSA" {
		return prints
	}
	if der, err := x509.MarshalPKCS8PrivateKey(key); err == nil {
		sum := sha1.Sum(der)
		clear(der)
		prints = append(prints, Print{"SHA1 DER", "the private key in DER, as consoles print keys they made", Pairs(sum[:])})
	}
	return prints
}

// PublicPrints lists the fingerprints that a public key alone has.
func PublicPrints(key ssh.PublicKey) []Print {
	prints := []Print{
		{"SHA256", "the public key's wire form (RFC 4253)", Fingerprint(key)},
		{"MD5", "the public key's wire form (RFC 4253)", ssh.FingerprintLegacyMD5(key)},
	}
	holder, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return prints
	}
	if der, err := x509.MarshalPKIXPublicKey(holder.CryptoPublicKey()); err == nil {
		sum := md5.Sum(der)
		prints = append(prints, Print{"MD5 DER", "the public key in DER, as consoles print imported keys", Pairs(sum[:])})
	}
	return prints
}

// Pairs writes bytes as pairs of hexadecimal digits parted by colons.
func Pairs(p []byte) string {
	parts := make([]string, len(p))
	for i, b := range p {
		parts[i] = hex.EncodeToString([]byte{b})
	}
	return strings.Join(parts, ":")
}

// SamePrint tells whether two fingerprints are the same, however they are
// written: with their digest's name or without, with colons or without.
func SamePrint(a, b string) bool {
	plain := func(s string) string {
		s = strings.TrimSpace(s)
		for _, name := range []string{"SHA256:", "SHA1:", "MD5:"} {
			if len(s) > len(name) && strings.EqualFold(s[:len(name)], name) {
				s = s[len(name):]
			}
		}
		s = strings.TrimRight(s, "=")
		if digits := strings.ReplaceAll(s, ":", ""); len(digits) >= 32 && strings.Trim(strings.ToLower(digits), "0123456789abcdef") == "" {
			return strings.ToLower(digits)
		}
		return s
	}
	return plain(a) != "" && plain(a) == plain(b)
}

// Picture draws a fingerprint as a pattern to compare at a glance: five rows of
// nine shades of the SHA-256 digest, two bits each, mirrored to the right, since
// the eye is good at telling symmetric figures apart.
func Picture(key ssh.PublicKey) []string {
	digest := digestOf(key)
	shades := []rune(" ░▒█")
	rows := make([]string, 5)
	bit := 0
	for i := range rows {
		half := make([]rune, 9)
		for j := range half {
			half[j] = shades[digest[bit/8]>>(6-bit%8)&3]
			bit += 2
		}
		row := append([]rune(nil), half...)
		for j := range half {
			row = append(row, half[len(half)-1-j])
		}
		rows[i] = string(row)
	}
	return rows
}
