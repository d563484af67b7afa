package lease

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

func enrol(open live.Opener) *command.Command {
	var e work.Enrolling
	var known *prompt.Identities
	var yes, trusted bool
	c := &command.Command{
		Use:      "enrol SESSION",
		Summary:  "configure a machine's SSH server to trust an issuer",
		Examples: []string{"meatus lease enrol tide-db --issuer bay", "meatus lease enrol tide-db --issuer bay --host-certificate --trust-hosts --yes", "meatus lease enrol tide-db --remove --yes"},
		Details: `Print the changes to the configuration of the machine's SSH server, and write them with --yes:
the new configuration is checked by the server, loaded, and tested by a new login with a
certificate. If that fails, the old configuration is restored. Authorized keys are not
removed. --remove removes the trust in the issuer.`,
		Args: cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			e.Session = args[0]
			return open.With(cmd, known, func(r *live.Engine, w *workspace.Workspace) error {
				plan, err := r.Tools().LookToEnrol(cmd.Context(), e)
				if err != nil {
					return command.Shut(err)
				}
				defer plan.Close()
				out := cmd.OutOrStdout()
				if plan.Super {
					fmt.Fprintln(out, "everything there is done with the superuser's right, by sudo")
				}
				for _, line := range plan.Preview() {
					fmt.Fprintln(out, line)
				}
				if !yes {
					fmt.Fprintf(cmd.ErrOrStderr(), "nothing was written; with --yes it is\n")
					return nil
				}
				if err := r.Tools().Enrol(cmd.Context(), plan, e, func(say string) { fmt.Fprintln(out, sanitize.Line(say, 300)) }); err != nil {
					return command.Shut(err)
				}
				if trusted && plan.About.Hosts != "" {
					for _, host := range plan.Machine.Names {
						if _, err := w.Vouched.Trust(host, plan.About.Hosts, time.Now()); err != nil {
							return err
						}
						fmt.Fprintf(out, "the issuer's key for machines is trusted for %s\n", sanitize.Line(host, 200))
					}
				}
				return nil
			})
		},
	}
	f := c.Flags()
	enrolFlags(c, &e)
	f.StringVar(&e.Machine, "machine", "", "the machine's name at the issuer (default: the session's name)")
	f.StringSliceVar(&e.Tags, "tag", nil, "a tag of the machine, for rules with tag:NAME, besides those of its instance (repeatable)")
	f.BoolVar(&e.Host, "host-certificate", false, "also sign the machine's host key, so that first connections need no confirmation")
	f.StringSliceVar(&e.Names, "host", nil, "another host name for the host certificate (repeatable)")
	f.BoolVar(&trusted, "trust-hosts", false, "with --host-certificate: trust the issuer's host-signing key for these hosts")
	f.BoolVar(&e.Out, "remove", false, "remove the trust in the issuer")
	f.BoolVar(&yes, "yes", false, "write the configuration")
	c.Value("machine", "MACHINE", nil)
	c.Value("tag", "TAG", nil)
	c.Value("host", "HOSTS", nil)
	known = prompt.YesIdentity(c)
	return c
}

// enrolFlags are those of what writes to machines' servers.
func enrolFlags(c *command.Command, e *work.Enrolling) {
	f := c.Flags()
	f.StringVar(&e.Issuer, "issuer", "", "the issuer in the sessions file (default: the session's)")
	f.StringVar(&e.Config, "server-config", "", "the SSH server's configuration file (default /etc/ssh/sshd_config)")
	f.StringVar(&e.Reload, "reload", "", "a command that reloads the SSH server (default: systemctl reload, or SIGHUP)")
	f.BoolVar(&e.Super, "sudo", false, "write as root on the machine, by sudo without a password")
	c.Value("issuer", "ISSUER", nil)
	c.Value("server-config", "FILE", nil)
	c.Value("reload", "COMMAND", nil)
}

func push(open live.Opener) *command.Command {
	job := &work.Refresh{}
	var known *prompt.Identities
	c := &command.Command{
		Use:      "push [SESSION...]",
		Summary:  "update revocation lists and public signing keys on machines",
		Examples: []string{"meatus lease push", "meatus lease push tide-db gauge-1 --sudo"},
		Details: `Write the issuer's revocation list and public signing keys to the machines of the named
sessions. Without SESSION, of all sessions with its certificates. SSH servers read both at each
login.`,
		Run: func(cmd *command.Call, args []string) error {
			return open.With(cmd, known, func(r *live.Engine, w *workspace.Workspace) error {
				job.Tools, job.Sessions = r.Tools(), args
				if len(args) == 0 {
					for _, s := range w.Book.Sessions {
						if name, _ := s.Issuer(); name != "" && (job.Of.Issuer == "" || job.Of.Issuer == name) && s.Broken == nil {
							job.Sessions = append(job.Sessions, s.Name)
						}
					}
				}
				if len(job.Sessions) == 0 {
					return command.Fail(command.WrongUse, errors.New("no session has leases of it"))
				}
				err := r.Do(cmd, job, func(s work.Step) { live.Step(cmd, s) })
				if err != nil {
					return command.Shut(err)
				}
				return nil
			})
		},
	}
	enrolFlags(c, &job.Of)
	known = prompt.YesIdentity(c)
	return c
}
