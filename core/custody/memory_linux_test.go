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
	"unsafe"

	"meatus/core/keyfile"
	"meatus/core/ring"
	"meatus/core/route"
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
		masked[i] ^= 0xff
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
			if n := copies(t, masked); n == 0 {
				t.Error("the seed is not found although the ring is open: this test sees nothing")
			}
			if err := c.Ring.Lock([]byte("spring")); err != nil {
				t.Fatal(err)
			}
			runtime.GC()
			if n := copies(t, masked); n > 1 {
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

// copies counts how often a secret, given with all its bits turned, stands in the memory of this process.
func copies(t *testing.T, masked []byte) (n int) {
	t.Helper()
	maps, err := os.ReadFile("/proc/self/maps")
	if err != nil {
		t.Fatal(err)
	}
	mem, err := os.Open("/proc/self/mem")
	if err != nil {
		t.Fatal(err)
	}
	defer mem.Close()
	buf := make([]byte, 1<<20)
	defer clear(buf)
	own := uint64(uintptr(unsafe.Pointer(&buf[0])))
	for line := range strings.Lines(string(maps)) {
		var from, to uint64
		var mode string
		if n, _ := fmt.Sscanf(line, "%x-%x %s", &from, &to, &mode); n < 3 || !strings.HasPrefix(mode, "rw") {
			continue
		}
		for at := from; at < to; at += uint64(len(buf)) - 64 { // what lies across two pieces is in the second
			size := min(uint64(len(buf)), to-at)
			got, err := mem.ReadAt(buf[:size], int64(at))
			if err != nil && got == 0 {
				break
			}
			for i := 0; i+len(masked) <= got; i++ {
				next := bytes.IndexByte(buf[i:got], masked[0]^0xff)
				if i += max(next, 0); next < 0 || i+len(masked) > got {
					break
				}
				same := true
				for j := range masked {
					same = same && buf[i+j] == masked[j]^0xff
				}
				place := at + uint64(i)
				if same && (place+32 <= own || place >= own+uint64(len(buf))) && !(i < 64 && at > from) {
					n++
				}
			}
		}
	}
	return n
}
