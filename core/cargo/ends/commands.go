package ends

import (
	"bufio"
	"bytes"
	"cmp"
	"context"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// The scripts are for a POSIX shell; each is given the folder it works in as $1. What a far
// side prints before the mark is of its start-up files.
const (
	mark = "=meatus="
	// DigestScript reads names, each ended by a null byte, and prints the digest of each. What is fastest
	// where the processor helps is asked for one it is known of first; some of its versions print names as
	// they are, so with "odd" as $2, which says that a name has a line's end in it, it is left out.
	DigestScript = `cd "$1" || exit 96
case "$2$(printf x | openssl dgst -sha256 -r 2>/dev/null)" in
2d711642b726b04401627ca9fbac32f5c8530fb1903cc4db02258717921a4881*) echo =meatus=; exec xargs -0 openssl dgst -sha256 -r; esac
if command -v sha256sum >/dev/null 2>&1; then d="sha256sum --"
elif command -v shasum >/dev/null 2>&1; then d="shasum -a 256 --"
elif command -v sha256 >/dev/null 2>&1; then d="sha256 -r"
else exit 97; fi
echo =meatus=; xargs -0 $d`
	// UnpackScript unpacks what comes, for the account alone, and has it on the disk.
	UnpackScript = `cd "$1" || exit 96
umask 077; echo =meatus=; tar -xopf - && { sync -f . 2>/dev/null || sync; }`
	// PackScript packs the files whose names it reads, each ended by a null byte.
	PackScript = `cd "$1" || exit 96
echo =meatus=; exec tar --null --no-recursion -T - -cf - --format=pax`
	// AskScript tells what there is over there, and the time.
	AskScript = `cd "$1" || exit 96
echo =meatus=; date +%s
echo "seen $(stat -c '%Y %u %f' . 2>/dev/null || stat -f '%m %u %Xp' .)"
if command -v sha256sum || command -v shasum || command -v sha256; then command -v xargs && echo can-digest; fi
command -v tar && echo can-unpack
printf '.\000' | tar --null --no-recursion -T - -cf - --format=pax >/dev/null 2>&1 && echo can-pack
true`
)

// superServer serves the file-transfer protocol with the superuser's right, plainServer with the
// account's own where the server has no such subsystem, and the program is there.
const plainServer = `exec sh -c 'for s in /usr/lib/openssh/sftp-server /usr/libexec/openssh/sftp-server /usr/lib/ssh/sftp-server /usr/libexec/sftp-server; do [ -x "$s" ] && exec "$s"; done; exit 97'`
const superServer = `exec sudo -n sh -c 'for s in /usr/lib/openssh/sftp-server /usr/libexec/openssh/sftp-server /usr/lib/ssh/sftp-server /usr/libexec/sftp-server; do [ -x "$s" ] && exec "$s"; done; exit 97'`

// commands is what is known of an account's shell.
type commands struct {
	asked          bool
	digest, unpack bool
	pack           bool
	clock          int64 // what its clock said, in seconds since 1970, 0 where that is not known
	at             int64 // and ours then
}

// line is a command line that runs a script in the tree's folder, with more words as its $2, $3 and so on.
func (t *There) line(script string, more ...string) string { return t.lineIn(t.dir, script, more...) }

func (t *There) lineIn(dir, script string, more ...string) string {
	line := posix.Line(script, append([]string{dir}, more...)...)
	if t.Super {
		return "sudo -n " + line
	}
	return line
}

// run runs a script with more words, and returns what it printed behind the mark.
func (t *There) run(ctx context.Context, script string, input []byte, limit int64, more ...string) ([]byte, error) {
	p := t.Passage()
	if p == nil {
		return nil, lost{errors.New("the line to " + t.Session + " is lost")}
	}
	o, err := remote.Run(ctx, p, t.line(script, more...), input, limit)
	if err != nil {
		return nil, cut(ctx, p, err)
	}
	if err := ended(o.Ending); err != nil {
		return nil, err
	}
	_, out, ok := bytes.Cut(o.Out, []byte(mark+"\n"))
	if !ok {
		return nil, errors.New("there is no shell that runs commands")
	}
	return out, nil
}

// ended is the error of a command that came to no end of its own: its line was lost, or it was killed over
// there. Either way it is tried again.
func ended(e remote.Ending) error {
	switch {
	case e.Err != nil:
		return lost{e.Err}
	case e.Signal != "":
		return lost{fmt.Errorf("the command was ended there by the signal %s", sanitize.Line(e.Signal, 20))}
	}
	return nil
}

// cut is an error of a command, as a lost line where the line ends with it: what a line carried ends a little before
// the line counts as lost.
func cut(ctx context.Context, p *walk.Passage, err error) error {
	var refused *ssh.OpenChannelError
	if errors.As(err, &refused) {
		return err // the far side has answered
	}
	select {
	case <-p.Done():
		return lost{err}
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(lostSoon):
		return err
	}
}

// known is what is known of the account's shell. It is asked once.
func (t *There) known() commands {
	t.mu.Lock()
	c := t.commands
	t.mu.Unlock()
	if c.asked {
		return c
	}
	c.asked = true
	same := false
	began := now()
	ctx, cancel := context.WithTimeout(t.ctx, maxProbe)
	defer cancel()
	if out, err := t.run(ctx, AskScript, nil, 4<<10); err == nil {
		for line := range strings.Lines(string(out)) {
			line = strings.TrimSpace(line)
			if seen, ok := strings.CutPrefix(line, "seen "); ok {
				same = t.seesSame(seen)
				continue
			}
			switch line {
			case "can-digest":
				c.digest = true
			case "can-unpack":
				c.unpack = true
			case "can-pack":
				c.pack = true
			default:
				if c.clock == 0 {
					fmt.Sscan(line, &c.clock)
				}
			}
		}
		c.at = (began + now()) / 2
	}
	if !same { // the commands are of another tree than the file-transfer channel, in a jail perhaps
		c.digest, c.unpack, c.pack = false, false, false
	}
	t.mu.Lock()
	t.commands = c
	t.mu.Unlock()
	return c
}

// seesSame tells whether what commands see of the folder is what the file-transfer channel sees of it:
// the time, the owner and the mode, which is in hexadecimal.
func (t *There) seesSame(seen string) bool {
	ch, err := t.take()
	if err != nil {
		return false
	}
	defer t.give(ch)
	info, err := ch.files.Stat(t.dir)
	if err != nil {
		return false
	}
	e := entryOf(info)
	var at int64
	var uid, mode uint64
	if n, err := fmt.Sscanf(seen, "%d %d %x", &at, &uid, &mode); n != 3 || err != nil {
		return false
	}
	return at == e.Time && (!e.Owned || uint32(uid) == e.UID) && uint16(mode&0o7777) == e.Mode
}

// Ahead is by how many seconds the far side's clock is ahead of ours; ok is false where it
// does not tell.
func (t *There) Ahead() (seconds int64, ok bool) {
	c := t.known()
	return c.clock - c.at, c.clock != 0
}

// maxBatch is how many names, and how many bytes of them, one command is given.
const (
	maxBatch      = 10000
	maxBatchBytes = 1 << 20
)

func (t *There) digestBatch(ctx context.Context, names []string, each func(string, Sum, error)) error {
	var input bytes.Buffer
	want := make(map[string]string, len(names)) // by what the tool prints of it
	limit := int64(4 << 10)
	var odd []string
	for _, name := range names {
		full := t.relative(name)
		if strings.ContainsAny(full, "\n\r\\") {
			odd = []string{"odd"}
		}
		input.WriteString(full)
		input.WriteByte(0)
		want[full], want[Escaped(full)] = name, name
		limit += int64(2*len(full) + 80)
	}
	ctx, cancel := context.WithTimeout(ctx, maxDigest)
	defer cancel()
	out, err := t.run(ctx, DigestScript, input.Bytes(), limit, odd...)
	if err != nil {
		return err
	}
	got := make(map[string]Sum, len(names))
	for line := range strings.Lines(string(out)) {
		if sum, name, ok := ParseSum(line); ok {
			if of, ok := want[name]; ok {
				got[of] = sum
			}
		}
	}
	for _, name := range names {
		sum, ok := got[name]
		if !ok {
			sum, err = ReadSum(ctx, t, name) // it says why, or it was a name the tool prints in another way
		}
		if t.Lost(err) || ctx.Err() != nil {
			return err
		}
		each(name, sum, err)
		err = nil
	}
	return nil
}

// Packer is an end that takes many files as one stream.
type Packer interface {
	// Unpack has the files of a stream made, which is a tape archive (POSIX.1-2001, pax). Names in
	// it are what Staged says.
	Unpack(ctx context.Context, stream io.Reader) error
	// Staged is a path of the tree as it is written in a stream.
	Staged(name string) string
}

// Unpack has the files of a stream made by a command over there.
func (t *There) Unpack(ctx context.Context, stream io.Reader) error {
	p := t.Passage()
	if p == nil {
		return lost{errors.New("the line to " + t.Session + " is lost")}
	}
	ctx, cancel := context.WithTimeout(ctx, maxDigest)
	defer cancel()
	o, err := remote.Feed(ctx, p, t.line(UnpackScript), stream, 4<<10)
	if err != nil {
		return cut(ctx, p, err)
	}
	if err := ended(o.Ending); err != nil {
		return err
	}
	if o.Status != 0 {
		return fmt.Errorf("the stream cannot be unpacked there: %s", sanitize.Line(string(o.Err), 300))
	}
	return nil
}

// Sender is an end that gives many files as one stream.
type Sender interface {
	// Pack has files read in the order that they come in a stream, which is a tape archive. Those that
	// cannot be read are missing. Names in it are what Staged says.
	Pack(ctx context.Context, names []string, read func(stream io.Reader) error) error
	Staged(name string) string
}

// say writes names to a command that reads them, each ended by a null byte, and ends them.
func (t *There) say(command io.WriteCloser, names []string) {
	list := bufio.NewWriter(command)
	for _, name := range names {
		list.WriteString(t.relative(name) + "\x00")
	}
	list.Flush()
	command.Close()
}

// Pack has files packed by a command over there. A far side that is silent for long is given up.
func (t *There) Pack(ctx context.Context, names []string, read func(io.Reader) error) error {
	p := t.Passage()
	if p == nil {
		return lost{errors.New("the line to " + t.Session + " is lost")}
	}
	g, err := remote.Begin(ctx, p, t.line(PackScript))
	if err != nil {
		return judged(err)
	}
	defer g.Close()
	stop := context.AfterFunc(ctx, g.Close)
	defer stop()
	go t.say(g.In, names)
	go io.Copy(io.Discard, g.Err)
	out := bufio.NewReaderSize(&bounded{g.Out, time.AfterFunc(t.Silence, g.Close), t.Silence}, 256<<10)
	for began := 0; ; {
		line, err := out.ReadSlice('\n')
		if began += len(line); err != nil && err != bufio.ErrBufferFull || began > maxGreeting {
			return cut(ctx, p, errors.New("there is no shell that runs commands"))
		}
		if string(line) == mark+"\n" {
			break
		}
	}
	if err = read(out); err == nil || ctx.Err() != nil {
		return cmp.Or(ctx.Err(), err)
	}
	return cut(ctx, p, err)
}

// lostSoon is how long after a stream's end it is known whether the line was lost.
const lostSoon = time.Second

// maxGreeting is how much an account's start-up files may print, in bytes.
const maxGreeting = 64 << 10

// bounded is a reader that waits for a far side so long, and then gives it up.
type bounded struct {
	io.Reader
	giveUp *time.Timer
	most   time.Duration
}

func (b *bounded) Read(p []byte) (int, error) {
	b.giveUp.Reset(b.most)
	defer b.giveUp.Stop()
	return b.Reader.Read(p)
}

// Staged is a path as commands in the tree's folder know it.
func (t *There) Staged(name string) string { return t.relative(name) }

// relative is a path as commands in the folder know it.
func (t *There) relative(name string) string {
	if t.base != "" {
		name = Join(t.base, name)
	}
	return "./" + name
}

// Escaped is a name as the common digest tool prints it: where it holds a line's end or a
// backslash these are escaped, and the line begins with a backslash.
func Escaped(name string) string {
	return strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(name)
}

// Unescaped is a name of such a line.
func Unescaped(name string) string {
	return strings.NewReplacer(`\\`, "\\", `\n`, "\n", `\r`, "\r").Replace(name)
}

// ParseSum reads one line of a list of digests: the digest in hexadecimal, a blank, a blank
// or "*", the name. A line that begins with a backslash has the name escaped, and name is
// then as it stands there.
func ParseSum(line string) (sum Sum, name string, ok bool) {
	line = strings.TrimPrefix(strings.TrimRight(line, "\n"), `\`)
	if len(line) < 66 || line[64] != ' ' {
		return sum, "", false
	}
	digest, err := hex.DecodeString(line[:64])
	if err != nil {
		return sum, "", false
	}
	name = line[65:]
	if name != "" && (name[0] == ' ' || name[0] == '*') {
		name = name[1:]
	}
	return Sum(digest), name, name != ""
}
