package farfile

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"

	"github.com/pkg/sftp"

	"meatus/core/sanitize"
)

// Files accesses files over SFTP (the "sftp" subsystem, version 3 of the protocol).
type Files struct {
	Client *sftp.Client
	Done   func() // ends the channel
	// Replace renames a file over another by a command, for servers without the extension. It is nil, or fails with
	// [ErrCannotReplace], where the account runs no commands.
	Replace func(ctx context.Context, from, to string) error
}

// Close ends the channel.
func (f *Files) Close() { f.Done() }

// replacing is the SFTP extension for a rename that replaces an existing file. The plain rename of version 3 fails if there
// is one, on most servers.
const replacing = "posix-rename@openssh.com"

// Read reads a file, following symbolic links.
func (f *Files) Read(_ context.Context, name string) (State, error) {
	file, err := f.Client.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return None, nil
	}
	if err != nil {
		return None, err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return None, err
	}
	text, err := io.ReadAll(io.LimitReader(file, Max+1))
	switch {
	case err != nil:
		return None, err
	case len(text) > Max:
		return None, fmt.Errorf("%s is longer than %d bytes; have a look at it yourself", sanitize.Line(name, 200), Max)
	case int64(len(text)) < info.Size():
		return None, fmt.Errorf("%s cannot be read: it did not come whole", sanitize.Line(name, 200))
	}
	return Text(text), nil
}

// real returns the file's path without symbolic links.
func (f *Files) real(name string) string {
	if info, err := f.Client.Lstat(name); err != nil || info.Mode()&fs.ModeSymlink == 0 {
		return name
	}
	if real, err := f.Client.RealPath(name); err == nil {
		return real
	}
	return name
}

func (f *Files) apply(ctx context.Context, c Change, name string) error {
	now, err := f.Read(ctx, c.Path)
	if err != nil {
		return err
	}
	if !now.Same(c.Before) {
		return ErrChanged
	}
	at := f.real(c.Path)
	if c.Keep && now.There {
		if err := f.keep(ctx, at, now); err != nil {
			return err
		}
	}
	if !c.After.There {
		return f.Client.Remove(at)
	}
	beside := at + newEnd + name
	err = f.write(ctx, beside, c.After.Text, f.mode(at, c))
	if err == nil {
		err = f.place(ctx, beside, at, now.There)
	}
	if err != nil {
		f.Client.Remove(beside)
	}
	return err
}

// mode returns the permissions of the new file.
func (f *Files) mode(at string, c Change) fs.FileMode {
	if info, err := f.Client.Stat(at); err == nil {
		return info.Mode().Perm() &^ c.Deny
	}
	return c.Mode.Perm()
}

// keep copies the file to its old copy, unless there is one already.
func (f *Files) keep(ctx context.Context, at string, now State) error {
	kept := Kept(path.Base(at))
	kept = path.Join(path.Dir(at), kept)
	if _, err := f.Client.Lstat(kept); err == nil {
		return nil
	}
	part := kept + ".part"
	f.Client.Remove(part)
	if err := f.write(ctx, part, now.Text, f.mode(at, Change{Mode: 0o600})); err != nil {
		return err
	}
	return f.Client.Rename(part, kept)
}

// write writes a new file, flushes it to disk where the server supports that, and reads it back.
func (f *Files) write(ctx context.Context, name string, text []byte, mode fs.FileMode) error {
	file, err := f.Client.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL)
	if err != nil {
		return err
	}
	err = file.Chmod(mode)
	if err == nil {
		_, err = file.Write(text)
	}
	if _, can := f.Client.HasExtension("fsync@openssh.com"); err == nil && can {
		err = file.Sync()
	}
	if err = errors.Join(err, file.Close()); err != nil {
		return err
	}
	arrived, err := f.Read(ctx, name)
	if err == nil && !bytes.Equal(arrived.Text, text) {
		err = ErrNotWhole
	}
	return err
}

// place moves a temporary file into place in one step: removing the old file first would leave none after a cut.
func (f *Files) place(ctx context.Context, beside, at string, there bool) error {
	if _, can := f.Client.HasExtension(replacing); can {
		return f.Client.PosixRename(beside, at)
	}
	err := f.Client.Rename(beside, at) // some servers' replaces
	if err == nil || !there {
		return err
	}
	if f.Replace == nil {
		return ErrCannotReplace
	}
	return f.Replace(ctx, beside, at)
}

func (f *Files) settle(ctx context.Context, name, mark string) (State, error) {
	beside := f.real(name) + newEnd + mark
	if err := f.Client.Remove(beside); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return None, err
	}
	return f.Read(ctx, name)
}

func (f *Files) remove(_ context.Context, name, file string) error {
	at := f.real(name)
	list, err := f.Client.ReadDir(path.Dir(at))
	if err != nil {
		return err
	}
	for _, left := range list {
		if strings.HasPrefix(left.Name(), path.Base(at)+newEnd) {
			err = errors.Join(err, f.Client.Remove(path.Join(path.Dir(at), left.Name())))
		}
	}
	if gone := f.Client.Remove(file); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}
