package main

import (
	"fmt"

	"github.com/spf13/cobra"

	"meatus/core/trail"
)

func trailCommand(open opener) *cobra.Command {
	var f trail.Filter
	var asJSON, asCSV bool
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
			t, err := trail.Open(w.Dir)
			if err != nil {
				return &statusError{statusWorkspace, err}
			}
			defer t.Close()
			entries, err := t.Read(cmd.Context(), f)
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
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON lines")
	c.Flags().BoolVar(&asCSV, "csv", false, "print comma-separated values")
	c.Flags().BoolVar(&f.Failed, "failed", false, "only what failed")
	c.Flags().StringVar(&f.Session, "session", "", "only of this session")
	c.Flags().IntVarP(&f.Limit, "number", "n", 50, "at most so many; 0 for all")
	c.MarkFlagsMutuallyExclusive("json", "csv")
	return c
}
