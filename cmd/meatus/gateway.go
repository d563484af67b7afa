package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"text/tabwriter"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/gateway"
	"meatus/core/keyfile"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/posix"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/secret"
	"meatus/core/store"
)

func gatewayCommand(open opener) *cobra.Command {
	p := &servicePlace{called: "gateway"}
	c := &cobra.Command{
		Use:   "gateway",
		Short: "reach machines without an open port, which have dialled out to a relay",
		Long: `A gateway is a relay at a host that both sides can reach. Machines join it by dialling out;
persons reach them through it as through any hop: name the gateway in the sessions file and
in a session's via. docs/gateway.md has all of it.`,
		Args: cobra.NoArgs,
	}
	p.flags(c, "who may reach which machines")
	c.AddCommand(gatewayList(open), gatewayServe(p), gatewayJoin(), gatewayToken(p), gatewayMachines(p), gatewayRevoke(p), gatewayExplain(p), recordCommand(p, "who reached what, when, for how long, and how much went through"), verifyCommand(p))
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

func gatewayServe(p *servicePlace) *cobra.Command {
	var name, reached string
	f := &serveFlags{}
	c := &cobra.Command{
		Use:   "serve",
		Short: "be a gateway",
		Long: `Serve persons and machines until interrupted. Without a certificate one is made, whose
fingerprint stands in the log: persons name it as host_key, machines with --host-key.
A certificate and the policy are read again when their files change. At its end the
machines are asked to join elsewhere, and what runs may go on for a while.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o := gateway.Options{Address: reached, Name: name}
			var err error
			if o.Options, err = f.options(cmd, p, firstPolicy, nil); err != nil {
				return err
			}
			if o.Store, err = p.openMachines(cmd.Context()); err != nil {
				return err
			}
			defer o.Store.Close()
			gateway.CollectEarly()
			return f.serve(cmd.Context(), o.Options, gateway.NewServer(o), "machines join elsewhere, and what runs may go on")
		},
	}
	f.add(c)
	c.Flags().StringVar(&name, "name", "", "what this gateway is called in the record")
	c.Flags().StringVar(&reached, "reached-at", "", "HOST:PORT by which other gateways of the same store reach this one")
	return c
}

func gatewayJoin() *cobra.Command {
	var token, tokenFile, key, ssh, ca, proxy string
	var also, hostKeys []string
	var asJSON, firstBoot bool
	var ping time.Duration
	c := &cobra.Command{
		Use:   "join URL...",
		Short: "have this machine reached through a gateway",
		Long: `Dial out to a gateway and wait there. Whoever the gateway lets through reaches this
machine's SSH server, and nothing else but what --also names. The first time a token is
wanted, which the gateway's own command makes; from then on the machine is known by a key
of its own. Several URLs are gateways of one store: the next is taken where one is away.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			o := gateway.JoinOptions{URLs: args, HostKeys: hostKeys, Key: key, Token: strings.TrimSpace(cmp.Or(token, os.Getenv(secret.TokenVariable))), SSH: ssh, Also: map[string]string{}, Log: logger(cmd.ErrOrStderr(), asJSON), Proxy: http.ProxyFromEnvironment}
			if tokenFile != "" {
				if fault, stopped := keyfile.Inspect(tokenFile).Blocked(); stopped {
					if _, err := os.Stat(key); err != nil {
						return &statusError{statusWrongUse, fmt.Errorf("%s is not used: %s; %s", tokenFile, fault.Say, fault.Mend)}
					}
				} else if text, err := os.ReadFile(tokenFile); err == nil {
					o.Token = strings.TrimSpace(string(text))
				}
			}
			if o.Ping = ping; ping < time.Second || ping > 30*time.Second {
				return &statusError{statusWrongUse, fmt.Errorf("a sign of life is given every second to every 30 seconds, and not every %s", ping)}
			}
			for _, each := range also {
				name, to, _ := strings.Cut(each, "=")
				o.Also[name] = to
			}
			if proxy != "" {
				u, err := url.Parse(proxy)
				if err != nil || u.Host == "" {
					return &statusError{statusWrongUse, fmt.Errorf("%q is no proxy; write http://HOST:PORT", sanitize.Line(proxy, 60))}
				}
				o.Proxy = http.ProxyURL(u)
			}
			var err error
			if o.Roots, err = poolOf(ca); err != nil {
				return &statusError{statusWrongUse, err}
			}
			if firstBoot {
				return printFirstBoot(cmd.OutOrStdout(), o)
			}
			j, err := gateway.NewJoiner(o)
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			if err := j.Run(cmd.Context()); err != nil {
				return &statusError{statusShut, err}
			}
			return nil
		},
	}
	f := c.Flags()
	f.StringVar(&token, "token", "", "the token to join with the first time; others can read it here: MEATUS_TOKEN or --token-file keep it")
	f.StringVar(&tokenFile, "token-file", "", "a file that it stands in, which nobody else may read")
	f.StringVar(&key, "key", filepath.Join(xdg.StateHome, "meatus", "machine.pem"), "the file of the machine's own key, made where there is none")
	f.StringVar(&ssh, "ssh", "127.0.0.1:22", "where this machine's SSH server listens")
	f.StringArrayVar(&also, "also", nil, "a further destination, NAME=HOST:PORT, reached as NAME.MACHINE; may be given several times")
	f.StringVar(&ca, "ca", "", "a file with the certificates that sign the gateway's")
	f.StringArrayVar(&hostKeys, "host-key", nil, "the only TLS certificate accepted from the gateway, by its fingerprint in the gateway's log (omit behind a TLS proxy; repeatable)")
	f.StringVar(&proxy, "proxy", "", "an HTTP proxy to dial through (HTTPS_PROXY)")
	f.DurationVar(&ping, "ping", line.PingEvery, "how often a sign of life is given; less where a proxy closes what is idle sooner")
	f.BoolVar(&asJSON, "json", false, "log as JSON lines")
	f.BoolVar(&firstBoot, "print-first-boot", false, "print a script that joins a new machine at its first start")
	return c
}

