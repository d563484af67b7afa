// Command meatus connects to machines over SSH, through bastions and gateways, shows what blocks a connection and how to
// mend it, and watches what is connected.
package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/check"
	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/demo"
	"meatus/cmd/meatus/draw"
	"meatus/cmd/meatus/estate"
	"meatus/cmd/meatus/files"
	"meatus/cmd/meatus/gateway"
	"meatus/cmd/meatus/host"
	"meatus/cmd/meatus/issuer"
	"meatus/cmd/meatus/key"
	"meatus/cmd/meatus/lease"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/run"
	"meatus/cmd/meatus/screen"
	"meatus/cmd/meatus/session"
	"meatus/cmd/meatus/trail"
	"meatus/cmd/meatus/tunnel"
	"meatus/core/ring"
	"meatus/core/sanitize"
	"meatus/core/workspace"
	"meatus/tui"
)

func main() {
	log.SetOutput(io.Discard) // the protocol library logs there, which would draw over the screen
	if err := ring.Harden(); err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
	}
	os.Exit(execute(os.Args[1:]))
}

func execute(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	c := program()
	c.SetArgs(args)
	ran, err := c.ExecuteContextC(ctx)
	if err != nil && err.Error() != "" {
		fmt.Fprintln(os.Stderr, "meatus: "+sanitize.Text(err.Error(), 10000)) // it may have a name or a word of others in it
	}
	return command.StatusOf(ran, err)
}

// program is the whole command line.
func program() *cobra.Command {
	var open live.Opener
	top := commands(&open)
	return command.Program(top, topics(), open.Kept)
}

// commands are all commands. They open what the flags say in open.
func commands(at *live.Opener) *command.Command {
	var leader string
	var plain bool
	open := live.Opener{Dir: new(string), BeforeAgent: new(bool)}
	*at = open
	top := &command.Command{
		Use:      "meatus",
		Summary:  "connect over SSH, and see what blocks a connection",
		Examples: []string{"meatus", "meatus --workspace ~/bay"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			if err := open.First(cmd); err != nil {
				return err
			}
			w, err := open.Kept()
			if err != nil {
				return err
			}
			err = screen.Show(cmd.Context(), w, screen.Own(tui.Options{Leader: leader, Demo: true, BeforeAgent: *open.BeforeAgent}), plain)
			if errors.Is(err, tui.ErrDemo) {
				return demo.Run(cmd.Context(), "", leader, false, plain)
			}
			return err
		},
		Commands: slices.Concat(
			[]*command.Command{check.Command(open), check.Mend(open)}, run.Commands(open), files.Commands(open), session.Commands(open),
			[]*command.Command{version(), trail.Command(open), key.Command(open), key.Ring(open)}, tunnel.Commands(open),
			[]*command.Command{draw.Command(open), estate.Command(open), host.Command(open), gateway.Command(open), issuer.Command(), lease.Command(open)},
			demo.Commands(&leader, &plain),
		),
	}
	f := top.Shared()
	f.StringVar(open.Dir, "workspace", "", "the folder with sessions.toml (default $"+workspace.Variable+", or the user's configuration folder)")
	f.StringVar(&leader, "leader", "alt+m", "the key that opens the list of places")
	f.BoolVar(open.BeforeAgent, "before-agent", false, "also use the keys of the running agent (SSH_AUTH_SOCK)")
	f.BoolVar(&plain, "plain", false, "print lines of text instead of the full screen, for screen readers: type a key or words, then enter")
	top.Value("workspace", "FOLDER", nil)
	top.Value("leader", "KEY", nil)
	return top
}

func version() *command.Command {
	return &command.Command{
		Use:      "version",
		Summary:  "print the version and the build of this program",
		Examples: []string{"meatus version"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			info, ok := debug.ReadBuildInfo()
			if !ok {
				return fmt.Errorf("this program has no build information")
			}
			version := info.Main.Version
			if version == "" || version == "(devel)" {
				version = "built from a folder"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "meatus %s\n%s\n", version, info.GoVersion)
			for _, s := range info.Settings {
				if slices.Contains([]string{"vcs.revision", "vcs.time", "vcs.modified"}, s.Key) {
					fmt.Fprintf(cmd.OutOrStdout(), "%s %s\n", strings.TrimPrefix(s.Key, "vcs."), s.Value)
				}
			}
			return nil
		},
	}
}
