package main

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/adrg/xdg"
	"github.com/spf13/cobra"
	"golang.org/x/crypto/ssh"

	"meatus/core/atomicfile"
	"meatus/core/book"
	"meatus/core/keyfile"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/sanitize"
	"meatus/core/service"
	"meatus/core/store"
)

// servicePlace is where the files of a service that one runs are.
type servicePlace struct{ called, state, store, policy string }

// flags adds those that say where the files are. Rules says what the policy says.
func (p *servicePlace) flags(c *cobra.Command, rules string) {
	f := c.PersistentFlags()
	f.StringVar(&p.state, "state", filepath.Join(xdg.StateHome, "meatus", p.called), "the folder of the "+p.called+"'s files")
	f.StringVar(&p.store, "store", "", "what is kept, and the record: a file, or postgres://USER@HOST/DATABASE ("+p.called+".db in the folder)")
	f.StringVar(&p.policy, "policy", "", rules+": a text file ("+p.called+".policy in the folder)")
}

func (p *servicePlace) storePath() string {
	if p.store != "" {
		return p.store
	}
	return filepath.Join(p.state, p.called+".db")
}

func (p *servicePlace) policyPath() string {
	if p.policy != "" {
		return p.policy
	}
	return filepath.Join(p.state, p.called+".policy")
}

// open opens the store of the service.
func (p *servicePlace) open(ctx context.Context) (*store.Store, error) {
	if p.store == "" {
		if err := os.MkdirAll(p.state, 0o700); err != nil {
			return nil, err
		}
	}
	return store.Open(ctx, p.storePath())
}

// with does something with the store of the service.
func (p *servicePlace) with(ctx context.Context, do func(*store.Store) error) error {
	s, err := p.open(ctx)
	if err != nil {
		return err
	}
	defer s.Close()
	return do(s)
}

// serveFlags are those of a service that persons log in to.
type serveFlags struct {
	at, cert, key, clientCA, issuer, audience, status string
	asJSON                                            bool
	drain                                             time.Duration
}

func (f *serveFlags) add(c *cobra.Command) {
	flags := c.Flags()
	flags.StringVar(&f.at, "at", ":443", "where to listen, ADDRESS:PORT")
	flags.StringVar(&f.cert, "certificate", "", "a file with the certificate and those that sign it, in PEM")
	flags.StringVar(&f.key, "certificate-key", "", "a file with its key; the same as --certificate where that has both")
	flags.StringVar(&f.clientCA, "client-ca", "", "a file with the certificates that sign persons' client certificates")
	flags.StringVar(&f.issuer, "token-issuer", "", "the URL of the issuer of bearer tokens")
	flags.StringVar(&f.audience, "token-audience", "", "the audience that such a token has to be for")
	flags.StringVar(&f.status, "status", "", "a loopback ADDRESS:PORT that answers /health, /ready and /metrics")
	flags.BoolVar(&f.asJSON, "json", false, "log as JSON lines")
	flags.DurationVar(&f.drain, "drain", 30*time.Second, "how long what runs may go on at the end")
}

