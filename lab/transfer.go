package lab

import (
	"io"
	"io/fs"
	"path"
	"time"

	"github.com/pkg/sftp"
)

// transfer is the file-transfer channel to a host's tree, as the protocol library
// wants it.
type transfer struct {
	*tree
	faults *FileFaults
	home   string
}

// serveFiles serves the file-transfer channel until it ends.
func (s *shell) serveFiles(stream io.ReadWriteCloser) int {
	t := transfer{s.files, &s.host.Files, "/home/" + s.user}
	if t.faults.shellOnly() {
		return 1
	}
	stream = t.faults.over(stream)
	defer t.faults.left()
	server := sftp.NewRequestServer(stream, sftp.Handlers{FileGet: t, FilePut: t, FileCmd: t, FileList: t}, sftp.WithStartDirectory(t.home))
	if err := server.Serve(); err != nil && err != io.EOF {
		return 1
	}
	return 0
}

func (t transfer) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	name, _ := t.resolve(r.Filepath)
	n, ok := t.get(name)
	switch {
	case !ok:
		return nil, fs.ErrNotExist
	case n.mode.IsDir() || n.owner != keeperID && n.mode.Perm()&0o004 == 0 || n.mode&fs.ModeSocket != 0:
		return nil, fs.ErrPermission
	}
	return text(n.text), nil
}

type text []byte

func (t text) ReadAt(p []byte, off int64) (int, error) {
	if off >= int64(len(t)) {
		return 0, io.EOF
	}
	n := copy(p, t[off:])
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Filewrite opens a file to be written.
func (t transfer) Filewrite(r *sftp.Request) (io.WriterAt, error) {
	flags := r.Pflags()
	n, there := t.get(r.Filepath)
	switch {
	case there && flags.Excl:
		return nil, fs.ErrExist
	case there && (n.mode.IsDir() || n.owner != keeperID):
		return nil, fs.ErrPermission
	case !there && !flags.Creat:
		return nil, fs.ErrNotExist
	case !there:
		if err := t.make(r.Filepath, 0o644); err != nil {
			return nil, err
		}
	case flags.Trunc:
		t.change(r.Filepath, func(n *node) { n.text = nil })
	}
	return writer{t, r.Filepath}, nil
}

type writer struct {
	t    transfer
	name string
}

func (w writer) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > maxFile {
		return 0, sftp.ErrSSHFxFailure
	}
	if w.t.full(int64(len(p))) {
		return 0, errQuota
	}
	if w.t.faults.forgets() {
		return len(p), w.t.change(w.name, func(n *node) { n.text = append(n.text, make([]byte, max(int(off)+len(p)-len(n.text), 0))...) })
	}
	err := w.t.change(w.name, func(n *node) {
		if grow := int(off) + len(p) - len(n.text); grow > 0 {
			n.text = append(n.text, make([]byte, grow)...)
		}
		copy(n.text[off:], p)
		n.at = time.Now()
	})
	return len(p), err
}

func (t transfer) Filecmd(r *sftp.Request) error {
	switch r.Method {
	case "Setstat":
		a, flags := r.Attributes(), r.AttrFlags()
		return t.change(r.Filepath, func(n *node) {
			if flags.Permissions {
				n.mode = n.mode&^fs.ModePerm | a.FileMode().Perm()
			}
			if flags.Size && a.Size <= maxFile {
				n.text = append(n.text[:min(int(a.Size), len(n.text)):min(int(a.Size), len(n.text))], make([]byte, max(int(a.Size)-len(n.text), 0))...)
			}
			if flags.Acmodtime {
				n.at = a.ModTime()
			}
		})
	case "Mkdir":
		if _, there := t.get(r.Filepath); there {
			return fs.ErrExist
		}
		return t.make(r.Filepath, fs.ModeDir|0o755)
	case "Rename":
		return t.move(r.Filepath, r.Target, false)
	case "Remove":
		return t.remove(r.Filepath, false)
	case "Rmdir":
		return t.remove(r.Filepath, true)
	case "Symlink": // the library has the two names of this request the other way round
		return t.link(r.Filepath, "", r.Target)
	case "Link":
		return t.link("", r.Filepath, r.Target)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename puts a file in the place of another at once.
func (t transfer) PosixRename(r *sftp.Request) error { return t.move(r.Filepath, r.Target, true) }

// RealPath is a name without links.
func (t transfer) RealPath(name string) (string, error) {
	if !path.IsAbs(name) {
		name = path.Join(t.home, name)
	}
	name = path.Clean(name)
	if real, ok := t.resolve(name); ok {
		return real, nil
	}
	return name, nil
}

// Readlink is where a link leads.
func (t transfer) Readlink(name string) (string, error) {
	n, ok := t.get(name)
	if !ok || n.mode&fs.ModeSymlink == 0 {
		return "", fs.ErrNotExist
	}
	return n.leads, nil
}

// Lstat tells what stands under a name, a link where it is one.
func (t transfer) Lstat(r *sftp.Request) (sftp.ListerAt, error) {
	n, ok := t.get(r.Filepath)
	if !ok {
		return nil, fs.ErrNotExist
	}
	return listing{t.entry(path.Base(r.Filepath), n)}, nil
}

// StatVFS tells how much room there is.
func (t transfer) StatVFS(*sftp.Request) (*sftp.StatVFS, error) {
	const block = 4096
	free := uint64(max(t.room(), 0)) / block
	return &sftp.StatVFS{Bsize: block, Frsize: block, Blocks: free, Bfree: free, Bavail: free, Namemax: 255}, nil
}

func (t transfer) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	name, _ := t.resolve(r.Filepath)
	n, ok := t.get(name)
	if !ok {
		return nil, fs.ErrNotExist
	}
	switch r.Method {
	case "Stat":
		return listing{t.entry(path.Base(r.Filepath), n)}, nil
	case "List":
		var all listing
		for _, base := range t.list(name) {
			if n, ok := t.get(path.Join(name, base)); ok {
				all = append(all, t.entry(path.Base(base), n))
			}
		}
		if t.faults.neverEnds() {
			return endless{t.entry("tide", n)}, nil
		}
		return all, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
}

// endless lists one name for ever.
type endless struct{ entry }

func (e endless) ListAt(to []fs.FileInfo, _ int64) (int, error) {
	for i := range to {
		to[i] = e.entry
	}
	return len(to), nil
}

// listing is what stands in a folder.
type listing []entry

func (l listing) ListAt(to []fs.FileInfo, off int64) (int, error) {
	if off >= int64(len(l)) {
		return 0, io.EOF
	}
	n := 0
	for n < len(to) && int(off)+n < len(l) {
		to[n] = l[int(off)+n]
		n++
	}
	return n, nil
}

// entry is a node with its name, as the library wants it.
type entry struct {
	name string
	n    node
	size int64
}

func (t transfer) entry(name string, n node) entry {
	return entry{name, n, t.faults.size(int64(len(n.text)))}
}

func (e entry) Name() string       { return e.name }
func (e entry) Size() int64        { return e.size }
func (e entry) Mode() fs.FileMode  { return e.n.mode }
func (e entry) ModTime() time.Time { return e.n.at }
func (e entry) IsDir() bool        { return e.n.mode.IsDir() }
func (e entry) Sys() any           { return nil }
func (e entry) Uid() uint32        { return e.n.owner }
func (e entry) Gid() uint32        { return e.n.owner }
