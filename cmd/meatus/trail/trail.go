// Package trail has the command that prints the log of what was done.
package trail

import (
	"fmt"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/trail"
	"meatus/core/workspace"
)

// Command is "meatus trail".
func Command(open live.Opener) *command.Command {
	var f trail.Filter
	var asCSV bool
	var gateway, issuer string
	c := &command.Command{
		Use:      "trail [TEXT]",
		Summary:  "print the log of connections, edits and failures, newest first",
		Examples: []string{"meatus trail", "meatus trail tide-db --failed", "meatus trail --gateway bay", "meatus trail --json"},
		JSON:     "print JSON lines",
		Complete: command.First(1, command.Sessions, nil),
		Args:     cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if len(args) > 0 {
				f.Text = args[0]
			}
			entries, err := readTrail(cmd, open, w, f, gateway, issuer)
			if err != nil {
				return err
			}
			switch {
			case cmd.JSON:
				return trail.WriteJSON(cmd.OutOrStdout(), entries)
			case asCSV:
				return trail.WriteCSV(cmd.OutOrStdout(), entries)
			}
			for _, e := range entries {
				fmt.Fprintf(cmd.OutOrStdout(), "%s  %-10s  %-8s  %-14s  %s", e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.Kind, e.Session, e.Say)
				if e.Failed != "" {
					fmt.Fprintf(cmd.OutOrStdout(), ": %s", e.Failed)
				}
				fmt.Fprintln(cmd.OutOrStdout())
			}
			return nil
		},
	}
	c.Flags().StringVar(&gateway, "gateway", "", "print the audit log of this gateway, if you may read it")
	c.Flags().StringVar(&issuer, "issuer", "", "print the audit log of this issuer, if you may read it")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	c.Flags().BoolVar(&f.Failed, "failed", false, "print failures only")
	c.Flags().StringVar(&f.Session, "session", "", "print only this session's entries")
	c.Flags().IntVarP(&f.Limit, "number", "n", 50, "the number of entries; 0 for all")
	c.Value("gateway", "GATEWAY", nil)
	c.Value("issuer", "ISSUER", nil)
	c.Value("session", "SESSION", command.Sessions)
	c.Apart("json", "csv")
	c.Apart("gateway", "issuer")
	return c
}

// readTrail reads the trail, or the record of a gateway or an issuer.
func readTrail(cmd *command.Call, open live.Opener, w *workspace.Workspace, f trail.Filter, gateway, issuer string) ([]trail.Entry, error) {
	if gateway == "" && issuer == "" {
		t, err := trail.Open(w.Dir)
		if err != nil {
			return nil, command.Fail(command.Workspace, err)
		}
		defer t.Close()
		return t.Read(cmd.Context(), f)
	}
	e, err := open.Engine(cmd, w, &prompt.Identities{}, engine.Options{Linger: live.Linger}, nil)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	if issuer != "" {
		return e.IssuerRecord(issuer, f)
	}
	return e.GatewayRecord(gateway, f)
}
