package ends

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"
)

// Here is a tree of this machine. It is safe to use from many goroutines.
type Here struct {
	root *os.Root
	path string // of the root
	base string // what is put before each path: the one name that the tree is, or ""
}

// OpenHere opens the tree at a path: a folder, a file, or what is to be made there, whose
// folder has to be there.
func OpenHere(name string) (*Here, error) {
	full, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	h := &Here{path: full}
	dir := full
	if info, err := os.Stat(full); err != nil || !info.IsDir() {
		dir, h.base = filepath.Dir(full), filepath.Base(full)
	}
	if h.root, err = os.OpenRoot(dir); err != nil {
		return nil, fmt.Errorf("%s cannot be opened: %w", dir, cause(err))
	}
	return h, nil
}

// cause is an error without the path that the caller says better.
func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}

// at is a path as the root knows it.
func (h *Here) at(name string) string {
	if h.base == "" {
		if name == "" {
			return "."
		}
		return name
	}
	return Join(h.base, name)
}

// Name is "here".
func (h *Here) Name() string { return "here" }

// Root is the root's full path.
func (h *Here) Root() string { return h.path }

// InHome tells whether the tree stands in the account's own folder, or among what is there for a time.
func (h *Here) InHome() bool {
	home, err := os.UserHomeDir()
	return err == nil && within(resolved(home), resolved(h.path)) || within(resolved(os.TempDir()), resolved(h.path))
}

// resolved is a path without links, as it is where it cannot be told.
func resolved(name string) string {
	if without, err := filepath.EvalSymlinks(name); err == nil {
		return without
	}
	return name
}

// Can tells what the end can do.
func (h *Here) Can(f Feature) bool { return f&(Replaces|Hardens|Digests|Syncs) != 0 }

// Widths is how much may be under way at once.
func (h *Here) Widths() (operations, piece int) { return 64, 256 << 10 }

func (h *Here) entry(info fs.FileInfo, name string) Entry {
	e := Entry{Kind: kindOf(info.Mode()), Mode: bits(info.Mode()), Time: info.ModTime().Unix(), Nano: uint32(info.ModTime().Nanosecond())}
	if e.Kind == File {
		e.Size = info.Size()
	}
	e.UID, e.GID, e.Owned = owner(info)
	if e.Kind == Link {
		e.Link, _ = h.root.Readlink(h.at(name))
	}
	return e
}

// Lstat tells what stands under a name.
func (h *Here) Lstat(_ context.Context, name string) (Entry, error) {
	info, err := h.root.Lstat(h.at(name))
	if err != nil {
		return Entry{}, err
	}
	return h.entry(info, name), nil
}

// Stat tells what a name leads to.
func (h *Here) Stat(_ context.Context, name string) (Entry, error) {
	info, err := h.root.Stat(h.at(name))
	if err != nil {
		return Entry{}, err
	}
	return h.entry(info, name), nil
}

// List tells each name in a folder.
func (h *Here) List(ctx context.Context, folder string, each func(string, Entry) error) error {
	dir, err := h.root.Open(h.at(folder))
	if err != nil {
		return err
	}
	defer dir.Close()
	for {
		infos, err := dir.Readdir(1000)
		for _, info := range infos {
			if err := each(info.Name(), h.entry(info, Join(folder, info.Name()))); err != nil {
				return err
			}
		}
		if err == io.EOF {
			return nil
		}
		if err = errors.Join(err, ctx.Err()); err != nil {
			return err
		}
	}
}

// hereFile is an open file of this machine.
type hereFile struct{ *os.File }

// Look tells how the file is now.
func (f hereFile) Look() (Entry, error) {
	info, err := f.Stat()
	if err != nil {
		return Entry{}, err
	}
	e := Entry{Kind: kindOf(info.Mode()), Mode: bits(info.Mode()), Size: info.Size(), Time: info.ModTime().Unix(), Nano: uint32(info.ModTime().Nanosecond())}
	e.UID, e.GID, e.Owned = owner(info)
	return e, nil
}

