package walk_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
)

func newSigner(t *testing.T) (ssh.Signer, ed25519.PrivateKey) {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return s, key
}

// oldSigner is an RSA key that signs with SHA-1 alone, since the rest of what it could is
// hidden.
func oldSigner(t *testing.T) ssh.Signer {
	t.Helper()
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return struct{ ssh.Signer }{s}
}

// traveller walks to one server with keys of its own.
type traveller struct {
	*walk.Walker
	t      *testing.T
	dir    string
	record *vouch.Record
	inbox  *event.Inbox
	heard  []event.Event // and not looked at yet
	keys   []string
	public []ssh.PublicKey
}

func newTraveller(t *testing.T, keys int, p *person, record ...*vouch.Record) *traveller {
	t.Helper()
	tr := &traveller{t: t, dir: t.TempDir()}
	for i := range keys {
		signer, key := newSigner(t)
		block, err := ssh.MarshalPrivateKey(key, "")
		if err != nil {
			t.Fatal(err)
		}
		file := filepath.Join(tr.dir, fmt.Sprintf("key-%d.pem", i+1))
		if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
			t.Fatal(err)
		}
		tr.keys, tr.public = append(tr.keys, file), append(tr.public, signer.PublicKey())
	}
	if tr.record = vouch.Open(filepath.Join(tr.dir, vouch.FileName)); len(record) > 0 {
		tr.record = record[0]
	}
	tr.Walker = walk.New(walk.Config{Vouched: tr.record, Asker: p, Patience: 3 * time.Second})
	tr.inbox = tr.Events.Subscribe()
	t.Cleanup(tr.Close)
	return tr
}

func (tr *traveller) way(addr string) route.Route {
	return route.Route{Session: "odd", Hops: []route.Hop{{Name: "odd", Destination: route.Destination{Host: "odd.lantern.example", Port: 22, Dial: addr}, Credentials: route.Credentials{User: "keeper", Keys: tr.keys}, Limits: route.Limits{Keepalive: time.Minute}}}}
}

func (tr *traveller) walk(addr string) error {
	passage, err := tr.Walk(context.Background(), tr.way(addr))
	if err == nil {
		tr.t.Cleanup(passage.Close)
	}
	return err
}

// hear waits for an event of a kind.
func hear[E event.Event](tr *traveller) E {
	tr.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	for {
		for i, e := range tr.heard {
			if e, ok := e.(E); ok {
				tr.heard = tr.heard[i+1:]
				return e
			}
		}
		if tr.heard = tr.inbox.Take(ctx); tr.heard == nil {
			var none E
			tr.t.Fatalf("no %T came", none)
		}
	}
}

func TestKeysAreOfferedInOrderAndNotTooMany(t *testing.T) {
	var mu sync.Mutex
	var offered []string
	addr := oddServer(t, &ssh.ServerConfig{
		MaxAuthTries: 6,
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			mu.Lock()
			offered = append(offered, ssh.FingerprintSHA256(key))
			mu.Unlock()
			return nil, errors.New("no")
		},
	})
	tr := newTraveller(t, 8, &person{yes: true})
	var f *gate.Failure
	if err := tr.walk(addr); !errors.As(err, &f) || f.Cause != gate.NoKeyAccepted {
		t.Fatalf("%v", err)
	}
	mu.Lock()
	defer mu.Unlock()
	if len(offered) != 5 {
		t.Errorf("%d keys were offered to a server that gives up after six", len(offered))
	}
	for i, print := range offered {
		if print != ssh.FingerprintSHA256(tr.public[i]) {
			t.Errorf("key %d was not offered in its turn", i+1)
		}
	}
	detail := strings.Join(f.Detail, "\n")
	if !strings.Contains(detail, "1. key key-1.pem, SHA256:") || !strings.Contains(detail, "5. key key-5.pem, SHA256:") || !strings.Contains(detail, "3 more keys were not offered") {
		t.Errorf("told %q", detail)
	}
	var refused *login.LoginRefused
	if !errors.As(err(f), &refused) || len(refused.Tries) != 5 || f.Remedy.Act != gate.Choose {
		t.Errorf("refused %+v", refused)
	}
}

