package workspace

import (
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"testing"

	"meatus/core/keyfile"
)

// someKeys fills keys/ of a new workspace with keys and sessions that use every
// tenth.
func someKeys(b *testing.B, n int) *Workspace {
	b.Helper()
	dir := b.TempDir()
	if err := os.Mkdir(filepath.Join(dir, "keys"), 0o700); err != nil {
		b.Fatal(err)
	}
	sessions := ""
	for i := range n {
		kind := []string{"Ed25519", "ECDSA"}[i%2]
		key, err := keyfile.Make(kind, 0)
		if err != nil {
			b.Fatal(err)
		}
		if err := keyfile.Write(filepath.Join(dir, "keys", fmt.Sprintf("key-%04d.pem", i)), key, keyfile.Wrapping{}); err != nil {
			b.Fatal(err)
		}
		if i%10 == 0 {
			sessions += fmt.Sprintf("[session.s-%d]\nhost = \"10.61.%d.%d\"\nkey = \"keys/key-%04d.pem\"\n", i, i/250, i%250, i)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "sessions.toml"), []byte(sessions), 0o600); err != nil {
		b.Fatal(err)
	}
	w, err := Open(dir)
	if err != nil {
		b.Fatal(err)
	}
	w.Downloads = b.TempDir()
	return w
}

// BenchmarkKeys5000 lists 5,000 keys for the first time, again, and with the sheet
// of each.
func BenchmarkKeys5000(b *testing.B) {
	w := someKeys(b, 5000)
	memory := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	b.Run("first", func(b *testing.B) {
		before := memory()
		var keys []Key
		for b.Loop() {
			again, err := Open(w.Dir)
			if err != nil {
				b.Fatal(err)
			}
			again.Downloads = w.Downloads
			keys = again.Keys()
		}
		if len(keys) != 5000 {
			b.Fatalf("%d keys", len(keys))
		}
		b.ReportMetric(float64(memory()-before)/(1<<20), "MB")
		runtime.KeepAlive(keys)
	})
	b.Run("again", func(b *testing.B) {
		w.Keys()
		for b.Loop() {
			w.Keys()
		}
	})
	b.Run("sheets", func(b *testing.B) {
		for b.Loop() {
			for _, k := range w.Keys() {
				file, err := keyfile.Read(k.Path)
				if err != nil {
					b.Fatal(err)
				}
				file.Prints(nil)
				keyfile.Picture(file.Public)
			}
		}
	})
}

// BenchmarkDownloads20000 looks through a download folder with 20,000 files and one
// key among them.
func BenchmarkDownloads20000(b *testing.B) {
	w := someKeys(b, 1)
	for i := range 20_000 {
		if err := os.WriteFile(filepath.Join(w.Downloads, fmt.Sprintf("photo-%d.jpg", i)), []byte("no key"), 0o644); err != nil {
			b.Fatal(err)
		}
	}
	text, err := os.ReadFile(filepath.Join(w.Dir, "keys", "key-0000.pem"))
	if err != nil {
		b.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(w.Downloads, "fresh.pem"), text, 0o644); err != nil {
		b.Fatal(err)
	}
	for _, name := range []string{"first", "again"} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				if name == "first" {
					again, err := Open(w.Dir)
					if err != nil {
						b.Fatal(err)
					}
					again.Downloads, w = w.Downloads, again
				}
				if n := len(w.Arrived()); n != 1 {
					b.Fatalf("%d keys", n)
				}
			}
		})
	}
}
