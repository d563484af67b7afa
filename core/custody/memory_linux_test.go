//go:build !race

package custody

import (
	"bytes"
	"crypto/ed25519"
	"encoding/hex"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/lab/memory"
)

const makesKey = "MEATUS_TEST_MAKES_KEY"

// TestMakesAKeyElsewhere makes a key in a process of its own, so that the test that looks for its seed has never had it.
func TestMakesAKeyElsewhere(t *testing.T) {
	path := os.Getenv(makesKey)
	if path == "" {
		return
	}
	key, err := keyfile.Make("ed25519", 0)
	if err != nil {
		t.Fatal(err)
	}
	w := keyfile.Wrapping{}
	switch filepath.Ext(path) {
	case ".locked":
		w.Passphrase = []byte("low tide")
	}
	if err := keyfile.Write(path, key, w); err != nil {
		t.Fatal(err)
	}
	masked := bytes.Clone(key.(ed25519.PrivateKey).Seed())
	for i := range masked {
		masked[i] ^= memory.Mask
	}
	fmt.Printf("seed=%s\n", hex.EncodeToString(masked))
}

// While the ring is locked, no copy of ours of a key's seed stands anywhere in the memory of the program. The standard
// library keeps one for signatures, which goes when its memory is used again.
func TestNoSeedStaysInMemoryWhileTheRingIsLocked(t *testing.T) {
	for _, kind := range []string{"bare", "locked"} {
		t.Run(kind, func(t *testing.T) {
			path := filepath.Join(t.TempDir(), "key."+kind)
			cmd := exec.Command(os.Args[0], "-test.run=^TestMakesAKeyElsewhere$")
			cmd.Env = append(os.Environ(), makesKey+"="+path)
			out, err := cmd.Output()
			if err != nil {
				t.Fatalf("%v\n%s", err, out)
			}
			_, seed, _ := strings.Cut(string(out), "seed=")
			masked, err := hex.DecodeString(strings.Fields(seed)[0])
			if err != nil {
				t.Fatal(err)
			}
			c := New(&ring.Ring{})
			file, err := keyfile.Read(path)
			if err != nil {
				t.Fatal(err)
			}
			var pass []byte
			if kind == "locked" {
				pass = []byte("low tide")
			}
			e, err := c.Hold(file, pass, route.Terms{})
			if err != nil {
				t.Fatal(err)
			}
			file.Forget()
			if _, err := c.Ring.Signer(e.SHA256).Sign(nil, []byte("data")); err != nil {
				t.Fatal(err)
			}
			if n := memory.Count(t, masked); n == 0 {
				t.Error("the seed is not found although the ring is open: this test sees nothing")
			}
			if err := c.Ring.Lock([]byte("spring")); err != nil {
				t.Fatal(err)
			}
			runtime.GC()
			if n := memory.Count(t, masked); n > 1 {
				t.Errorf("%d copies of the seed stand in memory", n)
			}
			if err := c.Ring.Unlock([]byte("spring")); err != nil {
				t.Fatal(err)
			}
			if _, err := c.Ring.Signer(e.SHA256).Sign(nil, []byte("data")); err != nil {
				t.Error(err)
			}
		})
	}
}