func err(f *gate.Failure) error { return f }

func TestTwoKeysAndAPasswordAsTheServerDemands(t *testing.T) {
	tr := newTraveller(t, 3, &person{yes: true, answers: []string{"ebb"}})
	is := func(n int, key ssh.PublicKey) bool { return string(key.Marshal()) == string(tr.public[n].Marshal()) }
	password := ssh.ServerAuthCallbacks{PasswordCallback: func(_ ssh.ConnMetadata, p []byte) (*ssh.Permissions, error) {
		if string(p) != "ebb" {
			return nil, errors.New("no")
		}
		return nil, nil
	}}
	second := ssh.ServerAuthCallbacks{PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
		if !is(2, key) {
			return nil, errors.New("no")
		}
		return nil, &ssh.PartialSuccessError{Next: password}
	}}
	addr := oddServer(t, &ssh.ServerConfig{
		BannerCallback: func(ssh.ConnMetadata) string { return "Only \x1b[31mkeepers\x1b[0m\nof the bay\x07" },
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if !is(0, key) {
				return nil, errors.New("no")
			}
			return nil, &ssh.PartialSuccessError{Next: second}
		},
	})
	if err := tr.walk(addr); err != nil {
		t.Fatal(err)
	}
	in := hear[login.LoggedIn](tr)
	if in.Banner != "Only [31mkeepers[0m\nof the bay" || in.Key != keyfile.Fingerprint(tr.public[2]) || in.User != "keeper" {
		t.Errorf("logged in: %+v", in)
	}
}

func TestABannerOfTenMegabytesIsCutAndHarmsNothing(t *testing.T) {
	part := strings.Repeat("the tide \x1b]0;owned\x07 ", 10_000)
	sent := 0
	addr := oddServer(t, &ssh.ServerConfig{
		NoClientAuth: true,
		PreAuthConnCallback: func(c ssh.ServerPreAuthConn) {
			for sent < 10<<20 {
				if c.SendAuthBanner(part) != nil {
					return
				}
				sent += len(part)
			}
		},
	})
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(addr); err != nil {
		t.Fatal(err)
	}
	if in := hear[login.LoggedIn](tr); len(in.Banner) > 4096 || strings.ContainsAny(in.Banner, "\x1b\x07") || !strings.HasPrefix(in.Banner, "the tide") {
		t.Errorf("banner of %d bytes: %.60q", len(in.Banner), in.Banner)
	}
	if sent < 10<<20 {
		t.Errorf("the server could send %d bytes only", sent)
	}
}

// certify signs a certificate for a key.
func certify(t *testing.T, by ssh.Signer, key ssh.PublicKey, kind uint32, names []string, until time.Time) *ssh.Certificate {
	t.Helper()
	cert := &ssh.Certificate{Key: key, CertType: kind, KeyId: "of the bay", ValidPrincipals: names, ValidAfter: uint64(time.Now().Add(-time.Hour).Unix()), ValidBefore: uint64(until.Unix())}
	if err := cert.SignCert(rand.Reader, by); err != nil {
		t.Fatal(err)
	}
	return cert
}

