package issuer

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

func used(open live.Opener) *command.Command {
	var issuer, log string
	var super bool
	var known *prompt.Identities
	c := &command.Command{
		Use:      "used SESSION...",
		Summary:  "match SSH server logs with the certificates that were issued",
		Examples: []string{"meatus issuer used tide-db", "meatus issuer used tide-db --log /var/log/auth.log --sudo"},
		Details: `Read at the machines of sessions which leases let somebody in, as their SSH servers log
them, and have the issuer write that to its record, each lease once.`,
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
	f.StringVar(&issuer, "issuer", "", "which issuer of the sessions file (the session's)")
	f.StringVar(&log, "log", "", "the file that the SSH server logs to (the journal, or the usual files)")
	f.BoolVar(&super, "sudo", false, "read it with the superuser's right, where sudo asks for no password")
	c.Value("issuer", "ISSUER", nil)
	c.Value("log", "FILE", nil)
	known = prompt.YesIdentity(c)
	return c
}
