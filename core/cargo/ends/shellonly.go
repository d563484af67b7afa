package ends

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"os"
	"path"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/pkg/sftp"

	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// shellServer in place of a command that serves the file-transfer protocol says that there is none: a
// server of ours, here, answers by commands of the account's shell.
const shellServer = "=shell="

// Bounds of an account that has a shell alone.
const (
	shellChannels = 4       // each with a shell that does one thing after the other
	shellWindow   = 2 << 20 // how much of a file is read at once, in bytes
	shellWindows  = 6       // of each open file, that are kept
	shellTime     = 5 * time.Minute
)

// shellFiles answers the file-transfer protocol by a POSIX shell, which is told line by line what to do.
// A line is taken only with the word that was agreed on, so that nothing else that comes to it, such as a
// file's content, is ever run; and an answer ends with that word.
type shellFiles struct {
	t     *There
	shell *remote.Program
	word  string
	out   *bufio.Reader
	near  net.Conn // the library's end

	mu sync.Mutex // held while something is done
}

// shellLoop is what the shell runs. $1 is the word. n is a line's end, which a line cannot hold. l prints
// what is known of names as "MODE SIZE TIME USER GROUP NAME//", the mode in hexadecimal, and L what is in
// a folder. What a step complains of is told behind what it prints.
const shellLoop = `LC_ALL=C; export LC_ALL; umask 077; w=$1; n='
'
command -v dd && command -v find && command -v stat && command -v head || exit 97
if stat -c %f / >/dev/null 2>&1
then l() { stat -c '%f %s %Y %u %g %n//' "$@"; }; L() { find . ! -name . -prune -exec stat -c '%f %s %Y %u %g %n//' {} +; }
else l() { stat -f '%Xp %z %m %u %g %N//' "$@"; }; L() { find . ! -name . -prune -exec stat -f '%Xp %z %m %u %g %N//' {} +; }
fi
none() { echo "No such file" >&2; exit 1; }
there() { [ -e "$1" ] || [ -L "$1" ]; }
into() { head -c "$1" | { dd of="$2" bs="$3" seek="$4" conv=notrunc; s=$?; cat >/dev/null; exit $s; }; }
exec 3>&1
printf '\n%s\n' "$w"
while IFS= read -r a; do
case $a in "$w "*) ;; *) exit 98;; esac
r=${a#"$w "}
e=$(eval "($r)" 2>&1 >&3)
printf '\n%s %d\n%s\n%s\n' "$w" $? "$e" "$w"
done`

// openShell opens a file-transfer channel to a server of ours here.
func (t *There) openShell(ctx context.Context, p *walk.Passage, c *channel) error {
	s := &shellFiles{t: t, word: rand.Text()}
	line := posix.Line(shellLoop, s.word)
	if t.Super {
		line = "sudo -n " + line
	}
	var err error
	if s.shell, err = remote.Begin(ctx, p, line); err != nil {
		return err
	}
	go io.Copy(io.Discard, s.shell.Err)
	s.out = bufio.NewReaderSize(s.shell.Out, 64<<10)
	stop := context.AfterFunc(ctx, s.shell.Close)
	if _, _, err := s.until(64 << 10); err != nil {
		stop()
		s.shell.Close()
		return errors.New("there is no shell that runs commands")
	}
	near, far := net.Pipe()
	s.near = near
	server := sftp.NewRequestServer(far, sftp.Handlers{FileGet: s, FilePut: s, FileCmd: s, FileList: s}, sftp.WithRSMaxTxPacket(largePiece))
	go server.Serve()
	files, err := sftp.NewClientPipe(heard{near, c}, near, sftp.MaxPacketUnchecked(largePiece))
	if err != nil {
		stop()
		s.shell.Close()
		near.Close()
		return err
	}
	c.files, c.shell, c.done = files, true, func() { stop(); s.shell.Close(); near.Close() }
	context.AfterFunc(ctx, func() { near.Close() })
	return nil
}

// heard is a reader whose bytes a channel counts.
type heard struct {
	io.Reader
	c *channel
}

func (h heard) Read(p []byte) (int, error) {
	n, err := h.Reader.Read(p)
	h.c.heard.Add(int64(n))
	return n, err
}

