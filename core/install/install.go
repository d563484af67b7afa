package install

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/plain"
	"meatus/core/walk"
)

// maxList is how long a list of keys is read, in bytes.
const maxList = 1 << 20

// Options are what a line of the list may carry before the key (the server's
// manual page of the list's format).
type Options struct {
	From    string // addresses the key may be used from, as "10.61.0.0/16,203.0.113.10"
	Command string // run this and nothing else
	Bare    bool   // no terminal, no forwarding of any kind
}

// Line is the line that a key stands in.
func Line(key ssh.PublicKey, comment string, o Options) (string, error) {
	var options []string
	for _, each := range []struct{ word, value string }{{"from", o.From}, {"command", o.Command}} {
		if strings.ContainsAny(each.value, "\"\n\r\\") {
			return "", fmt.Errorf("%s cannot hold quotes, backslashes or line breaks", each.word)
		}
		if each.value != "" {
			options = append(options, fmt.Sprintf("%s=%q", each.word, each.value))
		}
	}
	if o.Bare {
		options = append(options, "restrict")
	}
	line := string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(key)))
	if comment = plain.Line(comment, 120); comment != "" {
		line += " " + comment
	}
	if len(options) > 0 {
		line = strings.Join(options, ",") + " " + line
	}
	return line, nil
}

// Report says what was found and done.
type Report struct {
	Already bool     // the key stood in the list
	Added   bool     // it was put there
	Doubts  []string // what may make the server pass the list over
}

// look prints the modes of what the server looks at, a mark, and the list.
const look = `cd && ls -ldn . .ssh .ssh/authorized_keys 2>/dev/null; echo "=list of $(id -u)="; cat .ssh/authorized_keys 2>/dev/null || true`

// put writes what comes by standard input in the place of the list.
const put = `cd && umask 077 && mkdir -p .ssh && chmod go-w .ssh && cat > .ssh/authorized_keys.new && chmod 600 .ssh/authorized_keys.new && mv .ssh/authorized_keys.new .ssh/authorized_keys`

// Add puts a line with a key into the list of the account that the passage is
// logged in as, where the key does not stand there already.
func Add(ctx context.Context, p *walk.Passage, key ssh.PublicKey, line string) (Report, error) {
	var r Report
	out, err := p.Output(ctx, look, nil, maxList+64<<10)
	if err != nil {
		return r, fmt.Errorf("reading the list: %w", err)
	}
	list, doubts, err := read(out)
	if err != nil {
		return r, err
	}
	r.Doubts = doubts
	if holds(list, key) {
		r.Already = true
		return r, nil
	}
	if _, err := p.Output(ctx, put, with(list, line), 1<<10); err != nil {
		return r, fmt.Errorf("writing the list: %w; the old list is as it was", err)
	}
	after, err := p.Output(ctx, look, nil, maxList+64<<10)
	if err != nil {
		return r, fmt.Errorf("reading the list again: %w", err)
	}
	now, doubts, err := read(after)
	if err != nil {
		return r, err
	}
	r.Doubts = doubts
	if !holds(now, key) {
		return r, errors.New("the list was written, and the key does not stand in it; somebody else may have written it at the same moment")
	}
	r.Added = true
	return r, nil
}

// read parts what look printed.
func read(out []byte) (list []byte, doubts []string, err error) {
	head, rest, ok := bytes.Cut(out, []byte("\n=list of "))
	if !ok {
		if rest, ok = bytes.CutPrefix(out, []byte("=list of ")); !ok {
			return nil, nil, errors.New("the far side did not answer as a POSIX shell does")
		}
		head = nil
	}
	uid, list, ok := bytes.Cut(rest, []byte("=\n"))
	if !ok {
		return nil, nil, errors.New("the far side did not answer as a POSIX shell does")
	}
	if len(list) >= maxList {
		return nil, nil, fmt.Errorf("the list is longer than %d bytes; have a look at it yourself", maxList)
	}
	for line := range strings.Lines(string(head)) {
		if d := doubt(strings.Fields(line), string(uid)); d != "" {
			doubts = append(doubts, d)
		}
	}
	return list, doubts, nil
}

// doubt says why a server would pass over the list, given a line of ls -ldn: it
// wants the home folder, the folder of the list and the list itself to be written
// by nobody but the account and the superuser.
func doubt(fields []string, uid string) string {
	if len(fields) < 9 || len(fields[0]) < 10 {
		return ""
	}
	mode, owner, name := fields[0], fields[2], fields[len(fields)-1]
	if name == "." {
		name = "the home folder"
	}
	name = plain.Line(name, 60)
	switch {
	case owner != uid && owner != "0":
		return fmt.Sprintf("%s belongs to account %s: the server passes over a list that others own", name, plain.Line(owner, 20))
	case mode[5] == 'w' || mode[8] == 'w':
		return fmt.Sprintf("%s can be written by others (%s): the server passes over the list until that is taken away", name, plain.Line(mode[:10], 10))
	}
	return ""
}

// holds tells whether a key stands in a list, in a line that counts.
func holds(list []byte, key ssh.PublicKey) bool {
	want := key.Marshal()
	for line := range bytes.Lines(list) {
		k, _, _, _, err := ssh.ParseAuthorizedKey(line)
		if err == nil && bytes.Equal(k.Marshal(), want) {
			return true
		}
	}
	return false
}

// with is a list with a line behind its last.
func with(list []byte, line string) []byte {
	list = bytes.Clone(list)
	if len(list) > 0 && list[len(list)-1] != '\n' {
		list = append(list, '\n')
	}
	return append(append(list, line...), '\n')
}
