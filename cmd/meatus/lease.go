package main

import (
	"encoding/json"
	"fmt"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/lease"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

func leaseCommand(open opener) *cobra.Command {
	var issuer string
	var asJSON bool
	c := &cobra.Command{
		Use:   "lease",
		Short: "what you may at an issuer of leases, what you hold, and what waits for a second person",
		Long: `Say where you may log in, as whom and under which conditions, by leases of an issuer of the
sessions file; which leases you hold; what of yours waits for a second person, and what
waits for your yes. Leases themselves are asked for when a session that has them is walked.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return atIssuer(cmd, open, &identities{}, func(r *running, w *workspace.Workspace) error {
				_, name, err := issuerOf(w, issuer)
				if err != nil {
					return err
				}
				at, err := r.Tools().LeasesOf(cmd.Context(), name)
				if err != nil {
					return shut(err)
				}
				if asJSON {
					e := json.NewEncoder(cmd.OutOrStdout())
					e.SetIndent("", "  ")
					return e.Encode(map[string]any{"may": append([]lease.Right{}, at.May...), "held": append([]lease.Lease{}, at.Held...), "waiting": append([]lease.Waiting{}, at.Waiting...)})
				}
				t := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
				for _, m := range at.May {
					say := "not now"
					switch {
					case m.Denied:
						say = "no"
					case m.Now && m.Agreed:
						say = "with a yes"
					case m.Now:
						say = "yes"
					}
					fmt.Fprintf(t, "may\t%s\t%s\t%s\n", sanitize.Line(lease.Principal(m.Login, m.Machine), 120), say, sanitize.Line(m.Says, 300))
				}
				for _, l := range at.Held {
					fmt.Fprintf(t, "held\t%s\tuntil %s\tlease %d, %s\n", sanitize.Line(lease.Principal(l.Login, l.Machine), 120), l.Ends.Local().Format(time.TimeOnly), l.Serial, sanitize.Line(l.Rule, 80))
				}
				for _, q := range at.Waiting {
					whose := "for your yes: " + q.Person
					if q.Mine {
						whose = "yours"
					}
					fmt.Fprintf(t, "%s\t%s\t%s\t%s, until %s, %q\n", sanitize.Line(q.State, 20), sanitize.Line(lease.Principal(q.Login, q.Machine), 120), sanitize.Line(q.ID, 40), sanitize.Line(whose, 100), q.Expires.Local().Format(time.TimeOnly), sanitize.Line(q.Reason, 200))
				}
				return t.Flush()
			})
		},
	}
	c.PersistentFlags().StringVar(&issuer, "issuer", "", "which issuer of the sessions file, where there are several")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	c.AddCommand(answerCommand(open, &issuer, "agree", "say yes to what waits for a second person"), answerCommand(open, &issuer, "decline", "say no to it, or take a yes back"), answerCommand(open, &issuer, "withdraw", "take back what you have asked for"))
	return c
}
