// Package memory looks for secrets in the memory of the process, for tests.
package memory

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"runtime"
	"strings"
	"testing"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Count counts where this process has a secret in its writable memory. The secret is given
// masked, each byte by [Mask], so that the looking leaves no copy of it. It works on Linux
// alone, and skips the test elsewhere.
func Count(t testing.TB, masked []byte) (found int) {
	t.Helper()
	if runtime.GOOS != "linux" {
		t.Skip("no other system shows a process its own memory like that")
	}
	maps, err := os.ReadFile("/proc/self/maps")
	if err != nil {
		t.Fatal(err)
	}
	mem, err := os.Open("/proc/self/mem")
	if err != nil {
		t.Fatal(err)
	}
	defer mem.Close()
	// What is looked at is copied to where nobody looks, or it would be found there, too.
	block, err := unix.Mmap(-1, 0, 1<<20, unix.PROT_READ|unix.PROT_WRITE, unix.MAP_PRIVATE|unix.MAP_ANON)
	if err != nil {
		t.Fatal(err)
	}
	defer unix.Munmap(block)
	own := int64(uintptr(unsafe.Pointer(&block[0])))
	for lines := bufio.NewScanner(bytes.NewReader(maps)); lines.Scan(); {
		var from, to int64
		var mode string
		if n, _ := fmt.Sscanf(lines.Text(), "%x-%x %s", &from, &to, &mode); n != 3 || !strings.HasPrefix(mode, "rw") || strings.Contains(lines.Text(), "[v") || to-from > 256<<20 {
			continue
		}
		for at := from; at < to; at += int64(len(block) - len(masked)) {
			end := min(at+int64(len(block)), to)
			if own < end && at < own+int64(len(block)) { // up to it, and then on behind it
				if end = own; end <= at {
					at = own + int64(len(masked)) // so that the next step is to its end
					continue
				}
			}
			n, _ := mem.ReadAt(block[:end-at], at)
			for i := 0; i+len(masked) <= n; i++ {
				next := bytes.IndexByte(block[i:n], masked[0]^Mask)
				if next < 0 || i+next+len(masked) > n {
					break
				}
				i += next
				same := true
				for j := 1; j < len(masked) && same; j++ {
					same = block[i+j]^Mask == masked[j]
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

// Mask is what a secret's bytes are masked with.
const Mask = 0x5a
