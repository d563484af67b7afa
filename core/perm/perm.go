// Package perm judges who besides this account can change a file, and takes that right
// from them.
//
// It promises that what it changes is the very file that was judged: both are done to an
// open file, whose name, in the last part of it, is not followed where it is a link. A
// judgement costs a look at the file and one at every folder above it.
package perm

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
)

// Foreign is the error for a file that another account could change or exchange.
type Foreign struct {
	Path string
	Say  string // one sentence: who can do what
	Mend string // one sentence: what mends it
	Mode bool   // [Restrict] does
}

func (f *Foreign) Error() string { return fmt.Sprintf("%s: %s; %s", f.Path, f.Say, f.Mend) }

// Judge tells whether another account could change what stands at path, a file or a
// folder, or put another in its place: by owning it, by its mode, or by a folder above
// it. It fails with a [Foreign], or with [fs.ErrNotExist] where nothing is there. A link
// is followed, and the folder that it stands in judged, too.
func Judge(path string) error {
	named, err := os.Lstat(path)
	if err != nil {
		return err
	}
	real := path
	if named.Mode()&fs.ModeSymlink != 0 {
		if err := Folders(path); err != nil {
			return err
		}
		if real, err = filepath.EvalSymlinks(path); err != nil {
			return err
		}
	}
	info, err := os.Stat(real)
	if err != nil {
		return err
	}
	if err := judged(real, info); err != nil {
		return err
	}
	return Folders(real)
}

// judged judges a file alone.
func judged(path string, info fs.FileInfo) error {
	if owner, foreign := Owner(info); foreign {
		return &Foreign{Path: path, Say: fmt.Sprintf("it belongs to %s, who can change it", owner), Mend: "make a copy of your own and use that"}
	}
	if perm := info.Mode().Perm(); perm&0o022 != 0 && info.Mode()&fs.ModeSticky == 0 {
		return &Foreign{Path: path, Mode: true,
			Say:  fmt.Sprintf("it has mode %04o: others can write it", perm),
			Mend: fmt.Sprintf("set mode %04o", perm&^0o022)}
	}
	return nil
}

// Folders judges the folders above a path: who can write to one of them can put another
// file in the place of one below. In a sticky folder (like the system's temporary one)
// that is for owners alone.
func Folders(path string) error {
	real, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	if r, err := filepath.EvalSymlinks(filepath.Dir(real)); err == nil {
		real = filepath.Join(r, filepath.Base(real))
	}
	for dir := filepath.Dir(real); ; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err == nil {
			if owner, foreign := Owner(info); foreign && !unmapped(info) {
				return &Foreign{Path: path, Say: fmt.Sprintf("the folder %s belongs to %s, who can exchange it", dir, owner), Mend: "keep it in a folder of your own"}
			}
			if info.Mode()&fs.ModeSticky == 0 && info.Mode().Perm()&0o022 != 0 {
				return &Foreign{Path: path,
					Say:  fmt.Sprintf("others can write to the folder %s and exchange it", dir),
					Mend: fmt.Sprintf("take the write permission of group and others from %s", dir)}
			}
		}
		if dir == filepath.Dir(dir) {
			return nil
		}
	}
}

// Owner is the account that a file belongs to, and whether it is neither this one nor the
// superuser, who can do everything anyway.
func Owner(info fs.FileInfo) (name string, foreign bool) {
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return "", false
	}
	return account(st.Uid), st.Uid != uint32(os.Geteuid()) && st.Uid != 0
}

// overflow is the account that the system shows for those outside of a user namespace.
const overflow = 65534

// unmapped tells whether a file's owner is outside of the user namespace that this
// program runs in: the superuser of the machine, most often.
func unmapped(info fs.FileInfo) bool {
	st, ok := info.Sys().(*syscall.Stat_t)
	return ok && st.Uid == overflow && inNamespace()
}

// inNamespace tells whether this program runs in a user namespace with accounts of its own.
var inNamespace = sync.OnceValue(func() bool {
	text, err := os.ReadFile("/proc/self/uid_map")
	return err == nil && strings.Join(strings.Fields(string(text)), " ") != "0 0 4294967295"
})

// ErrExchanged says that a file was exchanged while it was looked at.
var ErrExchanged = errors.New("it was exchanged meanwhile; look at it again")

// Restrict gives the regular file at path another mode: the one that next makes of the
// one it has. accept, where it is not nil, looks at the file first and may refuse it. It
// fails where path is a link, or belongs to another account.
func Restrict(path string, next func(fs.FileMode) fs.FileMode, accept func(*os.File) error) error {
	// A file whose owner may not read it can still be held by its descriptor.
	held, err := syscall.Open(path, openPath|syscall.O_NOFOLLOW|syscall.O_CLOEXEC, 0)
	if err != nil {
		return &fs.PathError{Op: "open", Path: path, Err: err}
	}
	defer syscall.Close(held)
	name := fmt.Sprintf("/proc/self/fd/%d", held)
	info, err := os.Stat(name)
	if err != nil {
		return err
	}
	owner, foreign := Owner(info)
	named, lerr := os.Lstat(path)
	switch {
	case lerr == nil && named.Mode()&fs.ModeSymlink != 0:
		return errors.New("it is a symbolic link; name the file itself")
	case !info.Mode().IsRegular():
		return errors.New("it is not a regular file")
	case foreign || os.Geteuid() == 0 && owner != account(0):
		return fmt.Errorf("it belongs to %s; keep a copy of your own", owner)
	case lerr != nil || !os.SameFile(named, info):
		return ErrExchanged
	}
	before := info.Mode().Perm()
	mode := next(before)
	// What can only be looked at with another mode gets it, and has it taken away again.
	if err := os.Chmod(name, mode); err != nil {
		return err
	}
	if accept == nil {
		return nil
	}
	f, err := os.Open(name)
	if err == nil {
		err = accept(f)
		f.Close()
	}
	if err != nil {
		return errors.Join(err, os.Chmod(name, before))
	}
	return nil
}

// accounts remembers the names of accounts, which the system finds slowly.
var accounts sync.Map

func account(uid uint32) string {
	if name, ok := accounts.Load(uid); ok {
		return name.(string)
	}
	id := strconv.FormatUint(uint64(uid), 10)
	if u, err := user.LookupId(id); err == nil {
		id = u.Username
	}
	accounts.Store(uid, id)
	return id
}
