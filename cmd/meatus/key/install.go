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
	var use bool
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "install PATH SESSION",
		Summary:  "authorize a key on a machine, and test it",
		Examples: []string{"meatus key install keys/tide.pem tide-db", "meatus key install keys/tide.pem tide-db --use"},
		Complete: command.First(1, command.Keys, command.Sessions),
		JSON:     "print each step as a line of JSON",
		Details: `Add the public key of PATH to .ssh/authorized_keys on the machine, or to the file of key_list.
The login is made with the keys that the machine accepts now. Permissions for which the server
would ignore the file are reported. Then the key is tested by a new login with it alone.`,
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
			err = e.Do(cmd, job, func(s work.Step) {
				if s.Verdict == gate.Ajar {
					fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+s.Say)
					return
				}
				live.Step(cmd, s)
			})
			next, follows := job.Follow()
			switch {
			case err != nil || !follows:
				return err
			case !use:
				fmt.Fprintf(cmd.ErrOrStderr(), "meatus: session %s does not name the key; to %s: meatus key install --use, or meatus session set %s key=%s\n", next.Session, next.Say, next.Session, w.Written(path))
				return nil
			}
			if _, err := next.Edit(); err != nil {
				return err
			}
			live.Step(cmd, work.Step{Session: next.Session, Say: next.Done})
			return nil
		},
	}
	c.Flags().StringVar(&o.From, "from", "", "accept the key from these addresses only")
	c.Flags().StringVar(&o.Command, "command", "", "allow the key this one command only")
	c.Flags().StringVar(&o.Comment, "comment", "", "the comment in authorized_keys (default: the key file's)")
	c.Flags().BoolVar(&o.Bare, "restrict", false, "allow no terminal and no forwarding with this key")
	c.Flags().BoolVar(&use, "use", false, "also name the key in the session, first, after the test")
	c.Value("from", "ADDRESS", nil)
	c.Value("command", "COMMAND", nil)
	identities = prompt.YesIdentity(c)
	return c
}

func rotate(open live.Opener) *command.Command {
	var identities *prompt.Identities
	c := &command.Command{
		Use:      "rotate OLD NEW [SESSION...]",
		Summary:  "replace a key on machines and in sessions",
		Examples: []string{"meatus key rotate keys/tide.pem keys/tide-2.pem", "meatus key rotate keys/tide.pem keys/tide-2.pem tide-db"},
		JSON:     "print each step as a line of JSON",
		Complete: command.First(2, command.Keys, command.Sessions),
		Details: `Add NEW to authorized_keys of each account, with the options of OLD, and test it by a new
login with NEW alone. When all accounts accept NEW, the sessions use NEW, and OLD is removed
from authorized_keys. The command stops at the first account where the test fails; every
session then still names a key that its account accepts. The file of OLD is not deleted.
Without SESSION all sessions that use OLD are changed, except those marked careful, which
have to be named.`,
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
		Summary:  "search an account for stray keys and agent sockets",
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
