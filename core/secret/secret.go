// Package secret wipes what should not stay in memory.
package secret

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rsa"
	"math/big"
)

// Wipe overwrites what can be reached of a private key: all of an Ed25519 key, and the
// numbers of an RSA key. An ECDSA key hides its number.
func Wipe(key crypto.PrivateKey) {
	switch k := key.(type) {
	case ed25519.PrivateKey:
		clear(k)
	case *ed25519.PrivateKey:
		clear(*k)
	case *rsa.PrivateKey:
		for _, n := range append([]*big.Int{k.D, k.Precomputed.Dp, k.Precomputed.Dq, k.Precomputed.Qinv}, k.Primes...) {
			if n != nil {
				clear(n.Bits())
			}
		}
	}
}
