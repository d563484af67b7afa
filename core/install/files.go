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

	"meatus/core/book"

	"github.com/pkg/sftp"
)

// byFiles reaches a list over the file-transfer channel.
type byFiles struct {
	files *sftp.Client
	done  func()
	list  string
}

func (f *byFiles) close() { f.done() }

// lookedAt are what a server looks at before it reads a list: the home folder and, in it or
// elsewhere, the list's folder and the list.
func lookedAt(list string) []string {
	names := []string{".", path.Dir(list), list}
	if names[1] == "." || names[1] == "/" {
		return []string{".", list}
	}
	return names
}

func (f *byFiles) look(context.Context) (list, error) {
	var l list
	for _, name := range lookedAt(f.list) {
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
	file, err := f.files.Open(f.list)
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
	folder := path.Dir(f.list)
	if info, err := f.files.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		if f.list != book.DefaultKeyList {
			return fmt.Errorf("the folder of the list, %s, is not there; whoever runs the machine makes it", folder)
		}
		if err := f.files.Mkdir(folder); err != nil {
			return fmt.Errorf("making %s: %w", folder, err)
		}
		if err := f.files.Chmod(folder, 0o700); err != nil {
			return err
		}
	} else if err != nil {
		return err
	} else if perm := info.Mode().Perm(); perm&0o022 != 0 && f.list == book.DefaultKeyList {
		if err := f.files.Chmod(folder, perm&^0o022); err != nil {
			return err
		}
	}
	name := f.list
	if real, err := f.files.RealPath(f.list); err == nil {
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
		err = f.replace(beside, name)
	}
	if err != nil {
		f.files.Remove(beside)
	}
	return err
}

// replacing is the extension by which a rename puts a file in the place of another. The
// protocol's own rename fails where there is one.
const replacing = "posix-rename@openssh.com"

// replace puts a file in the place of another. Where the server cannot do that in one
// step the old file is put aside first, and back where the second step fails.
func (f *byFiles) replace(beside, name string) error {
	if _, can := f.files.HasExtension(replacing); can {
		return f.files.PosixRename(beside, name)
	}
	if _, err := f.files.Lstat(name); errors.Is(err, fs.ErrNotExist) {
		return f.files.Rename(beside, name)
	}
	aside := beside + ".old"
	if err := f.files.Rename(name, aside); err != nil {
		return fmt.Errorf("the server has no rename that replaces a file, and the old list cannot be put aside: %w", err)
	}
	if err := f.files.Rename(beside, name); err != nil {
		if back := f.files.Rename(aside, name); back != nil {
			return fmt.Errorf("the new list cannot be put in place (%w), and the old one not back (%w): it is in %s, put it back by hand", err, back, aside)
		}
		return err
	}
	if err := f.files.Remove(aside); err != nil {
		return fmt.Errorf("the new list is in place, and the old one is left behind as %s: %w", aside, err)
	}
	return nil
}
