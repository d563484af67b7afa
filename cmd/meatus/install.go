package main

import (
	"encoding/json"
	"fmt"
	"io"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/sweep"
	"meatus/core/work"
	"meatus/core/workspace"
)

func keyInstall(open opener) *cobra.Command {
	var o install.Options
	var identities *identities
	c := &cobra.Command{
		Use:   "install PATH SESSION",
		Short: "put a key's public half into the list of keys at a session's machine, and prove it by a login",
		Long: `install logs in to a session's machine by any way the session has, puts the
public half of the key at PATH into the account's list of keys where it does not
stand there, says what would make the server pass the list over, and proves it by
a fresh login with that key alone. The list is .ssh/authorized_keys, or what the
session's key_list names.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if _, err := w.Planner().Plan(args[1]); err != nil {
				return err
			}
			path, err := filepath.Abs(args[0])
			if err != nil {
				return err
			}
			if _, err := keyfile.Read(path); err != nil {
				return err
			}
			if err := o.Check(); err != nil {
				return &statusError{statusWrongUse, err}
			}
			e, err := open.engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			asJSON := cmd.Flag("json").Value.String() == "true"
			job := &work.Install{Tools: e.Tools(), Path: path, Session: args[1], Options: o}
			return e.do(cmd, job, func(s work.Step) {
				if s.Verdict == gate.Ajar {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+s.Say)
					return
				}
				sayStep(cmd.OutOrStdout(), asJSON, s)
			})
		},
	}
	c.Flags().StringVar(&o.From, "from", "", "addresses the key may be used from")
	c.Flags().StringVar(&o.Command, "command", "", "the one command the key may run")
	c.Flags().StringVar(&o.Comment, "comment", "", "what stands behind the key in the list, in place of the key file's comment")
	c.Flags().BoolVar(&o.Bare, "restrict", false, "no terminal and no forwarding with this key")
	identities = yesIdentity(c)
	return c
}

func keyRotate(open opener) *cobra.Command {
	var asJSON bool
	var identities *identities
	c := &cobra.Command{
		Use:   "rotate OLD NEW [SESSION...]",
		Short: "put the key NEW in the place of OLD at the sessions' machines, or at all that use it, and in the sessions",
		Long: `rotate puts the public half of NEW into the list of keys of each account, with the
options that OLD has there, and proves it by a fresh login with NEW alone. When
that is done everywhere, the sessions use NEW, and OLD is taken out of each list.
It stops at the first machine that cannot be proven; whenever it stops, every
account is opened by a key that its session names. OLD stays where it is. A session
that is marked careful has to be named.`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			old, err := readAbs(args[0])
			if err != nil {
				return err
			}
			fresh, err := readAbs(args[1])
			if err != nil {
				return err
			}
			e, err := open.engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Rotate{Tools: e.Tools(), Old: old.Path, New: fresh.Path, Sessions: args[2:]}
			if err := job.Plan(); err != nil {
				return &statusError{statusWrongUse, err}
			}
			if err := namedItself(w, job.Names(), args[2:]); err != nil {
				return err
			}
			return e.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), asJSON, s) })
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print each step as a line of JSON")
	identities = yesIdentity(c)
	return c
}

// namedItself fails where something is to be done at a session that is marked careful and
// was not named by itself.
func namedItself(w *workspace.Workspace, sessions, named []string) error {
	for _, name := range w.Book.Careful(sessions...) {
		if !slices.Contains(named, name) {
			return &statusError{statusWrongUse, fmt.Errorf("%s is marked careful: name it itself where it is to be among them", name)}
		}
	}
	return nil
}

// readAbs reads a key file by its absolute path.
func readAbs(name string) (*keyfile.File, error) {
	path, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	return keyfile.Read(path)
}

// sayStep prints one step of a job.
func sayStep(out io.Writer, asJSON bool, s work.Step) {
	if asJSON {
		line := map[string]string{"session": s.Session, "step": s.Say}
		if s.Err != nil {
			line["error"] = s.Err.Error()
		}
		text, _ := json.Marshal(line)
		fmt.Fprintln(out, string(text))
		return
	}
	if s.Err != nil {
		s.Say += ": " + s.Err.Error()
	}
	if s.Session != "" {
		s.Say = s.Session + ": " + s.Say
	}
	fmt.Fprintln(out, s.Say)
}

func keySweep(open opener) *cobra.Command {
	var asJSON bool
	var identities *identities
	c := &cobra.Command{
		Use:   "sweep SESSION",
		Short: "look at a session's account for private keys, agents' sockets and listed keys that should not be there; status 3 where there are",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			if _, err := w.Planner().Plan(args[0]); err != nil {
				return err
			}
			e, err := open.engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Sweep{Tools: e.Tools(), Session: args[0]}
			if err := e.do(cmd, job, func(work.Step) {}); err != nil {
				return err
			}
			report := job.Report
			if asJSON {
				err = printJSON(cmd.OutOrStdout(), report)
			} else {
				printSweep(cmd.OutOrStdout(), report)
			}
			if err == nil && report.Found() > 0 {
				err = &statusError{status: statusShut}
			}
			return err
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print an object")
	identities = yesIdentity(c)
	return c
}

func printSweep(out io.Writer, r sweep.Report) {
	for _, f := range r.Findings() {
		fmt.Fprintf(out, "%-13s  %s\n", f.Kind, f.Say)
	}
	fmt.Fprintln(out, r.Sum()+"; nothing was changed")
}