func gatewayToken(p *servicePlace) *cobra.Command {
	var tags []string
	var instance string
	var life time.Duration
	c := &cobra.Command{
		Use:   "token MACHINE",
		Short: "make a token that one machine joins with, once",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			name := args[0]
			if !policy.ValidMachine(name) || !book.ValidName(name) || strings.ContainsAny(strings.Join(tags, ""), " :*?[]#") || strings.ContainsAny(instance, " \t") {
				return &statusError{statusWrongUse, fmt.Errorf("%q cannot be a machine's name, or a tag holds what it cannot: use letters, digits, dots, hyphens and underscores", sanitize.Line(name, 40))}
			}
			if life < time.Minute || life > 30*24*time.Hour {
				return &statusError{statusWrongUse, fmt.Errorf("a token lives from a minute to 30 days, and not %s", life)}
			}
			return p.machines(cmd.Context(), func(s *store.Machines) error {
				if err := s.Append(cmd.Context(), record.Done{What: "token", Machine: name}); err != nil {
					return err
				}
				text, err := s.NewToken(cmd.Context(), store.Token{Machine: name, Tags: tags, Instance: instance}, life)
				if err != nil {
					return err
				}
				fmt.Fprintln(cmd.OutOrStdout(), text)
				fmt.Fprintf(cmd.ErrOrStderr(), "it lets one machine join as %s, once, in the next %s; whoever has it can\n", name, life)
				return nil
			})
		},
	}
	c.Flags().StringSliceVar(&tags, "tag", nil, "a tag of the machine, that the policy can name; several with commas")
	c.Flags().StringVar(&instance, "instance", "", "the id of the instance that the machine is")
	c.Flags().DurationVar(&life, "for", time.Hour, "how long the token can be used")
	return c
}

// gatewayList asks a gateway of the workspace, as a person.
func gatewayList(open opener) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "list GATEWAY",
		Short: "the machines that you may reach through a gateway of the sessions file",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			w, err := open.workspace()
			if err != nil {
				return err
			}
			e, err := open.engine(cmd, w, &identities{}, engine.Options{Linger: checkLinger}, nil)
			if err != nil {
				return err
			}
			defer e.Close()
			list, err := e.ListGateway(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			if asJSON {
				all := []line.Listed{}
				for _, m := range list {
					all = append(all, m.Listed)
				}
				enc := json.NewEncoder(cmd.OutOrStdout())
				enc.SetIndent("", "  ")
				return enc.Encode(all)
			}
			table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
			for _, m := range list {
				say := "not joined"
				if !m.Joined.IsZero() {
					say = "joined since " + m.Joined.Local().Format(time.DateTime)
				}
				fmt.Fprintf(table, "%s\t%s\t%s\n", m.Name, say, sanitize.Line(strings.Join(m.Tags, " "), 200))
			}
			return table.Flush()
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
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

func gatewayMachines(p *servicePlace) *cobra.Command {
	var asJSON bool
	c := &cobra.Command{
		Use:   "machines",
		Short: "the machines of a gateway, and where they are joined",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return p.machines(cmd.Context(), func(s *store.Machines) error {
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
				if asJSON {
					e := json.NewEncoder(cmd.OutOrStdout())
					e.SetIndent("", "  ")
					return e.Encode(all)
				}
				w := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 2, ' ', 0)
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
					fmt.Fprintf(w, "%s\t%s\t%s\n", sanitize.Line(m.Name, 64), sanitize.Line(say, 200), sanitize.Line(more, 200))
				}
				return w.Flush()
			})
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

func gatewayRevoke(p *servicePlace) *cobra.Command {
	return &cobra.Command{
		Use:   "revoke MACHINE",
		Short: "have a machine join no more; what runs to it ends",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return p.machines(cmd.Context(), func(s *store.Machines) error {
				if err := s.Revoke(cmd.Context(), args[0]); err != nil {
					return &statusError{statusWrongUse, err}
				}
				return s.Append(cmd.Context(), record.Done{What: "revoked", Machine: args[0]})
			})
		},
	}
}

