package lease

import (
	"errors"
	"fmt"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"

	"github.com/spf13/cobra"
)

func matchLogs(open live.Opener) *command.Command {
	var issuer, log string
	var super bool
	var known *prompt.Identities
	c := &command.Command{
		Use:      "match-logs SESSION...",
		Summary:  "match SSH server logs with the certificates that were issued",
		Examples: []string{"meatus lease match-logs tide-db", "meatus lease match-logs tide-db --log /var/log/auth.log --sudo"},
		Details: `Read the logins with certificates from the SSH server logs of sessions' machines, and write them
to the issuer's audit log, each certificate once.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return open.With(cmd, known, func(r *live.Engine, w *workspace.Workspace) error {
				for _, name := range args {
					s := w.Book.Session(name)
					if s == nil {
						return command.Fail(command.WrongUse, fmt.Errorf("there is no session %q", sanitize.Line(name, 60)))
					}
					of, machine := s.Issuer()
					if issuer != "" {
						of = issuer
					}
					at, _, err := live.IssuerOf(w, of)
					if err != nil {
						return err
					}
					n, err := r.Tools().TellLogins(cmd.Context(), work.Logins{Session: name, Issuer: at, Machine: machine, Log: log, Super: super})
					if errors.Is(err, work.ErrLogPath) {
						return command.Fail(command.WrongUse, err)
					}
					if err != nil {
						return command.Shut(fmt.Errorf("%s: %w", name, err))
					}
					fmt.Fprintf(cmd.OutOrStdout(), "%s: %d in its log\n", name, n)
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&issuer, "issuer", "", "the issuer in the sessions file (default: the session's)")
	f.StringVar(&log, "log", "", "the SSH server's log file (default: the journal, or /var/log)")
	f.BoolVar(&super, "sudo", false, "read as root on the machine, by sudo without a password")
	c.Value("issuer", "ISSUER", nil)
	c.Value("log", "FILE", nil)
	known = prompt.YesIdentity(c)
	return c
}
