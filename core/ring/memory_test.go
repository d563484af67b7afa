package ring

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
)

// inMemory counts where this process has a secret in its writable memory. The secret is
// given masked, so that the looking leaves no copy of it.
func inMemory(t *testing.T, masked []byte) (found int) {
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
	block := make([]byte, 1<<20)
	for lines := bufio.NewScanner(bytes.NewReader(maps)); lines.Scan(); {
		var from, to int64
		var mode string
		if n, _ := fmt.Sscanf(lines.Text(), "%x-%x %s", &from, &to, &mode); n != 3 || !strings.HasPrefix(mode, "rw") || strings.Contains(lines.Text(), "[v") || to-from > 256<<20 {
			continue
		}
		for at := from; at < to; at += int64(len(block) - len(masked)) {
			n, _ := mem.ReadAt(block[:min(int64(len(block)), to-at)], at)
			for i := 0; i+len(masked) <= n; i++ {
				next := bytes.IndexByte(block[i:n], masked[0]^mask)
				if next < 0 || i+next+len(masked) > n {
					break
				}
				i += next
				same := true
				for j := 1; j < len(masked) && same; j++ {
					same = block[i+j]^mask == masked[j]
				}
				if same {
					found++
				}
			}
			clear(block)
		}
	}
	return found
}

const mask = 0x5a

func TestASealedKeyIsNotInMemory(t *testing.T) {
	const size = 96
	masked := make([]byte, size)
	page, _, err := newPage(size)
	if err != nil {
		t.Fatal(err)
	}
	for i := range size {
		masked[i] = byte(i*7+3) ^ mask
		page[i] = masked[i] ^ mask
	}
	c := &cell{page: page, der: page[:size]}
	shut, err := sealer(bytes.Repeat([]byte{9}, 32))
	if err != nil {
		t.Fatal(err)
	}
	for _, step := range []struct {
		what string
		do   func() error
		want int
	}{
		{"a key in the ring", func() error { return nil }, 1},
		{"a sealed key", func() error { return c.seal(shut) }, 0},
		{"a key that was opened again", func() error { return c.open(shut) }, 1},
		{"a key that is gone", func() error { c.wipe(); return nil }, 0},
	} {
		if err := step.do(); err != nil {
			t.Fatal(err)
		}
		if n := inMemory(t, masked); n != step.want {
			t.Errorf("%s is in memory %d times, want %d", step.what, n, step.want)
		}
	}
}

func TestAWholeKeyIsSealedAndOpened(t *testing.T) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	c, _, err := newCell(ed25519.PrivateKey(bytes.Clone(key)))
	if err != nil {
		t.Fatal(err)
	}
	shut, _ := sealer(bytes.Repeat([]byte{9}, 32))
	other, _ := sealer(bytes.Repeat([]byte{8}, 32))
	if err := c.seal(shut); err != nil {
		t.Fatal(err)
	}
	if err := c.use(func(ssh.AlgorithmSigner) error { return nil }); !errors.Is(err, ErrLocked) {
		t.Errorf("a sealed key is used: %v", err)
	}
	if c.open(other) == nil {
		t.Error("it was opened with another password")
	}
	if err := c.open(shut); err != nil || !bytes.Equal(c.der, key) {
		t.Errorf("opened: %v", err)
	}
}

func TestNoOtherProgramReadsOurMemory(t *testing.T) {
	if err := Harden(); err != nil {
		t.Fatal(err)
	}
	defer unix.Prctl(unix.PR_SET_DUMPABLE, 1, 0, 0, 0)
	dumpable, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
	var core unix.Rlimit
	if lerr := unix.Getrlimit(unix.RLIMIT_CORE, &core); err != nil || lerr != nil || dumpable != 0 || core.Cur != 0 || core.Max != 0 {
		t.Errorf("dumpable %d, core files up to %d, %v, %v", dumpable, core.Cur, err, lerr)
	}
}
