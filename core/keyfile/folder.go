package keyfile

import (
	"bytes"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"meatus/core/sanitize"
)

// manyFiles is how many files of a folder are looked at for keys.
const manyFiles = 100_000

// Found lists the private keys that lie in a folder, by their content and not by
// their names, without those in folders below. Of a very full folder it looks at
// the first 100,000 files. A folder that cannot be read holds none.
func Found(dir string) []Sheet {
	d, err := os.Open(dir)
	if err != nil {
		return nil
	}
	defer d.Close()
	names, _ := d.Readdirnames(manyFiles)
	var found []Sheet
	for _, name := range names {
		path := filepath.Join(dir, name)
		info, err := os.Lstat(path)
		if err != nil || !info.Mode().IsRegular() || info.Size() > MaxSize || !looksLikeKey(path) {
			continue
		}
		if k, err := Read(path); err == nil {
			found = append(found, k.Sheet)
		}
	}
	return found
}

// looksLikeKey reads as much of a file as tells a private key from other things.
func looksLikeKey(path string) bool {
	f, err := os.Open(path)
	if err != nil {
		return false
	}
	defer f.Close()
	head := make([]byte, 4096)
	n, _ := io.ReadFull(f, head)
	return bytes.Contains(head[:n], []byte("PRIVATE KEY"))
}

// MendFolder makes every private key in a folder readable by its owner alone, as
// [Mend] does, and tells which files it changed. It goes on where one cannot be
// changed, and returns what went wrong joined.
func MendFolder(dir string) (changed []string, err error) {
	for _, s := range Loose(dir) {
		if _, one := Mend(s.Path); one != nil {
			err = errors.Join(err, one)
			continue
		}
		changed = append(changed, sanitize.Name(s.Path))
	}
	return changed, err
}

// Loose lists the private keys of a folder whose permissions [Mend] would change.
func Loose(dir string) []Sheet {
	var loose []Sheet
	for _, s := range Found(dir) {
		for _, f := range s.Faults {
			if f.Mending {
				loose = append(loose, s)
				break
			}
		}
	}
	return loose
}

// Adopt brings a key file into the folder keys, readable by its owner alone (mode
// 0400), and takes it away from where it was. It never writes over another file:
// where its name is taken by another key the new one gets a number. It returns
// where the key is now, and fails, leaving the file where it was, where it is no
// key or cannot be written. An error together with a path says that the key is
// there and the old file could not be taken away.
func Adopt(path, keys string) (string, error) {
	k, err := Read(path)
	if err != nil {
		return "", err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	if err := os.MkdirAll(keys, 0o700); err != nil {
		return "", err
	}
	base, ext := strings.TrimSuffix(filepath.Base(path), filepath.Ext(path)), filepath.Ext(path)
	to := filepath.Join(keys, base+ext)
	for n := 2; ; n++ {
		err := writeNew(to, text)
		if err == nil {
			break
		}
		if !errors.Is(err, fs.ErrExist) {
			return "", fmt.Errorf("adopting %s: %w", path, err)
		}
		if there, err := os.ReadFile(to); err == nil && bytes.Equal(there, text) {
			break // it is there already
		}
		to = filepath.Join(keys, fmt.Sprintf("%s-%d%s", base, n, ext))
	}
	if filepath.Clean(k.Real) == to {
		return to, nil
	}
	if err := os.Remove(path); err != nil {
		return to, fmt.Errorf("the key is in %s now, but the old file stays: %w; remove it yourself", to, err)
	}
	return to, nil
}

// writeNew writes a file that must not be there, whole or not at all.
func writeNew(path string, text []byte) error { return writeNewAs(path, text, 0o400) }

// writeNewAs writes a file that is not there yet, whole or not at all: under another
// name first, of the mode it will have.
func writeNewAs(path string, text []byte, mode fs.FileMode) error {
	if _, err := os.Lstat(path); err == nil {
		return &fs.PathError{Op: "writing", Path: path, Err: fs.ErrExist}
	}
	beside := filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+"."+rand.Text()[:8])
	f, err := os.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	defer os.Remove(beside)
	_, err = f.Write(text)
	if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
		return err
	}
	if err := os.Link(beside, path); err != nil { // a file that came meanwhile stays
		return &fs.PathError{Op: "writing", Path: path, Err: errors.Unwrap(err)}
	}
	return nil
}

// Own makes this account the owner of a key file and gives it a mode for its
// owner alone. Systems allow that to few; it fails where this one does not.
func Own(path string) (Access, error) {
	if err := os.Lchown(path, os.Geteuid(), os.Getegid()); err != nil {
		return Inspect(path), fmt.Errorf("taking %s over: %w", path, err)
	}
	return Mend(path)
}
