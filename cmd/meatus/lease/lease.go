// Package lease has the commands for short-lived certificates, called leases, on the side of the person and of the machines
// logged in to.
package lease

import (
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/lease"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

// Command is "meatus lease".
func Command(open live.Opener) *command.Command {
	var issuer string
	c := &command.Command{
		Use:      "lease",
		Summary:  "show your login rights, certificates and requests",
		Examples: []string{"meatus lease", "meatus lease --issuer bay --json"},
		JSON:     "print JSON",
		Details: `List your rights with certificates of an issuer in the sessions file: machines, users and
conditions; the certificates you hold, called leases; your requests that
wait for an approval; and requests that wait for yours. Certificates are requested when a
session that uses them connects.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return open.With(cmd, &prompt.Identities{}, func(r *live.Engine, w *workspace.Workspace) error {
				_, name, err := live.IssuerOf(w, issuer)
				if err != nil {
					return err
				}
				at, err := r.Tools().LeasesOf(cmd.Context(), name)
				if err != nil {
					return command.Shut(err)
				}
				table := &command.Table{}
				for _, m := range at.May {
					say := "not now"
					switch {
					case m.Denied:
						say = "no"
					case m.Now && m.Agreed:
						say = "with an approval"
					case m.Now:
						say = "yes"
					}
					table.Row("may", sanitize.Line(lease.Principal(m.Login, m.Machine), 120), say, sanitize.Line(m.Says, 300))
				}
				for _, l := range at.Held {
					table.Row("held", sanitize.Line(lease.Principal(l.Login, l.Machine), 120), "until "+l.Ends.Local().Format(time.TimeOnly), fmt.Sprintf("lease %d, %s", l.Serial, sanitize.Line(l.Rule, 80)))
				}
				for _, q := range at.Waiting {
					whose := "for your approval: " + q.Person
					if q.Mine {
						whose = "yours"
					}
					table.Row(sanitize.Line(q.State, 20), sanitize.Line(lease.Principal(q.Login, q.Machine), 120), sanitize.Line(q.ID, 40), fmt.Sprintf("%s, until %s, %q", sanitize.Line(whose, 100), q.Expires.Local().Format(time.TimeOnly), sanitize.Line(q.Reason, 200)))
				}
				return cmd.AnswerTable(map[string]any{"may": append([]lease.Right{}, at.May...), "held": append([]lease.Lease{}, at.Held...), "waiting": append([]lease.Waiting{}, at.Waiting...)}, table)
			})
		},
	}
	c.Shared().StringVar(&issuer, "issuer", "", "the issuer in the sessions file, if there are several")
	c.Value("issuer", "ISSUER", nil)
	c.Commands = []*command.Command{
		answer(open, &issuer, "approve", "agree", "approve a request of another person"),
		answer(open, &issuer, "deny", "decline", "deny a request of another person, or withdraw an approval"),
		answer(open, &issuer, "withdraw", "withdraw", "withdraw your own request"),
		enrol(open), push(open), matchLogs(open),
	}
	return c
}

// answer answers a request: name is the command, say the word of the protocol.
func answer(open live.Opener, issuer *string, name, say, summary string) *command.Command {
	return &command.Command{
		Use:      name + " ID",
		Summary:  summary,
		Examples: []string{"meatus lease " + name + " QK3V7H2M5XN4B6ZT2WRCJ5LPAY"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return open.With(cmd, &prompt.Identities{}, func(r *live.Engine, w *workspace.Workspace) error {
				at, _, err := live.IssuerOf(w, *issuer)
				if err != nil {
					return err
				}
				if _, err := lease.Told(cmd.Context(), r.Leases, at, lease.Answer{ID: args[0], Say: say}); err != nil {
					return command.Shut(err)
				}
				return nil
			})
		},
	}
}
