// Package service has what the commands of a gateway and of an issuer share: where their files are, the flags of serving, and
// their audit log.
package service

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"meatus/cmd/meatus/command"
	"meatus/core/atomicfile"
	"meatus/core/book"
	"meatus/core/keyfile"
	"meatus/core/line"
	"meatus/core/loopback"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/service"
	"meatus/core/store"
)

// Place is where the files of a service are.
type Place struct {
	Called               string // "gateway" or "issuer"
	State, Store, Policy string // as the flags say
}

// Flags adds those that say where the files are. Rules says what the policy says.
func (p *Place) Flags(c *command.Command, rules string) {
	f := c.Shared()
	f.StringVar(&p.State, "state", filepath.Join(xdg.StateHome, "meatus", p.Called), "the "+p.Called+"'s folder")
	f.StringVar(&p.Store, "store", "", "the database with the audit log: a file, or postgres://USER@HOST/DATABASE (default "+p.Called+".db in the "+p.Called+"'s folder)")
	f.StringVar(&p.Policy, "policy", "", "the policy file: "+rules+" (default "+p.Called+".policy in the "+p.Called+"'s folder)")
	c.Value("state", "FOLDER", nil)
	c.Value("store", "STORE", nil)
	c.Value("policy", "FILE", nil)
}

func (p *Place) storePath() string {
	if p.Store != "" {
		return p.Store
	}
	return filepath.Join(p.State, p.Called+".db")
}

// PolicyPath is the path of the policy.
func (p *Place) PolicyPath() string {
	if p.Policy != "" {
		return p.Policy
	}
	return filepath.Join(p.State, p.Called+".policy")
}

// Open opens the store of the service.
func (p *Place) Open(ctx context.Context) (*store.Store, error) {
	if p.Store == "" {
		if err := os.MkdirAll(p.State, 0o700); err != nil {
			return nil, err
		}
	}
	return store.Open(ctx, p.storePath())
}

// OpenMachines opens the store of a gateway.
func (p *Place) OpenMachines(ctx context.Context) (*store.Machines, error) {
	s, err := p.Open(ctx)
	if err != nil {
		return nil, err
	}
	return &store.Machines{Store: s}, nil
}

