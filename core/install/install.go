package install

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/shlex"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/farfile"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// maxList is how long a list of keys is read, in bytes.
const maxList = farfile.Max

// Options are what a line of the list may carry before the key (the server's
// manual page of the list's format).
type Options struct {
	From    string // addresses the key may be used from, as "10.61.0.0/16,203.0.113.10"
	Command string // run this and nothing else
	Bare    bool   // no terminal, no forwarding of any kind
	Comment string // what stands behind the key, in place of the key file's comment
}

// ParseOptions reads options as a person writes them: from=ADDRESSES,
// command=COMMAND and comment=TEXT, in quotes where they have blanks, and restrict.
func ParseOptions(text string) (o Options, err error) {
	words, err := shlex.Split(text)
	if err != nil {
		return o, fmt.Errorf("the options: %w", err)
	}
	for _, w := range words {
		word, value, _ := strings.Cut(w, "=")
		switch {
		case word == "from" && value != "":
			o.From = value
		case word == "command" && value != "":
			o.Command = value
		case word == "comment" && value != "":
			o.Comment = value
		case w == "restrict":
			o.Bare = true
		default:
			return o, fmt.Errorf("%q is no option; write from=ADDRESSES, command='COMMAND', comment='TEXT' or restrict", sanitize.Line(w, 40))
		}
	}
	return o, nil
}

// words are the options as they stand in the list. It fails where one cannot.
func (o Options) words() ([]string, error) {
	var words []string
	for _, each := range []struct{ word, value string }{{"from", o.From}, {"command", o.Command}} {
		if strings.ContainsAny(each.value, "\"\n\r\\") {
			return nil, fmt.Errorf("%s cannot hold quotes, backslashes or line breaks", each.word)
		}
		if each.value != "" {
			words = append(words, fmt.Sprintf("%s=%q", each.word, each.value))
		}
	}
	if o.Bare {
		words = append(words, "restrict")
	}
	return words, nil
}

// Check says why the options cannot stand in a list, nil where they can.
func (o Options) Check() error {
	_, err := o.words()
	return err
}

// Line is the line that a key stands in.
func Line(key ssh.PublicKey, comment string, o Options) (string, error) {
	words, err := o.words()
	if err != nil {
		return "", err
	}
	if o.Comment != "" {
		comment = o.Comment
	}
	return line(words, key, comment), nil
}

func line(options []string, key ssh.PublicKey, comment string) string {
	line := string(bytes.TrimSpace(ssh.MarshalAuthorizedKey(key)))
	if comment = sanitize.Line(comment, 120); comment != "" {
		line += " " + comment
	}
	if len(options) > 0 {
		line = strings.Join(options, ",") + " " + line
	}
	return line
}

// Report says what was found and done.
type Report struct {
	Already bool     // the key stood in the list
	Added   bool     // it was put there
	Doubts  []string // what may make the server pass the list over
}

// list is an account's list of keys as it was found.
type list struct {
	state farfile.State
	parts []part // what the server judges
}

// part is a folder or file that a server judges before it reads a list.
type part struct {
	name, mode string // the mode as ls writes it
	owner      string
	others     bool // may write it
}

// account is the way to an account's list.
type account interface {
	files() farfile.Account
	parts(context.Context) ([]part, error) // that the server judges
	folder(context.Context) error          // makes it ready
	close()
}

// reach opens the way to the list of the account that a passage is logged in as:
// over the file-transfer channel, and where there is none by plain commands.
func reach(ctx context.Context, p *walk.Passage, list string) (account, error) {
	files, done, err := remote.Files(ctx, p, remote.MaxLook)
	if err == nil {
		replace := func(ctx context.Context, from, to string) error {
			_, err := remote.Output(ctx, p, posix.Line(MoveScript, from, to), nil, 1<<10)
			if err != nil {
				err = farfile.ErrCannotReplace
			}
			return err
		}
		return &byFiles{&farfile.Files{Client: files, Done: done, Replace: replace}, list}, nil
	}
	if remote.NoFiles(err) {
		return byCommands{p, list}, nil
	}
	return nil, err
}

// again reconnects to the account of a passage after a lost connection.
type again struct {
	account
	p *walk.Passage
}

func reachAgain(ctx context.Context, p *walk.Passage, list string) (a again, err error) {
	if a.p, err = p.Again(ctx); err != nil {
		return a, err
	}
	if a.account, err = reach(ctx, a.p, list); err != nil {
		a.p.Close()
	}
	return a, err
}

func (a again) close() {
	a.account.close()
	a.p.Close()
}

// closing closes the account together with its file access.
type closing struct {
	farfile.Account
	done func()
}

func (c closing) Close() { c.done() }

// patience limits reconnecting after a lost connection.
const patience = 20 * time.Second

// look reads the list of authorized keys.
func look(ctx context.Context, a account, name string) (l list, err error) {
	if l.parts, err = a.parts(ctx); err != nil {
		return l, err
	}
	if l.state, err = a.files().Read(ctx, name); err == nil && len(l.state.Text) >= maxList {
		err = tooLong()
	}
	return l, err
}

