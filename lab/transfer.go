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
type transfer struct{ *tree }

// serveFiles serves the file-transfer channel until it ends.
func (s *shell) serveFiles(stream io.ReadWriteCloser) int {
	t := transfer{s.files}
	server := sftp.NewRequestServer(stream, sftp.Handlers{FileGet: t, FilePut: t, FileCmd: t, FileList: t}, sftp.WithStartDirectory("/home/"+s.user))
	if err := server.Serve(); err != nil && err != io.EOF {
		return 1
	}
	return 0
}

func (t transfer) Fileread(r *sftp.Request) (io.ReaderAt, error) {
	n, ok := t.get(r.Filepath)
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
	return writer{t.tree, r.Filepath}, nil
}

type writer struct {
	t    *tree
	name string
}

func (w writer) WriteAt(p []byte, off int64) (int, error) {
	if off < 0 || off+int64(len(p)) > maxFile {
		return 0, sftp.ErrSSHFxFailure
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
			if flags.Size && a.Size <= uint64(len(n.text)) {
				n.text = n.text[:a.Size]
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
		return t.remove(r.Filepath)
	}
	return sftp.ErrSSHFxOpUnsupported
}

// PosixRename puts a file in the place of another at once.
func (t transfer) PosixRename(r *sftp.Request) error { return t.move(r.Filepath, r.Target, true) }

func (t transfer) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	n, ok := t.get(r.Filepath)
	if !ok {
		return nil, fs.ErrNotExist
	}
	switch r.Method {
	case "Stat":
		return listing{{path.Base(r.Filepath), n}}, nil
	case "List":
		var all listing
		for _, name := range t.list(r.Filepath) {
			if n, ok := t.get(path.Join(r.Filepath, name)); ok {
				all = append(all, entry{path.Base(name), n})
			}
		}
		return all, nil
	}
	return nil, sftp.ErrSSHFxOpUnsupported
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
}

func (e entry) Name() string       { return e.name }
func (e entry) Size() int64        { return int64(len(e.n.text)) }
func (e entry) Mode() fs.FileMode  { return e.n.mode }
func (e entry) ModTime() time.Time { return e.n.at }
func (e entry) IsDir() bool        { return e.n.mode.IsDir() }
func (e entry) Sys() any           { return nil }
func (e entry) Uid() uint32        { return e.n.owner }
func (e entry) Gid() uint32        { return e.n.owner }
