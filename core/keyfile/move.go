package keyfile

import (
	"bytes"
	"encoding/pem"
	"errors"
	"fmt"
	"os"
	"path/filepath"
)

// RetiredFolder is where retired keys go, in the folder they were in.
const RetiredFolder = "retired"

// Rename gives a key file, its public half and its certificate another name in
// the same folder. It never writes over a file.
func Rename(path, name string) (string, error) {
	if name == "" || name != filepath.Base(name) || name == "." || name == ".." {
		return "", fmt.Errorf("%q is no name for a file", name)
	}
	return move(path, filepath.Join(filepath.Dir(path), name))
}

// Retire moves a key file, its public half and its certificate aside, into the
// folder [RetiredFolder] beside them. It never writes over a file.
func Retire(path string) (string, error) {
	dir := filepath.Join(filepath.Dir(path), RetiredFolder)
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	to := filepath.Join(dir, filepath.Base(path))
	for n := 2; ; n++ {
		at, err := move(path, to)
		if !errors.Is(err, os.ErrExist) {
			return at, err
		}
		to = filepath.Join(dir, fmt.Sprintf("%s.%d", filepath.Base(path), n))
	}
}

// beside are what may stand beside a key, by what is put behind its name.
var beside = []string{".pub", "-cert.pub"}

// move moves a key and what stands beside it. A file in the way is an error and
// never lost; of two programs that move a key one does.
func move(from, to string) (string, error) {
	info, err := os.Lstat(from)
	if err != nil {
		return "", err
	}
	if !info.Mode().IsRegular() {
		return "", fmt.Errorf("%s is no regular file", from)
	}
	for _, suffix := range beside {
		if _, err := os.Lstat(to + suffix); err == nil {
			return "", fmt.Errorf("%s%s is there already: %w", to, suffix, os.ErrExist)
		}
	}
	if err := renameNew(from, to); err != nil {
		return "", err
	}
	for _, suffix := range beside {
		if _, err := os.Lstat(from + suffix); err == nil {
			if err := os.Rename(from+suffix, to+suffix); err != nil {
				return to, fmt.Errorf("the key is %s now, but its other files stay: %w", to, err)
			}
		}
	}
	return to, nil
}

// linkThenRemove is renameNew where the system has no such thing: a link is made
// before the old name goes.
func linkThenRemove(from, to string) error {
	if err := os.Link(from, to); err != nil {
		return err
	}
	return os.Remove(from)
}

// Split writes each private key of a text that holds several to a file of its
// own in dir: BASE-1.pem and so on. It writes over nothing, and returns what it
// wrote, also where it fails on the way.
func Split(text []byte, dir, base string) (written []string, err error) {
	clean, _ := straighten(text)
	var blocks []*pem.Block
	for rest := clean; ; {
		block, after := pem.Decode(rest)
		if block == nil {
			break
		}
		rest = after
		if _, ok := pemContainers[block.Type]; ok {
			blocks = append(blocks, block)
		}
	}
	if len(blocks) < 2 {
		return nil, &NotAKey{Say: fmt.Sprintf("there are %d private keys in it, nothing to split", len(blocks)), Mend: "name a file that holds several"}
	}
	for i, block := range blocks {
		one := pem.EncodeToMemory(block)
		if _, err := Parse(one); err != nil {
			return written, fmt.Errorf("key %d of %d: %w", i+1, len(blocks), err)
		}
		path := filepath.Join(dir, fmt.Sprintf("%s-%d.pem", base, i+1))
		if err := writeNew(path, bytes.TrimLeft(one, "\n")); err != nil {
			return written, err
		}
		written = append(written, path)
	}
	return written, nil
}