func TestACertificateIsOfferedBeforeItsKey(t *testing.T) {
	authority, _ := newSigner(t)
	checker := &ssh.CertChecker{IsUserAuthority: func(k ssh.PublicKey) bool {
		return string(k.Marshal()) == string(authority.PublicKey().Marshal())
	}}
	addr := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: checker.Authenticate})
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(addr); err == nil {
		t.Fatal("let in without a certificate")
	}
	write := func(names []string, until time.Time) {
		cert := certify(t, authority, tr.public[0], ssh.UserCert, names, until)
		if err := os.WriteFile(tr.keys[0]+"-cert.pub", ssh.MarshalAuthorizedKey(cert), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	keyGate := func() gate.Gate { return route.KeyGate(tr.way(addr).Hops[0], route.KeySheets{}) }
	write([]string{"warden"}, time.Now().Add(time.Hour))
	if g := keyGate(); g.Verdict != gate.Ajar || !strings.Contains(g.Reason, "for warden, not for keeper") {
		t.Errorf("a certificate for another login: %+v", g)
	}
	write([]string{"keeper"}, time.Now().Add(-time.Minute))
	if g := keyGate(); g.Verdict != gate.Ajar || !strings.Contains(g.Reason, "ended on") {
		t.Errorf("an old certificate: %+v", g)
	}
	write([]string{"keeper"}, time.Now().Add(time.Hour))
	if g := keyGate(); g.Verdict != gate.Open || !strings.Contains(g.Seen, "signed by "+ssh.FingerprintSHA256(authority.PublicKey())) {
		t.Errorf("a good certificate: %+v", g)
	}
	if err := tr.walk(addr); err != nil {
		t.Fatal(err)
	}
	if in := hear[login.LoggedIn](tr); in.Key != keyfile.Fingerprint(tr.public[0]) {
		t.Errorf("in with %s", in.Key)
	}
}

// certServer shows a host certificate.
func certServer(t *testing.T, cert *ssh.Certificate, key ssh.Signer) string {
	t.Helper()
	signer, err := ssh.NewCertSigner(cert, key)
	if err != nil {
		t.Fatal(err)
	}
	return listener(t, func(conn net.Conn) {
		config := &ssh.ServerConfig{NoClientAuth: true}
		config.AddHostKey(signer)
		if c, _, requests, err := ssh.NewServerConn(conn, config); err == nil {
			go ssh.DiscardRequests(requests)
			c.Wait()
		}
	})
}

func TestAHostsCertificateHoldsForItsNameAlone(t *testing.T) {
	authority, _ := newSigner(t)
	stranger, _ := newSigner(t)
	key, _ := newSigner(t)
	old := oldSigner(t)
	for _, c := range []struct {
		what    string
		by      ssh.Signer
		names   []string
		until   time.Duration
		pattern string
		ok      bool
	}{
		{"good", authority, []string{"odd.lantern.example"}, time.Hour, "*.lantern.example", true},
		{"for another host", authority, []string{"quay.lantern.example"}, time.Hour, "*.lantern.example", false},
		{"ended", authority, []string{"odd.lantern.example"}, -time.Minute, "*.lantern.example", false},
		{"signed by a stranger", stranger, []string{"odd.lantern.example"}, time.Hour, "*.lantern.example", false},
		{"for no host by name", authority, nil, time.Hour, "*.lantern.example", false},
		{"signed with SHA-1", old, []string{"odd.lantern.example"}, time.Hour, "*.lantern.example", false},
	} {
		addr := certServer(t, certify(t, c.by, key.PublicKey(), ssh.HostCert, c.names, time.Now().Add(c.until)), key)
		tr := newTraveller(t, 1, &person{}) // who says yes to nothing
		for _, by := range []ssh.Signer{authority, old} {
			if _, err := tr.record.Trust(c.pattern, string(ssh.MarshalAuthorizedKey(by.PublicKey())), time.Now()); err != nil {
				t.Fatal(err)
			}
		}
		err := tr.walk(addr)
		var f *gate.Failure
		if (err == nil) != c.ok || !c.ok && (!errors.As(err, &f) || f.Gate != gate.Identity || len(f.Detail) == 0) {
			t.Errorf("%s: %v", c.what, err)
		}
	}
}

// announcer lets everybody in and announces host keys it can prove, or cannot.
// Each of hears is told what came of the announcement: "asked" where the client wants
// proof, "passed over" where it did not for many round trips.
func announcer(t *testing.T, main ssh.Signer, further []ssh.Signer, lie bool, hears ...chan string) string {
	t.Helper()
	return listener(t, func(conn net.Conn) {
		config := &ssh.ServerConfig{NoClientAuth: true}
		config.AddHostKey(main)
		c, channels, requests, err := ssh.NewServerConn(conn, config)
		if err != nil {
			return
		}
		go func() {
			for range channels {
			}
		}()
		var list []byte
		for _, s := range append([]ssh.Signer{main}, further...) {
			list = append(list, ssh.Marshal(struct{ K []byte }{s.PublicKey().Marshal()})...)
		}
		go func() {
			for r := range requests {
				if r.Type != "hostkeys-prove-00@openssh.com" {
					r.Reply(false, nil)
					continue
				}
				for _, h := range hears {
					h <- "asked"
				}
				var answer []byte
				for _, s := range further {
					session := c.SessionID()
					if lie {
						session = []byte("another session")
					}
					sig, _ := s.Sign(rand.Reader, ssh.Marshal(struct {
						R    string
						S, K []byte
					}{r.Type, session, s.PublicKey().Marshal()}))
					answer = append(answer, ssh.Marshal(struct{ S []byte }{ssh.Marshal(sig)})...)
				}
				r.Reply(true, answer)
			}
		}()
		c.SendRequest("hostkeys-00@openssh.com", false, list)
		for range 50 {
			c.SendRequest("here@lantern.example", true, nil)
		}
		for _, h := range hears {
			h <- "passed over"
		}
		c.Wait()
	})
}

func TestAnnouncedHostKeysAreRecordedOnceProven(t *testing.T) {
	main, _ := newSigner(t)
	a, _ := newSigner(t)
	b, _ := newSigner(t)
	tr := newTraveller(t, 1, &person{yes: true})
	addr := announcer(t, main, []ssh.Signer{a, b}, false)
	if err := tr.walk(addr); err != nil {
		t.Fatal(err)
	}
	learned := hear[login.Learned](tr)
	of, err := tr.record.Of(vouch.At{Host: "odd.lantern.example", Port: 22})
	if err != nil || len(of) != 3 || len(learned.Keys) != 2 {
		t.Fatalf("learned %q, vouched %+v, %v", learned.Keys, of, err)
	}
	if of[0].How != "" || of[1].How != vouch.Announced || of[1].SHA256 != ssh.FingerprintSHA256(a.PublicKey()) {
		t.Errorf("vouched %+v", of)
	}
}

func TestAProofWithSHA1IsNone(t *testing.T) {
	main, _ := newSigner(t)
	old := oldSigner(t)
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(announcer(t, main, []ssh.Signer{old}, false)); err != nil {
		t.Fatal(err)
	}
	if learned := hear[login.Learned](tr); len(learned.Keys) != 0 || len(learned.Unproven) != 1 {
		t.Errorf("learned %+v", learned)
	}
	if of, err := tr.record.Of(vouch.At{Host: "odd.lantern.example", Port: 22}); err != nil || len(of) != 1 {
		t.Errorf("vouched %+v, %v", of, err)
	}
}

func TestAnAnnouncedKeyVouchesForNoOther(t *testing.T) {
	main, _ := newSigner(t)
	a, _ := newSigner(t)
	planted, _ := newSigner(t)
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(announcer(t, main, []ssh.Signer{a}, false)); err != nil {
		t.Fatal(err)
	}
	hear[login.Learned](tr)
	// Somebody has only the announced key: it lets him in, and he can announce nothing.
	again := newTraveller(t, 1, &person{}, tr.record)
	hears := make(chan string, 2)
	if err := again.walk(announcer(t, a, []ssh.Signer{planted}, false, hears)); err != nil {
		t.Fatal(err)
	}
	passed := hear[walk.Passed](again)
	for passed.Gate.Kind != gate.Identity {
		passed = hear[walk.Passed](again)
	}
	if passed.Gate.Verdict != gate.Ajar || !strings.Contains(passed.Gate.Reason, "nobody compared this key") {
		t.Errorf("an announced key: %+v", passed.Gate)
	}
	at := vouch.At{Host: "odd.lantern.example", Port: 22}
	if came := <-hears; came != "passed over" {
		t.Errorf("its announcement is %s about", came)
	}
	if of, err := tr.record.Of(at); err != nil || len(of) != 2 {
		t.Errorf("vouched %+v, %v", of, err)
	}
	// The host itself no longer names it: it goes.
	third := newTraveller(t, 1, &person{}, tr.record)
	if err := third.walk(announcer(t, main, nil, false)); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the key to go", func() bool { of, err := tr.record.Of(at); return err == nil && len(of) == 1 })
}

// channelConn is a channel as a connection, with the addresses and deadlines of the one it
// goes over.
type channelConn struct {
	ssh.Channel
	net.Conn
}

func (c channelConn) Read(p []byte) (int, error)  { return c.Channel.Read(p) }
func (c channelConn) Write(p []byte) (int, error) { return c.Channel.Write(p) }
func (c channelConn) Close() error                { return c.Channel.Close() }

func TestWhatSpeaksAgainstAFirstVisitIsSaid(t *testing.T) {
	key, _ := newSigner(t)
	server := func() string {
		return listener(t, func(conn net.Conn) {
			config := &ssh.ServerConfig{NoClientAuth: true}
			config.AddHostKey(key)
			c, channels, requests, err := ssh.NewServerConn(conn, config)
			if err != nil {
				return
			}
			go ssh.DiscardRequests(requests)
			for ch := range channels { // it leads back to itself whatever is asked for
				channel, requests, err := ch.Accept()
				if err != nil {
					continue
				}
				go ssh.DiscardRequests(requests)
				go func() {
					inner := &ssh.ServerConfig{NoClientAuth: true}
					inner.AddHostKey(key)
					ssh.NewServerConn(channelConn{channel, conn}, inner)
				}()
			}
			c.Wait()
		})
	}
	p := &person{}
	tr := newTraveller(t, 1, p)
	if err := tr.record.Accept(vouch.At{Host: "odd.lantern.example", Port: 22}, key.PublicKey(), "", time.Now()); err != nil {
		t.Fatal(err)
	}
	if _, err := tr.record.Trust("10.61.*", string(ssh.MarshalAuthorizedKey(key.PublicKey())), time.Now()); err != nil {
		t.Fatal(err)
	}
	r := tr.way(server())
	r.Hops = append(r.Hops, route.Hop{Name: "tide-db", Destination: route.Destination{Host: "10.61.4.20", Port: 22, Way: "via odd"}, Credentials: route.Credentials{User: "keeper", Keys: tr.keys}, Limits: route.Limits{Keepalive: time.Minute}})
	_, err := tr.Walk(context.Background(), r)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Hop != "tide-db" || f.Cause != gate.IdentityUnknown {
		t.Fatalf("got %v", err)
	}
	said := strings.Join(f.Detail, "\n")
	for _, want := range []string{"this is the key of odd, a hop before it", "a signing key is vouched for hosts like 10.61.*", "the same key is vouched for odd.lantern.example:22 since"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is not said:\n%s", want, said)
		}
	}
}

