// Command meatus draws the way to each machine, says what will stop it, mends
// it, walks it, and watches what is alive.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/ring"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui"
)

// The exit statuses besides a remote command's own.
const (
	statusDone      = 0
	statusFailed    = 1
	statusWrongUse  = 2
	statusShut      = 3
	statusWorkspace = 4
)

// statusError ends the program with a status. Without an error nothing more is
// said.
type statusError struct {
	status int
	err    error
}

func (e *statusError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *statusError) Unwrap() error { return e.err }

func main() {
	log.SetOutput(io.Discard) // the protocol library logs there, which would draw over the screen
	if err := ring.Harden(); err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
	}
	os.Exit(run(os.Args[1:]))
}

func run(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := root().execute(ctx, args)
	if err != nil && err.Error() != "" {
		fmt.Fprintln(os.Stderr, "meatus: "+sanitize.Text(err.Error(), 10000)) // it may have a name or a word of others in it
	}
	return statusOf(err)
}

// statusOf is the exit status an error ends the program with.
func statusOf(err error) int {
	var with *statusError
	var shut *gate.Failure
	var problem book.Problem
	switch {
	case err == nil:
		return statusDone
	case errors.As(err, &with):
		return with.status
	case errors.Is(err, route.ErrNoSession):
		return statusWrongUse
	case errors.As(err, &shut), errors.As(err, &problem):
		return statusShut
	}
	return statusFailed
}

type command struct{ *cobra.Command }

func (c command) execute(ctx context.Context, args []string) error {
	c.SetArgs(args)
	return c.ExecuteContext(ctx)
}

func root() command {
	var dir, leader string
	var beforeAgent, plain bool
	open := opener{&dir, &beforeAgent}
	top := &cobra.Command{
		Use:           "meatus",
		Short:         "the way to each machine, and what stands in it",
		Args:          cobra.NoArgs,
		SilenceErrors: true,
		SilenceUsage:  true,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := open.first(cmd); err != nil {
				return err
			}
			w, err := open.kept()
			if err != nil {
				return err
			}
			err = show(cmd.Context(), w, ownSettings(tui.Options{Leader: leader, Demo: true, BeforeAgent: beforeAgent}), plain)
			if errors.Is(err, tui.ErrDemo) {
				return demo(cmd.Context(), "", leader, false, plain)
			}
			return err
		},
	}
	top.PersistentFlags().StringVar(&dir, "workspace", "", "the folder with sessions.toml (else $"+workspace.Variable+", else the user's configuration)")
	top.PersistentFlags().StringVar(&leader, "leader", "alt+m", "the key that opens the switcher")
	top.PersistentFlags().BoolVar(&beforeAgent, "before-agent", false, "stand in front of the agent that SSH_AUTH_SOCK names: use its keys, too")
	top.PersistentFlags().BoolVar(&plain, "plain", false, "lines of text in place of the full screen, for screen readers: a key or words and enter")
	top.AddCommand(checkCommand(open), runCommand(open), eachCommand(open), sendCommand(open), fetchCommand(open), mirrorCommand(open), checkFilesCommand(open), editCommand(open), cargoCommand(open), sessionCommand(open), versionCommand(), trailCommand(open), keyCommand(open), ringCommand(open), holdCommand(open), drawCommand(open), estateCommand(open), tunnelsCommand(open), hostsCommand(open), gatewayCommand(open), issuerCommand(open), leaseCommand(open), exportCommand(open), importCommand(open), labCommand(), demoCommand(&leader, &plain), tourCommand(&leader, &plain))
	top.InitDefaultCompletionCmd()
	plainCompletion(top)
	helpful(top)
	complete(top, open)
	wrongUse(top)
	return command{top}
}

// wrongUse has mistakes in flags and arguments end with their own status.
func wrongUse(c *cobra.Command) {
	c.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return &statusError{statusWrongUse, fmt.Errorf("%w; see %s --help", err, cmd.CommandPath())}
	})
	if args := c.Args; args != nil {
		c.Args = func(cmd *cobra.Command, given []string) error {
			if err := args(cmd, given); err != nil {
				return &statusError{statusWrongUse, fmt.Errorf("%w; see %s --help", err, cmd.CommandPath())}
			}
			return nil
		}
	}
	for _, sub := range c.Commands() {
		wrongUse(sub)
	}
}
