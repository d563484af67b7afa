package key

import (
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/gate"
	keylist "meatus/core/install"
	"meatus/core/keyfile"
	"meatus/core/work"
)

func install(open live.Opener) *command.Command {
	var o keylist.Options
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "install PATH SESSION",
		Summary:  "authorize a key on a session's machine and test it by a login",
		Examples: []string{"meatus key install keys/tide.pem tide-db"},
		Complete: command.First(1, command.Keys, command.Sessions),
		JSON:     "print each step as a line of JSON",
		Details: `install logs in to a session's machine by any way the session has, puts the
public half of the key at PATH into the account's list of keys where it does not
stand there, says what would make the server pass the list over, and proves it by
a fresh login with that key alone. The list is .ssh/authorized_keys, or what the
session's key_list names.`,
		Args: cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
				return command.Fail(command.WrongUse, err)
			}
			e, err := open.Engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Install{Tools: e.Tools(), Path: path, Session: args[1], Options: o}
			return e.Do(cmd, job, func(s work.Step) {
				if s.Verdict == gate.Ajar {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+s.Say)
					return
				}
				live.Step(cmd, s)
			})
		},
	}
	c.Flags().StringVar(&o.From, "from", "", "addresses the key may be used from")
	c.Flags().StringVar(&o.Command, "command", "", "the one command the key may run")
	c.Flags().StringVar(&o.Comment, "comment", "", "what stands behind the key in the list, in place of the key file's comment")
	c.Flags().BoolVar(&o.Bare, "restrict", false, "no terminal and no forwarding with this key")
	c.Value("from", "ADDRESS", nil)
	c.Value("command", "COMMAND", nil)
	identities = prompt.YesIdentity(c)
	return c
}

func rotate(open live.Opener) *command.Command {
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "rotate OLD NEW [SESSION...]",
		Summary:  "replace a key by a new one, on machines and in sessions",
		Examples: []string{"meatus key rotate keys/tide.pem keys/tide-2.pem", "meatus key rotate keys/tide.pem keys/tide-2.pem tide-db"},
		JSON:     "print each step as a line of JSON",
		Complete: command.First(2, command.Keys, command.Sessions),
		Details: `rotate puts the public half of NEW into the list of keys of each account, with the
options that OLD has there, and proves it by a fresh login with NEW alone. When
that is done everywhere, the sessions use NEW, and OLD is taken out of each list.
It stops at the first machine that cannot be proven; whenever it stops, every
account is opened by a key that its session names. OLD stays where it is. A session
that is marked careful has to be named.`,
		Args: cobra.MinimumNArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
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
			e, err := open.Engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Rotate{Tools: e.Tools(), Old: old.Path, New: fresh.Path, Sessions: args[2:]}
			if err := job.Plan(); err != nil {
				return command.Fail(command.WrongUse, err)
			}
			if err := live.NamedItself(w, job.Names(), args[2:]); err != nil {
				return err
			}
			return e.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) })
		},
	}
	identities = prompt.YesIdentity(c)
	return c
}

// readAbs reads a key file by its absolute path.
func readAbs(name string) (*keyfile.File, error) {
	path, err := filepath.Abs(name)
	if err != nil {
		return nil, err
	}
	return keyfile.Read(path)
}

func sweep(open live.Opener) *command.Command {
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "sweep SESSION",
		Summary:  "search an account for private keys, agent sockets and unknown authorized keys",
		Examples: []string{"meatus key sweep quay"},
		JSON:     "print an object",
		Complete: command.First(1, command.Sessions, nil),
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			w, err := open.Workspace()
			if err != nil {
				return err
			}
			if _, err := w.Planner().Plan(args[0]); err != nil {
				return err
			}
			e, err := open.Engine(cmd, w, identities, engine.Options{}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			job := &work.Sweep{Tools: e.Tools(), Session: args[0]}
			if err := e.Do(cmd, job, func(work.Step) {}); err != nil {
				return err
			}
			report := job.Report
			table := &command.Table{}
			for _, f := range report.Findings() {
				table.Row(f.Kind, f.Say)
			}
			err = cmd.AnswerTable(report, table)
			if err == nil && !cmd.JSON {
				fmt.Fprintln(cmd.OutOrStdout(), report.Sum()+"; nothing was changed")
			}
			if err == nil && report.Found() > 0 {
				err = command.Exit(command.Blocked)
			}
			return err
		},
	}
	identities = prompt.YesIdentity(c)
	return c
}