func TestKeysThatAreNotProvenAreNot(t *testing.T) {
	main, _ := newSigner(t)
	a, _ := newSigner(t)
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(announcer(t, main, []ssh.Signer{a}, true)); err != nil {
		t.Fatal(err)
	}
	if learned := hear[login.Learned](tr); len(learned.Keys) != 0 || len(learned.Unproven) != 1 {
		t.Errorf("learned %+v", learned)
	}
	if of, err := tr.record.Of(vouch.At{Host: "odd.lantern.example", Port: 22}); err != nil || len(of) != 1 {
		t.Errorf("vouched %+v, %v", of, err)
	}
}

func TestAKnockGoesNoFurtherThanTheIntroduction(t *testing.T) {
	b := openBay(t, nil)
	b.mendTide()
	before := b.Lab.Host("tide-db").Logins()
	gates := func(depth walk.Depth) []gate.Verdict {
		report := b.Touch(context.Background(), b.route("tide-db"), walk.Look{Depth: depth}).Report
		var all []gate.Verdict
		for _, g := range report.Hops[1].Gates {
			all = append(all, g.Verdict)
		}
		return all
	}
	o, u := gate.Open, gate.Untried
	if got := gates(walk.Here); !slices.Equal(got, []gate.Verdict{u, u, u, o, u, u}) || len(b.Links()) != 0 {
		t.Errorf("here: %v, %d links", got, len(b.Links()))
	}
	if got := gates(walk.Knock); !slices.Equal(got, []gate.Verdict{o, o, u, o, u, u}) {
		t.Errorf("knock: %v", got)
	}
	if b.Lab.Host("tide-db").Logins() != before {
		t.Error("a knock logged in")
	}
	report := b.Touch(context.Background(), b.route("gauge-3"), walk.Look{Depth: walk.Knock}).Report
	if g, at := report.Worst(); g.Kind != gate.Port || g.Verdict != gate.Shut || at != 1 {
		t.Errorf("a closed port: %+v at %d", g, at)
	}
}

