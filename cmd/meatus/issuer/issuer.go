// Package issuer has the commands of issuers of short-lived SSH certificates.
package issuer

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/prompt"
	"meatus/cmd/meatus/service"
	"meatus/core/issuer"
	"meatus/core/lease"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/store"
	"meatus/core/words"
)

// Command is "meatus issuer".
func Command() *command.Command {
	p := &service.Place{Called: "issuer"}
	c := &command.Command{
		Use:     "issuer",
		Summary: "issue short-lived SSH certificates by a policy",
		Details: `An issuer signs a certificate for each login: for one key, one user name and one machine, and
for a limited time by its policy. Each is written to its audit log. Such a
certificate is called a lease. Machines trust the issuer in place of lists of authorized
keys. docs/leases.md describes it.`,
		Examples: []string{"meatus issuer serve --listen :4543", "meatus issuer who-can tide-db"},
		Commands: []*command.Command{serve(p), machines(p), register(p), explain(p), whoCan(p), can(p), tryPolicy(p), leases(p), block(p), unblock(p), key(p), breakGlass(p),
			service.Record(p, "print the audit log of certificate requests"), service.Verify(p)},
	}
	p.Flags(c, "who may log in where, as whom, and for how long")
	return c
}

// firstLeasePolicy is the policy of an issuer that has none: nobody may anything.
const firstLeasePolicy = `# Who may log in where, as whom, and for how long. Nothing is allowed that no line allows.
# A line at a time, and # begins a note:
#
#   person mira     key SHA256:...
#   group  keepers  mira oskar
#   group  wardens  runa
#   allow  keepers  to tag:reef as keeper for 60s called night-watch
#   allow  keepers  to tide-db  as root for 10m with reason agreed-by wardens
#   deny   everyone to tide-db  as root on sat,sun
#   enrols wardens
#   reads  wardens
`