// until reads up to the line that begins with the word, and returns what came before and what the line
// says behind it.
func (s *shellFiles) until(limit int) (before []byte, says string, err error) {
	var got []byte
	begins := 0 // the line that is being read
	for {
		part, err := s.out.ReadSlice('\n')
		got = append(got, part...)
		switch {
		case err == bufio.ErrBufferFull:
		case err != nil:
			return nil, "", err
		case bytes.HasPrefix(got[begins:], []byte(s.word)):
			return got[:max(begins-1, 0)], strings.TrimSpace(string(got[begins+len(s.word):])), nil
		default:
			begins = len(got)
		}
		if len(got) > limit {
			return nil, "", errEndless
		}
	}
}

// run has a line done with words as its $1, $2 and so on, and returns what it prints. Where it has input
// it takes all of that. What it complains of is told as an error of [fs] where it is one.
func (s *shellFiles) run(line string, input []byte, words ...string) ([]byte, error) {
	set := "set --"
	for _, word := range words {
		set += " " + strings.ReplaceAll(posix.Word(word), "\n", `'"$n"'`)
	}
	if input == nil {
		line = "{ " + line + "; } </dev/null"
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	late := time.AfterFunc(shellTime, s.shell.Close)
	defer late.Stop()
	given := make(chan error, 1)
	go func() { // it may say much before it has taken all
		_, err1 := io.WriteString(s.shell.In, s.word+" "+set+"; "+line+"\n")
		_, err2 := s.shell.In.Write(input)
		given <- errors.Join(err1, err2)
	}()
	out, status, err1 := s.until(maxListed)
	says, _, err2 := s.until(64 << 10)
	if err := errors.Join(err1, err2); err != nil {
		s.shell.Close()
		s.near.Close() // so that the line counts as lost
		return nil, err
	}
	if err := <-given; err != nil {
		return nil, err
	}
	if status != "0" {
		return nil, complaint(status, string(says))
	}
	return out, nil
}

// complaint is the error that a step's status and words tell.
func complaint(status, says string) error {
	switch {
	case status == isThere || strings.Contains(says, "File exists"):
		return fs.ErrExist
	case status == isFolder:
		return errors.New("a folder stands there")
	case strings.Contains(says, "No such file"):
		return fs.ErrNotExist
	case strings.Contains(says, "ermission denied"), strings.Contains(says, "not permitted"):
		return fs.ErrPermission
	}
	return fmt.Errorf("the command ended with %s: %s", sanitize.Line(status, 20), sanitize.Line(says, 200))
}

// The statuses by which a step says that something stands there already, and that it is a folder.
const (
	isThere  = "93"
	isFolder = "94"
)

// shellInfo is what such a line tells.
type shellInfo struct {
	name        string
	size, at    int64
	mode        uint32
	user, group uint32
}

func (i shellInfo) Name() string       { return i.name }
func (i shellInfo) Size() int64        { return i.size }
func (i shellInfo) Mode() fs.FileMode  { return modeOfUnix(i.mode) }
func (i shellInfo) ModTime() time.Time { return time.Unix(i.at, 0) }
func (i shellInfo) IsDir() bool        { return i.Mode().IsDir() }
func (i shellInfo) Sys() any           { return nil }
func (i shellInfo) Uid() uint32        { return i.user }
func (i shellInfo) Gid() uint32        { return i.group }

// modeOfUnix is the mode that a system's own bits tell.
func modeOfUnix(mode uint32) fs.FileMode {
	m := modeOf(uint16(mode & 0o7777))
	switch mode & syscall.S_IFMT {
	case syscall.S_IFREG:
		return m
	case syscall.S_IFDIR:
		return m | fs.ModeDir
	case syscall.S_IFLNK:
		return m | fs.ModeSymlink
	case syscall.S_IFIFO:
		return m | fs.ModeNamedPipe
	case syscall.S_IFSOCK:
		return m | fs.ModeSocket
	}
	return m | fs.ModeDevice
}

// parseLooks reads what looks printed.
func parseLooks(out []byte) []os.FileInfo {
	var all []os.FileInfo
	for line := range strings.SplitSeq(string(out), "//\n") {
		var i shellInfo
		n, err := fmt.Sscanf(line, "%x %d %d %d %d", &i.mode, &i.size, &i.at, &i.user, &i.group)
		if parts := strings.SplitN(line, " ", 6); n == 5 && err == nil && len(parts) == 6 {
			if i.name = path.Base(parts[5]); i.name != "." && i.name != "/" || parts[5] == i.name {
				all = append(all, i)
			}
		}
	}
	return all
}

// listed is a list that the library takes piece by piece.
type listed []os.FileInfo

func (l listed) ListAt(into []os.FileInfo, at int64) (int, error) {
	if at >= int64(len(l)) {
		return 0, io.EOF
	}
	n := copy(into, l[at:])
	if n < len(into) {
		return n, io.EOF
	}
	return n, nil
}

// Filelist lists a folder, or tells of one name, following links.
func (s *shellFiles) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Method != "List" {
		return s.look(r, "l -L")
	}
	out, err := s.run(`cd "$1" && ls >/dev/null && { L; true; }`, nil, r.Filepath)
	return listed(parseLooks(out)), err
}

