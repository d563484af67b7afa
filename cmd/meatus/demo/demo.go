// Package demo has the commands of the demo: a lab of made-up servers, and the full screen in its workspace.
package demo

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

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/screen"
	"meatus/core/book"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/traffic"
	"meatus/tui"
)

// Commands are "meatus lab", "demo" and "tour". Leader and plain are flags of the program.
func Commands(leader *string, plain *bool) []*command.Command {
	return []*command.Command{runLab(), show(leader, plain), tour(leader, plain)}
}

func runLab() *command.Command {
	var dir string
	c := &command.Command{
		Use:      "lab",
		Summary:  "run only the servers of the demo, on loopback",
		Examples: []string{"meatus lab --dir bay"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
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
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (default: a temporary one)")
	c.Value("dir", "FOLDER", nil)
	return c
}

func show(leader *string, plain *bool) *command.Command {
	var dir string
	c := &command.Command{
		Use:      "demo",
		Summary:  "run the demo with made-up servers and sessions",
		Examples: []string{"meatus demo", "meatus demo --dir bay"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return Run(cmd.Context(), dir, *leader, false, *plain)
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the workspace in this folder (default: a temporary one)")
	c.Value("dir", "FOLDER", nil)
	return c
}

func tour(leader *string, plain *bool) *command.Command {
	var dir string
	var anew bool
	c := &command.Command{
		Use:      "tour",
		Summary:  "run the demo with a step-by-step tutorial",
		Examples: []string{"meatus tour", "meatus tour --anew"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
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
			return Run(cmd.Context(), dir, *leader, true, *plain)
		},
	}
	c.Flags().StringVar(&dir, "dir", "", "keep the tour's workspace in this folder (default: meatus/tour in the data folder)")
	c.Flags().BoolVar(&anew, "anew", false, "start again from the first step")
	c.Value("dir", "FOLDER", nil)
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

// Run runs the lab, and the program in its workspace.
func Run(ctx context.Context, dir, leader string, tour, plain bool) error {
	return withLab(dir, func(l *lab.Lab) error {
		w, err := workspace.Open(l.Dir)
		if err != nil {
			return command.Fail(command.Workspace, err)
		}
		l.Distance()
		l.Cloud().SomebodyElse(3 * time.Minute)
		w.Downloads = l.Downloads()
		if stop, err := traffic.Start(w, l.Dialer()); err != nil {
			fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
		} else {
			defer stop()
		}
		return screen.Show(ctx, w, screen.Own(tui.Options{Name: "Lantern Bay", Leader: leader, Dialer: l.Dialer(), Tour: tour}), plain)
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
