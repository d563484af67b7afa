package main

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/walk"
)

func keyInstall(open opener) *cobra.Command {
	var o install.Options
	var identities []string
	c := &cobra.Command{
		Use:   "install PATH SESSION",
		Short: "put a key's public half into the list of keys at a session's machine, and prove it by a login",
		Long: `install logs in to a session's machine by any way the session has, puts the
public half of the key at PATH into the account's list of keys where it does not
stand there, says what would make the server pass the list over, and proves it by
a fresh login with that key alone.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open()
			if err != nil {
				return err
			}
			file, err := keyfile.Read(args[0])
			if err != nil {
				return err
			}
			if file.Public == nil {
				return errors.New("the public half of that key is locked away; derive it first with key public")
			}
			r, err := w.Planner().Plan(args[1])
			if err != nil {
				return err
			}
			line, err := install.Line(file.Public, file.Comment, o)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			walker := walk.New(walk.Config{Vouched: w.Vouched, Asker: newTTYAsker(identities), Linger: time.Millisecond})
			defer walker.Close()
			defer keepTrail(w.Dir, walker)()
			passage, err := walker.Walk(cmd.Context(), r)
			if err != nil {
				return interrupted(cmd.Context(), err)
			}
			report, err := install.Add(cmd.Context(), passage, file.Public, line)
			passage.Close()
			for _, d := range report.Doubts {
				fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+d)
			}
			if err != nil {
				return err
			}
			word := "stood in the list already"
			if report.Added {
				word = "is in the list now"
			}
			fmt.Fprintf(cmd.OutOrStdout(), "%s %s\n", file.SHA256, word)
			if o.Command != "" || o.From != "" {
				fmt.Fprintln(cmd.OutOrStdout(), "not proven: a line with from or command lets in less than a login")
				return nil
			}
			return prove(cmd, walker, r, file)
		},
	}
	c.Flags().StringVar(&o.From, "from", "", "addresses the key may be used from")
	c.Flags().StringVar(&o.Command, "command", "", "the one command the key may run")
	c.Flags().BoolVar(&o.Bare, "restrict", false, "no terminal and no forwarding with this key")
	c.Flags().StringArrayVar(&identities, "yes-identity", nil, "accept a first visit that shows exactly this SHA256: fingerprint (repeatable)")
	return c
}

// prove logs in anew with a key alone.
func prove(cmd *cobra.Command, walker *walk.Walker, r route.Route, file *keyfile.File) error {
	path, err := filepath.Abs(file.Path)
	if err != nil {
		return err
	}
	r.Hops = slices.Clone(r.Hops)
	r.Hops[len(r.Hops)-1].Keys = []string{path}
	passage, err := walker.Walk(cmd.Context(), r)
	if err != nil {
		return fmt.Errorf("the key is in the list, but the server does not let it in: %w", err)
	}
	passage.Close()
	fmt.Fprintln(cmd.OutOrStdout(), "proven: a login with that key alone got in")
	return nil
}