func serve(p *service.Place) *command.Command {
	o := issuer.Options{Keys: &issuer.Keys{}}
	f := &service.Serving{}
	c := &command.Command{
		Use:      "serve",
		Summary:  "run an issuer",
		Examples: []string{"meatus issuer serve --listen :4543 --certificate bay.pem", "meatus issuer serve --store postgres:///bay", "meatus issuer serve --agent-key SHA256:54c5B5WBJm7pzOoe1FGAi5P8mnsYSk4ZJ5zLxwgq0KQ"},
		Details: `Issue certificates until interrupted. A missing signing key is created, readable by its owner
only; with --agent-key an agent holds it. The TLS certificate, the policy and the keys are
read again when their files change.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) (err error) {
			if o.Store, err = p.OpenLeases(cmd.Context()); err != nil {
				return err
			}
			defer o.Store.Close()
			if o.Options, err = f.Options(cmd, p, firstLeasePolicy, issuer.Known(cmd.Context(), o.Store)); err != nil {
				return err
			}
			o.Keys.Dir = p.State
			if o.Keys.Print != "" {
				o.Keys.Socket = os.Getenv("SSH_AUTH_SOCK")
			}
			if err := o.Keys.Make(); err != nil {
				return err
			}
			s, err := issuer.NewServer(o)
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			return f.Serve(cmd.Context(), o.Options, s, "what waits for a second person is asked anew")
		},
	}
	f.Add(c)
	c.Flags().StringVar(&o.Name, "name", "", "the name of this issuer in the audit log")
	c.Flags().StringVar(&o.Keys.Print, "agent-key", "", "sign with the key of this fingerprint in the agent of SSH_AUTH_SOCK")
	c.Flags().DurationVar(&o.Agreement, "agreement", 0, "the time a request waits for an approval (default 10m)")
	return c
}

// knownMachines are the machines that trust an issuer, as its policy is asked of them.
func knownMachines(ctx context.Context, p *service.Place) ([]policy.Machine, error) {
	s, err := p.OpenLeases(ctx)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	list, err := s.Trusts(ctx)
	var all []policy.Machine
	for _, t := range list {
		all = append(all, issuer.MachineOf(t))
	}
	return all, err
}

// inUse is the policy in use, and the machines that trust the issuer.
func inUse(ctx context.Context, p *service.Place) (*policy.Policy, []policy.Machine, error) {
	rules, err := policy.Read(p.PolicyPath())
	if err != nil {
		return nil, nil, command.Fail(command.WrongUse, err)
	}
	all, err := knownMachines(ctx, p)
	return rules, all, err
}

func machines(p *service.Place) *command.Command {
	return &command.Command{
		Use:      "machines",
		Summary:  "list the machines that trust this issuer",
		Examples: []string{"meatus issuer machines --json"},
		JSON:     "print JSON",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				list, err := s.Trusts(cmd.Context())
				if err != nil {
					return err
				}
				table := &command.Table{}
				for _, t := range list {
					how := "logins as LOGIN@" + t.Name
					if t.Plain {
						how += ", and by their names alone"
					}
					table.Row(t.Name, how, fmt.Sprintf("since %s by %s", t.Enrolled.Local().Format(time.DateOnly), sanitize.Line(t.By, 64)), strings.Join(t.Tags, " "))
				}
				return cmd.AnswerTable(append([]store.Trusting{}, list...), table)
			})
		},
	}
}

func register(p *service.Place) *command.Command {
	var t store.Trusting
	var leaves, firstBoot bool
	c := &command.Command{
		Use:      "register MACHINE",
		Summary:  "register a machine that trusts this issuer, or unregister it",
		Examples: []string{"meatus issuer register gauge-9 --tag reef --print-first-boot > first-boot.sh", "meatus issuer register gauge-9 --remove"},
		Details: `Register a machine that was configured without meatus lease enrol. --print-first-boot prints a
script that configures a new machine at its first start; --remove unregisters a machine.`,
		Args: cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			t.Name = args[0]
			if !policy.ValidMachine(t.Name) || sanitize.Line(t.Name, 64) != t.Name {
				return command.Fail(command.WrongUse, fmt.Errorf("%q cannot be a machine's name", sanitize.Line(t.Name, 64)))
			}
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				if leaves {
					err := s.Distrust(cmd.Context(), t.Name, record.Done{What: "distrusted", Issuer: "this host", Person: "whoever runs it", Machine: t.Name, Why: "unregister the machine"})
					if errors.Is(err, store.ErrUnknown) {
						return command.Fail(command.WrongUse, err)
					}
					return err
				}
				keys := &issuer.Keys{Dir: p.State}
				signers, _, err := keys.Get()
				if err != nil {
					return err
				}
				var lines []string
				for _, signer := range signers {
					t.Signers = append(t.Signers, ssh.FingerprintSHA256(signer.PublicKey()))
					lines = append(lines, strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))))
				}
				t.By = "whoever runs it"
				if err := s.Trust(cmd.Context(), t, record.Done{What: "trusts", Issuer: "this host", Person: t.By, Machine: t.Name, Why: "its tags: " + fmt.Sprint(t.Tags)}); err != nil {
					return err
				}
				if firstBoot {
					return lease.FirstBoot(cmd.OutOrStdout(), t.Name, lines)
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringSliceVar(&t.Tags, "tag", nil, "a tag of the machine, for rules with tag:NAME (repeatable)")
	f.StringSliceVar(&t.Networks, "network", nil, "a network of the machine (repeatable)")
	f.StringVar(&t.Site, "site", "", "the site of the machine")
	f.StringVar(&t.Instance, "instance", "", "the instance id of the machine")
	f.BoolVar(&t.Plain, "bare-logins", false, "its server accepts certificates for a user name without a machine name: a certificate for it is valid on every such machine")
	f.BoolVar(&leaves, "remove", false, "unregister the machine")
	f.BoolVar(&firstBoot, "print-first-boot", false, "print a first-boot script for a new machine")
	c.Value("tag", "TAG", nil)
	c.Value("network", "NETWORK", nil)
	c.Value("site", "SITE", command.Sites)
	return c
}

func explain(p *service.Place) *command.Command {
	var when, from string
	c := &command.Command{
		Use:      "explain PERSON LOGIN@MACHINE",
		Summary:  "explain whether the policy allows a login",
		Examples: []string{"meatus issuer explain mira keeper@tide-db", "meatus issuer explain mira root@tide-db --when 2026-11-28T03:00:00Z --from 203.0.113.7"},
		Status:   "3 if the login is not allowed",
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			login, machine, ok := strings.Cut(args[1], "@")
			if !ok {
				return command.Fail(command.WrongUse, fmt.Errorf("%q names no login at a machine; write it like keeper@tide-db", sanitize.Line(args[1], 80)))
			}
			rules, err := policy.Read(p.PolicyPath())
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			at, err := service.Moment(when)
			if err != nil {
				return err
			}
			q := policy.Question{Login: login, At: at}
			if from != "" {
				if q.From, err = netip.ParseAddr(from); err != nil {
					return command.Fail(command.WrongUse, fmt.Errorf("%q is no address", sanitize.Line(from, 60)))
				}
			}
			all, err := knownMachines(cmd.Context(), p)
			if err != nil {
				return err
			}
			var note string
			if q.Machine, ok = issuer.MachineNamed(all, machine); !ok {
				note = notTrusting
			}
			d := rules.Decide(args[0], q)
			told := map[string]any{"person": args[0], "login": login, "machine": q.Machine.Name, "at": at.UTC().Format(time.RFC3339), "allowed": d.Allowed, "why": d.Why}
			if d.Rule != nil {
				told["line"], told["rule"] = d.Rule.Line, d.Rule.Name()
			}
			say := d.Why
			if d.Allowed {
				told["terms"] = d.Rule.Terms.Say()
				say += " (" + d.Rule.Terms.Say() + ")"
			}
			err = cmd.Answer(told, sanitize.Line(say+note, 600)+"\n")
			if err == nil && !d.Allowed {
				return command.Exit(command.Blocked)
			}
			return err
		},
	}
	c.Flags().StringVar(&when, "when", "", "at this time instead of now, in RFC 3339")
	c.Flags().StringVar(&from, "from", "", "from this address (default: none, so that rules with 'from' do not apply)")
	c.Value("when", "TIME", nil)
	c.Value("from", "ADDRESS", nil)
	return c
}

// standingJSON is what a person may, as it is printed.
type standingJSON struct {
	Person  string `json:"person"`
	Login   string `json:"login"`
	Machine string `json:"machine"`
	May     bool   `json:"may"`
	Says    string `json:"says"`
}

// notTrusting is said of a machine that is not known.
const notTrusting = "; no machine of that name trusts this issuer, so its tags are not known"

// answerStandings prints what people may, as sentences or as JSON.
func answerStandings(cmd *command.Call, all []policy.Standing) error {
	told, text := []standingJSON{}, ""
	for _, s := range all {
		told = append(told, standingJSON{s.Person, s.Login, s.Machine, s.May(), s.Conditions()})
		text += sanitize.Line(s.Say(), 600) + "\n"
	}
	return cmd.Answer(told, text)
}

func whoCan(p *service.Place) *command.Command {
	c := &command.Command{
		Use:      "who-can MACHINE",
		Summary:  "list the people and users allowed on a machine",
		Examples: []string{"meatus issuer who-can tide-db"},
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			rules, all, err := inUse(cmd.Context(), p)
			if err != nil {
				return err
			}
			m, ok := issuer.MachineNamed(all, args[0])
			if !ok {
				fmt.Fprintln(cmd.ErrOrStderr(), sanitize.Line(args[0]+notTrusting, 200))
			}
			return answerStandings(cmd, rules.WhoCan(m))
		},
	}
	return c
}

func can(p *service.Place) *command.Command {
	c := &command.Command{
		Use:      "can PERSON",
		Summary:  "list the machines and users allowed to a person",
		Examples: []string{"meatus issuer can mira --json"},
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			rules, all, err := inUse(cmd.Context(), p)
			if err != nil {
				return err
			}
			if !slices.Contains(rules.People(), args[0]) {
				return command.Fail(command.WrongUse, fmt.Errorf("%s knows nobody called %q", rules.File, sanitize.Line(args[0], 64)))
			}
			return answerStandings(cmd, rules.Can(args[0], all))
		},
	}
	return c
}

func tryPolicy(p *service.Place) *command.Command {
	var take bool
	c := &command.Command{
		Use:      "policy [FILE]",
		Summary:  "compare, test and activate a policy",
		Examples: []string{"meatus issuer policy new.policy", "meatus issuer policy new.policy --yes", "meatus issuer policy"},
		Status:   "3 if an expectation fails",
		JSON:     "print JSON",
		Details: `Test a policy against its expectations (FILE.expect, and those of the active policy). Print
the rights that it adds and removes compared with the active one. --yes activates it, if
it has no error and meets every expectation. Without FILE, test the active policy.`,
		Args: cobra.MaximumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			file := p.PolicyPath()
			if len(args) == 1 {
				file = args[0]
			}
			all, err := knownMachines(cmd.Context(), p)
			if err != nil {
				return err
			}
			t, err := issuer.Try(file, p.PolicyPath(), all)
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			if err := answerTrial(cmd, t); err != nil {
				return err
			}
			if t.Fails != nil {
				return command.Fail(command.Blocked, t.Fails)
			}
			if !cmd.JSON && t.Expected > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s held\n", words.Count(t.Expected, "expectation"))
			}
			if !take || len(args) == 0 {
				return nil
			}
			return p.Leases(cmd.Context(), func(s *store.Leases) error { return t.Activate(cmd.Context(), s) })
		},
	}
	c.Flags().BoolVar(&take, "yes", false, "activate the policy")
	return c
}

// answerTrial prints what a policy changes, and what is wrong with it.
func answerTrial(cmd *command.Call, t *issuer.Trial) error {
	if t.Unread != nil {
		fmt.Fprintf(cmd.ErrOrStderr(), "the active policy cannot be read, so everything is new: %s\n", sanitize.Text(t.Unread.Error(), 2000))
	}
	report := map[string]any{"changes": append([]policy.Change{}, t.Changes...), "expectations": t.Expected, "holds": t.Fails == nil, "idle": append([]policy.Idle{}, t.Idle...)}
	if t.Fails != nil {
		report["fails"] = strings.Split(t.Fails.Error(), "\n")
	}
	text := ""
	for _, change := range t.Changes {
		text += sanitize.Line(change.Say(), 2000) + "\n"
	}
	if t.Compared && len(t.Changes) == 0 {
		text = "it changes nothing for anybody\n"
	}
	if err := cmd.Answer(report, text); err != nil || cmd.JSON {
		return err
	}
	for _, i := range append(t.Idle, t.Policy.Direct()...) {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s:%d: %s: %s\n", t.Policy.File, i.Line, i.Say, sanitize.Line(i.Text, 200))
	}
	return nil
}

func leases(p *service.Place) *command.Command {
	var person string
	c := &command.Command{
		Use:      "leases",
		Summary:  "list valid certificates, open requests and blocked people",
		Examples: []string{"meatus issuer leases --person mira"},
		JSON:     "print JSON",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				list, err := s.Leases(cmd.Context(), person)
				if err != nil {
					return err
				}
				waits, err := s.Askings(cmd.Context())
				if err != nil {
					return err
				}
				stops, err := s.Stops(cmd.Context())
				if err != nil {
					return err
				}
				stops = slices.DeleteFunc(stops, func(st store.Stop) bool { return !st.Lifted.IsZero() || st.Kind == store.StopLease })
				table := &command.Table{}
				for _, l := range list {
					table.Row(l.Serial, sanitize.Line(l.Person, 64), lease.Principal(l.Login, l.Machine), "until "+l.Ends.Local().Format(time.TimeOnly), sanitize.Line(l.Rule, 64))
				}
				for _, a := range waits {
					table.Row(a.State, sanitize.Line(a.Person, 64), lease.Principal(a.Login, a.Machine), "until "+a.Expires.Local().Format(time.TimeOnly), sanitize.Line(a.Reason, 100))
				}
				for _, st := range stops {
					table.Row("blocked", fmt.Sprintf("%s %s", st.Kind, sanitize.Line(st.Name, 64)), "", "since "+st.At.Local().Format(time.DateTime))
				}
				return cmd.AnswerTable(map[string]any{"leases": append([]store.Lease{}, list...), "waiting": append([]store.Asking{}, waits...), "stopped": append([]store.Stop{}, stops...)}, table)
			})
		},
	}
	c.Flags().StringVar(&person, "person", "", "list only this person's")
	c.Value("person", "PERSON", nil)
	return c
}

// stopOf reads what is stopped: a person, a login, or a lease by its serial.
func stopOf(args []string) (kind store.StopKind, name string, err error) {
	kind = store.StopKind(args[0])
	if !slices.Contains([]store.StopKind{store.StopPerson, store.StopLogin, store.StopLease}, kind) {
		err = command.Fail(command.WrongUse, fmt.Errorf("%q cannot be blocked; write person NAME, login NAME, or lease SERIAL", sanitize.Line(args[0], 40)))
	}
	return kind, args[1], err
}

func block(p *service.Place) *command.Command {
	return &command.Command{
		Use:      "block person|login|lease NAME",
		Summary:  "revoke and block a person, a login or one certificate",
		Examples: []string{"meatus issuer block person oskar", "meatus issuer block lease 4711"},
		Details: `Revoke all certificates of a person, all for a user name, or one by its serial number, and
issue no new ones. Machines accept a revoked certificate until it expires, or until their
revocation list is updated: meatus lease push.`,
		Args: cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			kind, name, err := stopOf(args)
			if err != nil {
				return err
			}
			rules, rerr := policy.Read(p.PolicyPath())
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				if kind == store.StopPerson && rerr == nil && !slices.Contains(rules.People(), name) {
					if held, err := s.Leases(cmd.Context(), name); err == nil && len(held) == 0 {
						return command.Fail(command.WrongUse, fmt.Errorf("the policy has no person %q, and no certificate is theirs: nobody was blocked", sanitize.Line(name, 64)))
					}
				}
				n, err := s.StopLeases(cmd.Context(), kind, name, record.Done{Issuer: "this host", By: "whoever runs it", Why: string(kind) + " " + name})
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "%s revoked; update the machines: meatus lease push\n", words.Count(int(n), "lease"))
				return nil
			})
		},
	}
}

func unblock(p *service.Place) *command.Command {
	return &command.Command{
		Use:      "unblock person|login NAME",
		Summary:  "issue certificates to a blocked person or login again",
		Examples: []string{"meatus issuer unblock person oskar"},
		Args:     cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			kind, name, err := stopOf(args)
			if err != nil {
				return err
			}
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				if err := s.Lift(cmd.Context(), kind, name, record.Done{Issuer: "this host", By: "whoever runs it", Why: string(kind) + " " + name}); err != nil {
					return command.Fail(command.WrongUse, err)
				}
				return nil
			})
		},
	}
}

func key(p *service.Place) *command.Command {
	var allTheSame bool
	c := &command.Command{
		Use:      "key",
		Summary:  "show the signing keys and change the active one",
		Examples: []string{"meatus issuer key"},
		Details: `List the keys that sign certificates of people and of hosts. To replace the one for people:
create the next key (key next), and copy its public key to the machines (meatus lease push).
Activate it when all machines trust it (key activate). The old key file is kept aside.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			keys := &issuer.Keys{Dir: p.State}
			leases, hosts, err := keys.Get()
			if err != nil {
				return err
			}
			for i, s := range leases {
				what := "signs certificates of people"
				if i > 0 {
					what = "next: signs nothing yet"
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s  %s\n%s", ssh.FingerprintSHA256(s.PublicKey()), what, ssh.MarshalAuthorizedKey(s.PublicKey()))
			}
			if hosts != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "%s  signs certificates of hosts\n%s", ssh.FingerprintSHA256(hosts.PublicKey()), ssh.MarshalAuthorizedKey(hosts.PublicKey()))
			}
			return nil
		},
	}
	next := &command.Command{
		Use:      "next",
		Summary:  "create the next signing key",
		Examples: []string{"meatus issuer key next"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return (&issuer.Keys{Dir: p.State}).MakeNext()
		},
	}
	change := &command.Command{
		Use:      "activate",
		Summary:  "activate the next signing key, once every machine trusts it",
		Examples: []string{"meatus issuer key activate"},
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				left, err := (&issuer.Keys{Dir: p.State}).Change(cmd.Context(), s, allTheSame)
				if errors.Is(err, issuer.ErrNotTrusted) {
					return command.Fail(command.Blocked, fmt.Errorf("%w: %s; update them with meatus lease push, or lock them out with --all-the-same", err, sanitize.Line(strings.Join(left, ", "), 400)))
				}
				if err == nil && len(left) > 0 {
					fmt.Fprintf(cmd.ErrOrStderr(), "these machines trust the old key only, and accept no certificates now: %s\n", sanitize.Line(strings.Join(left, ", "), 400))
				}
				return err
			})
		},
	}
	change.Flags().BoolVar(&allTheSame, "all-the-same", false, "also if some machines do not trust the key yet: certificates are not accepted there then")
	c.Commands = []*command.Command{next, change}
	return c
}

