// Package gateway has the commands of gateways: relays that machines without an open port connect to.
package gateway

import (
	"cmp"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/cmd/meatus/prompt"
	"meatus/cmd/meatus/service"
	"meatus/core/book"
	"meatus/core/gateway"
	"meatus/core/keyfile"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/secret"
	"meatus/core/store"
	"meatus/core/workspace"
)

// Command is "meatus gateway".
func Command(open live.Opener) *command.Command {
	p := &service.Place{Called: "gateway"}
	c := &command.Command{
		Use:     "gateway",
		Summary: "reach machines without an open port through a relay",
		Details: `A gateway is a relay at a host that both sides can reach. Machines connect to it and wait;
people reach them through it as through a bastion: name the gateway in the sessions file and
in a session's via. docs/gateway.md describes it.`,
		Examples: []string{"meatus gateway serve --listen :443", "meatus gateway join wss://gateway.lantern.example --token-file token"},
		Commands: []*command.Command{list(open), serve(p), join(), token(p), machines(p), revoke(p), explain(p), service.Record(p, "print the audit log of connections"), service.Verify(p)},
	}
	p.Flags(c, "who may reach which machines")
	return c
}

// firstPolicy is the policy of a gateway that has none: nobody may anything.
const firstPolicy = `# Who may reach which machines through this gateway. Nothing is allowed that no line allows.
# A line at a time, and # begins a note:
#
#   person mira    key SHA256:...
#   group  keepers mira oskar
#   allow  keepers to gauge-* tag:reef
#   deny   mira    to tide-db on sat,sun
`

