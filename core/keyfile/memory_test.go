package keyfile

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"os"
	"path/filepath"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/lab/memory"
)

// maskedKey writes a key file, and returns a part of its text, masked. Nothing readable of it
// is left in memory.
func maskedKey(t *testing.T, path, passphrase string) (masked []byte) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	text := pem.EncodeToMemory(block)
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	for _, c := range text[200:260] {
		masked = append(masked, c^memory.Mask)
	}
	clear(text)
	return masked
}

func TestTheTextOfAKeyFileIsWiped(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key.pem")
	masked := maskedKey(t, path, "")
	before := memory.Count(t, masked) // what making it left behind
	file, err := Read(path)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := file.Signer(nil); err != nil {
		t.Fatal(err)
	}
	if n := memory.Count(t, masked); n > before {
		t.Errorf("reading a key left its text in memory %d times", n-before)
	}
	file.Forget()
	if _, err := file.Signer(nil); err == nil {
		t.Error("a key that was forgotten is opened")
	}
	if _, err := Look(path); err != nil {
		t.Error(err)
	}
	if n := memory.Count(t, masked); n > before {
		t.Errorf("looking at a key left its text in memory %d times", n-before)
	}
}

func TestWhatAFileHoldsOfItsKeyIsWipedWhenItIsForgotten(t *testing.T) {
	path := filepath.Join(t.TempDir(), "key.pem")
	maskedKey(t, path, "")
	file, err := Read(path)
	if err != nil {
		t.Fatal(err)
	}
	held := file.block.Bytes
	file.Forget()
	for _, b := range held {
		if b != 0 {
			t.Fatal("it is still readable")
		}
	}
}
