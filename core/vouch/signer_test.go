package vouch

import (
	"crypto/ed25519"
	"crypto/rand"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
)

func TestRevokedCertificatesAreKept(t *testing.T) {
	dir := t.TempDir()
	r := Open(filepath.Join(dir, "vouched.toml"))
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	line := string(ssh.MarshalAuthorizedKey(signer.PublicKey()))
	print := ssh.FingerprintSHA256(signer.PublicKey())
	if err := r.Revoke(line, []uint64{7}); err != nil || r.IsRevoked(print, 7) {
		t.Errorf("of a signer that is not trusted: %v", err)
	}
	if _, err := r.Trust("*.reef.internal", line, time.Now()); err != nil {
		t.Fatal(err)
	}
	for _, serials := range [][]uint64{{7}, {7, 9}, {9}, nil} {
		if err := r.Revoke(line, serials); err != nil {
			t.Fatal(err)
		}
	}
	again := Open(filepath.Join(dir, "vouched.toml"))
	if !again.IsRevoked(print, 7) || !again.IsRevoked(print, 9) || again.IsRevoked(print, 8) || again.IsRevoked("SHA256:other", 7) {
		t.Error("what was revoked is not what is known")
	}
	if text, err := os.ReadFile(filepath.Join(dir, "vouched.toml")); err != nil || strings.Count(string(text), "[[revoked]]") != 2 {
		t.Errorf("%v\n%s", err, text)
	}
}
