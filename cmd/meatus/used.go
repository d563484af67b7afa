package main

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"meatus/core/lease"
	"meatus/core/posix"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// How much of a log is read, and where from where nobody says.
const (
	maxLog    = 8 << 20
	usualLog  = `journalctl -q --no-pager -o cat -t sshd -t sshd-session --since -2d 2>/dev/null | grep " ID lease " || grep -h " ID lease " /var/log/auth.log /var/log/secure 2>/dev/null || true`
	namedLog  = `grep " ID lease " "$1" || true`
	mostOfLog = 500

	usedAtOnce = 16 // what is asked has a bound of its own
)

// usedLine is what the SSH server logs of a login by a lease.
var usedLine = regexp.MustCompile(`Accepted publickey for (\S+) from (\S+) port \d+ ssh2: \S+-CERT SHA256:\S+ ID lease \d+ of .* \(serial (\d+)\) CA `)

func issuerUsed(open opener) *cobra.Command {
	var issuer, log string
	var super bool
	var known *identities
	c := &cobra.Command{
		Use:   "used SESSION...",
		Short: "put what machines' logs tell of leases beside what was granted",
		Long: `Read at the machines of sessions which leases let somebody in, as their SSH servers log
them, and have the issuer write that to its record, each lease once.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return atIssuer(cmd, open, known, func(r *running, w *workspace.Workspace) error {
				for _, name := range args {
					s := w.Book.Session(name)
					if s == nil {
						return &statusError{statusWrongUse, fmt.Errorf("there is no session %q", sanitize.Line(name, 60))}
					}
					of, machine := s.Issuer()
					if issuer != "" {
						of = issuer
					}
					at, _, err := issuerOf(w, of)
					if err != nil {
						return err
					}
					if machine == "" {
						machine = name
					}
					way, err := w.Planner().Plan(name)
					if err != nil {
						return err
					}
					n, err := tellUsed(cmd.Context(), r, way, at, machine, log, super)
					if err != nil {
						return shut(fmt.Errorf("%s: %w", name, err))
					}
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %d in its log\n", name, n)
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&issuer, "issuer", "", "which issuer of the sessions file (the session's)")
	f.StringVar(&log, "log", "", "the file that the SSH server logs to (the journal, or the usual files)")
	f.BoolVar(&super, "sudo", false, "read it with the superuser's right, where sudo asks for no password")
	known = yesIdentity(c)
	return c
}

// tellUsed reads a machine's log and tells the issuer what stands there. It returns how many leases that are.
func tellUsed(ctx context.Context, r *running, way, issuer route.Route, machine, log string, super bool) (int, error) {
	if strings.ContainsAny(log, "'\n") {
		return 0, &statusError{statusWrongUse, errors.New("the log's path holds a quote")}
	}
	p, err := r.Walker.Walk(ctx, way)
	if err != nil {
		return 0, err
	}
	defer p.Close()
	used, err := readUsed(ctx, p, machine, log, super)
	if err != nil || len(used) == 0 {
		return 0, err
	}
	for some := range slices.Chunk(used, usedAtOnce) {
		if _, err := lease.Told(ctx, r.Leases, issuer, lease.Logins{Used: some}); err != nil {
			return 0, err
		}
	}
	return len(used), nil
}

func readUsed(ctx context.Context, p *walk.Passage, machine, log string, super bool) (used []lease.Used, err error) {
	command := posix.Line(usualLog)
	if log != "" {
		command = posix.Line(namedLog, log)
	}
	if super {
		command = "sudo -n " + command
	}
	out, err := remote.Output(ctx, p, command, nil, maxLog)
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(string(out)) {
		at := usedLine.FindStringSubmatch(line)
		if at == nil {
			continue
		}
		serial, err := strconv.ParseUint(at[3], 10, 63)
		if err == nil {
			used = append(used, lease.Used{Machine: machine, Serial: serial, Says: "by " + sanitize.Line(at[1], 40) + " from " + sanitize.Line(at[2], 60)})
		}
	}
	if len(used) > mostOfLog {
		used = used[len(used)-mostOfLog:]
	}
	return used, nil
}
