package keyfile

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"meatus/core/perm"
)

// Flaw is one kind of fault with a key file's place or permissions.
type Flaw uint8

// The flaws a key file can have.
const (
	OthersReach    Flaw = iota // mode bits for group or others
	ForeignOwner               // another account owns the file
	LooseFolder                // a folder above can be written to by others
	SymbolicLink               // the name is a symbolic link
	NotRegular                 // a folder, pipe, socket or device
	Missing                    // no such file
	Unreadable                 // the file is there, this account may not read it
	NoOwnerReading             // the owner has no right to read it
)

// Fault is a flaw found, in words, with what mends it.
type Fault struct {
	Flaw    Flaw
	Say     string // one sentence: what is wrong
	Mend    string // one sentence: what mends it
	Mending bool   // [Mend] does it
	Blocks  bool   // the key is not used while this stands
}

// Access is what the system says about a key file before it is read.
type Access struct {
	Path    string // as asked for
	Real    string // where a symbolic link leads, else Path
	Mode    fs.FileMode
	Owner   string // account name, or the number where it has none
	Size    int64
	Written time.Time // when the file last changed
	Faults  []Fault
}

// Blocked returns the first fault that keeps the key from being used.
func (a Access) Blocked() (Fault, bool) {
	for _, f := range a.Faults {
		if f.Blocks {
			return f, true
		}
	}
	return Fault{}, false
}

// Inspect judges the permissions of the file at path without reading it.
func Inspect(path string) Access {
	f, access := open(path)
	if f != nil {
		f.Close()
	}
	return access
}

// open judges path and, where it is a regular file that may be read, opens it.
// The mode and owner are those of the open file, not of the name.
func open(path string) (*os.File, Access) {
	a := Access{Path: path, Real: path}
	named, err := os.Lstat(path)
	if err != nil {
		a.missing(err)
		return nil, a
	}
	if named.Mode()&fs.ModeSymlink != 0 {
		real, err := filepath.EvalSymlinks(path)
		if err != nil {
			a.missing(err)
			return nil, a
		}
		a.Real = real
		a.add(Fault{Flaw: SymbolicLink,
			Say:  fmt.Sprintf("it is a symbolic link to %s", real),
			Mend: "name the file itself in the session"})
	}
	before, err := os.Stat(path)
	if err == nil && !before.Mode().IsRegular() {
		a.notRegular(before.Mode())
		return nil, a
	}
	f, err := os.OpenFile(a.Real, os.O_RDONLY|syscall.O_NONBLOCK|syscall.O_NOFOLLOW, 0)
	if err != nil {
		if before != nil {
			a.judge(before)
		}
		if _, stopped := a.Blocked(); !stopped {
			a.missing(err)
		}
		return nil, a
	}
	opened, err := f.Stat()
	if err != nil {
		f.Close()
		a.missing(err)
		return nil, a
	}
	if !opened.Mode().IsRegular() {
		f.Close()
		a.notRegular(opened.Mode())
		return nil, a
	}
	a.judge(opened)
	return f, a
}

func (a *Access) add(f Fault) { a.Faults = append(a.Faults, f) }

func (a *Access) missing(err error) {
	switch {
	case os.IsPermission(err):
		a.add(Fault{Flaw: Unreadable, Blocks: true,
			Say:  "this account may not read it",
			Mend: "make yourself the owner, or use a copy of your own"})
	case os.IsNotExist(err):
		a.add(Fault{Flaw: Missing, Blocks: true,
			Say:  "there is no such file",
			Mend: "put the key there, or correct the path"})
	default:
		why := err
		if pe, ok := err.(*fs.PathError); ok {
			why = pe.Err
		}
		a.add(Fault{Flaw: Unreadable, Blocks: true,
			Say:  fmt.Sprintf("it cannot be opened: %v", why),
			Mend: "name a file that can be read"})
	}
}

