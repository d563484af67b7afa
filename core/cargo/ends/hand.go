package ends

import (
	"bufio"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"golang.org/x/crypto/ssh"

	"meatus/core/sanitize"
)

// HandScript packs the files whose names it reads, each ended by a null byte, and has them unpacked at
// another machine, which it logs in to with what is lent to it: $2 is that machine's host, $3 its port, $4
// the login, $5 the key that it has to prove itself with, $6 the command that unpacks. No key and no setting
// of the account itself is used.
const HandScript = `cd "$1" || exit 96
command -v ssh >/dev/null || { echo "there is no program there that logs in to other machines" >&2; exit 95; }
k=$(mktemp) || exit 94
trap 'rm -f "$k"' EXIT
trap 'exit 93' HUP INT TERM
printf 'handed %s\n' "$5" >"$k" || exit 94
echo =meatus=
tar --null --no-recursion -T - -cf - --format=pax | ssh -F /dev/null -T -x -a -o BatchMode=yes -o StrictHostKeyChecking=yes \
 -o HostKeyAlias=handed -o CheckHostIP=no -o UserKnownHostsFile="$k" -o GlobalKnownHostsFile=/dev/null \
 -o IdentityFile=none -o PreferredAuthentications=publickey -o ConnectTimeout=15 -o ServerAliveInterval=15 \
 -p "$3" -l "$4" -- "$2" "$6"`

// ErrNotHanded says that one machine cannot hand files to another itself.
var ErrNotHanded = errors.New("the one machine cannot hand files to the other by itself")

// Hand has this tree's machine hand files to another machine by itself, with a key that is lent to it for
// that time, into a folder of that tree which is there. The machine that is handed to has to show the key
// that it showed here. It fails with [ErrNotHanded] where that cannot be, and says why.
func (t *There) Hand(ctx context.Context, names []string, to *There, folder string) error {
	p, far := t.Passage(), to.Passage()
	if p == nil || far == nil {
		return lost{errors.New("the line is lost")}
	}
	if t.Lent == nil || !t.known().pack || !to.known().unpack {
		return fmt.Errorf("%w: both have to have a shell and the program tar", ErrNotHanded)
	}
	ctx, cancel := context.WithTimeout(ctx, maxDigest)
	defer cancel()
	hop := far.Route().Target()
	key := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(far.HostKey())))
	g, err := t.Lent(ctx, p, t.line(HandScript, hop.Host, strconv.Itoa(hop.Port), hop.User, key, to.lineIn(to.at(folder), UnpackScript)))
	if err != nil {
		return fmt.Errorf("%w: %w", ErrNotHanded, err)
	}
	defer g.Close()
	if g.Lend == nil {
		return fmt.Errorf("%w: the session %s lends no key; set agent and lends", ErrNotHanded, t.Session)
	}
	stop := context.AfterFunc(ctx, g.Close)
	defer stop()
	go func() {
		list := bufio.NewWriter(g.In)
		for _, name := range names {
			list.WriteString(t.relative(name) + "\x00")
		}
		list.Flush()
		g.In.Close()
	}()
	said := make(chan string, 1)
	go func() {
		text, _ := io.ReadAll(io.LimitReader(g.Err, 4<<10))
		io.Copy(io.Discard, g.Err)
		said <- string(text)
	}()
	io.Copy(io.Discard, g.Out)
	words := strings.Split(strings.TrimSpace(<-said), "\n")
	why := sanitize.Line(words[len(words)-1], 300) // what stands before it is of a banner, or a warning of many lines
	end := g.Wait()
	switch {
	case ctx.Err() != nil:
		return ctx.Err()
	case end.Err != nil:
		return lost{end.Err}
	case end.Status != 0 || end.Signal != "":
		return fmt.Errorf("%w: %s", ErrNotHanded, cmp.Or(why, fmt.Sprintf("the command ended with %d", end.Status)))
	}
	return nil
}
