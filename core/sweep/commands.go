package sweep

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/remote"
	"meatus/core/sanitize"
	"meatus/core/walk"
)

// look, with the list's path for LIST, prints the files that begin like private keys, the agents' sockets of the
// account, and its list of keys. Files of up to 256 KiB in the login's home, four
// folders deep, and in the usual places for what is dropped are looked at.
const look = `cd || exit 1
echo "=keys="
find . /tmp /var/tmp -maxdepth 4 -xdev -path "$(pwd -P)/*" -prune -o -type f -size -513 -user "$(id -un)" -exec grep -l -e '-----BEGIN [A-Z ]*PRIVATE KEY-----' {} + 2>/dev/null | head -n 201 | while IFS= read -r f; do ls -ld "$f" 2>/dev/null; done
echo "=sockets="
find /tmp /run/user/"$(id -u)" -maxdepth 3 -type s -user "$(id -un)" 2>/dev/null | grep -i -e agent -e ssh | head -n 201
echo "=list="
cat LIST 2>/dev/null
true`

// maxAnswer is how much of the answer is read, in bytes.
const maxAnswer = 2 << 20

// byCommands looks by commands of a POSIX shell.
func byCommands(ctx context.Context, p *walk.Passage, known []ssh.PublicKey) (Report, error) {
	list := cmp.Or(p.Route().Target().KeyList, book.DefaultKeyList)
	out, err := remote.Output(ctx, p, strings.Replace(look, "LIST", "'"+list+"'", 1), nil, maxAnswer)
	if err != nil {
		return Report{}, err
	}
	return read(string(out), known)
}

// read parts the answer.
func read(out string, known []ssh.PublicKey) (Report, error) {
	var r Report
	_, rest, ok := strings.Cut(out, "=keys=\n")
	keys, rest, ok2 := strings.Cut(rest, "=sockets=\n")
	sockets, list, ok3 := strings.Cut(rest, "=list=\n")
	if !ok || !ok2 || !ok3 {
		return r, fmt.Errorf("the far side did not answer as a POSIX shell does: %q", sanitize.Line(out, 80))
	}
	for line := range strings.Lines(keys) {
		fields := strings.Fields(line)
		at := strings.IndexAny(line, "./")
		for _, start := range []string{" ./", " /"} {
			if i := strings.Index(line, start); i >= 0 {
				at = i + 1
				break
			}
		}
		if len(fields) > 1 && at > 0 {
			r.Keys = append(r.Keys, File{sanitize.Line(strings.TrimPrefix(strings.TrimSpace(line[at:]), "./"), 300), sanitize.Line(fields[0], 12)})
		}
	}
	for line := range strings.Lines(sockets) {
		r.Sockets = append(r.Sockets, sanitize.Line(line, 300))
	}
	r.list(list, known)
	r.Cut = len(r.Keys) > most || len(r.Sockets) > most || len(out) >= maxAnswer
	r.Keys, r.Sockets = r.Keys[:min(len(r.Keys), most)], r.Sockets[:min(len(r.Sockets), most)]
	return r, nil
}
