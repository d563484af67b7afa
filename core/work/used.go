package work

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"strings"

	"meatus/core/lease"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/route"
)

// How much of a log is read, where from if nobody says, and how many logins an issuer is told of at once, which it bounds.
const (
	maxLog   = 8 << 20
	usualLog = `journalctl -q --no-pager -o cat -t sshd -t sshd-session --since -2d 2>/dev/null | grep " ID lease " || grep -h " ID lease " /var/log/auth.log /var/log/secure 2>/dev/null || true`
	namedLog = `grep " ID lease " "$1" || true`

	usedAtOnce = 16
)

// ErrLogPath is the error for a log whose path cannot be given to the other side.
var ErrLogPath = errors.New("the path of the log holds a quote or a line break")

// Logins is the log of a session's machine whose logins an issuer is told of.
type Logins struct {
	Session string
	Issuer  route.Route
	Machine string // its name at the issuer; the session's where ""
	Log     string // the file; the journal or the usual files where ""
	Super   bool   // read by sudo, which asks for no password
}

// TellLogins reads which leases let somebody in at a session's machine, and has the issuer write them to its record. It
// returns their number.
func (t Tools) TellLogins(ctx context.Context, l Logins) (int, error) {
	if strings.ContainsAny(l.Log, "'\n") {
		return 0, ErrLogPath
	}
	way, err := t.Workspace().Planner().Plan(l.Session)
	if err != nil {
		return 0, err
	}
	p, err := t.Walker.Walk(ctx, way)
	if err != nil {
		return 0, err
	}
	defer p.Close()
	command := posix.Line(usualLog)
	if l.Log != "" {
		command = posix.Line(namedLog, l.Log)
	}
	if l.Super {
		command = "sudo -n " + command
	}
	out, err := remote.Output(ctx, p, command, nil, maxLog)
	if err != nil {
		return 0, err
	}
	used := lease.LoginsIn(string(out), cmp.Or(l.Machine, l.Session))
	for some := range slices.Chunk(used, usedAtOnce) {
		if _, err := lease.Told(ctx, t.Leases, l.Issuer, lease.Logins{Used: some}); err != nil {
			return 0, err
		}
	}
	return len(used), nil
}
