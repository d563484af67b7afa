package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"meatus/core/engine"
	"meatus/core/trail"
	"meatus/core/workspace"
)

func trailCommand(open opener) *cobra.Command {
	var f trail.Filter
	var asJSON, asCSV bool
	var gateway, issuer string
	c := &cobra.Command{
		Use:   "trail [TEXT]",
		Short: "what was done, by whom, when: the newest first, or those that hold TEXT",
		Args:  cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
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
			case asJSON:
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
	c.Flags().StringVar(&gateway, "gateway", "", "the record of this gateway of the sessions file, where you may read it")
	c.Flags().StringVar(&issuer, "issuer", "", "the record of this issuer of leases, where you may read it")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON lines")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	c.Flags().BoolVar(&f.Failed, "failed", false, "only what failed")
	c.Flags().StringVar(&f.Session, "session", "", "only of this session")
	c.Flags().IntVarP(&f.Limit, "number", "n", 50, "at most so many; 0 for all")
	c.MarkFlagsMutuallyExclusive("json", "csv")
	c.MarkFlagsMutuallyExclusive("gateway", "issuer")
	return c
}

// readTrail reads the trail, or the record of a gateway or an issuer.
func readTrail(cmd *cobra.Command, open opener, w *workspace.Workspace, f trail.Filter, gateway, issuer string) ([]trail.Entry, error) {
	if gateway == "" && issuer == "" {
		t, err := trail.Open(w.Dir)
		if err != nil {
			return nil, &statusError{statusWorkspace, err}
		}
		defer t.Close()
		return t.Read(cmd.Context(), f)
	}
	e, err := open.engine(cmd, w, &identities{}, engine.Options{Linger: checkLinger}, nil)
	if err != nil {
		return nil, err
	}
	defer e.Close()
	if issuer != "" {
		return e.IssuerRecord(issuer, f)
	}
	return e.GatewayRecord(gateway, f)
}