func (a *Access) notRegular(mode fs.FileMode) {
	a.Mode = mode
	what := "not a regular file"
	switch {
	case mode.IsDir():
		what = "a folder"
	case mode&fs.ModeNamedPipe != 0:
		what = "a pipe"
	case mode&fs.ModeSocket != 0:
		what = "a socket"
	case mode&fs.ModeDevice != 0:
		what = "a device"
	}
	a.add(Fault{Flaw: NotRegular, Blocks: true,
		Say: fmt.Sprintf("it is %s, not a key file", what), Mend: "name the key file itself"})
}

func (a *Access) judge(info fs.FileInfo) {
	a.Mode, a.Size, a.Written = info.Mode(), info.Size(), info.ModTime()
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		a.Owner, _ = perm.Owner(info)
		a.owner(st.Uid)
	}
	itself := a.Real == a.Path // a link is not followed to change what it leads to
	if mode := info.Mode().Perm(); mode&0o077 != 0 {
		mend := fmt.Sprintf("set mode %04o, so that only the owner can read it", MendedMode(mode))
		if !itself {
			mend = fmt.Sprintf("set mode %04o on %s, or name that file in the session", MendedMode(mode), a.Real)
		}
		a.add(Fault{Flaw: OthersReach, Blocks: true, Mending: itself, Say: fmt.Sprintf("mode %04o: %s", mode, whoElse(mode)), Mend: mend})
	} else if mode&0o400 == 0 {
		a.add(Fault{Flaw: NoOwnerReading, Blocks: true, Mending: itself,
			Say: fmt.Sprintf("mode %04o: not even its owner may read it", mode), Mend: "set mode 0400"})
	}
	a.folders()
}

func (a *Access) owner(uid uint32) {
	me := uint32(os.Geteuid())
	if uid == me || uid == 0 {
		return
	}
	a.add(Fault{Flaw: ForeignOwner, Blocks: true,
		Say:  fmt.Sprintf("it belongs to %s, who can read it", a.Owner),
		Mend: "keep a copy of your own, owned by you, and use that"})
}

// folders finds a folder above that somebody else could exchange the file in.
func (a *Access) folders() {
	var foreign *perm.Foreign
	if errors.As(perm.Folders(a.Real), &foreign) {
		a.add(Fault{Flaw: LooseFolder, Say: foreign.Say, Mend: foreign.Mend})
	}
}

// whoElse says in words what the mode gives to group and others.
func whoElse(mode fs.FileMode) string {
	names := []string{}
	for _, bit := range []struct {
		shift uint
		word  string
	}{{2, "read"}, {1, "write"}, {0, "run"}} {
		group := mode>>3>>bit.shift&1 == 1
		others := mode>>bit.shift&1 == 1
		switch {
		case group && others:
			names = append(names, "group and others can "+bit.word+" it")
		case group:
			names = append(names, "the group can "+bit.word+" it")
		case others:
			names = append(names, "others can "+bit.word+" it")
		}
	}
	return strings.Join(names, ", ")
}

// MendedMode is the mode [Mend] gives to a file of a mode.
func MendedMode(mode fs.FileMode) fs.FileMode {
	if mode&0o200 == 0 {
		return 0o400
	}
	return 0o600
}

// Mend makes the key file readable by its owner alone: mode 0600, or 0400 where
// it was read-only. It changes nothing else, and returns the file judged anew.
// It fails where path is a link, where the file holds no private key, and where it
// belongs to somebody else.
func Mend(path string) (Access, error) {
	err := perm.Restrict(path, MendedMode, func(f *os.File) error {
		text, err := io.ReadAll(io.LimitReader(f, MaxSize+1))
		if err != nil {
			return err
		}
		defer clear(text)
		var other *NotAKey
		if err := (&File{}).parse(text); errors.As(err, &other) && other.none {
			return other
		}
		return nil
	})
	if err != nil {
		err = fmt.Errorf("mending %s: %w", path, err)
	}
	return Inspect(path), err
}