func TestKeysUnlockedBeforeAreOfferedBehindTheSessionsOwn(t *testing.T) {
	b := openBay(t, nil)
	p, err := b.Walk(context.Background(), b.route("survey-web")) // whose key is locked
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
	inbox := b.Events.Subscribe()
	r := b.route("survey-web")
	r.Session, r.Hops[1].Keys = "again", nil
	if p, err = b.Walk(context.Background(), r); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	for _, e := range inbox.Take(context.Background()) {
		if passed, ok := e.(walk.Passed); ok && passed.Hop == 1 && passed.Gate.Kind == gate.Login && !strings.Contains(passed.Gate.Seen, "unlocked before, SHA256:") {
			t.Errorf("in by %q", passed.Gate.Seen)
		}
	}
}

func TestAQuietCheckAsksNobody(t *testing.T) {
	b := openBay(t, func(c *walk.Config) { c.Vouched = vouch.Open(filepath.Join(t.TempDir(), vouch.FileName)) }) // nobody is vouched for
	p := b.person
	report := b.Touch(context.Background(), b.route("gauge-1"), walk.Look{Depth: walk.Identity, Quiet: true}).Report
	if g, at := report.Worst(); at != 0 || g.Kind != gate.Identity || g.Verdict != gate.Shut || len(p.identities) != 0 {
		t.Errorf("quietly: %+v at %d, %d asked", g, at, len(p.identities))
	}
	report = b.Touch(context.Background(), b.route("gauge-1"), walk.Look{Depth: walk.Identity}).Report
	if len(p.identities) == 0 {
		t.Errorf("aloud: %+v, %d asked", report, len(p.identities))
	}
}

