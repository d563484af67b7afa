package lab

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/issuer"
	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/route"
	serving "meatus/core/service"
	"meatus/core/step"
	"meatus/core/store"
	"meatus/core/vouch"
	"meatus/core/walk"
)

// purser is the bay's issuer of leases, a real one on loopback. The weir trusts it; the fen does not, until it is
// enrolled. The pilot is another person there, who now and then asks for something that the warden has to agree to, and
// agrees to what the warden asks for.
type purser struct {
	dir     string
	store   *store.Leases
	server  *issuer.Server
	url     string
	hostKey string
	asks    chan struct{} // the pilot is to ask now
}

// Purser is the name of the bay's issuer.
const Purser = "purser"

// How the pilot goes about things.
const (
	pilotLooks = time.Second      // how often the pilot looks for what waits
	pilotTakes = 4 * time.Second  // before the pilot agrees
	pilotAsks  = 25 * time.Second // after the start
)

// leased are hosts that take leases, or are to: no cloud knows them.
var leased = []place{
	{"weir", "10.61.4.90", map[string]string{"keeper": "", "root": ""}, true},
	{"fen", "10.61.4.91", map[string]string{"root": "gauge.pem"}, true},
}

// pursersPolicy is who may log in where in the bay.
const pursersPolicy = `# Who may log in at the bay's machines, as whom, and for how long.
person warden  key %s
person warden  token warden@lantern.example
person keeper  key %s
person keeper  token keeper@lantern.example
person pilot   key %s
person mate    key %s
group  watch   warden keeper
group  pilots  pilot warden

allow  watch   to weir as keeper for 60s called tide-watch
allow  warden  to weir as root   for 10m with reason agreed-by pilots called with-a-pilot
allow  keeper  to weir as root   for 5m  with reason end agreed-by pilots on mon-fri at 06:00-18:00
allow  pilot   to weir as root   for 5m  with reason agreed-by watch called pilots-turn
allow  warden  to fen  as root   for 60s called new-ground
allow  keeper  to weir as clerk  for 8h  may files
deny   warden  to weir as clerk  called books-apart
allow  mate    to tag:reef as keeper for 60s
deny   mate    to anything                 # went ashore in October
enrols warden as 10.61.0.0/16
reads  warden
`

// pursersExpectations stand beside it.
const pursersExpectations = `expect watch  may keeper at weir
expect warden may root at weir
expect keeper may NOT root at weir when sat 12:00
expect warden may NOT clerk at weir
expect mate   may NOT keeper at weir
expect everyone may NOT root at tide-db
`

// openPurser starts the issuer.
func (b *Lab) openPurser(keys map[string]ssh.PublicKey) (err error) {
	p := &purser{dir: filepath.Join(b.Dir, "lab", Purser), asks: make(chan struct{}, 1)}
	if err := os.MkdirAll(p.dir, 0o700); err != nil {
		return err
	}
	if p.store, err = store.OpenLeases(b.ctx, filepath.Join(p.dir, "issuer.db")); err != nil {
		return err
	}
	b.purser = p // it is closed with the bay from here on
	own := filepath.Join(p.dir, "issuer.pem")
	cert := &serving.Certificate{CertFile: own, KeyFile: own}
	signing := &issuer.Keys{Dir: p.dir}
	if err := errors.Join(cert.Make(Purser), signing.Make()); err != nil {
		return err
	}
	pilot, err := b.hostKey("pilot")
	if err != nil {
		return err
	}
	mate, err := b.hostKey("mate")
	if err != nil {
		return err
	}
	rules := filepath.Join(p.dir, "issuer.policy")
	if _, err := os.Stat(rules); errors.Is(err, os.ErrNotExist) {
		text := fmt.Sprintf(pursersPolicy, ssh.FingerprintSHA256(keys["shore.pem"]), ssh.FingerprintSHA256(keys["tide.pem"]), ssh.FingerprintSHA256(pilot.PublicKey()), ssh.FingerprintSHA256(mate.PublicKey()))
		if err := errors.Join(os.WriteFile(rules, []byte(text), 0o600), os.WriteFile(rules+".expect", []byte(pursersExpectations), 0o600)); err != nil {
			return err
		}
	}
	held, err := serving.OpenPolicy(policy.Issuer, rules, issuer.Known(b.ctx, p.store))
	if err != nil {
		return err
	}
	if p.server, err = issuer.NewServer(issuer.Options{Options: serving.Options{Policy: held, Certificate: cert, Tokens: &serving.Tokens{Issuer: b.provider.url, Audience: ProviderClient}}, Store: p.store, Keys: signing, Name: Purser}); err != nil {
		return err
	}
	port, err := keptText(filepath.Join(p.dir, "port"), func() string { return "0" })
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", port))
	if err != nil {
		return fmt.Errorf("the purser's port %s is taken: %w; stop what holds it (perhaps another lab in %s)", port, err, b.Dir)
	}
	b.wg.Go(func() { _ = p.server.Serve(listener) }) // it ends with the bay
	_, port, _ = net.SplitHostPort(listener.Addr().String())
	if err := os.WriteFile(filepath.Join(p.dir, "port"), []byte(port), 0o600); err != nil {
		return err
	}
	shown, err := cert.Get()
	if err != nil {
		return err
	}
	p.url, p.hostKey = "wss://127.0.0.1:"+port, line.FingerprintOf(shown)
	if err := b.trustAtWeir(signing); err != nil {
		return err
	}
	pilots := filepath.Join(b.Dir, "lab", "pilot.host")
	b.wg.Go(func() { b.pilot(pilots) })
	return nil
}

// close ends the issuer.
func (p *purser) close() {
	if p.server != nil {
		p.server.Close(context.Background())
	}
	_ = p.store.Close() // nothing of it waits to be written
}

