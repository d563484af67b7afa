package main

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/engine"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/core/workspace"
)

// atIssuer opens what asking an issuer needs.
func atIssuer(cmd *cobra.Command, open opener, known *identities, do func(r *running, w *workspace.Workspace) error) error {
	w, err := open.workspace()
	if err != nil {
		return err
	}
	e, err := open.engine(cmd, w, known, engine.Options{Linger: checkLinger}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	return do(e, w)
}

func issuerEnrol(open opener) *cobra.Command {
	var e work.Enrolling
	var known *identities
	var yes, trusted bool
	c := &cobra.Command{
		Use:   "enrol SESSION",
		Short: "have a machine trust an issuer, over the way there that exists",
		Long: `Show what would be written to the machine's SSH server's configuration so that it takes
leases, and with --yes write it: the server's own check runs first, the server reads it
anew, and a fresh login by a lease proves it. Where that fails everything is put back. Keys
that let people in before stay until you take them out. With --out the machine trusts the
issuer no more.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			e.Session = args[0]
			return atIssuer(cmd, open, known, func(r *running, w *workspace.Workspace) error {
				plan, err := r.Tools().LookToEnrol(cmd.Context(), e)
				if err != nil {
					return shut(err)
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
					return shut(err)
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
	f.StringVar(&e.Machine, "machine", "", "what the machine is called at the issuer (as the session is)")
	f.StringSliceVar(&e.Tags, "tag", nil, "a tag of the machine, for rules with tag:NAME; those of its instance are taken along")
	f.BoolVar(&e.Host, "host-certificate", false, "have the machine's own key signed, so that first visits need no yes")
	f.StringSliceVar(&e.Names, "host", nil, "a host that its certificate is for, besides the session's")
	f.BoolVar(&trusted, "trust-hosts", false, "with --host-certificate: vouch for the issuer's key for these hosts here")
	f.BoolVar(&e.Out, "out", false, "the machine trusts the issuer no more")
	f.BoolVar(&yes, "yes", false, "write it")
	known = yesIdentity(c)
	return c
}

// enrolFlags are those of what writes to machines' servers.
func enrolFlags(c *cobra.Command, e *work.Enrolling) {
	f := c.Flags()
	f.StringVar(&e.Issuer, "issuer", "", "which issuer of the sessions file (the session's)")
	f.StringVar(&e.Config, "server-config", "", "the server's configuration over there (/etc/ssh/sshd_config)")
	f.StringVar(&e.Reload, "reload", "", "a command that has the server read it anew (systemctl reload, or SIGHUP)")
	f.BoolVar(&e.Super, "sudo", false, "write over there with the superuser's right, where sudo asks for no password")
}

// shut is an error of something that did not open.
func shut(err error) error {
	var known *statusError
	if errors.As(err, &known) {
		return err
	}
	return &statusError{statusShut, err}
}

func issuerCarry(open opener) *cobra.Command {
	job := &work.Refresh{}
	var known *identities
	c := &cobra.Command{
		Use:   "carry [SESSION...]",
		Short: "carry what is stopped, and the signing keys, to machines that trust an issuer",
		Long: `Write the issuer's revocation list and its signing keys to the machines of sessions, or of
all that have its leases. Their servers read both at each login.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			return atIssuer(cmd, open, known, func(r *running, w *workspace.Workspace) error {
				job.Tools, job.Sessions = r.Tools(), args
				if len(args) == 0 {
					for _, s := range w.Book.Sessions {
						if name, _ := s.Issuer(); name != "" && (job.Of.Issuer == "" || job.Of.Issuer == name) && s.Broken == nil {
							job.Sessions = append(job.Sessions, s.Name)
						}
					}
				}
				if len(job.Sessions) == 0 {
					return &statusError{statusWrongUse, errors.New("no session has leases of it")}
				}
				err := r.do(cmd, job, func(s work.Step) { sayStep(cmd.OutOrStdout(), false, s) })
				if err != nil {
					return shut(err)
				}
				return nil
			})
		},
	}
	enrolFlags(c, &job.Of)
	known = yesIdentity(c)
	return c
}

// issuerOf is the way to an issuer of the sessions file: the one that is named, or the only one.
func issuerOf(w *workspace.Workspace, name string) (route.Route, string, error) {
	if name == "" && len(w.Book.Issuers) == 1 {
		name = w.Book.Issuers[0].Name
	}
	if name == "" {
		return route.Route{}, "", &statusError{statusWrongUse, fmt.Errorf("the sessions file names %d issuers; say which one is meant", len(w.Book.Issuers))}
	}
	r, err := w.Planner().Issuer(name)
	if err != nil {
		err = &statusError{statusWrongUse, err}
	}
	return r, name, err
}

// answerCommand answers what waits for a second person.
func answerCommand(open opener, issuer *string, say, short string) *cobra.Command {
	return &cobra.Command{
		Use:   say + " ID",
		Short: short,
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return atIssuer(cmd, open, &identities{}, func(r *running, w *workspace.Workspace) error {
				at, _, err := issuerOf(w, *issuer)
				if err != nil {
					return err
				}
				if _, err := lease.Told(cmd.Context(), r.Leases, at, lease.Answer{ID: args[0], Say: say}); err != nil {
					return shut(err)
				}
				return nil
			})
		},
	}
}
