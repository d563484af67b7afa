package main

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
	"meatus/core/issuer"
	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/store"
	"meatus/core/words"
)

func issuerCommand(open opener) *cobra.Command {
	p := &servicePlace{called: "issuer"}
	c := &cobra.Command{
		Use:   "issuer",
		Short: "give logins that last for a minute, by a policy one can read",
		Long: `An issuer signs certificates for keys that are made for one walk: for one login at one
machine, for as long as its policy says, and writes each of them to its record. Machines
trust it in place of lists of keys. docs/leases.md has all of it.`,
		Args: cobra.NoArgs,
	}
	p.flags(c, "who may log in where, as whom, and for how long")
	c.AddCommand(issuerEnrol(open), issuerCarry(open), issuerUsed(open), issuerServe(p), issuerMachines(p), issuerTrust(p), issuerExplain(p), issuerWhoCan(p), issuerCan(p), issuerPolicy(p), issuerLeases(p), issuerStop(p), issuerLift(p), issuerKey(p), issuerEmergency(p), recordCommand(p, "who asked for which login, and what became of it"), verifyCommand(p))
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

func issuerServe(p *servicePlace) *cobra.Command {
	o := issuer.Options{Keys: &issuer.Keys{}}
	f := &serveFlags{}
	c := &cobra.Command{
		Use:   "serve",
		Short: "be an issuer",
		Long: `Give leases until interrupted. Where the folder has no signing key one is made, which is
read by nobody else; or an agent holds it. The certificate, the policy and the keys are
read again when their files change.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) (err error) {
			if o.Store, err = p.openLeases(cmd.Context()); err != nil {
				return err
			}
			defer o.Store.Close()
			if o.Options, err = f.options(cmd, p, firstLeasePolicy, issuer.Known(cmd.Context(), o.Store)); err != nil {
				return err
			}
			o.Keys.Dir = p.state
			if o.Keys.Print != "" {
				o.Keys.Socket = os.Getenv("SSH_AUTH_SOCK")
			}
			if err := o.Keys.Make(); err != nil {
				return err
			}
			s, err := issuer.NewServer(o)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			return f.serve(cmd.Context(), o.Options, s, "what waits for a second person is asked anew")
		},
	}
	f.add(c)
	c.Flags().StringVar(&o.Name, "name", "", "what this issuer is called in the record")
	c.Flags().StringVar(&o.Keys.Print, "agent-key", "", "the fingerprint of the signing key, held by the agent that SSH_AUTH_SOCK names")
	c.Flags().DurationVar(&o.Agreement, "agreement", 0, "how long a second person may take to agree (10m)")
	return c
}

// knownMachines are the machines that trust an issuer, as its policy is asked of them.
func knownMachines(ctx context.Context, p *servicePlace) ([]policy.Machine, error) {
	s, err := p.openLeases(ctx)
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
func inUse(ctx context.Context, p *servicePlace) (*policy.Policy, []policy.Machine, error) {
	rules, err := policy.Read(p.policyPath())
	if err != nil {
		return nil, nil, &statusError{statusWrongUse, err}
	}
	all, err := knownMachines(ctx, p)
	return rules, all, err
}

// named is the machine of a name, with what is known of it.
func named(all []policy.Machine, name string) (m policy.Machine, note string) {
	for _, m := range all {
		if m.Name == name || m.Instance == name && name != "" {
			return m, ""
		}
	}
	return policy.Machine{Name: name}, "; no machine of that name trusts this issuer, so its tags are not known"
}

func issuerMachines(p *servicePlace) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "machines",
		Short: "the machines that trust this issuer",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				list, err := s.Trusts(cmd.Context())
				if err != nil {
					return err
				}
				if asJSON {
					e := json.NewEncoder(cmd.OutOrStdout())
					e.SetIndent("", "  ")
					return e.Encode(append([]store.Trusting{}, list...))
				}
				w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
				for _, t := range list {
					how := "logins as LOGIN@" + t.Name
					if t.Plain {
						how += ", and by their names alone"
					}
					fmt.Fprintf(w, "%s\t%s\tsince %s by %s\t%s\n", t.Name, how, t.Enrolled.Local().Format(time.DateOnly), sanitize.Line(t.By, 64), strings.Join(t.Tags, " "))
				}
				return w.Flush()
			})
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func issuerTrust(p *servicePlace) *cobra.Command {
	var t store.Trusting
	var leaves, firstBoot bool
	c := &cobra.Command{
		Use:   "trust MACHINE",
		Short: "note that a machine trusts this issuer, as a first-boot text has it, or trusts it no more",
		Long: `Note by hand that a machine trusts this issuer: one that was set up by other means than
meatus issuer enrol. With --print-first-boot the lines are printed by which a new machine
does so at its first start.`,
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t.Name = args[0]
			if !policy.ValidMachine(t.Name) || sanitize.Line(t.Name, 64) != t.Name {
				return &statusError{statusWrongUse, fmt.Errorf("%q cannot be a machine's name", sanitize.Line(t.Name, 64))}
			}
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				if leaves {
					err := s.Distrust(cmd.Context(), t.Name, record.Done{What: "distrusted", Issuer: "this host", Person: "whoever runs it", Machine: t.Name, Why: "it trusts this issuer no more"})
					if errors.Is(err, store.ErrUnknown) {
						return &statusError{statusWrongUse, err}
					}
					return err
				}
				keys := &issuer.Keys{Dir: p.state}
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
	f.StringSliceVar(&t.Tags, "tag", nil, "a tag of the machine, for rules with tag:NAME; may be said often")
	f.StringSliceVar(&t.Networks, "network", nil, "a network that it is in")
	f.StringVar(&t.Site, "site", "", "its site")
	f.StringVar(&t.Instance, "instance", "", "the id of the instance that it is")
	f.BoolVar(&t.Plain, "plain", false, "its server takes logins by their names alone: a lease for it holds at every such machine")
	f.BoolVar(&leaves, "no-more", false, "it trusts this issuer no more")
	f.BoolVar(&firstBoot, "print-first-boot", false, "print what a new machine runs at its first start")
	return c
}

// moment reads a time in RFC 3339, or is now.
func moment(text string) (time.Time, error) {
	if text == "" {
		return time.Now(), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		err = &statusError{statusWrongUse, fmt.Errorf("%q is no time; write it like 2026-11-27T22:00:00Z", sanitize.Line(text, 40))}
	}
	return at, err
}

func issuerExplain(p *servicePlace) *cobra.Command {
	var when, from string
	var asJSON bool
	c := &cobra.Command{
		Use:   "explain PERSON LOGIN@MACHINE",
		Short: "which rule lets a person log in as somebody at a machine, or does not",
		Args:  cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			login, machine, ok := strings.Cut(args[1], "@")
			if !ok {
				return &statusError{statusWrongUse, fmt.Errorf("%q names no login at a machine; write it like keeper@tide-db", sanitize.Line(args[1], 80))}
			}
			rules, err := policy.Read(p.policyPath())
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			at, err := moment(when)
			if err != nil {
				return err
			}
			q := policy.Question{Login: login, At: at}
			if from != "" {
				if q.From, err = netip.ParseAddr(from); err != nil {
					return &statusError{statusWrongUse, fmt.Errorf("%q is no address", sanitize.Line(from, 60))}
				}
			}
			all, err := knownMachines(cmd.Context(), p)
			if err != nil {
				return err
			}
			var note string
			q.Machine, note = named(all, machine)
			d := rules.Decide(args[0], q)
			if asJSON {
				told := map[string]any{"person": args[0], "login": login, "machine": q.Machine.Name, "at": at.UTC().Format(time.RFC3339), "allowed": d.Allowed, "why": d.Why}
				if d.Rule != nil {
					told["line"], told["rule"] = d.Rule.Line, d.Rule.Name()
				}
				if d.Allowed {
					told["terms"] = d.Rule.Terms.Say()
				}
				err = json.NewEncoder(cmd.OutOrStdout()).Encode(told)
			} else {
				say := d.Why
				if d.Allowed {
					say += " (" + d.Rule.Terms.Say() + ")"
				}
				_, err = fmt.Fprintln(cmd.OutOrStdout(), sanitize.Line(say+note, 600))
			}
			if err == nil && !d.Allowed {
				return &statusError{status: statusShut}
			}
			return err
		},
	}
	c.Flags().StringVar(&when, "when", "", "at another moment than now, in RFC 3339")
	c.Flags().StringVar(&from, "from", "", "from an address; without, rules that allow from somewhere do not hold")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
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

// printStandings prints what people may, as sentences or as JSON.
func printStandings(w io.Writer, all []policy.Standing, asJSON bool) error {
	if asJSON {
		told := []standingJSON{}
		for _, s := range all {
			told = append(told, standingJSON{s.Person, s.Login, s.Machine, s.May(), s.Conditions()})
		}
		e := json.NewEncoder(w)
		e.SetIndent("", "  ")
		return e.Encode(told)
	}
	for _, s := range all {
		fmt.Fprintln(w, sanitize.Line(s.Say(), 600))
	}
	return nil
}

func issuerWhoCan(p *servicePlace) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "who-can MACHINE",
		Short: "who may log in at a machine, as whom, and under which conditions",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, all, err := inUse(cmd.Context(), p)
			if err != nil {
				return err
			}
			m, note := named(all, args[0])
			if note != "" {
				fmt.Fprintln(cmd.ErrOrStderr(), sanitize.Line(args[0]+note, 200))
			}
			return printStandings(cmd.OutOrStdout(), rules.WhoCan(m), asJSON)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func issuerCan(p *servicePlace) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "can PERSON",
		Short: "where a person may log in, as whom, and under which conditions",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, all, err := inUse(cmd.Context(), p)
			if err != nil {
				return err
			}
			if !slices.Contains(rules.People(), args[0]) {
				return &statusError{statusWrongUse, fmt.Errorf("%s knows nobody called %q", rules.File, sanitize.Line(args[0], 64))}
			}
			return printStandings(cmd.OutOrStdout(), rules.Can(args[0], all), asJSON)
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func issuerPolicy(p *servicePlace) *cobra.Command {
	var take, asJSON bool
	c := &cobra.Command{
		Use:   "policy [FILE]",
		Short: "compare, test and activate a policy",
		Long: `Test a policy against its expectations (FILE.expect, and those of the active policy), and
print which rights it adds and removes compared with the active one. --take activates it, if
it has no error and meets every expectation. Without FILE, test the active policy.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			file := p.policyPath()
			if len(args) == 1 {
				file = args[0]
			}
			rules, err := policy.Read(file)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			all, err := knownMachines(cmd.Context(), p)
			if err != nil {
				return err
			}
			expected, fails, err := holds(rules, all, file, p.policyPath())
			if err != nil {
				return err
			}
			if unfit := rules.Unfit(policy.Issuer); len(unfit) > 0 {
				return &statusError{statusWrongUse, unfit}
			}
			idle := rules.Idle(all)
			var changes []policy.Change
			if len(args) == 1 {
				before, err := policy.Read(p.policyPath())
				if err != nil && !errors.Is(err, fs.ErrNotExist) {
					fmt.Fprintf(cmd.ErrOrStderr(), "the policy in use cannot be read, so everything is new: %s\n", sanitize.Text(err.Error(), 2000))
				}
				changes = rules.Compare(before, all)
			}
			print := printPolicy
			if asJSON {
				print = printPolicyJSON
			}
			if err := print(cmd, policyReport{rules, changes, idle, expected, fails, len(args) == 1}); err != nil {
				return err
			}
			if fails != nil {
				return &statusError{statusShut, fails}
			}
			if !asJSON && expected > 0 {
				fmt.Fprintf(cmd.ErrOrStderr(), "%s held\n", words.Count(expected, "expectation"))
			}
			if !take || len(args) == 0 {
				return nil
			}
			return takePolicy(cmd.Context(), p, file, rules, all, len(changes))
		},
	}
	c.Flags().BoolVar(&take, "take", false, "activate the policy")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// policyReport is a policy compared with the one in use.
type policyReport struct {
	rules    *policy.Policy
	changes  []policy.Change
	idle     []policy.Idle
	expected int   // the number of expectations
	fails    error // the expectations that failed, a line for each
	compared bool  // another file is held against the one in use
}

func printPolicy(cmd *cobra.Command, r policyReport) error {
	var text strings.Builder
	for _, change := range r.changes {
		text.WriteString(sanitize.Line(change.Say(), 2000) + "\n")
	}
	if r.compared && len(r.changes) == 0 {
		text.WriteString("it changes nothing for anybody\n")
	}
	if _, err := io.WriteString(cmd.OutOrStdout(), text.String()); err != nil {
		return err
	}
	for _, i := range append(r.idle, r.rules.Direct()...) {
		fmt.Fprintf(cmd.ErrOrStderr(), "%s:%d: %s: %s\n", r.rules.File, i.Line, i.Say, sanitize.Line(i.Text, 200))
	}
	return nil
}

func printPolicyJSON(cmd *cobra.Command, r policyReport) error {
	report := map[string]any{"changes": append([]policy.Change{}, r.changes...), "expectations": r.expected, "holds": r.fails == nil, "idle": append([]policy.Idle{}, r.idle...)}
	if r.fails != nil {
		report["fails"] = strings.Split(r.fails.Error(), "\n")
	}
	e := json.NewEncoder(cmd.OutOrStdout())
	e.SetIndent("", "  ")
	return e.Encode(report)
}

// holds holds a policy against what is expected of it, beside its file and beside the one in use, in whose place it would
// be held against that. It returns how many expectations there are, and which of them fail.
func holds(rules *policy.Policy, all []policy.Machine, file, used string) (n int, fails, err error) {
	files := []string{file}
	if file != used {
		files = append(files, used)
	}
	for _, beside := range files {
		expected, err := policy.ReadExpectations(beside)
		if err != nil {
			return n, nil, &statusError{statusWrongUse, err}
		}
		n += expected.Len()
		fails = errors.Join(fails, expected.Judge(rules, func(name string) (policy.Machine, bool) {
			m, note := named(all, name)
			return m, note == ""
		}))
	}
	return n, fails, nil
}

// takePolicy puts a policy in the place of the one in use, as it was looked at, and writes that to the record.
func takePolicy(ctx context.Context, p *servicePlace, file string, looked *policy.Policy, all []policy.Machine, changes int) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	if again, err := policy.Parse(filepath.Base(file), text); err != nil || len(again.Compare(looked, all)) > 0 {
		return fmt.Errorf("%s was changed while it was looked at; look again", sanitize.Name(file))
	}
	if err := atomicfile.Put(p.policyPath(), text); err != nil {
		return err
	}
	s, err := p.openLeases(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	sum := sha256.Sum256(text)
	return s.Append(ctx, record.Done{What: "policy", Issuer: "this host", Why: fmt.Sprintf("another policy holds, SHA-256 %x, %s for people", sum, words.Count(changes, "change"))})
}

func issuerLeases(p *servicePlace) *cobra.Command {
	var person string
	var asJSON bool
	c := &cobra.Command{
		Use:   "leases",
		Short: "the leases that have not ended, what waits for a second person, and what is stopped",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.leases(cmd.Context(), func(s *store.Leases) error {
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
				if asJSON {
					e := json.NewEncoder(cmd.OutOrStdout())
					e.SetIndent("", "  ")
					return e.Encode(map[string]any{"leases": append([]store.Lease{}, list...), "waiting": append([]store.Asking{}, waits...), "stopped": append([]store.Stop{}, stops...)})
				}
				w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
				for _, l := range list {
					fmt.Fprintf(w, "%d\t%s\t%s\tuntil %s\t%s\n", l.Serial, sanitize.Line(l.Person, 64), lease.Principal(l.Login, l.Machine), l.Ends.Local().Format(time.TimeOnly), sanitize.Line(l.Rule, 64))
				}
				for _, a := range waits {
					fmt.Fprintf(w, "%s\t%s\t%s\tuntil %s\t%s\n", a.State, sanitize.Line(a.Person, 64), lease.Principal(a.Login, a.Machine), a.Expires.Local().Format(time.TimeOnly), sanitize.Line(a.Reason, 100))
				}
				for _, st := range stops {
					fmt.Fprintf(w, "stopped\t%s %s\t\tsince %s\n", st.Kind, sanitize.Line(st.Name, 64), st.At.Local().Format(time.DateTime))
				}
				return w.Flush()
			})
		},
	}
	c.Flags().StringVar(&person, "person", "", "of one person alone")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// stopOf reads what is stopped: a person, a login, or a lease by its serial.
func stopOf(args []string) (kind store.StopKind, name string, err error) {
	kind = store.StopKind(args[0])
	if !slices.Contains([]store.StopKind{store.StopPerson, store.StopLogin, store.StopLease}, kind) {
		err = &statusError{statusWrongUse, fmt.Errorf("%q is nothing that is stopped; write person NAME, login NAME, or lease SERIAL", sanitize.Line(args[0], 40))}
	}
	return kind, args[1], err
}

func issuerStop(p *servicePlace) *cobra.Command {
	return &cobra.Command{
		Use:   "stop person|login|lease NAME",
		Short: "have a person's or a login's leases hold no more, at once, and give no new ones",
		Long: `Stop every lease of a person, or for a login, or one lease by its serial. No new one is
given from now on. What was given holds at a machine until it ends, or until the list of
what is stopped is carried there: meatus issuer carry.`,
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, name, err := stopOf(args)
			if err != nil {
				return err
			}
			rules, rerr := policy.Read(p.policyPath())
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				if kind == store.StopPerson && rerr == nil && !slices.Contains(rules.People(), name) {
					if held, err := s.Leases(cmd.Context(), name); err == nil && len(held) == 0 {
						return &statusError{statusWrongUse, fmt.Errorf("the policy knows nobody called %q, who holds no lease either: nothing was stopped", sanitize.Line(name, 64))}
					}
				}
				n, err := s.StopLeases(cmd.Context(), kind, name, record.Done{Issuer: "this host", By: "whoever runs it", Why: string(kind) + " " + name})
				if err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "%s stopped; carry that to the machines: meatus issuer carry\n", words.Count(int(n), "lease"))
				return nil
			})
		},
	}
}