// Lstat tells of one name, following no link.
func (s *shellFiles) Lstat(r *sftp.Request) (sftp.ListerAt, error) { return s.look(r, "l") }

func (s *shellFiles) look(r *sftp.Request, command string) (sftp.ListerAt, error) {
	out, err := s.run(command+` "$1"`, nil, r.Filepath)
	if err != nil {
		return nil, err
	}
	all := parseLooks(out)
	if len(all) != 1 {
		return nil, errors.New("the command stat says nothing that can be read")
	}
	return listed(all), nil
}

// Readlink tells where a link leads.
func (s *shellFiles) Readlink(name string) (string, error) {
	out, err := s.run(`readlink "$1"`, nil, name)
	return strings.TrimSuffix(string(out), "\n"), err
}

// RealPath tells a path without links.
func (s *shellFiles) RealPath(name string) (string, error) {
	out, err := s.run(`if [ -d "$1" ]; then cd "$1" && pwd -P; else readlink -f "$1"; fi`, nil, name)
	return strings.TrimSuffix(string(out), "\n"), err
}

// Filecmd changes what stands under a name.
func (s *shellFiles) Filecmd(r *sftp.Request) error {
	script, words := "", []string{r.Filepath}
	switch r.Method {
	case "Setstat":
		return s.set(r)
	case "Mkdir":
		script = `mkdir "$1"`
	case "Rmdir":
		script = `rmdir "$1"`
	case "Remove":
		script = `there "$1" || none; [ -L "$1" ] || [ ! -d "$1" ] || exit 94; rm -f "$1"`
	case "Rename":
		script, words = `there "$2" && exit 93; mv "$1" "$2"`, []string{r.Filepath, r.Target}
	case "Link":
		script, words = `ln "$1" "$2"`, []string{r.Filepath, r.Target}
	case "Symlink": // the library has what it leads to, as it was said, and the name in this order
		script, words = `there "$2" && exit 93; ln -s "$1" "$2"`, []string{r.Filepath, r.Target}
	default:
		return sftp.ErrSSHFxOpUnsupported
	}
	_, err := s.run(script, nil, words...)
	return err
}

// PosixRename puts a file in the place of another.
func (s *shellFiles) PosixRename(r *sftp.Request) error {
	_, err := s.run(`[ -d "$2" ] && exit 94; mv -f "$1" "$2"`, nil, r.Filepath, r.Target)
	return err
}

// StatVFS tells the room.
func (s *shellFiles) StatVFS(r *sftp.Request) (*sftp.StatVFS, error) {
	out, err := s.run(`df -Pk "$1"`, nil, r.Filepath)
	if err != nil {
		return nil, err
	}
	lines := strings.Split(strings.TrimSpace(string(out)), "\n")
	var blocks, used, free uint64
	fields := strings.Fields(lines[len(lines)-1])
	if len(fields) < 4 {
		return nil, errors.New("the command df says nothing that can be read")
	}
	if _, err := fmt.Sscan(strings.Join(fields[1:4], " "), &blocks, &used, &free); err != nil {
		return nil, err
	}
	return &sftp.StatVFS{Bsize: 1024, Frsize: 1024, Blocks: blocks, Bfree: free, Bavail: free}, nil
}

