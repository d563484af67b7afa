package keyfile

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/flate"
	"compress/gzip"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
)

func TestBitsFlippedInEveryContainerAreToldInWords(t *testing.T) {
	for kind, key := range someKeys {
		for name, text := range containers(key) {
			step := 1 + len(text)/200
			if strings.Contains(name, "bcrypt locked") {
				step = 1 + len(text)/12 // its derivation takes long
			}
			for n := 0; n < len(text); n += step {
				bent := bytes.Clone(text)
				bent[n] ^= 1 << (n % 8)
				k, err := Parse(bent)
				if err == nil {
					_, err = k.private([]byte("tide"))
				}
				if err != nil && strings.TrimSpace(err.Error()) == "" {
					t.Errorf("%s in %s, bit %d of byte %d: no words", kind, name, n%8, n)
				}
			}
		}
	}
}

func TestAWrongPassphraseIsToldAsSuch(t *testing.T) {
	for kind, key := range someKeys {
		for name, text := range containers(key) {
			k, err := Parse(text)
			if err != nil || !k.Passphrase {
				continue
			}
			if _, err := k.private([]byte("ebb")); !errors.Is(err, ErrPassphrase) {
				t.Errorf("%s in %s: %v", kind, name, err)
			}
		}
	}
}

func TestAPipeIsNotWaitedFor(t *testing.T) {
	path := filepath.Join(t.TempDir(), "pipe.pem")
	if err := syscall.Mkfifo(path, 0o600); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 4)
	go func() {
		_, err := Read(path)
		done <- err
		_, err = SplitFile(path, t.TempDir())
		done <- err
		done <- Rewrap(path, nil, Wrapping{})
		_, err = Retire(path)
		done <- err
	}()
	for range 4 {
		select {
		case err := <-done:
			if err == nil {
				t.Error("a pipe is a key")
			}
		case <-time.After(20 * time.Second):
			t.Fatal("it waits for the pipe")
		}
	}
	if len(Found(filepath.Dir(path))) != 0 {
		t.Error("a pipe is found as a key")
	}
}

