package pkcs8

import (
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/asn1"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// cheap costs next to nothing, so that tests do not.
var cheap = Cost{Iterations: 2}

func newKey(t testing.TB) crypto.PrivateKey {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	return key
}

func TestWhatIsSealedOpens(t *testing.T) {
	_, ed, _ := ed25519.GenerateKey(rand.Reader)
	for _, key := range []crypto.PrivateKey{newKey(t), ed} {
		for _, cost := range []Cost{cheap, {N: 16, R: 8, P: 1}} {
			der, err := Seal(key, []byte("low tide"), cost)
			if err != nil {
				t.Fatal(err)
			}
			inner, err := Open(der, []byte("low tide"))
			if err != nil {
				t.Fatal(err)
			}
			got, err := x509.ParsePKCS8PrivateKey(inner)
			if same, ok := key.(interface{ Equal(crypto.PrivateKey) bool }); err != nil || !ok || !same.Equal(got) {
				t.Errorf("%T with %+v: %v", key, cost, err)
			}
			if _, err := Open(der, []byte("high tide")); !errors.Is(err, ErrPassphrase) {
				t.Errorf("with a wrong passphrase: %v", err)
			}
		}
	}
}

// TestOddLengthsNeverReachACipher gives the lengths that made a package panic which was
// used here before.
func TestOddLengthsNeverReachACipher(t *testing.T) {
	der, err := Seal(newKey(t), []byte("x"), cheap)
	if err != nil {
		t.Fatal(err)
	}
	var c container
	var s scheme
	if !whole(der, &c) || !whole(c.Algorithm.Parameters.FullBytes, &s) {
		t.Fatal("it cannot be taken apart")
	}
	for _, n := range []int{0, 1, 15, 17, len(c.Data) - 1} {
		odd := c
		odd.Data = c.Data[:n]
		der, _ := asn1.Marshal(odd)
		if _, err := Open(der, []byte("x")); !errors.Is(err, ErrDamaged) {
			t.Errorf("%d bytes: %v", n, err)
		}
	}
	for _, n := range []int{0, 8, 15, 17} {
		odd := s
		odd.Cipher.Parameters, _ = raw(make([]byte, n))
		outer := c
		outer.Algorithm.Parameters, _ = raw(odd)
		der, _ := asn1.Marshal(outer)
		if _, err := Open(der, []byte("x")); !errors.Is(err, ErrDamaged) {
			t.Errorf("a vector of %d bytes: %v", n, err)
		}
	}
}

// TestOthersContainersAreOpened has the usual tool make containers of every hash and
// cipher that are read.
func TestOthersContainersAreOpened(t *testing.T) {
	openssl, err := exec.LookPath("openssl")
	if err != nil {
		if os.Getenv("CI") != "" {
			t.Fatal(err)
		}
		t.Skip("openssl is not installed; scripts/test installs it")
	}
	dir := t.TempDir()
	plain := filepath.Join(dir, "plain.pem")
	run := func(args ...string) []byte {
		t.Helper()
		out, err := exec.Command(openssl, args...).Output()
		if err != nil {
			t.Fatalf("%v: %v", args, err)
		}
		return out
	}
	run("ecparam", "-name", "prime256v1", "-genkey", "-noout", "-out", plain)
	for _, args := range [][]string{
		{"-v2prf", "hmacWithSHA1"}, {"-v2prf", "hmacWithSHA224"}, {"-v2prf", "hmacWithSHA256"}, {"-v2prf", "hmacWithSHA384"}, {"-v2prf", "hmacWithSHA512"},
		{"-v2", "aes-128-cbc"}, {"-v2", "aes-192-cbc"}, {"-v2", "aes-256-cbc"}, {"-v2", "des3"}, {"-scrypt", "-scrypt_N", "16"},
	} {
		der := run(append([]string{"pkcs8", "-topk8", "-in", plain, "-outform", "DER", "-passout", "pass:low tide", "-iter", "2"}, args...)...)
		if _, err := Open(der, []byte("low tide")); err != nil {
			t.Errorf("%v: %v", args, err)
		}
		if Inspect(der).Name == "" {
			t.Errorf("%v: its derivation is not read", args)
		}
	}
}

// FuzzOpen looks for containers that panic. Costly derivations are left out, as callers
// do.
func FuzzOpen(f *testing.F) {
	for _, cost := range []Cost{cheap, {N: 16, R: 1, P: 1}} {
		der, err := Seal(newKey(f), []byte("x"), cost)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(der)
	}
	f.Fuzz(func(t *testing.T, der []byte) {
		if p := Inspect(der); p.N > 1000 || p.R > 64 || p.P > 64 {
			return
		}
		if key, err := Open(der, []byte("x")); err == nil && key == nil {
			t.Error("no key and no error")
		}
	})
}
