// Package ends is one tree of files, here or at the end of a route, as moving files needs
// it: listed, read and written by many goroutines at once, each name by its path beneath
// the tree's root.
//
// [Here] is a tree of this machine and [There] one of a far account, over the file-transfer
// channel (the protocol's version 3, draft-ietf-secsh-filexfer-02) and where there is a
// shell by commands of it.
//
// It promises that no name leads out of a tree of this machine, also where somebody puts a
// link in the way meanwhile ([os.Root]); that a far side's names are refused where one
// could lead out ([Unsafe]); and that [Lost] tells an answer of the far side from a line
// that is no more. A tree costs as many file-transfer channels as its operations keep busy,
// at most [MaxChannels].
package ends

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"strings"
	"time"
)

// Kind is what a name stands for.
type Kind uint8

// The kinds.
const (
	None Kind = iota // nothing is there
	File
	Folder
	Link  // a symbolic link
	Other // a device, a socket, a pipe
)

// String names the kind.
func (k Kind) String() string {
	return [...]string{"nothing", "file", "folder", "link", "special file"}[k]
}

// Entry is what stands under a name.
type Entry struct {
	Size  int64  // in bytes; of files alone
	Time  int64  // when it was written last, in seconds since 1970
	Nano  uint32 // of that second, 0 where the end does not tell
	UID   uint32
	GID   uint32
	Mode  uint16 // the twelve bits of permission
	Kind  Kind
	Owned bool   // whether UID and GID are known
	Link  string // where a link leads, as it stands there
}

// Same tells whether two looks at one name of one tree saw the same.
func (e Entry) Same(o Entry) bool {
	if e.Kind != o.Kind || e.Link != o.Link {
		return false
	}
	return e.Kind != File || e.Size == o.Size && e.Time == o.Time && e.Nano == o.Nano
}

// When is when it was written last.
func (e Entry) When() time.Time { return time.Unix(e.Time, int64(e.Nano)) }

// Reader reads one file, from many goroutines at once.
type Reader interface {
	io.ReaderAt
	io.Closer
	// Look tells how the open file is now.
	Look() (Entry, error)
}

// Writer writes one file, from many goroutines at once.
type Writer interface {
	io.WriterAt
	io.Closer
	Look() (Entry, error)
	Truncate(size int64) error
	// Sync has the file's content on the disk, where the end can do that.
	Sync() error
}

// Feature is something that not every end can do.
type Feature uint8

// The features.
const (
	Replaces Feature = 1 << iota // Replace puts a file in the place of another in one step
	Hardens                      // Link makes a second name of a file
	Digests                      // Digest needs not read the files over the line
	Packs                        // Unpack takes a packed stream
	Sends                        // Pack gives one
	Syncs
	Follows // what is moved, removed or looked at is what a link leads to, and not the link
)

// ErrFollows says that a link cannot be moved or removed at a server that would move or remove what it leads to.
var ErrFollows = errors.New("the server follows links: what it leads to would be moved or removed in its place, so it stays; change the link there by hand")

// PartPrefix is how the names begin of what is being written, beside the place that it is for. Such a name is never
// moved.
const PartPrefix = ".meatus-part-"

