package install

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"meatus/core/book"
	"meatus/core/remote"
	"meatus/core/walk"
)

// look prints the modes of what the server looks at, a mark, and the list. LIST and FOLDER
// stand for the list and its folder.
const look = `cd && ls -ldnL . FOLDER LIST 2>/dev/null; echo "=list of $(id -u)="; cat LIST 2>/dev/null || true`

// put writes what comes by standard input in the place of the list, at the end of
// a link where the list is one. The usual folder is made and mended; another is left alone.
const (
	put     = `cd && umask 077 && f=$(readlink -f LIST) && cat > "$f.new" && chmod 600 "$f.new" && mv "$f.new" "$f"`
	putHome = `cd && umask 077 && mkdir -p .ssh && chmod go-w .ssh && f=$(readlink -f LIST) && cat > "$f.new" && chmod 600 "$f.new" && mv "$f.new" "$f"`
)

// byCommands reaches a list by commands of a POSIX shell.
type byCommands struct {
	p    *walk.Passage
	list string
}

// command names the list in a command. Its path holds no quotes, see [book.Session].
func (c byCommands) command(text string) string {
	return strings.NewReplacer("LIST", "'"+c.list+"'", "FOLDER", "'"+path.Dir(c.list)+"'").Replace(text)
}

func (c byCommands) look(ctx context.Context) (list, error) {
	out, err := remote.Output(ctx, c.p, c.command(look), nil, maxList+64<<10)
	if err != nil {
		return list{}, err
	}
	return read(out)
}

func (c byCommands) put(ctx context.Context, text []byte) error {
	command := put
	if c.list == book.DefaultKeyList {
		command = putHome
	}
	_, err := remote.Output(ctx, c.p, c.command(command), text, 1<<10)
	return err
}

func (byCommands) close() {}

var errNoShell = errors.New("the far side has no file-transfer channel, and did not answer as a POSIX shell does")

// read parts what look printed.
func read(out []byte) (l list, err error) {
	head, rest, ok := bytes.Cut(out, []byte("\n=list of "))
	if !ok {
		if rest, ok = bytes.CutPrefix(out, []byte("=list of ")); !ok {
			return l, errNoShell
		}
		head = nil
	}
	_, text, ok := bytes.Cut(rest, []byte("=\n"))
	if !ok {
		return l, errNoShell
	}
	if len(text) >= maxList {
		return l, tooLong()
	}
	l.text = text
	for line := range strings.Lines(string(head)) {
		f := strings.Fields(line)
		if len(f) < 9 || len(f[0]) < 10 {
			continue
		}
		l.parts = append(l.parts, part{name: f[len(f)-1], mode: f[0][:10], owner: f[2], others: f[0][5] == 'w' || f[0][8] == 'w'})
	}
	return l, nil
}

func tooLong() error {
	return fmt.Errorf("the list is longer than %d bytes; have a look at it yourself", maxList)
}