// set sets a size, a mode, an owner or a time.
func (s *shellFiles) set(r *sftp.Request) error {
	flags, to := r.AttrFlags(), r.Attributes()
	var script []string
	if flags.Size {
		script = append(script, fmt.Sprintf(`dd if=/dev/null of="$1" bs=1 seek=%d count=0`, to.Size))
	}
	if flags.UidGid {
		script = append(script, fmt.Sprintf(`chown %d:%d "$1"`, to.UID, to.GID))
	}
	if flags.Permissions {
		script = append(script, fmt.Sprintf(`chmod %o "$1"`, to.Mode&0o7777))
	}
	if flags.Acmodtime {
		script = append(script, `TZ=UTC0 touch -t `+time.Unix(int64(to.Mtime), 0).UTC().Format("200601021504.05")+` "$1"`)
	}
	if script == nil {
		return nil
	}
	_, err := s.run(strings.Join(script, " && "), nil, r.Filepath)
	return err
}

// Fileread opens a file to be read, Filewrite to be written, OpenFile for both.
func (s *shellFiles) Fileread(r *sftp.Request) (io.ReaderAt, error) { return s.OpenFile(r) }

// Filewrite opens a file to be written.
func (s *shellFiles) Filewrite(r *sftp.Request) (io.WriterAt, error) { return s.OpenFile(r) }

// OpenFile opens a file.
func (s *shellFiles) OpenFile(r *sftp.Request) (sftp.WriterAtReaderAt, error) {
	script := `[ ! -d "$1" ] || exit 94; : < "$1"`
	switch f := r.Pflags(); {
	case f.Creat && f.Excl:
		script = `set -C; : > "$1"`
	case f.Trunc:
		script = `: > "$1"`
	case f.Creat:
		script = `: >> "$1"`
	case f.Write:
		script = `there "$1" || none; : >> "$1"`
	}
	if _, err := s.run(script, nil, r.Filepath); err != nil {
		return nil, err
	}
	return &shellFile{s: s, name: r.Filepath, windows: map[int64]*window{}}, nil
}

// shellFile is an open file: what of it was read last is kept, since a command reads much at once.
type shellFile struct {
	s    *shellFiles
	name string

	mu      sync.Mutex
	windows map[int64]*window
	order   []int64
}

type window struct {
	once sync.Once
	text []byte
	err  error
}

// ReadAt reads from a place on.
func (f *shellFile) ReadAt(p []byte, at int64) (n int, err error) {
	for n < len(p) {
		i := (at + int64(n)) / shellWindow
		w := f.window(i)
		w.once.Do(func() {
			w.text, w.err = f.s.run(fmt.Sprintf(`dd if="$1" bs=%d skip=%d count=1 2>/dev/null`, shellWindow, i), nil, f.name)
		})
		if w.err != nil {
			return n, w.err
		}
		from := at + int64(n) - i*shellWindow
		if from >= int64(len(w.text)) {
			return n, io.EOF
		}
		n += copy(p[n:], w.text[from:])
	}
	return n, nil
}

func (f *shellFile) window(i int64) *window {
	f.mu.Lock()
	defer f.mu.Unlock()
	w := f.windows[i]
	if w == nil {
		w = &window{}
		f.windows[i] = w
		if f.order = append(f.order, i); len(f.order) > shellWindows {
			delete(f.windows, f.order[0])
			f.order = f.order[1:]
		}
	}
	return w
}

// WriteAt writes from a place on.
func (f *shellFile) WriteAt(p []byte, at int64) (int, error) {
	f.mu.Lock()
	clear(f.windows)
	f.order = nil
	f.mu.Unlock()
	block := int64(64 << 10)
	for at%block != 0 {
		block /= 2
	}
	if _, err := f.s.run(fmt.Sprintf(`into %d "$1" %d %d`, len(p), block, at/block), p, f.name); err != nil {
		return 0, err
	}
	return len(p), nil
}
