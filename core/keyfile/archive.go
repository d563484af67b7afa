package keyfile

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strings"

	"meatus/core/sanitize"
)

// How much of an archive is looked at: its bytes, names, bytes unpacked, keys.
const (
	maxArchive = 512 << 20
	maxMembers = 10_000
	maxKeys    = 100
)

var maxUnpacked int64 = 256 << 20 // less in tests

var (
	errLarge = fmt.Errorf("the archive has more than %d files, or unpacks to more than %d MiB; unpack it, and name the key file", maxMembers, maxUnpacked>>20)
	errKeys  = fmt.Errorf("there are more than %d private keys in it; the first %d were taken", maxKeys, maxKeys)
)

// SplitFile writes each private key of an archive (zip, tar, tar and gzip) or of a
// file that holds several to a file of its own in dir, readable by its owner alone. Of the names
// in an archive only the last part is used. It writes over nothing, and returns
// what it wrote, also where it fails on the way.
func SplitFile(from, dir string) (written []string, err error) {
	f, access := open(from)
	if f == nil {
		return nil, &NotAKey{Say: "the archive cannot be read: " + faultWords(access), Mend: "name a file that you can read"}
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		return nil, err
	}
	var magic [4]byte
	if _, err := io.ReadFull(f, magic[:]); err != nil {
		return nil, fmt.Errorf("%s: %w", from, err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return nil, err
	}
	if info.Size() > maxArchive {
		return nil, &NotAKey{Say: fmt.Sprintf("it has %d bytes, and no more than %d MiB are looked through", info.Size(), maxArchive>>20), Mend: "unpack it, and name what you mean"}
	}
	take := func(name string, text []byte) error {
		defer clear(text)
		key, err := Parse(text)
		key.Forget()
		if err != nil {
			return nil // no key
		}
		if len(written) == maxKeys {
			return errKeys
		}
		to, err := writeAside(dir, sanitize.Line(path.Base(strings.ReplaceAll(name, `\`, "/")), 100), text)
		if err == nil {
			written = append(written, to)
		}
		return err
	}
	switch {
	case string(magic[:]) == "PK\x03\x04":
		err = eachZipped(f, info.Size(), take)
	case magic[0] == 0x1f && magic[1] == 0x8b:
		unpacked, zerr := gzip.NewReader(f)
		if zerr != nil {
			return nil, fmt.Errorf("%s: %w", from, zerr)
		}
		err = eachTarred(unpacked, take)
	case isTar(f):
		err = eachTarred(f, take)
	default:
		if info.Size() > maxSeveral {
			return nil, &NotAKey{Say: fmt.Sprintf("it has %d bytes, which no file of keys has", info.Size()), Mend: "name another file"}
		}
		text, err := io.ReadAll(io.LimitReader(f, maxSeveral))
		if err != nil {
			return nil, err
		}
		defer clear(text)
		base := filepath.Base(from)
		return Split(text, dir, strings.TrimSuffix(base, filepath.Ext(base)))
	}
	if err != nil {
		return written, fmt.Errorf("%s: %w", from, err)
	}
	if len(written) == 0 {
		return nil, &NotAKey{Say: "there is no private key in the archive", Mend: "name another archive"}
	}
	return written, nil
}

// maxSeveral is how long a file of several keys may be, in bytes.
const maxSeveral = 4 << 20

func faultWords(a Access) string {
	if len(a.Faults) > 0 {
		return a.Faults[0].Say
	}
	return "it is no plain file"
}

// isTar tells whether a file begins like a tar archive (POSIX.1-2001 ustar).
func isTar(f *os.File) bool {
	var mark [5]byte
	n, _ := f.ReadAt(mark[:], 257)
	return n == len(mark) && string(mark[:]) == "ustar"
}

func eachZipped(f io.ReaderAt, size int64, take func(string, []byte) error) error {
	z, err := zip.NewReader(f, size)
	if err != nil {
		return err
	}
	if len(z.File) > maxMembers {
		return errLarge
	}
	left := maxUnpacked
	for _, member := range z.File {
		if left <= 0 {
			return errLarge
		}
		if !member.Mode().IsRegular() || member.UncompressedSize64 > MaxSize {
			continue
		}
		r, err := member.Open()
		if err != nil {
			return err
		}
		text, err := io.ReadAll(io.LimitReader(r, MaxSize+1))
		r.Close()
		if err != nil {
			return fmt.Errorf("%s: %w", sanitize.Line(member.Name, 60), err)
		}
		left -= int64(len(text))
		if len(text) <= MaxSize {
			if err := take(member.Name, text); err != nil {
				return err
			}
		}
	}
	return nil
}

func eachTarred(r io.Reader, take func(string, []byte) error) error {
	limited := &io.LimitedReader{R: r, N: maxUnpacked}
	t := tar.NewReader(limited)
	for n := 0; ; n++ {
		member, err := t.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if n >= maxMembers || limited.N <= 0 {
			return errLarge
		}
		if err != nil {
			return err
		}
		if member.Typeflag != tar.TypeReg || member.Size > MaxSize {
			continue
		}
		var text bytes.Buffer
		if _, err := io.Copy(&text, t); err != nil {
			return fmt.Errorf("%s: %w", sanitize.Line(member.Name, 60), err)
		}
		if err := take(member.Name, text.Bytes()); err != nil {
			return err
		}
	}
}

// writeAside writes a new file of a name, or of the name with a number where one
// is there.
func writeAside(dir, name string, text []byte) (to string, err error) {
	if name == "" || name == "." || name == ".." || name == "/" {
		name = "key.pem"
	}
	ext := filepath.Ext(name)
	for n := 1; ; n++ {
		to = filepath.Join(dir, name)
		if n > 1 {
			to = filepath.Join(dir, fmt.Sprintf("%s-%d%s", strings.TrimSuffix(name, ext), n, ext))
		}
		if err := writeNew(to, text); !errors.Is(err, os.ErrExist) || n > maxKeys {
			return to, err
		}
	}
}