// gotIn remembers one login.
type gotIn route.Login

func (g gotIn) Last(string, int, string) (route.Login, bool) { return route.Login(g), true }

func TestWhyALoginIsRefusedIsRankedByWhatIsKnown(t *testing.T) {
	addr := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, errors.New("no") }})
	tr := newTraveller(t, 1, &person{yes: true})
	print := ssh.FingerprintSHA256(tr.public[0])
	user, key := "user = \"keeper\"\n", fmt.Sprintf("key = %q\n", tr.keys[0])
	session := fmt.Sprintf("[session.odd]\nsite = \"reef\"\nhost = \"odd.lantern.example\"\ndial = %q\n", addr)
	for what, c := range map[string]struct {
		before route.Logins
		text   string
		first  string
	}{
		"all of it the session's own":  {nil, session + user + key, "most likely first: the key is not authorized for that account"},
		"a login from a site":          {nil, session + key + "[site.reef]\n" + user, "the user name is probably wrong: keeper comes from site reef"},
		"a key that opens others":      {nil, session + user + "[site.reef]\n" + key, "the user name is probably wrong"},
		"it got in before by this key": {gotIn{Key: print, When: time.Now()}, session + user + key, "something changed there since"},
		"it got in before by another":  {gotIn{Key: "SHA256:other", When: time.Now()}, session + user + key, "another key is likely needed"},
	} {
		w := walk.New(walk.Config{Vouched: tr.record, Asker: &person{yes: true}, Patience: 3 * time.Second, Logins: c.before})
		t.Cleanup(w.Close)
		r, err := route.Planner{Source: book.Parse("f", []byte(c.text)), Dir: tr.dir}.Plan("odd")
		if err != nil {
			t.Fatal(err)
		}
		_, err = w.Walk(context.Background(), r)
		var f *gate.Failure
		if !errors.As(err, &f) || !strings.HasPrefix(f.Remedy.Say, c.first) || !strings.Contains(f.Remedy.Say, "home folder") {
			t.Errorf("%s: %v", what, err)
		}
	}
}