// trustAtWeir has the weir trust the issuer, as enrolling would have left it.
func (b *Lab) trustAtWeir(signing *issuer.Keys) error {
	signers, _, err := signing.Get()
	if err != nil {
		return err
	}
	files := b.Host("weir").files
	files.put("/etc/ssh/"+lease.SignersFile, string(ssh.MarshalAuthorizedKey(signers[0].PublicKey())))
	files.put("/etc/ssh/"+lease.RevokedFile, string(lease.Revocations(nil, nil, 1, time.Now())))
	files.put("/etc/ssh/"+lease.ConfigFile, lease.Directives("/etc/ssh", "weir", false))
	files.put(serverConfig, "Include /etc/ssh/"+lease.ConfigFile+"\n"+usualServer)
	if _, err := b.purser.store.Trusted(b.ctx, "weir", ""); err == nil {
		return nil
	}
	return b.purser.store.Trust(b.ctx, store.Trusting{Name: "weir", Site: "reef", Tags: []string{"reef"}, Signers: []string{ssh.FingerprintSHA256(signers[0].PublicKey())}, By: "warden"},
		record.Done{What: "trusts", Issuer: Purser, Person: "warden", Machine: "weir", Why: "its tags: [reef]"})
}

// pilot looks after what waits for a second person, as a person would.
func (b *Lab) pilot(key string) {
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(b.purser.dir, "pilot.vouched")), Asker: nobodyThere{}})
	defer w.Close()
	client := &lease.Client{At: w.AtGateway}
	host, port, _ := net.SplitHostPort(strings.TrimPrefix(b.purser.url, "wss://"))
	h := route.Hop{Name: "issuer " + Purser, Destination: route.Destination{Host: host, Gateway: &route.Gateway{Issuer: true, URLs: []string{b.purser.url}, HostKeys: []string{b.purser.hostKey}}}, Credentials: route.Credentials{User: "pilot", Keys: []string{key}}, Limits: route.Limits{Keepalive: time.Minute}}
	fmt.Sscan(port, &h.Port)
	at := h.AsRoute()
	ask := time.After(pilotAsks)
	seen := map[string]time.Time{}
	wants := func() {
		b.wg.Go(func() {
			weir := route.Hop{Name: "weir", Credentials: route.Credentials{User: "root", Lease: &route.Lease{Issuer: Purser, Machine: "weir", Way: h}}}
			_, _ = client.Get(b.ctx, weir, "the float switch hangs, it has to be freed before the ebb", nil) // whatever comes of it
		})
	}
	for {
		select {
		case <-b.ctx.Done():
			return
		case <-ask:
			wants()
		case <-b.purser.asks:
			wants()
		case <-time.After(pilotLooks):
		}
		list, err := lease.Told(b.ctx, client, at, lease.Waits{})
		if err != nil {
			continue
		}
		for _, q := range list {
			if q.Mine || q.State != "waiting" {
				continue
			}
			if seen[q.ID].IsZero() {
				seen[q.ID] = time.Now()
			} else if time.Since(seen[q.ID]) > pilotTakes {
				_, _ = lease.Told(b.ctx, client, at, lease.Answer{ID: q.ID, Say: "agree"})
			}
		}
	}
}

// PilotAsks has the pilot ask for what the warden has to agree to, now.
func (b *Lab) PilotAsks() { b.purser.asks <- struct{}{} }

// nobodyThere answers no question.
type nobodyThere struct{}

func (nobodyThere) Identity(context.Context, step.IdentityQuestion) error { return step.Nobody{} }
func (nobodyThere) Passphrase(context.Context, step.PassphraseQuestion) ([]byte, error) {
	return nil, step.Nobody{}
}
func (nobodyThere) Answers(context.Context, step.ServerQuestions) ([]string, error) {
	return nil, step.Nobody{}
}
func (nobodyThere) Lend(context.Context, step.LendQuestion) error { return step.Nobody{} }

// The lab's machines' servers' configuration.
const (
	serverConfig = "/etc/ssh/sshd_config"
	usualServer  = "PasswordAuthentication no\n"
)

// put has a file stand somewhere with a text, in the place of one that is there.
func (t *tree) put(name, text string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.plant(name, text, 0o644)
}

// drop takes a file away, whoever's it is.
func (t *tree) drop(name string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.nodes[name] != nil {
		t.setLocked(name, nil)
	}
}

var principalsAt = regexp.MustCompile(`(?m)^AuthorizedPrincipalsCommand /bin/echo %u@(\S+)$`)

// leaseIn tells whether a host takes a lease for a login, as its configuration has it.
func (h *Host) leaseIn(meta ssh.ConnMetadata, cert *ssh.Certificate) (*ssh.Permissions, error) {
	conf := h.files.read("/etc/ssh/" + lease.ConfigFile)
	named := principalsAt.FindStringSubmatch(conf)
	if named == nil || !strings.Contains(h.files.read(serverConfig), "Include /etc/ssh/"+lease.ConfigFile) {
		return nil, errNo
	}
	signers := h.files.read("/etc/ssh/" + lease.SignersFile)
	checker := ssh.CertChecker{SupportedCriticalOptions: []string{"force-command", "source-address"}, IsUserAuthority: func(k ssh.PublicKey) bool {
		for line := range strings.Lines(signers) {
			if key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(line)); err == nil && bytes.Equal(key.Marshal(), k.Marshal()) {
				return true
			}
		}
		return false
	}}
	if !checker.IsUserAuthority(cert.SignatureKey) || cert.CertType != ssh.UserCert {
		return nil, errNo
	}
	return &ssh.Permissions{}, checker.CheckCert(lease.Principal(meta.User(), named[1]), cert)
}
