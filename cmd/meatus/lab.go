package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/traffic"
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
				sessions, err := os.ReadFile(filepath.Join(l.Dir, book.FileName))
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.OutOrStdout(), "# quay listens on %s; open its workspace with\n#   meatus --workspace %s\n\n%s", l.Address(), l.Dir, sessions)
				<-cmd.Context().Done()
				return nil
			})
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (else a temporary one)")
	return c
}

func demoCommand(leader *string, plain *bool) *cobra.Command {
	var dir string
	c := &cobra.Command{
		Use:   "demo",
		Short: "the lab and its workspace, in one process",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return demo(cmd.Context(), dir, *leader, false, *plain)
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (else a temporary one)")
	return c
}

func tourCommand(leader *string, plain *bool) *cobra.Command {
	var dir string
	var anew bool
	c := &cobra.Command{
		Use:   "tour",
		Short: "the demo with a line that leads through it, step by step; goes on where it was left",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if dir == "" {
				dir = filepath.Join(xdg.DataHome, "meatus", "tour")
			}
			if anew {
				if err := forgetTour(dir); err != nil {
					return err
				}
			}
			if err := os.MkdirAll(dir, 0o700); err != nil {
				return fmt.Errorf("making the tour's folder: %w", err)
			}
			return demo(cmd.Context(), dir, *leader, true, *plain)
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the tour's workspace in this folder (else meatus/tour of the data folder)")
	c.Flags().BoolVar(&anew, "anew", false, "begin from the first step, with the bay as it was")
	return c
}

// forgetTour removes a tour's folder. It fails for a folder that is none.
func forgetTour(dir string) error {
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, part := range []string{book.FileName, "lab"} {
		if _, err := os.Stat(filepath.Join(dir, part)); err != nil {
			return fmt.Errorf("%s is not removed, since it is no tour's folder: %w", dir, err)
		}
	}
	return os.RemoveAll(dir)
}

// demo runs the lab, and the program in its workspace.
func demo(ctx context.Context, dir, leader string, tour, plain bool) error {
	return withLab(dir, func(l *lab.Lab) error {
		w, err := workspace.Open(l.Dir)
		if err != nil {
			return &statusError{statusWorkspace, err}
		}
		l.Distance()
		l.Cloud().SomebodyElse(3 * time.Minute)
		w.Downloads = l.Downloads()
		if stop, err := traffic.Start(w, l.Dialer()); err != nil {
			fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
		} else {
			defer stop()
		}
		return show(ctx, w, ownSettings(tui.Options{Name: "Lantern Bay", Leader: leader, Dialer: l.Dialer(), Tour: tour}), plain)
	})
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