// Data is where the next written part of the file begins and ends from a place on, so that
// holes need not be read; the whole rest where the system does not tell.
func (f hereFile) Data(from, size int64) (begin, end int64) {
	begin, err := unix.Seek(int(f.Fd()), from, unix.SEEK_DATA)
	if errors.Is(err, unix.ENXIO) {
		return size, size
	}
	if err != nil {
		return from, size
	}
	if end, err = unix.Seek(int(f.Fd()), begin, unix.SEEK_HOLE); err != nil {
		end = size
	}
	return begin, min(end, size)
}

// Open opens a file for reading. It follows a link that leads to a place beneath the root, and no other.
func (h *Here) Open(_ context.Context, name string) (Reader, error) {
	f, err := h.root.OpenFile(h.at(name), os.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	return hereFile{f}, nil
}

// open opens a file, and no symbolic link: os.Root follows links that stay beneath the root whatever the flags say, so the
// opened file is compared with the directory entry. A link is refused with ELOOP.
func (h *Here) open(name string, flags int) (f hereFile, err error) {
	is, err := h.root.Lstat(h.at(name))
	if err != nil {
		return f, err
	}
	if is.Mode()&fs.ModeSymlink != 0 {
		return f, &fs.PathError{Op: "open", Path: name, Err: unix.ELOOP}
	}
	file, err := h.root.OpenFile(h.at(name), flags|unix.O_NONBLOCK, 0)
	if err != nil {
		return f, err
	}
	if now, err := file.Stat(); err != nil || !os.SameFile(is, now) {
		file.Close()
		return f, errors.Join(err, &fs.PathError{Op: "open", Path: name, Err: unix.ELOOP})
	}
	return hereFile{file}, nil
}

// LeadsOut reports whether an existing link leads out of the tree, following every link on the way.
func (h *Here) LeadsOut(name string) bool {
	_, err := h.root.Stat(h.at(name))
	return err != nil && !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, fs.ErrPermission) && !errors.Is(err, unix.ENOTDIR)
}

// Create makes a file, which the account alone may read.
func (h *Here) Create(_ context.Context, name string) (Writer, error) {
	f, err := h.root.OpenFile(h.at(name), os.O_RDWR|os.O_CREATE|os.O_EXCL|unix.O_NOFOLLOW, 0o600)
	if err != nil {
		return nil, err
	}
	return hereFile{f}, nil
}

// Reopen opens an existing file for writing, and follows no link.
func (h *Here) Reopen(_ context.Context, name string) (Writer, error) {
	f, err := h.open(name, os.O_RDWR)
	if err != nil {
		return nil, err
	}
	return f, nil
}

// Mkdir makes a folder. One that is to be the root becomes it.
func (h *Here) Mkdir(_ context.Context, name string, mode uint16) error {
	return h.root.Mkdir(h.at(name), modeOf(mode)&fs.ModePerm)
}

// Rename gives a name to what stands under another, where nothing is.
func (h *Here) Rename(_ context.Context, from, to string) error {
	fromDir, fromName, close1, err := h.folderOf(from)
	if err != nil {
		return err
	}
	defer close1()
	toDir, toName, close2, err := h.folderOf(to)
	if err != nil {
		return err
	}
	defer close2()
	err = renameNew(fromDir, fromName, toDir, toName)
	if !errors.Is(err, unix.EINVAL) && !errors.Is(err, unix.ENOSYS) {
		return err
	}
	if _, err := h.root.Lstat(h.at(to)); !errors.Is(err, fs.ErrNotExist) { // this file system has no such rename
		return errors.Join(err, fs.ErrExist)
	}
	return h.root.Rename(h.at(from), h.at(to))
}

// folderOf opens the folder of a name, beneath the root.
func (h *Here) folderOf(name string) (dir int, base string, done func(), err error) {
	folder, base := filepath.Split(h.at(name))
	f, err := h.root.Open(filepath.Clean("./" + folder))
	if err != nil {
		return 0, "", nil, err
	}
	return int(f.Fd()), base, func() { f.Close() }, nil
}