// Machines opens the store of a gateway and does something with it.
func (p *Place) Machines(ctx context.Context, do func(*store.Machines) error) error {
	s, err := p.OpenMachines(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

// OpenLeases opens the store of an issuer.
func (p *Place) OpenLeases(ctx context.Context) (*store.Leases, error) {
	s, err := p.Open(ctx)
	if err != nil {
		return nil, err
	}
	return &store.Leases{Store: s}, nil
}

// Leases opens the store of an issuer and does something with it.
func (p *Place) Leases(ctx context.Context, do func(*store.Leases) error) error {
	s, err := p.OpenLeases(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

// Serving are the flags of a service that persons log in to.
type Serving struct {
	at, cert, key, clientCA, issuer, audience, status string
	drain                                             time.Duration
}

// Add adds the flags.
func (f *Serving) Add(c *command.Command) {
	c.JSON = "log as JSON lines"
	flags := c.Flags()
	flags.StringVar(&f.at, "listen", ":443", "the address to listen at")
	flags.StringVar(&f.cert, "certificate", "", "a PEM file with the TLS certificate and its CA certificates")
	flags.StringVar(&f.key, "certificate-key", "", "a PEM file with the key of the TLS certificate (default: the file of --certificate)")
	flags.StringVar(&f.clientCA, "client-ca", "", "a PEM file with the CA certificates for client certificates of people")
	flags.StringVar(&f.issuer, "token-issuer", "", "accept bearer tokens of this OpenID issuer, a URL")
	flags.StringVar(&f.audience, "token-audience", "", "the audience of accepted bearer tokens")
	flags.StringVar(&f.status, "status", "", "serve /health, /ready and /metrics at this loopback address")
	flags.DurationVar(&f.drain, "drain", 30*time.Second, "time for open connections to finish when the program ends")
	c.Value("listen", "ADDRESS:PORT", nil)
	c.Value("certificate", "FILE", nil)
	c.Value("certificate-key", "FILE", nil)
	c.Value("client-ca", "FILE", nil)
	c.Value("status", "ADDRESS", nil)
}

// Options are what the flags say. Where there is no policy yet, first is written as one. Known knows machines.
func (f *Serving) Options(cmd *command.Call, p *Place, first string, known func(string) (policy.Machine, bool)) (o service.Options, err error) {
	o.Log = Logger(cmd.ErrOrStderr(), cmd.JSON)
	if err := os.MkdirAll(p.State, 0o700); err != nil {
		return o, err
	}
	if _, err := os.Stat(p.PolicyPath()); errors.Is(err, fs.ErrNotExist) && p.Policy == "" {
		if err := atomicfile.Put(p.PolicyPath(), []byte(first)); err != nil {
			return o, err
		}
		o.Log.Info("nobody may anything yet: write who may into the policy", "file", p.PolicyPath())
	}
	if o.Certificate, err = certificateOf(p, f.cert, f.key); err != nil {
		return o, err
	}
	if o.Policy, err = service.OpenPolicy(policy.Service(p.Called), p.PolicyPath(), known); err != nil {
		return o, command.Fail(command.WrongUse, err)
	}
	if o.ClientCAs, err = Pool(f.clientCA); err != nil {
		return o, command.Fail(command.WrongUse, err)
	}
	if (f.issuer == "") != (f.audience == "") {
		return o, command.Fail(command.WrongUse, errors.New("--token-issuer and --token-audience go together: a token has to be for this "+p.Called))
	}
	if f.issuer != "" {
		o.Tokens = &service.Tokens{Issuer: f.issuer, Audience: f.audience}
	}
	return o, nil
}

// server is a service that can be served.
type server interface {
	Serve(net.Listener) error
	Close(context.Context)
	Status() http.Handler
}

// Serve serves until the context ends, and then ends in an orderly way. Ending says in the log what is done then.
func (f *Serving) Serve(ctx context.Context, o service.Options, s server, ending string) error {
	cert, err := o.Certificate.Get()
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", f.at)
	if err != nil {
		return err
	}
	if f.status != "" {
		sl, err := loopback.Listen(f.status)
		if err != nil {
			l.Close()
			return command.Fail(command.WrongUse, fmt.Errorf("--status: %w", err))
		}
		told := &http.Server{Handler: s.Status(), ReadHeaderTimeout: 5 * time.Second}
		go told.Serve(sl)
		defer told.Close()
	}
	go o.Policy.Follow(ctx, o.Log)
	served := make(chan error, 1)
	go func() { served <- s.Serve(l) }()
	o.Log.Info("serving", "at", l.Addr().String(), "host_key", line.FingerprintOf(cert))
	select {
	case err = <-served:
	case <-ctx.Done():
		o.Log.Info("ending: "+ending, "for", f.drain.String())
	}
	draining, cancel := context.WithTimeout(context.Background(), f.drain)
	defer cancel()
	s.Close(draining)
	o.Log.Info("ended")
	return err
}

// Logger is a log for persons, or for programs.
func Logger(to io.Writer, asJSON bool) *slog.Logger {
	if asJSON {
		return slog.New(slog.NewJSONHandler(to, nil))
	}
	return slog.New(slog.NewTextHandler(to, nil))
}

// certificateOf is the certificate in files that are named, or one that is made.
func certificateOf(p *Place, cert, key string) (*service.Certificate, error) {
	if cert == "" && key != "" {
		return nil, command.Fail(command.WrongUse, errors.New("--certificate-key is of no certificate; name it with --certificate"))
	}
	if key == "" {
		key = cert
	}
	c := &service.Certificate{CertFile: cert, KeyFile: key}
	if cert == "" {
		own := filepath.Join(p.State, p.Called+".pem")
		c.CertFile, c.KeyFile = own, own
		host, err := os.Hostname()
		if err != nil || !book.ValidHost(host) {
			host = p.Called
		}
		if err := c.Make(host); err != nil {
			return nil, err
		}
	}
	_, err := c.Get()
	return c, err
}

// Pool reads certificates, nil for no file.
func Pool(file string) (*x509.CertPool, error) {
	if file == "" {
		return nil, nil
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("there is no certificate in %s", file)
	}
	return pool, nil
}

// Record prints the audit log of a service.
func Record(p *Place, summary string) *command.Command {
	var f record.Filter
	c := &command.Command{
		Use:      "record",
		Summary:  summary,
		Examples: []string{"meatus " + p.Called + " record --person mira", "meatus " + p.Called + " record --json --last 0 > record.jsonl"},
		JSON:     "print JSON lines",
		Args:     cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			s, err := p.Open(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			length, err := s.Length(cmd.Context())
			if err != nil {
				return err
			}
			list, err := f.Choose(cmd.Context(), s.Entries, length)
			if err != nil {
				return fmt.Errorf("%w; meatus %s verify tells whether it was changed", err, p.Called)
			}
			for _, e := range list {
				text := e.Body
				if !cmd.JSON {
					text = sanitize.Line(fmt.Sprintf("%6d  %s  %s", e.Number, e.Done.At.Format(time.DateTime), e.Done.Say()), 400)
				}
				fmt.Fprintln(cmd.OutOrStdout(), text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&f.Person, "person", "", "print only this person's entries")
	c.Flags().StringVar(&f.Machine, "machine", "", "print only this machine's entries")
	c.Flags().IntVar(&f.Last, "last", 200, "the number of latest entries; 0 for all")
	c.Value("person", "PERSON", nil)
	c.Value("machine", "MACHINE", nil)
	return c
}

// Verify verifies the audit log of a service.
func Verify(p *Place) *command.Command {
	var kept, sign, signer string
	c := &command.Command{
		Use:      "verify",
		Summary:  "verify that the audit log was not changed",
		Examples: []string{"meatus " + p.Called + " verify"},
		Details: `Verify the chain of digests of all entries, and print the number and the digest of the last one.
Stored on another machine and given with --head next time, the output proves that no entry was
removed or rewritten since. --sign signs it, --signer checks the signature.`,
		Args: cobra.NoArgs,
		Run: func(cmd *command.Call, _ []string) error {
			var before record.Kept
			if kept != "" {
				var err error
				if before, err = record.ParseKept(kept); err != nil {
					return command.Fail(command.WrongUse, fmt.Errorf("%q is no head of a record: %w", sanitize.Line(kept, 90), err))
				}
				if signer != "" {
					key, err := publicKeyOf(signer)
					if err == nil {
						err = before.Check(key)
					}
					if err != nil {
						return command.Fail(command.Blocked, err)
					}
				}
			}
			s, err := p.OpenLeases(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			end, err := s.Verify(cmd.Context(), before.Head)
			var tampered *record.Tampered
			if errors.As(err, &tampered) {
				return command.Fail(command.Blocked, fmt.Errorf("the record was changed: %w", err))
			}
			if err != nil {
				return err
			}
			text := end.String()
			if sign != "" {
				if text, err = signHead(end, sign); err != nil {
					return err
				}
			}
			fmt.Fprintln(cmd.OutOrStdout(), text)
			fmt.Fprintf(cmd.ErrOrStderr(), "%d entries, each as it was written\n", end.Number)
			return nil
		},
	}
	c.Flags().StringVar(&kept, "head", "", "an earlier output of this command, to compare with")
	c.Flags().StringVar(&sign, "sign", "", "sign the output with this private key, which has no passphrase")
	c.Flags().StringVar(&signer, "signer", "", "check the signature of --head with this public key")
	c.Value("head", "HEAD", nil)
	c.Value("sign", "FILE", nil)
	c.Value("signer", "FILE", nil)
	return c
}

// signHead signs the head of a record by the key in a file.
func signHead(head record.Head, file string) (string, error) {
	key, err := keyfile.Read(file)
	if err != nil {
		return "", err
	}
	defer key.Forget()
	if fault, stopped := key.Blocked(); stopped {
		return "", &keyfile.Blocked{Path: file, Fault: fault}
	}
	signer, err := key.Signer(nil)
	if err != nil {
		return "", err
	}
	return head.Sign(signer)
}

// publicKeyOf reads the public key in a file.
func publicKeyOf(file string) (ssh.PublicKey, error) {
	line, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(line)
	if err != nil {
		return nil, fmt.Errorf("%s holds no public key", sanitize.Name(file))
	}
	return key, nil
}

// Moment reads a time in RFC 3339, or is now.
func Moment(text string) (time.Time, error) {
	if text == "" {
		return time.Now(), nil
	}
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		err = command.Fail(command.WrongUse, fmt.Errorf("%q is no time; write it like 2026-11-27T22:00:00Z", sanitize.Line(text, 40)))
	}
	return at, err
}