func serve(p *service.Place) *command.Command {
	var name, reached string
	f := &service.Serving{}
	c := &command.Command{
		Use:      "serve",
		Summary:  "run a gateway",
		Examples: []string{"meatus gateway serve --listen :443 --certificate bay.pem", "meatus gateway serve --store postgres:///bay --reached-at 192.0.2.7:443"},
		Details: `Serve people and machines until interrupted. Without --certificate one is created; the log
has its fingerprint, for host_key in people's sessions files and --host-key of machines.
The certificate and the policy are read again when their files change. When the gateway ends,
machines are told to connect to another one, and open connections have the time of --drain.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			o := gateway.Options{Address: reached, Name: name}
			var err error
			if o.Options, err = f.Options(cmd, p, firstPolicy, nil); err != nil {
				return err
			}
			if o.Store, err = p.OpenMachines(cmd.Context()); err != nil {
				return err
			}
			defer o.Store.Close()
			gateway.CollectEarly()
			return f.Serve(cmd.Context(), o.Options, gateway.NewServer(o), "machines join elsewhere, and what runs may go on")
		},
	}
	f.Add(c)
	c.Flags().StringVar(&name, "name", "", "the name of this gateway in the audit log")
	c.Flags().StringVar(&reached, "reached-at", "", "HOST:PORT where other gateways of the same store connect to this one")
	return c
}

func join() *command.Command {
	var token, tokenFile, key, ssh, ca, proxy string
	var also, hostKeys []string
	var firstBoot bool
	var ping time.Duration
	c := &command.Command{
		Use:      "join URL...",
		Summary:  "connect this machine to a gateway for logins",
		Examples: []string{"meatus gateway join wss://gateway.lantern.example --token-file token", "meatus gateway join wss://gateway.lantern.example --also printer=10.61.4.99:22", "meatus gateway join wss://gateway.lantern.example --print-first-boot > first-boot.sh"},
		JSON:     "log as JSON lines",
		Details: `Connect to a gateway and wait. People whom the gateway's policy allows reach this machine's
SSH server, and no other destination except those of --also. The first connection needs a
token, made by meatus gateway token; later ones use the machine's own key. Several URLs are
gateways with one store: if one is down, the next is used.`,
		Args: cobra.MinimumNArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			o := gateway.JoinOptions{URLs: args, HostKeys: hostKeys, Key: key, Token: strings.TrimSpace(cmp.Or(token, os.Getenv(secret.TokenVariable))), SSH: ssh, Also: map[string]string{}, Log: service.Logger(cmd.ErrOrStderr(), cmd.JSON), Proxy: http.ProxyFromEnvironment}
			if tokenFile != "" {
				if fault, stopped := keyfile.Inspect(tokenFile).Blocked(); stopped {
					if _, err := os.Stat(key); err != nil {
						return command.Fail(command.WrongUse, fmt.Errorf("%s is not used: %s; %s", tokenFile, fault.Say, fault.Mend))
					}
				} else if text, err := os.ReadFile(tokenFile); err == nil {
					o.Token = strings.TrimSpace(string(text))
				}
			}
			if o.Ping = ping; ping < time.Second || ping > 30*time.Second {
				return command.Fail(command.WrongUse, fmt.Errorf("a sign of life is given every second to every 30 seconds, and not every %s", ping))
			}
			for _, each := range also {
				name, to, _ := strings.Cut(each, "=")
				o.Also[name] = to
			}
			if proxy != "" {
				u, err := url.Parse(proxy)
				if err != nil || u.Host == "" {
					return command.Fail(command.WrongUse, fmt.Errorf("%q is no proxy; write http://HOST:PORT", sanitize.Line(proxy, 60)))
				}
				o.Proxy = http.ProxyURL(u)
			}
			var err error
			if o.Roots, err = service.Pool(ca); err != nil {
				return command.Fail(command.WrongUse, err)
			}
			if firstBoot {
				return gateway.FirstBoot(cmd.OutOrStdout(), o)
			}
			j, err := gateway.NewJoiner(o)
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			if err := j.Run(cmd.Context()); err != nil {
				return command.Fail(command.Blocked, err)
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&token, "token", "", "the token for the first connection; other users of this machine can read it here, so prefer MEATUS_TOKEN or --token-file")
	f.StringVar(&tokenFile, "token-file", "", "a file with the token, readable by its owner only")
	f.StringVar(&key, "key", filepath.Join(xdg.StateHome, "meatus", "machine.pem"), "the machine's key file, created if it does not exist")
	f.StringVar(&ssh, "ssh", "127.0.0.1:22", "the address of this machine's SSH server")
	f.StringArrayVar(&also, "also", nil, "another destination, NAME=HOST:PORT, reached as NAME.MACHINE (repeatable)")
	f.StringVar(&ca, "ca", "", "a file with the CA certificates for the gateway's TLS certificate")
	f.StringArrayVar(&hostKeys, "host-key", nil, "accept only this TLS certificate of the gateway, by the fingerprint in the gateway's log (omit behind a TLS proxy; repeatable)")
	f.StringVar(&proxy, "proxy", "", "connect through this HTTP proxy (default $HTTPS_PROXY)")
	f.DurationVar(&ping, "ping", line.PingEvery, "the keepalive interval; shorter where a proxy closes idle connections")
	f.BoolVar(&firstBoot, "print-first-boot", false, "print a first-boot script that connects a new machine")
	c.Value("token-file", "FILE", nil)
	c.Value("key", "FILE", nil)
	c.Value("ssh", "ADDRESS", nil)
	c.Value("also", "DESTINATION", nil)
	c.Value("ca", "FILE", nil)
	c.Value("host-key", "FINGERPRINT", nil)
	c.Value("proxy", "URL", nil)
	return c
}

func token(p *service.Place) *command.Command {
	var tags []string
	var instance string
	var life time.Duration
	c := &command.Command{
		Use:      "token MACHINE",
		Summary:  "create a one-time token for a machine to join with",
		Examples: []string{"meatus gateway token gauge-7 --tag reef --for 10m"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			name := args[0]
			if !policy.ValidMachine(name) || !book.ValidName(name) || strings.ContainsAny(strings.Join(tags, ""), " :*?[]#") || strings.ContainsAny(instance, " \t") {
				return command.Fail(command.WrongUse, fmt.Errorf("%q cannot be a machine's name, or a tag holds what it cannot: use letters, digits, dots, hyphens and underscores", sanitize.Line(name, 40)))
			}
			if life < time.Minute || life > 30*24*time.Hour {
				return command.Fail(command.WrongUse, fmt.Errorf("a token lives from a minute to 30 days, and not %s", life))
			}
			return p.Machines(cmd.Context(), func(s *store.Machines) error {
				if err := s.Append(cmd.Context(), record.Done{What: "token", Machine: name}); err != nil {
					return err
				}
				text, err := s.NewToken(cmd.Context(), store.Token{Machine: name, Tags: tags, Instance: instance}, life)
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), text)
				fmt.Fprintf(cmd.ErrOrStderr(), "it lets one machine join as %s, once, in the next %s; anyone with it can\n", name, life)
				return nil
			})
		},
	}
	c.Flags().StringSliceVar(&tags, "tag", nil, "a tag of the machine, for the policy (repeatable)")
	c.Flags().StringVar(&instance, "instance", "", "the instance id of the machine")
	c.Flags().DurationVar(&life, "for", time.Hour, "how long the token is valid")
	c.Value("tag", "TAG", nil)
	return c
}

// list asks a gateway of the workspace, as a person.
func list(open live.Opener) *command.Command {
	return &command.Command{
		Use:      "list GATEWAY",
		Summary:  "list the machines you may reach through a gateway",
		Examples: []string{"meatus gateway list bay"},
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return open.With(cmd, &prompt.Identities{}, func(e *live.Engine, _ *workspace.Workspace) error {
				list, err := e.ListGateway(cmd.Context(), args[0])
				if err != nil {
					return err
				}
				all, table := []line.Listed{}, &command.Table{}
				for _, m := range list {
					say := "not joined"
					if !m.Joined.IsZero() {
						say = "joined since " + m.Joined.Local().Format(time.DateTime)
					}
					all = append(all, m.Listed)
					table.Row(m.Name, say, sanitize.Line(strings.Join(m.Tags, " "), 200))
				}
				return cmd.AnswerTable(all, table)
			})
		},
	}
}

// machineJSON is a machine as it is printed.
type machineJSON struct {
	Name     string   `json:"name"`
	Joined   string   `json:"joined,omitempty"` // since when, RFC 3339
	Gateway  string   `json:"gateway,omitempty"`
	From     string   `json:"from,omitempty"`
	Tags     []string `json:"tags,omitempty"`
	Instance string   `json:"instance,omitempty"`
	Offers   []string `json:"offers,omitempty"`
	Key      string   `json:"key,omitempty"`
	Revoked  string   `json:"revoked,omitempty"`
	Token    string   `json:"token,omitempty"` // until when it can join by one
}

func machines(p *service.Place) *command.Command {
	return &command.Command{
		Use:      "machines",
		Summary:  "list the machines of a gateway and their state",
		Examples: []string{"meatus gateway machines --json"},
		JSON:     "print JSON",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			return p.Machines(cmd.Context(), func(s *store.Machines) error {
				list, err := s.Machines(cmd.Context())
				if err != nil {
					return err
				}
				tokens, err := s.Tokens(cmd.Context())
				if err != nil {
					return err
				}
				stamp := func(t time.Time) string {
					if t.IsZero() {
						return ""
					}
					return t.Format(time.RFC3339)
				}
				all := []machineJSON{}
				for _, m := range list {
					all = append(all, machineJSON{m.Name, stamp(m.Joined), m.Gateway, m.From, m.Tags, m.Instance, m.Offers, m.Key, stamp(m.Revoked), ""})
				}
				now, err := s.Now(cmd.Context())
				if err != nil {
					return err
				}
				for _, t := range tokens {
					if t.Used.IsZero() && t.Expires.After(now) {
						all = append(all, machineJSON{Name: t.Machine, Tags: t.Tags, Instance: t.Instance, Token: stamp(t.Expires)})
					}
				}
				table := &command.Table{}
				for _, m := range all {
					say := "not joined"
					switch {
					case m.Revoked != "":
						say = "revoked " + m.Revoked
					case m.Token != "":
						say = "a token, until " + m.Token
					case m.Joined != "":
						say = fmt.Sprintf("joined at %s since %s from %s", m.Gateway, m.Joined, m.From)
					}
					more := strings.Join(m.Tags, " ")
					if len(m.Offers) > 0 {
						more += "  leads to " + strings.Join(m.Offers, ", ")
					}
					table.Row(sanitize.Line(m.Name, 64), sanitize.Line(say, 200), sanitize.Line(more, 200))
				}
				return cmd.AnswerTable(all, table)
			})
		},
	}
}

func revoke(p *service.Place) *command.Command {
	return &command.Command{
		Use:      "revoke MACHINE",
		Summary:  "remove a machine and cut its connections",
		Examples: []string{"meatus gateway revoke gauge-7"},
		Args:     cobra.ExactArgs(1),
		Run: func(cmd *command.Call, args []string) error {
			return p.Machines(cmd.Context(), func(s *store.Machines) error {
				if err := s.Revoke(cmd.Context(), args[0]); err != nil {
					return command.Fail(command.WrongUse, err)
				}
				return s.Append(cmd.Context(), record.Done{What: "revoked", Machine: args[0]})
			})
		},
	}
}

func explain(p *service.Place) *command.Command {
	var when string
	c := &command.Command{
		Use:      "explain PERSON MACHINE",
		Summary:  "explain whether the policy lets a person reach a machine",
		Examples: []string{"meatus gateway explain mira gauge-7", "meatus gateway explain mira gauge-7 --when 2026-11-28T03:00:00Z"},
		JSON:     "print JSON",
		Args:     cobra.ExactArgs(2),
		Run: func(cmd *command.Call, args []string) error {
			rules, err := policy.Read(p.PolicyPath())
			if err != nil {
				return command.Fail(command.WrongUse, err)
			}
			at, err := service.Moment(when)
			if err != nil {
				return err
			}
			m := policy.Machine{Name: args[1]}
			note := ""
			return p.Machines(cmd.Context(), func(s *store.Machines) error {
				switch known, err := s.Machine(cmd.Context(), args[1]); {
				case errors.Is(err, store.ErrUnknown):
					note = "; no machine of that name has joined, so its tags are not known"
				case err != nil && !errors.Is(err, store.ErrRevoked):
					return err
				default:
					m.Name, m.Tags, m.Instance = known.Name, known.Tags, known.Instance
				}
				d := rules.Decide(args[0], policy.Question{Machine: m, At: at})
				line := 0
				if d.Rule != nil {
					line = d.Rule.Line
				}
				err := cmd.Answer(map[string]any{"person": args[0], "machine": m.Name, "at": at.UTC().Format(time.RFC3339), "allowed": d.Allowed, "line": line, "why": d.Why}, sanitize.Line(d.Why+note, 500)+"\n")
				if err == nil && !d.Allowed {
					return command.Exit(command.Blocked)
				}
				return err
			})
		},
	}
	c.Flags().StringVar(&when, "when", "", "at this time instead of now, in RFC 3339")
	c.Value("when", "TIME", nil)
	return c
}