// Replace puts a file in the place of another, in one step.
func (h *Here) Replace(_ context.Context, from, to string) error {
	return h.root.Rename(h.at(from), h.at(to))
}

// Link makes a second name of a file.
func (h *Here) Link(_ context.Context, from, to string) error {
	return h.root.Link(h.at(from), h.at(to))
}

// Symlink makes a symbolic link.
func (h *Here) Symlink(_ context.Context, leads, name string) error {
	return h.root.Symlink(leads, h.at(name))
}

// Remove removes a file, a link or an empty folder.
func (h *Here) Remove(_ context.Context, name string) error { return h.root.Remove(h.at(name)) }

// Chmod sets the bits of permission.
func (h *Here) Chmod(_ context.Context, name string, mode uint16) error {
	return h.root.Chmod(h.at(name), modeOf(mode))
}

// Chtime sets when it was written last.
func (h *Here) Chtime(_ context.Context, name string, e Entry) error {
	return h.root.Chtimes(h.at(name), time.Time{}, e.When())
}

// Chown sets whose it is.
func (h *Here) Chown(_ context.Context, name string, e Entry) error {
	return h.root.Lchown(h.at(name), int(e.UID), int(e.GID))
}

// Digest reads the files.
func (h *Here) Digest(ctx context.Context, names []string, each func(string, Sum, error)) error {
	var mu sync.Mutex
	var g errgroup.Group
	g.SetLimit(runtime.GOMAXPROCS(0))
	for _, name := range names {
		if ctx.Err() != nil {
			break
		}
		g.Go(func() error {
			sum, err := ReadSum(ctx, h, name)
			mu.Lock()
			defer mu.Unlock()
			each(name, sum, err)
			return nil
		})
	}
	g.Wait()
	return ctx.Err()
}

// buffers are what files are read through.
var buffers = sync.Pool{New: func() any { b := make([]byte, 256<<10); return &b }}

// ReadSum is the digest of a file's content, read through an end.
func ReadSum(ctx context.Context, e End, name string) (sum Sum, err error) {
	f, err := e.Open(ctx, name)
	if err != nil {
		return sum, err
	}
	defer f.Close()
	digest, buf := sha256.New(), buffers.Get().(*[]byte)
	defer buffers.Put(buf)
	if _, err := io.CopyBuffer(digest, Stoppable(ctx, io.NewSectionReader(f, 0, 1<<62)), *buf); err != nil {
		return sum, err
	}
	return Sum(digest.Sum(nil)), nil
}

// Stoppable is a reader that ends with a context.
func Stoppable(ctx context.Context, r io.Reader) io.Reader { return stopped{ctx, r} }

type stopped struct {
	ctx context.Context
	io.Reader
}

func (s stopped) Read(p []byte) (int, error) {
	if err := s.ctx.Err(); err != nil {
		return 0, err
	}
	return s.Reader.Read(p)
}

// SyncAll has everything that was written in the tree on the disk.
func (h *Here) SyncAll() error {
	f, err := h.root.Open(".")
	if err != nil {
		return err
	}
	defer f.Close()
	return syncAll(int(f.Fd()))
}

// Room is how many bytes this account may still write.
func (h *Here) Room(context.Context) (uint64, bool) {
	var s unix.Statfs_t
	f, err := h.root.Open(".")
	if err != nil {
		return 0, false
	}
	defer f.Close()
	if err := unix.Fstatfs(int(f.Fd()), &s); err != nil {
		return 0, false
	}
	return uint64(max(s.Bavail, 0)) * uint64(s.Bsize), true
}

// Lost is never so.
func (h *Here) Lost(error) bool { return false }

// Again does nothing.
func (h *Here) Again(context.Context) error { return nil }

// Close gives the tree up.
func (h *Here) Close() error { return h.root.Close() }
