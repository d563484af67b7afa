package install

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"

	"github.com/pkg/sftp"
)

// byFiles reaches a list over the file-transfer channel.
type byFiles struct {
	files *sftp.Client
	done  func()
}

func (f *byFiles) close() { f.done() }

const keysFolder, keysList = ".ssh", ".ssh/authorized_keys"

func (f *byFiles) look(context.Context) (list, error) {
	var l list
	for _, name := range []string{".", keysFolder, keysList} {
		info, err := f.files.Stat(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return l, fmt.Errorf("%s: %w", name, err)
		}
		p := part{name: name, mode: info.Mode().String(), others: info.Mode().Perm()&0o022 != 0}
		if stat, ok := info.Sys().(*sftp.FileStat); ok {
			p.owner = fmt.Sprint(stat.UID)
		}
		l.parts = append(l.parts, p)
	}
	file, err := f.files.Open(keysList)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err != nil {
		return l, err
	}
	defer file.Close()
	if l.text, err = io.ReadAll(io.LimitReader(file, maxList)); err != nil {
		return l, err
	}
	if len(l.text) >= maxList {
		return l, tooLong()
	}
	return l, nil
}

// put writes the list beside the old one and puts it in its place, at the end of a
// link where the list is one.
func (f *byFiles) put(_ context.Context, text []byte) error {
	if info, err := f.files.Stat(keysFolder); errors.Is(err, fs.ErrNotExist) {
		if err := f.files.Mkdir(keysFolder); err != nil {
			return fmt.Errorf("making %s: %w", keysFolder, err)
		}
		if err := f.files.Chmod(keysFolder, 0o700); err != nil {
			return err
		}
	} else if err != nil {
		return err
	} else if perm := info.Mode().Perm(); perm&0o022 != 0 {
		if err := f.files.Chmod(keysFolder, perm&^0o022); err != nil {
			return err
		}
	}
	name := keysList
	if real, err := f.files.RealPath(keysList); err == nil {
		name = real
	}
	mode := fs.FileMode(0o600)
	if info, err := f.files.Stat(name); err == nil {
		mode = info.Mode().Perm() &^ 0o022
	}
	beside := path.Join(path.Dir(name), "authorized_keys."+rand.Text()[:8])
	file, err := f.files.OpenFile(beside, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	err = file.Chmod(mode)
	if err == nil {
		_, err = file.Write(text)
	}
	err = errors.Join(err, file.Close())
	if err == nil {
		err = f.files.PosixRename(beside, name)
	}
	if err != nil {
		f.files.Remove(beside)
	}
	return err
}