func breakGlass(p *service.Place) *command.Command {
	var login string
	var life time.Duration
	fd := -1
	c := &command.Command{
		Use:      "break-glass FILE MACHINE...",
		Summary:  "create a sealed break-glass certificate",
		Examples: []string{"meatus issuer break-glass /media/safe/bay.pem tide-db gauge-1 --as keeper --for 720h"},
		Details: `Create a key with a passphrase, and a certificate for one user name on some machines. Store it
offline. As the key of a session that also has a lease, it is used when the issuer gives no
certificate; each use is reported on the screen and in the machine's log. Revoke it with
meatus issuer block lease SERIAL.`,
		Args: cobra.MinimumNArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			return p.Leases(cmd.Context(), func(s *store.Leases) error {
				e := issuer.Emergency{File: args[0], Machines: args[1:], Login: login, Life: life}
				if err := e.Check(cmd.Context(), s); err != nil {
					return command.Fail(command.WrongUse, err)
				}
				pass, err := prompt.Secret(cmd, fd, "Passphrase for "+args[0], true)
				if err != nil {
					return err
				}
				defer clear(pass)
				e.Passphrase = pass
				l, err := e.Make(cmd.Context(), s, &issuer.Keys{Dir: p.State}, "whoever runs it")
				if errors.Is(err, issuer.ErrEmergency) {
					return command.Fail(command.WrongUse, err)
				}
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "sealed until %s as lease %d; name it as the key of sessions that have leases\n", l.Ends.Local().Format(time.DateOnly), l.Serial)
				return nil
			})
		},
	}
	c.Flags().StringVar(&login, "as", "root", "the user name")
	c.Flags().DurationVar(&life, "for", 30*24*time.Hour, "how long the certificate is valid, up to 2160h")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	c.Value("as", "LOGIN", nil)
	return c
}