func gatewayExplain(p *servicePlace) *cobra.Command {
	var when string
	var asJSON bool
	c := &cobra.Command{
		Use:   "explain PERSON MACHINE",
		Short: "which line of the policy lets a person reach a machine, or does not",
		Args:  cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			rules, err := policy.Read(p.policyPath())
			if err != nil {
				return &statusError{statusWrongUse, err}
			}
			at := time.Now()
			if when != "" {
				if at, err = time.Parse(time.RFC3339, when); err != nil {
					return &statusError{statusWrongUse, fmt.Errorf("%q is no time; write it like 2026-11-27T22:00:00Z", sanitize.Line(when, 40))}
				}
			}
			m := policy.Machine{Name: args[1]}
			note := ""
			return p.machines(cmd.Context(), func(s *store.Machines) error {
				switch known, err := s.Machine(cmd.Context(), args[1]); {
				case errors.Is(err, store.ErrUnknown):
					note = "; no machine of that name has joined, so its tags are not known"
				case err != nil && !errors.Is(err, store.ErrRevoked):
					return err
				default:
					m.Name, m.Tags, m.Instance = known.Name, known.Tags, known.Instance
				}
				d := rules.Decide(args[0], policy.Question{Machine: m, At: at})
				if asJSON {
					e := json.NewEncoder(cmd.OutOrStdout())
					line := 0
					if d.Rule != nil {
						line = d.Rule.Line
					}
					err = e.Encode(map[string]any{"person": args[0], "machine": m.Name, "at": at.UTC().Format(time.RFC3339), "allowed": d.Allowed, "line": line, "why": d.Why})
				} else {
					_, err = fmt.Fprintln(cmd.OutOrStdout(), sanitize.Line(d.Why+note, 500))
				}
				if err == nil && !d.Allowed {
					return &statusError{status: statusShut}
				}
				return err
			})
		},
	}
	c.Flags().StringVar(&when, "when", "", "at another moment than now, in RFC 3339")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return c
}

// printFirstBoot prints what a new machine runs at its first start.
func printFirstBoot(w io.Writer, o gateway.JoinOptions) error {
	var b bytes.Buffer
	args := []string{}
	for _, u := range o.URLs {
		args = append(args, posix.Word(u))
	}
	for _, key := range o.HostKeys {
		args = append(args, "--host-key "+posix.Word(key))
	}
	names := []string{}
	for name := range o.Also {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		args = append(args, "--also "+posix.Word(name+"="+o.Also[name]))
	}
	token := o.Token
	if token == "" {
		token = "TOKEN"
	}
	fmt.Fprintf(&b, firstBootText, posix.Word(token), strings.Join(args, " "), posix.Word(o.SSH))
	_, err := w.Write(b.Bytes())
	return err
}

// firstBootText is a script for the first start of a machine on which this program stands in /usr/local/bin.
const firstBootText = `#!/bin/sh
# Joins this machine at a gateway. The token can be used once; it is removed when that is done.
set -eu
id meatus-join >/dev/null 2>&1 || useradd --system --no-create-home --shell /usr/sbin/nologin meatus-join
install -d -m 0700 -o meatus-join -g meatus-join /var/lib/meatus-join
umask 077
printf '%%s\n' %s > /var/lib/meatus-join/token
chown meatus-join: /var/lib/meatus-join/token
cat > /etc/systemd/system/meatus-join.service <<'UNIT'
[Unit]
Description=Joined at a gateway
After=network-online.target
Wants=network-online.target

[Service]
User=meatus-join
ExecStart=/usr/local/bin/meatus gateway join %s --ssh %s --key /var/lib/meatus-join/machine.pem --token-file /var/lib/meatus-join/token
Restart=on-failure
RestartSec=5
RestartPreventExitStatus=2 3
NoNewPrivileges=yes
ProtectSystem=strict
ReadWritePaths=/var/lib/meatus-join
ProtectHome=yes
PrivateTmp=yes
PrivateDevices=yes
CapabilityBoundingSet=
RestrictAddressFamilies=AF_INET AF_INET6 AF_UNIX AF_NETLINK
MemoryDenyWriteExecute=yes

[Install]
WantedBy=multi-user.target
UNIT
systemctl daemon-reload
systemctl enable --now meatus-join.service
`