// Where a certificate is refused, its time, its principals and its source address are what is told, and no other key.
func TestARefusedCertificateIsNotCuredByAnotherKey(t *testing.T) {
	addr := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, errors.New("no") }})
	tr := newTraveller(t, 1, &person{yes: true})
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	cert := &ssh.Certificate{Key: tr.public[0], CertType: ssh.UserCert, KeyId: "tide", ValidPrincipals: []string{"harbour"}, ValidAfter: uint64(time.Now().Add(-time.Minute).Unix()), ValidBefore: uint64(time.Now().Add(time.Hour).Unix()),
		Permissions: ssh.Permissions{CriticalOptions: map[string]string{"source-address": "203.0.113.7/32"}}}
	if err := cert.SignCert(rand.Reader, signer); err != nil {
		t.Fatal(err)
	}
	beside := filepath.Join(tr.dir, tr.keys[0]+"-cert.pub")
	if filepath.IsAbs(tr.keys[0]) {
		beside = tr.keys[0] + "-cert.pub"
	}
	if err := os.WriteFile(beside, ssh.MarshalAuthorizedKey(cert), 0o600); err != nil {
		t.Fatal(err)
	}
	w := walk.New(walk.Config{Vouched: tr.record, Asker: &person{yes: true}, Patience: 3 * time.Second, Logins: gotIn{Key: "SHA256:other", When: time.Now()}})
	t.Cleanup(w.Close)
	text := fmt.Sprintf("[session.odd]\nhost = \"odd.lantern.example\"\ndial = %q\nuser = \"keeper\"\nkey = %q\n", addr, tr.keys[0])
	r, err := route.Planner{Source: book.Parse("f", []byte(text)), Dir: tr.dir}.Plan("odd")
	if err != nil {
		t.Fatal(err)
	}
	_, err = w.Walk(context.Background(), r)
	var f *gate.Failure
	if !errors.As(err, &f) || strings.Contains(f.Remedy.Say, "another key") {
		t.Fatalf("%+v", err)
	}
	for _, want := range []string{"clock", "harbour", "203.0.113.7/32", "trust the CA that signed it"} {
		if !strings.Contains(f.Remedy.Say, want) {
			t.Errorf("%q does not tell of %q", f.Remedy.Say, want)
		}
	}
}

func TestAServerThatSaysYesToAnyKeyProvesNothing(t *testing.T) {
	addr := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }})
	tr := newTraveller(t, 2, &person{yes: true})
	answers, err := tr.WouldTake(context.Background(), tr.way(addr), tr.public)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Gate != gate.Login || answers != nil || !strings.Contains(err.Error(), "says that it accepts a key") {
		t.Errorf("%v, %v", answers, err)
	}
}

func TestAServerIsAskedWhichKeysItWouldTake(t *testing.T) {
	var mu sync.Mutex
	logins := 0
	tr := newTraveller(t, 9, &person{yes: true})
	good := map[string]bool{string(tr.public[1].Marshal()): true, string(tr.public[3].Marshal()): true}
	addr := oddServer(t, &ssh.ServerConfig{
		MaxAuthTries: 6,
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			if !good[string(key.Marshal())] {
				return nil, errors.New("no")
			}
			return nil, nil
		},
		AuthLogCallback: func(_ ssh.ConnMetadata, _ string, err error) {
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				logins++
			}
		},
	})
	answers, err := tr.WouldTake(context.Background(), tr.way(addr), tr.public)
	if err != nil {
		t.Fatal(err)
	}
	var takes []int
	for i, a := range answers {
		if a.Takes {
			takes = append(takes, i)
		}
	}
	if !slices.Equal(takes, []int{1, 3}) || len(answers) != 6 {
		t.Errorf("asked about %d, it would take %v", len(answers), takes)
	}
	mu.Lock()
	defer mu.Unlock()
	if logins != 0 || len(tr.Links()) != 0 {
		t.Errorf("%d logins, %d links", logins, len(tr.Links()))
	}
}
