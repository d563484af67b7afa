package ring

import (
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"testing"

	"meatus/lab/memory"

	"golang.org/x/crypto/ssh"
	"golang.org/x/sys/unix"
)

func TestASealedKeyIsNotInMemory(t *testing.T) {
	const size = 96
	masked := make([]byte, size)
	page, _, err := newPage(size)
	if err != nil {
		t.Fatal(err)
	}
	for i := range size {
		masked[i] = byte(i*7+3) ^ memory.Mask
		page[i] = masked[i] ^ memory.Mask
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
		if n := memory.Count(t, masked); n != step.want {
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
