package main

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"

	"meatus/core/workspace"
	"meatus/lab"
	"meatus/tui"
)

func labCommand() *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "lab",
		Short: "run the stand-ins alone, on loopback, with a workspace that reaches them",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withLab(dir, func(l *lab.Lab) error {
				fmt.Fprintf(cmd.OutOrStdout(), "workspace %s\nquay      %s\n", l.Dir, l.Address())
				<-cmd.Context().Done()
				return nil
			})
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (else a temporary one)")
	return c
}

func demoCommand(leader *string) *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "demo",
		Short: "the lab and its workspace, in one process",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return withLab(dir, func(l *lab.Lab) error {
				w, err := workspace.Open(l.Dir)
				if err != nil {
					return &statusError{statusWorkspace, err}
				}
				l.Distance()
				return show(cmd.Context(), w, l.Dialer(), tui.Options{Name: "Lantern Bay", Leader: *leader})
			})
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (else a temporary one)")
	return c
}

// withLab runs the lab while work does, in dir or in a folder that goes with it.
func withLab(dir string, work func(*lab.Lab) error) error {
	if dir == "" {
		temporary, err := os.MkdirTemp("", "meatus-lab-")
		if err != nil {
			return err
		}
		defer os.RemoveAll(temporary)
		dir = temporary
	}
	l, err := lab.Open(dir)
	if err != nil {
		return fmt.Errorf("opening the lab in %s: %w", dir, err)
	}
	defer l.Close()
	return work(l)
}