// edit changes an account's list and reads it again. change returns nil for a list
// that is to stay; holds judges what was read then.
func edit(ctx context.Context, p *walk.Passage, change func([]byte) []byte, holds func([]byte) bool) (was, now list, err error) {
	name := cmp.Or(p.Route().Target().KeyList, book.DefaultKeyList)
	a, err := reach(ctx, p, name)
	if err != nil {
		return was, now, err
	}
	defer a.close()
	if was, err = look(ctx, a, name); err != nil {
		return was, now, fmt.Errorf("reading the list: %w", err)
	}
	text := change(was.state.Text)
	if text == nil {
		return was, was, nil
	}
	if err := a.folder(ctx); err != nil {
		return was, now, fmt.Errorf("writing the list: %w; the old list is unchanged", err)
	}
	to := farfile.Change{Path: name, Before: was.state, After: farfile.Text(text), Mode: 0o600, Deny: 0o022}
	anew := func(ctx context.Context) (farfile.Account, error) {
		a, err := reachAgain(ctx, p, name)
		if err != nil {
			return nil, err
		}
		return closing{a.files(), a.close}, nil
	}
	err = farfile.Apply(ctx, a.files(), to, farfile.Patiently(anew, patience), fmt.Sprintf("meatus run %s -- cat %s", p.Route().Session, posix.Word(name)))
	if err != nil {
		return was, now, fmt.Errorf("writing the list: %w", err)
	}
	if now, err = look(ctx, a, name); err != nil && ctx.Err() == nil { // it was the line that was lost, perhaps
		var fresh again
		if fresh, err = reachAgain(ctx, p, name); err == nil {
			now, err = look(ctx, fresh, name)
			fresh.close()
		}
	}
	if err != nil {
		return was, now, fmt.Errorf("the list was written, and could not be read again: %w", err)
	}
	if !holds(now.state.Text) {
		return was, now, errors.New("the list was written, but its content is different now; someone else may have written it at the same moment")
	}
	return was, now, nil
}

// Add puts a line with a key into the list of the account that the passage is
// logged in as, where the key does not stand there already.
func Add(ctx context.Context, p *walk.Passage, key ssh.PublicKey, line string) (Report, error) {
	return add(ctx, p, key, func([]byte) string { return line })
}

func add(ctx context.Context, p *walk.Passage, key ssh.PublicKey, line func(list []byte) string) (Report, error) {
	var r Report
	_, now, err := edit(ctx, p, func(text []byte) []byte {
		if holds(text, key) {
			r.Already = true
			return nil
		}
		return with(text, line(text))
	}, func(text []byte) bool { return holds(text, key) })
	r.Doubts, r.Added = now.doubts(), err == nil && !r.Already
	return r, err
}

// Remove takes every line that holds a key out of the list. It tells whether one
// did. The passage must not depend on that key, or the account is shut.
func Remove(ctx context.Context, p *walk.Passage, key ssh.PublicKey) (removed bool, err error) {
	_, _, err = edit(ctx, p, func(text []byte) []byte {
		if !holds(text, key) {
			return nil
		}
		removed = true
		return without(text, key)
	}, func(text []byte) bool { return !holds(text, key) })
	return removed && err == nil, err
}

// doubts say why a server would pass over the list: it wants the home folder, the
// folder of the list and the list itself to be written by nobody but the account
// and the superuser.
func (l list) doubts() []string {
	var doubts []string
	if len(l.parts) == 0 {
		return nil
	}
	home := l.parts[0].owner
	for _, p := range l.parts {
		name, owner := sanitize.Line(p.name, 60), sanitize.Line(p.owner, 20)
		if name == "." {
			name = "the home folder"
		}
		switch {
		case p.owner != home && p.owner != "0":
			doubts = append(doubts, fmt.Sprintf("%s belongs to account %s: the server ignores a list that others own", name, owner))
		case p.others:
			doubts = append(doubts, fmt.Sprintf("%s is writable by others (%s): the server ignores the list until that is fixed", name, sanitize.Line(p.mode, 10)))
		}
	}
	return doubts
}

// entry reads a line of a list that counts.
func entry(line []byte) (key ssh.PublicKey, options []string, ok bool) {
	key, _, options, _, err := ssh.ParseAuthorizedKey(line)
	return key, options, err == nil
}

// holds tells whether a key stands in a list, in a line that counts.
func holds(list []byte, key ssh.PublicKey) bool {
	_, ok := optionsOf(list, key)
	return ok
}

// optionsOf are the options of the first line that holds a key.
func optionsOf(list []byte, key ssh.PublicKey) (options []string, ok bool) {
	want := key.Marshal()
	for line := range bytes.Lines(list) {
		if k, options, ok := entry(line); ok && bytes.Equal(k.Marshal(), want) {
			return options, true
		}
	}
	return nil, false
}

// with is a list with a line behind its last.
func with(list []byte, line string) []byte {
	list = bytes.Clone(list)
	if len(list) > 0 && list[len(list)-1] != '\n' {
		list = append(list, '\n')
	}
	return append(append(list, line...), '\n')
}

// without is a list without the lines that hold a key.
func without(list []byte, key ssh.PublicKey) []byte {
	want := key.Marshal()
	kept := []byte{}
	for line := range bytes.Lines(list) {
		if k, _, ok := entry(line); !ok || !bytes.Equal(k.Marshal(), want) {
			kept = slices.Concat(kept, line)
		}
	}
	return kept
}
