package install

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path"

	"github.com/pkg/sftp"

	"meatus/core/book"
	"meatus/core/farfile"
)

// byFiles reaches a list over the file-transfer channel.
type byFiles struct {
	at   *farfile.Files
	list string
}

func (f *byFiles) close() { f.at.Close() }

func (f *byFiles) files() farfile.Account { return f.at }

// lookedAt are what a server looks at before it reads a list: the home folder and, in it or
// elsewhere, the list's folder and the list.
func lookedAt(list string) []string {
	names := []string{".", path.Dir(list), list}
	if names[1] == "." || names[1] == "/" {
		return []string{".", list}
	}
	return names
}

func (f *byFiles) parts(context.Context) (parts []part, err error) {
	for _, name := range lookedAt(f.list) {
		info, err := f.at.Client.Stat(name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		p := part{name: name, mode: info.Mode().String(), others: info.Mode().Perm()&0o022 != 0}
		if stat, ok := info.Sys().(*sftp.FileStat); ok {
			p.owner = fmt.Sprint(stat.UID)
		}
		parts = append(parts, p)
	}
	return parts, nil
}

// folder makes and mends the usual folder; another is left alone.
func (f *byFiles) folder(context.Context) error {
	folder := path.Dir(f.list)
	info, err := f.at.Client.Stat(folder)
	switch {
	case errors.Is(err, fs.ErrNotExist) && f.list != book.DefaultKeyList:
		return fmt.Errorf("the folder of the list, %s, does not exist; ask the administrator to create it", folder)
	case errors.Is(err, fs.ErrNotExist):
		if err := f.at.Client.Mkdir(folder); err != nil {
			return fmt.Errorf("making %s: %w", folder, err)
		}
		return f.at.Client.Chmod(folder, 0o700)
	case err != nil:
		return err
	}
	if perm := info.Mode().Perm(); perm&0o022 != 0 && f.list == book.DefaultKeyList {
		return f.at.Client.Chmod(folder, perm&^0o022)
	}
	return nil
}