// End is one tree. Paths are relative to its root, parted by "/"; "" is the root itself.
// Errors are those of [fs] where one fits.
type End interface {
	Name() string // "here", or the session
	Root() string // the root's full path
	Can(Feature) bool
	// Widths is how many operations may be under way at once, and how long a piece of a
	// file may be in bytes.
	Widths() (operations, piece int)

	Lstat(ctx context.Context, name string) (Entry, error)
	// List tells each name in a folder but "." and ".."; it stops where each fails.
	List(ctx context.Context, folder string, each func(name string, e Entry) error) error
	Stat(ctx context.Context, name string) (Entry, error) // follows links, but never out of the tree
	Open(ctx context.Context, name string) (Reader, error)
	// Create makes a file that was not there; Reopen opens one that is, to be written.
	Create(ctx context.Context, name string) (Writer, error)
	Reopen(ctx context.Context, name string) (Writer, error)

	Mkdir(ctx context.Context, name string, mode uint16) error
	Rename(ctx context.Context, from, to string) error  // fails where to is there
	Replace(ctx context.Context, from, to string) error // puts it in the place of a file
	Link(ctx context.Context, from, to string) error    // makes a second name of a file
	Symlink(ctx context.Context, leads, name string) error
	Remove(ctx context.Context, name string) error // a file, a link or an empty folder
	Chmod(ctx context.Context, name string, mode uint16) error
	Chtime(ctx context.Context, name string, e Entry) error
	Chown(ctx context.Context, name string, e Entry) error

	// Digest tells the SHA-256 digest of each file's content, in no order; files that cannot
	// be read are told with an error.
	Digest(ctx context.Context, names []string, each func(name string, sum Sum, err error)) error
	// Room is how many bytes can be written at the root; ok is false where that is not known.
	Room(ctx context.Context) (bytes uint64, ok bool)

	// Lost tells whether an error means that the line to the end is no more, so that Again
	// may help.
	Lost(err error) bool
	// Again has the end reached anew. It waits until it is, and fails where waiting does not
	// help.
	Again(ctx context.Context) error
	Close() error
}

// Sum is a SHA-256 digest.
type Sum [32]byte

// String is the digest as digest tools print it.
func (s Sum) String() string { return fmt.Sprintf("%x", s[:]) }

// ErrUnsafe says that a name could lead out of its folder, or is none.
var ErrUnsafe = errors.New("no name of a file: it is refused")

// Unsafe tells of a name from elsewhere whether it could lead out of its folder.
func Unsafe(name string) bool {
	return name == "" || name == "." || name == ".." || strings.ContainsAny(name, "/\x00")
}

// Join is a path beneath a folder of the tree.
func Join(folder, name string) string {
	switch {
	case folder == "":
		return name
	case name == "":
		return folder
	}
	return folder + "/" + name
}

// Split parts a path into its folder and its last name.
func Split(name string) (folder, base string) {
	if i := strings.LastIndexByte(name, '/'); i >= 0 {
		return name[:i], name[i+1:]
	}
	return "", name
}

// Within reports whether the target of a symbolic link in a folder of the tree stays in the tree, even combined with other
// such links. A target with ".." after a name is refused: that name may be a link too, so its parent folder is unknown ("p"
// to "." and "x" to "p/p/../../y" would lead out together).
func Within(folder, leads string) bool {
	if path.IsAbs(leads) || leads == "" {
		return false
	}
	named := false
	for part := range strings.SplitSeq(leads, "/") {
		switch part {
		case "", ".":
		case "..":
			if named {
				return false
			}
		default:
			named = true
		}
	}
	to := path.Join(folder, leads)
	return to != ".." && !strings.HasPrefix(to, "../")
}

// kindOf is the kind that a mode tells.
func kindOf(m fs.FileMode) Kind {
	switch {
	case m.IsRegular():
		return File
	case m.IsDir():
		return Folder
	case m&fs.ModeSymlink != 0:
		return Link
	}
	return Other
}

// bits are the twelve bits of permission of a mode.
func bits(m fs.FileMode) uint16 {
	b := uint16(m.Perm())
	for flag, bit := range special {
		if m&flag != 0 {
			b |= bit
		}
	}
	return b
}

var special = map[fs.FileMode]uint16{fs.ModeSetuid: 0o4000, fs.ModeSetgid: 0o2000, fs.ModeSticky: 0o1000}

// modeOf is the mode with these bits.
func modeOf(b uint16) fs.FileMode {
	m := fs.FileMode(b & 0o777)
	for flag, bit := range special {
		if b&bit != 0 {
			m |= flag
		}
	}
	return m
}