// TestAPairCutInHalf has the power go between the two halves of a pair, and while a
// half is written.
func TestAPairCutInHalf(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.pem")
	if err := Write(path, someKeys["Ed25519"], Wrapping{}); err != nil {
		t.Fatal(err)
	}
	whole, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if err := os.Remove(path + ".pub"); err != nil { // it never came to be
		t.Fatal(err)
	}
	if k, err := Read(path); err != nil || k.SHA256 == "" {
		t.Errorf("without its public half: %v", err)
	}
	if err := Write(path, someKeys["ECDSA"], Wrapping{}); !errors.Is(err, os.ErrExist) {
		t.Errorf("made again: %v", err)
	}
	if text, _ := os.ReadFile(path); !bytes.Equal(text, whole) {
		t.Error("it was written over")
	}
	// What was begun under another name is no key of that name, and in nobody's way.
	if err := os.WriteFile(filepath.Join(dir, ".b.pem.ABCDEFGH"), whole[:40], 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Write(filepath.Join(dir, "b.pem"), someKeys["ECDSA"], Wrapping{}); err != nil {
		t.Error(err)
	}
	names, _ := filepath.Glob(filepath.Join(dir, "*"))
	if len(names) != 4 {
		t.Errorf("there are %q", names)
	}
}

func TestOfManyProgramsThatRetireAKeyOneDoes(t *testing.T) {
	for range 20 {
		dir := t.TempDir()
		path := filepath.Join(dir, "a.pem")
		if err := Write(path, someKeys["Ed25519"], Wrapping{}); err != nil {
			t.Fatal(err)
		}
		text, _ := os.ReadFile(path)
		var wg sync.WaitGroup
		var mu sync.Mutex
		moved := []string{}
		for range 8 {
			wg.Go(func() {
				to, err := Retire(path)
				if err != nil && to == "" {
					return
				}
				mu.Lock()
				defer mu.Unlock()
				moved = append(moved, to)
			})
		}
		wg.Wait()
		if len(moved) != 1 {
			t.Fatalf("moved to %q", moved)
		}
		if got, err := os.ReadFile(moved[0]); err != nil || !bytes.Equal(got, text) {
			t.Errorf("the key: %v", err)
		}
		if files, _ := os.ReadDir(filepath.Join(dir, RetiredFolder)); len(files) != 2 {
			t.Errorf("%d files in retired/", len(files))
		}
	}
}

func TestTheWorkOnAnArchiveIsBounded(t *testing.T) {
	key := containers(someKeys["ECDSA"])["bcrypt"]
	zipped := func(n int, text []byte) string {
		var out, squeezed bytes.Buffer
		f, err := flate.NewWriter(&squeezed, flate.BestSpeed)
		if err != nil {
			t.Fatal(err)
		}
		f.Write(text)
		f.Close()
		z := zip.NewWriter(&out)
		for i := range n { // each is the same, and squeezed once
			w, err := z.CreateRaw(&zip.FileHeader{
				Name: fmt.Sprintf("%d/gauge.pem", i), Method: zip.Deflate, CRC32: crc32.ChecksumIEEE(text),
				CompressedSize64: uint64(squeezed.Len()), UncompressedSize64: uint64(len(text)),
			})
			if err != nil {
				t.Fatal(err)
			}
			w.Write(squeezed.Bytes())
		}
		z.Close()
		file := filepath.Join(t.TempDir(), "a.zip")
		if err := os.WriteFile(file, out.Bytes(), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	usual := maxUnpacked
	maxUnpacked = 8 << 20
	t.Cleanup(func() { maxUnpacked = usual })
	if _, err := SplitFile(zipped(40, make([]byte, MaxSize)), t.TempDir()); !errors.Is(err, errLarge) { // 10 MiB in 10 KiB
		t.Errorf("an archive that unpacks to much: %v", err)
	}
	dir := t.TempDir()
	written, err := SplitFile(zipped(maxKeys+2, key), dir)
	if files, _ := os.ReadDir(dir); !errors.Is(err, errKeys) || len(written) != maxKeys || len(files) != maxKeys {
		t.Errorf("an archive of many keys: %d written, %v", len(written), err)
	}
}

func TestKeysComeOutOfArchives(t *testing.T) {
	key := containers(someKeys["ECDSA"])["bcrypt"]
	members := []struct{ name, text string }{
		{"pairs/gauge.pem", string(key)}, {"../../escape.pem", string(key)}, {`..\..\gauge.pem`, string(key)}, {"letter.txt", "no key"}, {"big.bin", strings.Repeat("x", MaxSize+1)}, {"folder/", ""},
	}
	var zipped, tarred, squeezed bytes.Buffer
	z, tw := zip.NewWriter(&zipped), tar.NewWriter(&tarred)
	for _, m := range members {
		w, err := z.Create(m.name)
		if err != nil {
			t.Fatal(err)
		}
		io.WriteString(w, m.text)
		if err := tw.WriteHeader(&tar.Header{Name: m.name, Size: int64(len(m.text)), Mode: 0o644}); err != nil {
			t.Fatal(err)
		}
		io.WriteString(tw, m.text)
	}
	tw.WriteHeader(&tar.Header{Name: "link.pem", Typeflag: tar.TypeSymlink, Linkname: "/etc/passwd"})
	z.Close()
	tw.Close()
	g := gzip.NewWriter(&squeezed)
	g.Write(tarred.Bytes())
	g.Close()
	for name, archive := range map[string][]byte{"a.zip": zipped.Bytes(), "a.tar": tarred.Bytes(), "a.tar.gz": squeezed.Bytes()} {
		root := t.TempDir()
		dir := filepath.Join(root, "deep", "keys")
		os.MkdirAll(dir, 0o700)
		file := filepath.Join(root, name)
		os.WriteFile(file, archive, 0o600)
		written, err := SplitFile(file, dir)
		if err != nil || len(written) != 3 {
			t.Errorf("%s: %q, %v", name, written, err)
			continue
		}
		for i, want := range []string{"gauge.pem", "escape.pem", "gauge-2.pem"} {
			info, err := os.Stat(filepath.Join(dir, want))
			if err != nil || info.Mode().Perm()&0o077 != 0 || written[i] != filepath.Join(dir, want) {
				t.Errorf("%s: %s: %v, %v", name, want, info, err)
			}
		}
		var all []string
		filepath.WalkDir(root, func(path string, d fs.DirEntry, _ error) error {
			if !d.IsDir() {
				all = append(all, path)
			}
			return nil
		})
		if len(all) != 4 {
			t.Errorf("%s wrote elsewhere: %q", name, all)
		}
		for n := 0; n < len(archive); n += 1 + len(archive)/60 { // cut short
			os.WriteFile(file, archive[:n], 0o600)
			if _, err := SplitFile(file, t.TempDir()); err != nil && fmt.Sprint(err) == "" {
				t.Errorf("%s cut at %d: no words", name, n)
			}
		}
	}
	if _, err := SplitFile(filepath.Join(t.TempDir(), "none.zip"), t.TempDir()); err == nil {
		t.Error("an archive that is not there")
	}
}