func issuerLift(p *servicePlace) *cobra.Command {
	return &cobra.Command{
		Use:   "lift person|login NAME",
		Short: "have a person, or a login, have leases again",
		Args:  cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			kind, name, err := stopOf(args)
			if err != nil {
				return err
			}
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				if err := s.Lift(cmd.Context(), kind, name, record.Done{Issuer: "this host", By: "whoever runs it", Why: string(kind) + " " + name}); err != nil {
					return &statusError{statusWrongUse, err}
				}
				return nil
			})
		},
	}
}

func issuerKey(p *servicePlace) *cobra.Command {
	var allTheSame bool
	c := &cobra.Command{
		Use:   "key",
		Short: "the signing keys, and how the one that signs is changed",
		Long: `Say which keys sign leases and machines' keys. To change the one for leases: make the next
one (key next), carry it to the machines beside the first (meatus issuer carry), and have it
sign when all of them trust it (key change). The one before is put aside.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			keys := &issuer.Keys{Dir: p.state}
			leases, hosts, err := keys.Get()
			if err != nil {
				return err
			}
			for i, s := range leases {
				what := "signs leases"
				if i > 0 {
					what = "is to sign next"
				}
				fmt.Fprintf(cmd.OutOrStdout(), "%s  %s\n%s", ssh.FingerprintSHA256(s.PublicKey()), what, ssh.MarshalAuthorizedKey(s.PublicKey()))
			}
			if hosts != nil {
				fmt.Fprintf(cmd.OutOrStdout(), "%s  signs machines' keys\n%s", ssh.FingerprintSHA256(hosts.PublicKey()), ssh.MarshalAuthorizedKey(hosts.PublicKey()))
			}
			return nil
		},
	}
	next := &cobra.Command{
		Use:   "next",
		Short: "make the key that is to sign next; machines are told to trust both from then on",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return (&issuer.Keys{Dir: p.state}).MakeNext()
		},
	}
	change := &cobra.Command{
		Use:   "change",
		Short: "have the next key sign, once every machine trusts it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				left, err := (&issuer.Keys{Dir: p.state}).Change(cmd.Context(), s, allTheSame)
				if errors.Is(err, issuer.ErrNotTrusted) {
					return &statusError{statusShut, fmt.Errorf("%w: %s; carry it there: meatus issuer carry, or leave them behind with --all-the-same", err, sanitize.Line(strings.Join(left, ", "), 400))}
				}
				if err == nil && len(left) > 0 {
					fmt.Fprintf(cmd.ErrOrStderr(), "these trust the old key alone, and let no lease in: %s\n", sanitize.Line(strings.Join(left, ", "), 400))
				}
				return err
			})
		},
	}
	change.Flags().BoolVar(&allTheSame, "all-the-same", false, "also where machines do not trust it yet: no lease lets anybody in there then")
	c.AddCommand(next, change)
	return c
}

func issuerEmergency(p *servicePlace) *cobra.Command {
	var login string
	var life time.Duration
	fd := -1
	c := &cobra.Command{
		Use:   "emergency FILE MACHINE...",
		Short: "prepare a way in for the day on which the issuer is away, sealed with a passphrase",
		Long: `Make a key with a passphrase, and a certificate for it that lets one login in at some
machines for as long as it says. Kept where few reach it, and named as a session's key beside
its lease, it is offered where the issuer gives none; whoever comes in by it is told loudly,
here and in the machine's log. It ends early by meatus issuer stop lease SERIAL.`,
		Args: cobra.MinimumNArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			file, machines := args[0], args[1:]
			return p.leases(cmd.Context(), func(s *store.Leases) error {
				for _, name := range machines {
					if _, err := s.Trusted(cmd.Context(), name, ""); err != nil {
						return &statusError{statusWrongUse, fmt.Errorf("%s: %w", sanitize.Line(name, 64), err)}
					}
				}
				if life <= 0 || life > lease.MaxEmergency {
					return &statusError{statusWrongUse, fmt.Errorf("it is for %d days at the most", lease.MaxEmergency/(24*time.Hour))}
				}
				signers, _, err := (&issuer.Keys{Dir: p.state}).Get()
				if err != nil {
					return err
				}
				pass, err := askSecret(cmd, fd, "Passphrase for "+file, true)
				if err != nil {
					return err
				}
				defer clear(pass)
				if weak := keyfile.JudgePassphrase(pass); weak != "" {
					return &statusError{statusWrongUse, errors.New("nothing was made: " + weak)}
				}
				key, err := keyfile.Make("Ed25519", 0)
				if err != nil {
					return err
				}
				signer, err := ssh.NewSignerFromKey(key)
				if err != nil {
					return err
				}
				if err := keyfile.Write(file, key, keyfile.Wrapping{Passphrase: pass, Comment: "for emergencies"}); err != nil {
					return err
				}
				all := strings.Join(machines, " ")
				l, err := s.Grant(cmd.Context(), store.Lease{Asking: rand.Text(), Person: "emergency", Machine: all, Login: login, Key: ssh.FingerprintSHA256(signer.PublicKey()), Rule: "sealed way in"}, life,
					record.Done{Issuer: "this host", Person: "emergency", By: "whoever runs it", Machine: all, Login: login, Rule: "sealed way in", Reason: "prepared for the day on which the issuer is away"})
				if err != nil {
					return err
				}
				cert, err := lease.SignEmergency(signer.PublicKey(), uint64(l.Serial), login, machines, l.Granted, l.Ends, signers[0])
				if err != nil {
					return err
				}
				if err := os.WriteFile(file+"-cert.pub", ssh.MarshalAuthorizedKey(cert), 0o644); err != nil {
					return err
				}
				fmt.Fprintf(cmd.ErrOrStderr(), "sealed until %s as lease %d; name it as the key of sessions that have leases\n", l.Ends.Local().Format(time.DateOnly), l.Serial)
				return nil
			})
		},
	}
	c.Flags().StringVar(&login, "as", "root", "which login")
	c.Flags().DurationVar(&life, "for", 30*24*time.Hour, "how long it lets somebody in, 2160h at the most")
	c.Flags().IntVar(&fd, "passphrase-fd", -1, "read the passphrase from this file descriptor")
	return c
}