// options are what the flags say. Where there is no policy yet, first is written as one. Known knows machines.
func (f *serveFlags) options(cmd *cobra.Command, p *servicePlace, first string, known func(string) (policy.Machine, bool)) (o service.Options, err error) {
	o.Log = logger(cmd.ErrOrStderr(), f.asJSON)
	if err := os.MkdirAll(p.state, 0o700); err != nil {
		return o, err
	}
	if _, err := os.Stat(p.policyPath()); errors.Is(err, fs.ErrNotExist) && p.policy == "" {
		if err := atomicfile.Put(p.policyPath(), []byte(first)); err != nil {
			return o, err
		}
		o.Log.Info("nobody may anything yet: write who may into the policy", "file", p.policyPath())
	}
	if o.Certificate, err = certificateOf(p, f.cert, f.key); err != nil {
		return o, err
	}
	if o.Policy, err = service.OpenPolicy(policy.Service(p.called), p.policyPath(), known); err != nil {
		return o, &statusError{statusWrongUse, err}
	}
	if o.ClientCAs, err = poolOf(f.clientCA); err != nil {
		return o, &statusError{statusWrongUse, err}
	}
	if (f.issuer == "") != (f.audience == "") {
		return o, &statusError{statusWrongUse, errors.New("--token-issuer and --token-audience go together: a token has to be for this " + p.called)}
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

// serve serves until the context ends, and then ends in an orderly way. Ending says in the log what is done then.
func (f *serveFlags) serve(ctx context.Context, o service.Options, s server, ending string) error {
	cert, err := o.Certificate.Get()
	if err != nil {
		return err
	}
	l, err := net.Listen("tcp", f.at)
	if err != nil {
		return err
	}
	if f.status != "" {
		host, _, err := net.SplitHostPort(f.status)
		if ip := net.ParseIP(host); err != nil || host != "localhost" && (ip == nil || !ip.IsLoopback()) {
			l.Close()
			return &statusError{statusWrongUse, fmt.Errorf("%q is no loopback address with a port: what the service tells of itself is for this machine alone", f.status)}
		}
		sl, err := net.Listen("tcp", f.status)
		if err != nil {
			l.Close()
			return err
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

// logger is a log for persons, or for programs.
func logger(to io.Writer, asJSON bool) *slog.Logger {
	if asJSON {
		return slog.New(slog.NewJSONHandler(to, nil))
	}
	return slog.New(slog.NewTextHandler(to, nil))
}

// certificateOf is the certificate in files that are named, or one that is made.
func certificateOf(p *servicePlace, cert, key string) (*service.Certificate, error) {
	if cert == "" && key != "" {
		return nil, &statusError{statusWrongUse, errors.New("--certificate-key is of no certificate; name it with --certificate")}
	}
	if key == "" {
		key = cert
	}
	c := &service.Certificate{CertFile: cert, KeyFile: key}
	if cert == "" {
		own := filepath.Join(p.state, p.called+".pem")
		c.CertFile, c.KeyFile = own, own
		host, err := os.Hostname()
		if err != nil || !book.ValidHost(host) {
			host = p.called
		}
		if err := c.Make(host); err != nil {
			return nil, err
		}
	}
	_, err := c.Get()
	return c, err
}

// poolOf reads certificates, nil for no file.
func poolOf(file string) (*x509.CertPool, error) {
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

func recordCommand(p *servicePlace, short string) *cobra.Command {
	var person, machine string
	var asJSON bool
	var last int64
	c := &cobra.Command{
		Use:   "record",
		Short: short,
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, err := p.open(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			from := int64(1)
			if last > 0 && person == "" && machine == "" {
				if from, err = s.Length(cmd.Context()); err != nil {
					return err
				}
				from = max(from-last+1, 1)
			}
			w := cmd.OutOrStdout()
			var lines []string
			for {
				list, err := s.Entries(cmd.Context(), from, 1000)
				if err != nil {
					return err
				}
				for _, e := range list {
					var d store.Done
					if err := json.Unmarshal([]byte(e.Body), &d); err != nil {
						return fmt.Errorf("entry %d cannot be read: %w; meatus %s verify tells whether it was changed", e.Number, err, p.called)
					}
					if person != "" && d.Person != person || machine != "" && d.Machine != machine {
						continue
					}
					text := e.Body
					if !asJSON {
						text = sanitize.Line(fmt.Sprintf("%6d  %s  %s", e.Number, d.At.Format(time.DateTime), d.Say()), 400)
					}
					lines = append(lines, text)
					if last > 0 && int64(len(lines)) > last {
						lines = lines[1:]
					}
				}
				if len(list) < 1000 {
					break
				}
				from = list[len(list)-1].Number + 1
			}
			for _, text := range lines {
				fmt.Fprintln(w, text)
			}
			return nil
		},
	}
	c.Flags().StringVar(&person, "person", "", "of one person alone")
	c.Flags().StringVar(&machine, "machine", "", "of one machine alone")
	c.Flags().Int64Var(&last, "last", 200, "so many of the last, 0 for all")
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON lines")
	return c
}

func verifyCommand(p *servicePlace) *cobra.Command {
	var kept, sign, signer string
	c := &cobra.Command{
		Use:   "verify",
		Short: "whether the record is as it was written",
		Long: `Hold each entry against the one before. What it prints at the end, kept elsewhere and
given the next time with --head, shows that nothing was cut off or written anew since. With
--sign it is signed by a key that need not lie on this host; --signer has the signature of a
kept one checked.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var head store.Head
			if kept != "" {
				parts := strings.SplitN(kept, ":", 3)
				if signer != "" {
					if err := checkHead(parts, signer); err != nil {
						return &statusError{statusShut, err}
					}
				}
				number, digest, _ := strings.Cut(strings.Join(parts[:min(2, len(parts))], ":"), ":")
				n, err := strconv.ParseInt(number, 10, 64)
				if err != nil || len(digest) != 64 {
					return &statusError{statusWrongUse, fmt.Errorf("%q is no head of a record; write NUMBER:DIGEST", sanitize.Line(kept, 90))}
				}
				head = store.Head{Number: n, Digest: digest}
			}
			s, err := p.open(cmd.Context())
			if err != nil {
				return err
			}
			defer s.Close()
			end, err := s.Verify(cmd.Context(), head)
			var tampered *store.Tampered
			if errors.As(err, &tampered) {
				return &statusError{statusShut, fmt.Errorf("the record was changed: %w", err)}
			}
			if err != nil {
				return err
			}
			head = end
			text := fmt.Sprintf("%d:%s", head.Number, head.Digest)
			if sign != "" {
				signature, err := signHead(text, sign)
				if err != nil {
					return err
				}
				text += ":" + signature
			}
			fmt.Fprintln(cmd.OutOrStdout(), text)
			fmt.Fprintf(cmd.ErrOrStderr(), "%d entries, each as it was written\n", end.Number)
			return nil
		},
	}
	c.Flags().StringVar(&kept, "head", "", "NUMBER:DIGEST, as this command printed it earlier, with its signature where it has one")
	c.Flags().StringVar(&sign, "sign", "", "a file with a private key without a passphrase, that signs what is printed")
	c.Flags().StringVar(&signer, "signer", "", "a file with the public key that has to have signed --head")
	return c
}

// headPurpose is signed together with a head, so that the signature is good for nothing else.
const headPurpose = "meatus head of a record\n"

// signHead signs a head by the key in a file.
func signHead(text, file string) (string, error) {
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
	signature, err := signer.Sign(rand.Reader, []byte(headPurpose+text))
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(ssh.Marshal(signature)), nil
}

// checkHead checks the signature of a head that was kept.
func checkHead(parts []string, file string) error {
	line, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey(line)
	if err != nil {
		return fmt.Errorf("%s holds no public key", sanitize.Name(file))
	}
	if len(parts) != 3 {
		return errors.New("what was kept is not signed")
	}
	var signature ssh.Signature
	wire, err := base64.RawURLEncoding.DecodeString(parts[2])
	if err == nil {
		err = ssh.Unmarshal(wire, &signature)
	}
	if err == nil {
		err = key.Verify([]byte(headPurpose+parts[0]+":"+parts[1]), &signature)
	}
	if err != nil {
		return errors.New("the signature of what was kept does not hold: it was changed, or another key signed it")
	}
	return nil
}
