package install

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"path"
	"strings"

	"meatus/core/book"
	"meatus/core/farfile"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/walk"
)

// The scripts for accounts without SFTP. $1 is the list of authorized keys, $2 its folder.
const (
	// LookScript prints the permissions that the server checks, and a mark.
	LookScript = `cd && ls -ldnL . "$2" "$1" 2>/dev/null; echo "=list of $(id -u)="`
	// MoveScript renames the file $1 over the file $2.
	MoveScript = `cd && [ -f "$1" ] && [ -f "$2" ] && mv -f "$1" "$2"`
	// FolderScript creates the default folder, or removes write permission for others from it.
	FolderScript = `cd && umask 077 && mkdir -p .ssh && chmod go-w .ssh`
)

// byCommands reaches a list by commands of a POSIX shell.
type byCommands struct {
	p    *walk.Passage
	list string
}

func (c byCommands) run(ctx context.Context, script string) ([]byte, error) {
	return remote.Output(ctx, c.p, posix.Line(script, c.list, path.Dir(c.list)), nil, 64<<10)
}

func (c byCommands) files() farfile.Account { return farfile.Commands{Passage: c.p} }

func (c byCommands) parts(ctx context.Context) ([]part, error) {
	out, err := c.run(ctx, LookScript)
	if err != nil {
		return nil, err
	}
	return read(out)
}

// folder makes and mends the usual folder; another is left alone.
func (c byCommands) folder(ctx context.Context) error {
	if c.list != book.DefaultKeyList {
		return nil
	}
	_, err := c.run(ctx, FolderScript)
	return err
}

func (byCommands) close() {}

var errNoShell = errors.New("the machine has no file transfer, and no POSIX shell")

// read parses the output of LookScript.
func read(out []byte) (parts []part, err error) {
	head, _, ok := bytes.Cut(out, []byte("=list of "))
	if !ok {
		return nil, errNoShell
	}
	for line := range strings.Lines(string(head)) {
		f := strings.Fields(line)
		if len(f) < 9 || len(f[0]) < 10 {
			continue
		}
		parts = append(parts, part{name: f[len(f)-1], mode: f[0][:10], owner: f[2], others: f[0][5] == 'w' || f[0][8] == 'w'})
	}
	return parts, nil
}

func tooLong() error {
	return fmt.Errorf("the list is longer than %d bytes; check it yourself", maxList)
}
