package issuer_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"database/sql"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/gate"
	"meatus/core/issuer"
	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/route"
	"meatus/core/service"
	"meatus/core/store"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
	"meatus/lab/labtest"
	"meatus/lab/servertest"
)

// place is an issuer of a test.
type place struct {
	t       testing.TB
	dir     string
	db      string
	store   *store.Leases
	server  *issuer.Server
	url     string
	hostKey string
	policy  string
	people  map[string]string // key files by person
}

// rules are those of a test: who of several persons may what at reef and tide-db.
const rules = `
group wardens runa bo
allow mira to reef as keeper for 30s called night-watch
allow mira to reef tide-db as root for 10m with reason end agreed-by wardens called with-a-yes
allow mira to tide-db as clerk for 1m with source may files
allow bo   to reef as keeper
deny  oskar to anything
enrols runa to mole whelk as *.bay.internal 10.61.0.0/16
enrols runa to anything
enrols bo
reads runa
`

// open makes an issuer with those rules and with some persons, two machines, and a store, "" for one of its own.
func open(t testing.TB, where string, change func(*issuer.Options)) *place {
	t.Helper()
	p := &place{t: t, dir: t.TempDir(), people: map[string]string{}}
	if p.db = where; where == "" {
		p.db = filepath.Join(p.dir, "issuer.db")
	}
	var err error
	if p.store, err = store.OpenLeases(t.Context(), p.db); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.store.Close() })
	text := ""
	for _, name := range []string{"mira", "runa", "bo", "oskar"} {
		text += p.person(name)
	}
	p.policy = filepath.Join(p.dir, "issuer.policy")
	p.write(text + rules)
	own := filepath.Join(p.dir, "issuer.pem")
	cert := &service.Certificate{CertFile: own, KeyFile: own}
	keys := &issuer.Keys{Dir: p.dir}
	if err := errors.Join(cert.Make("issuer"), keys.Make()); err != nil {
		t.Fatal(err)
	}
	file, err := service.OpenPolicy(policy.Issuer, p.policy, issuer.Known(t.Context(), p.store))
	if err != nil {
		t.Fatal(err)
	}
	following, stop := context.WithCancel(context.Background())
	t.Cleanup(stop)
	go file.Follow(following, slog.New(slog.DiscardHandler))
	for _, m := range []store.Trusting{{Name: "reef", Tags: []string{"reef"}, Instance: "i-7"}, {Name: "tide-db"}} {
		if err := p.store.Trust(t.Context(), m, record.Done{What: "trusts", Issuer: "test", Machine: m.Name}); err != nil {
			t.Fatal(err)
		}
	}
	o := issuer.Options{Options: service.Options{Policy: file, Certificate: cert, Log: slog.New(slog.DiscardHandler)}, Store: p.store, Keys: keys}
	if change != nil {
		change(&o)
	}
	if p.server, err = issuer.NewServer(o); err != nil {
		t.Fatal(err)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	served := make(chan error, 1)
	go func() { served <- p.server.Serve(l) }()
	t.Cleanup(func() { p.server.Close(context.Background()); <-served })
	c, err := cert.Get()
	if err != nil {
		t.Fatal(err)
	}
	p.url, p.hostKey = "wss://"+l.Addr().String(), line.FingerprintOf(c)
	return p
}

func (p *place) write(text string) {
	p.t.Helper()
	if err := os.WriteFile(p.policy, []byte(text), 0o600); err != nil {
		p.t.Fatal(err)
	}
}

// person makes a person's key, and is the line of the policy.
func (p *place) person(name string) string {
	p.t.Helper()
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		p.t.Fatal(err)
	}
	file := filepath.Join(p.dir, name+".pem")
	if err := keyfile.Write(file, key, keyfile.Wrapping{}); err != nil {
		p.t.Fatal(err)
	}
	p.people[name] = file
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		p.t.Fatal(err)
	}
	return "person " + name + " key " + ssh.FingerprintSHA256(s.PublicKey()) + "\n"
}

// client is one person at an issuer.
type client struct {
	*lease.Client
	t  testing.TB
	at route.Route
}

// as comes as a person.
func (p *place) as(name string) *client {
	p.t.Helper()
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(p.t.TempDir(), "vouched")), Asker: labtest.Yes{}})
	p.t.Cleanup(w.Close)
	host, port, _ := net.SplitHostPort(strings.TrimPrefix(p.url, "wss://"))
	h := route.Hop{Name: "issuer bay", Destination: route.Destination{Host: host, Gateway: &route.Gateway{Issuer: true, URLs: []string{p.url}, HostKeys: []string{p.hostKey}}}, Credentials: route.Credentials{User: "meatus", Keys: []string{p.people[name]}}, Limits: route.Limits{Keepalive: time.Minute}}
	fmt.Sscan(port, &h.Port)
	return &client{&lease.Client{At: w.AtGateway}, p.t, h.AsRoute()}
}

// get asks for a lease.
func (c *client) get(ctx context.Context, login, machine, reason string, waits func([]string)) (*lease.Held, error) {
	return c.Get(ctx, route.Hop{Name: machine, Credentials: route.Credentials{User: login, Lease: &route.Lease{Issuer: "bay", Machine: machine, Way: c.at.Hops[0]}}}, reason, waits)
}

// waiting are the askings that a person sees.
func (c *client) waiting() []lease.Waiting {
	c.t.Helper()
	list, err := lease.Told(c.t.Context(), c.Client, c.at, lease.Waits{})
	if err != nil {
		c.t.Fatal(err)
	}
	return list
}

func (c *client) answer(id, say string) error {
	_, err := lease.Told(c.t.Context(), c.Client, c.at, lease.Answer{ID: id, Say: say})
	return err
}

// record is what stands in the record, in lines.
func (p *place) record() string {
	p.t.Helper()
	list, err := p.store.LastEntries(p.t.Context(), 5000)
	if err != nil {
		p.t.Fatal(err)
	}
	var b strings.Builder
	for _, e := range list {
		var d record.Done
		if err := json.Unmarshal([]byte(e.Body), &d); err != nil {
			p.t.Fatal(err)
		}
		b.WriteString(d.Say() + "\n")
	}
	return b.String()
}

func TestALeaseIsWhatWasAskedFor(t *testing.T) {
	p := open(t, "", nil)
	mira := p.as("mira")
	held, err := mira.get(t.Context(), "keeper", "reef", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	cert := held.PublicKey().(*ssh.Certificate)
	if held.Rule != "rule night-watch" || held.Life != 30*time.Second || held.Shells || cert.ValidPrincipals[0] != "keeper@reef" || len(cert.ValidPrincipals) != 1 || cert.Serial != 1 {
		t.Errorf("%+v %+v", held, cert)
	}
	if got := mira.Held(); len(got) != 1 || got[0] != held {
		t.Errorf("%v", got)
	}
	files, err := mira.get(t.Context(), "clerk", "tide-db", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if cert := files.PublicKey().(*ssh.Certificate); cert.CriticalOptions["source-address"] != "127.0.0.1/32" || cert.CriticalOptions["force-command"] != "internal-sftp" || cert.Serial != 2 {
		t.Errorf("%+v", cert)
	}
	// An instance is known by its id, under whatever name the session has.
	h := route.Hop{Name: "other", Credentials: route.Credentials{User: "keeper", Lease: &route.Lease{Issuer: "bay", Machine: "other", Way: mira.at.Hops[0]}}}
	if _, err := mira.Get(t.Context(), h, "", nil); err == nil || !strings.Contains(err.Error(), "mira may not be keeper at other: no rule allows it") {
		t.Errorf("%v", err)
	}
	for name, c := range map[string]struct{ who, login, machine, say, could string }{
		"no rule":       {"mira", "root", "quay", "mira may not be root at quay: no rule allows it", "ask the author"},
		"another login": {"mira", "clerk", "reef", "mira may not be clerk at reef: no rule allows it", "mira may be keeper, root there"},
		"denied":        {"oskar", "keeper", "reef", "line 11 denies it", "ask the author"},
		"reason":        {"mira", "root", "reef", "rule with-a-yes wants a reason", ""},
		"of somebody":   {"bo", "root", "tide-db", "no rule allows it", "ask the author"},
	} {
		_, err := p.as(c.who).get(t.Context(), c.login, c.machine, "", nil)
		var no *lease.Refused
		if !errors.As(err, &no) || !strings.Contains(no.Say, c.say) || !strings.Contains(no.Could, c.could) || no.Reason != (name == "reason") {
			t.Errorf("%s: %v %+v", name, err, no)
		}
	}
	// A stranger is told nothing.
	p.person("nobody")
	_, err = p.as("nobody").get(t.Context(), "keeper", "reef", "", nil)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Cause != gate.NoKeyAccepted {
		t.Errorf("%v", err)
	}
	said := p.record()
	for _, want := range []string{"may be keeper at reef for 30s, lease 1; issuer.policy:", "may be clerk at tide-db for 1m0s, lease 2", "oskar (key SHA256:", "may not be keeper at reef; issuer.policy:11 denies it"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in\n%s", want, said)
		}
	}
	if _, err := p.store.Verify(t.Context(), record.Head{}); err != nil {
		t.Error(err)
	}
}

func TestASecondPersonAgrees(t *testing.T) {
	p := open(t, "", nil)
	mira, runa, bo, oskar := p.as("mira"), p.as("runa"), p.as("bo"), p.as("oskar")
	type outcome struct {
		held *lease.Held
		err  error
	}
	ask := func(ctx context.Context) (id string, done chan outcome) {
		t.Helper()
		told := make(chan []string, 1)
		done = make(chan outcome, 1)
		go func() {
			held, err := mira.get(ctx, "root", "tide-db", "the index is broken", func(who []string) { told <- who })
			done <- outcome{held, err}
		}()
		select {
		case who := <-told:
			if fmt.Sprint(who) != "[bo runa]" {
				t.Fatalf("%v", who)
			}
		case o := <-done:
			t.Fatalf("%+v", o)
		}
		list := runa.waiting()
		if len(list) != 1 || list[0].Person != "mira" || list[0].Reason != "the index is broken" || list[0].Mine || list[0].Rule != "rule with-a-yes" {
			t.Fatalf("%+v", list)
		}
		return list[0].ID, done
	}
	id, done := ask(t.Context())
	if list := mira.waiting(); len(list) != 1 || !list[0].Mine {
		t.Errorf("%+v", list)
	}
	if list := oskar.waiting(); len(list) != 0 {
		t.Errorf("%+v", list)
	}
	for who, c := range map[*client]string{mira: "agree", oskar: "agree", bo: "withdraw"} {
		if err := who.answer(id, c); err == nil || !strings.Contains(err.Error(), "may not answer") {
			t.Errorf("%s: %v", c, err)
		}
	}
	// Two agree at once: one answer holds.
	var both sync.WaitGroup
	errs := make([]error, 2)
	for i, who := range []*client{runa, bo} {
		both.Go(func() { errs[i] = who.answer(id, "agree") })
	}
	both.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Errorf("both or none agreed: %v", errs)
	}
	o := <-done
	if o.err != nil || !o.held.Shells || o.held.AgreedBy != "runa" && o.held.AgreedBy != "bo" {
		t.Fatalf("%+v", o)
	}
	// Declined, withdrawn by going away, and nobody's answer afterwards.
	id, done = ask(t.Context())
	if err := runa.answer(id, "decline"); err != nil {
		t.Error(err)
	}
	if o := <-done; o.err == nil || !strings.Contains(o.err.Error(), "runa declined") {
		t.Errorf("%+v", o)
	}
	ctx, cancel := context.WithCancel(t.Context())
	id, done = ask(ctx)
	cancel()
	if o := <-done; o.err == nil {
		t.Errorf("%+v", o)
	}
	await.Until(t, "it to be withdrawn", func() bool { return len(runa.waiting()) == 0 })
	if err := runa.answer(id, "agree"); err == nil {
		t.Error("somebody agreed to what was withdrawn")
	}
	id, done = ask(t.Context())
	if err := mira.answer(id, "withdraw"); err != nil {
		t.Error(err)
	}
	if o := <-done; o.err == nil || !strings.Contains(o.err.Error(), "withdrawn") {
		t.Errorf("%+v", o)
	}
	// What was agreed to is held against the policy again.
	id, done = ask(t.Context())
	text, _ := os.ReadFile(p.policy)
	p.write(strings.Replace(string(text), "group wardens runa bo", "group wardens bo", 1))
	await.Until(t, "the policy to be read", func() bool { return len(runa.waiting()) == 0 })
	if err := runa.answer(id, "agree"); err == nil {
		t.Error("one who may not agreed")
	}
	if err := bo.answer(id, "agree"); err != nil {
		t.Error(err)
	}
	if o := <-done; o.err != nil || o.held.AgreedBy != "bo" {
		t.Errorf("%+v", o)
	}
	said := p.record()
	for _, want := range []string{"asks for root at tide-db, and waits for a second person, reason: \"the index is broken\"", "bo agreed to it: mira as root at tide-db", "runa declined it", "mira withdrew it", "agreed by bo"} {
		if !strings.Contains(said, want) {
			t.Errorf("no %q in\n%s", want, said)
		}
	}
}

func TestNobodyAgreesInTime(t *testing.T) {
	p := open(t, "", func(o *issuer.Options) { o.Agreement = 300 * time.Millisecond })
	_, err := p.as("mira").get(t.Context(), "root", "reef", "why", nil)
	if err == nil || !strings.Contains(err.Error(), "nobody agreed within") {
		t.Errorf("%v", err)
	}
}

// raw asks for a lease as it stands, and returns the last state.
func (c *client) raw(w lease.Want) (st lease.State, err error) {
	ask, err := lease.Asked(w)
	if err != nil {
		return st, err
	}
	told, err := c.At(c.t.Context(), c.at, ask)
	if err != nil {
		return st, err
	}
	defer told.Close()
	d := json.NewDecoder(told)
	for {
		var next lease.State
		if err := d.Decode(&next); err != nil {
			if errors.Is(err, io.EOF) && (st.Certificate != "" || st.Refused != "") {
				return st, nil
			}
			return st, err
		}
		st = next
	}
}

// want is one that is new.
func want(t testing.TB, login, machine string) lease.Want {
	t.Helper()
	key, err := keyfile.Make("Ed25519", 0)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	return lease.Want{ID: rand.Text(), Login: login, Machine: machine, Key: base64.StdEncoding.EncodeToString(s.PublicKey().Marshal())}
}

func TestAskedTwiceItIsOneLease(t *testing.T) {
	p := open(t, "", nil)
	mira, bo := p.as("mira"), p.as("bo")
	w := want(t, "keeper", "reef")
	first, err := mira.raw(w)
	if err != nil || first.Serial != 1 {
		t.Fatalf("%+v %v", first, err)
	}
	again, err := mira.raw(w)
	if err != nil || again.Serial != 1 || !again.Ends.Equal(first.Ends) {
		t.Errorf("%+v %v", again, err)
	}
	other := want(t, "keeper", "reef")
	other.ID = w.ID
	for name, c := range map[string]struct {
		who *client
		w   lease.Want
	}{"with another key": {mira, other}, "by somebody else": {bo, w}} {
		if st, err := c.who.raw(c.w); err != nil || !strings.Contains(st.Refused, "asked before") {
			t.Errorf("%s: %+v %v", name, st, err)
		}
	}
	for name, change := range map[string]func(*lease.Want){
		"a key of another kind": func(w *lease.Want) { w.Key = "AAAAB3NzaC1yc2EAAAADAQABAAAAAQc=" },
		"no key":                func(w *lease.Want) { w.Key = "x" },
		"a certificate":         func(w *lease.Want) { w.Key = first.Certificate },
		"no login":              func(w *lease.Want) { w.Login = "" },
		"every login":           func(w *lease.Want) { w.Login = "*" },
		"two logins":            func(w *lease.Want) { w.Login = "keeper,root" },
		"a login elsewhere":     func(w *lease.Want) { w.Login = "keeper@tide-db" },
		"a short id":            func(w *lease.Want) { w.ID = "1" },
		"what no name holds":    func(w *lease.Want) { w.Machine = "reef\x1b[2J" },
		"a long machine":        func(w *lease.Want) { w.Machine = strings.Repeat("x", 300) },
	} {
		w := want(t, "keeper", "reef")
		change(&w)
		if st, err := mira.raw(w); err != nil || st.Refused == "" || st.Certificate != "" {
			t.Errorf("%s: %+v %v", name, st, err)
		}
	}
	for _, of := range []string{"{}", "[]", "{\"want\":7}", "null", `{"may":true,"held":true}`, `{"about":true,"leave":"reef"}`} {
		if told, err := mira.At(t.Context(), mira.at, line.OfIssuer{Of: json.RawMessage(of)}); err == nil {
			told.Close()
			t.Errorf("%s was answered", of)
		}
	}
}

func TestLeasesAreStopped(t *testing.T) {
	p := open(t, "", nil)
	mira := p.as("mira")
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err != nil {
		t.Fatal(err)
	}
	n, err := p.store.StopLeases(t.Context(), store.StopPerson, "mira", record.Done{Issuer: "test", By: "test", Why: "person mira"})
	if err != nil || n != 1 {
		t.Fatalf("%d %v", n, err)
	}
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err == nil || !strings.Contains(err.Error(), "leases of mira, or for keeper, are stopped") {
		t.Errorf("%v", err)
	}
	about, err := lease.Told(t.Context(), mira.Client, mira.at, lease.Introduce{})
	if err != nil || len(about) != 1 || about[0].Stops != 1 || about[0].Person != "mira" || about[0].Enrols || len(about[0].Revoked) < 100 {
		t.Errorf("%+v %v", about, err)
	}
	if err := p.store.Lift(t.Context(), store.StopPerson, "mira", record.Done{}); err != nil {
		t.Fatal(err)
	}
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err != nil {
		t.Error(err)
	}
	if held, err := lease.Told(t.Context(), mira.Client, mira.at, lease.Leases{}); err != nil || len(held) != 1 || held[0].Serial != 2 {
		t.Errorf("%+v %v", held, err)
	}
}

func TestMachinesAreEnrolledByWhoMay(t *testing.T) {
	p := open(t, "", nil)
	runa, mira := p.as("runa"), p.as("mira")
	host, err := os.ReadFile(p.people["bo"] + ".pub") // any key will do
	if err != nil {
		t.Fatal(err)
	}
	m := lease.Machine{Name: "mole", Tags: []string{"reef", "two words"}, HostKey: string(host), Names: []string{"mole.bay.internal"}}
	enrol := func(c *client, m lease.Machine) (lease.Enrolled, error) {
		told, err := lease.Told(t.Context(), c.Client, c.at, lease.Enrol{Machine: m})
		if err != nil || len(told) != 1 {
			return lease.Enrolled{}, err
		}
		return told[0], nil
	}
	if _, err := enrol(mira, m); err == nil || !strings.Contains(err.Error(), "may enrol no machine") {
		t.Errorf("%v", err)
	}
	told, err := enrol(runa, m)
	if err != nil || told.Known {
		t.Fatalf("%+v %v", told, err)
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(told.HostCertificate))
	cert, ok := key.(*ssh.Certificate)
	if err != nil || !ok || cert.CertType != ssh.HostCert || fmt.Sprint(cert.ValidPrincipals) != "[mole.bay.internal]" {
		t.Errorf("%+v %v", cert, err)
	}
	known, err := p.store.Trusted(t.Context(), "mole", "")
	if err != nil || fmt.Sprint(known.Tags) != "[reef]" || known.By != "runa" {
		t.Errorf("%+v %v", known, err)
	}
	for name, wrong := range map[string]lease.Machine{"no name": {}, "a pattern": {Name: "*"}, "a key that is none": {Name: "x", HostKey: "ssh-x AAAA"}, "a certificate": {Name: "x", HostKey: told.HostCertificate, Names: []string{"x"}}, "no hosts": {Name: "x", HostKey: string(host)}, "escapes": {Name: "x", Site: "\x1b[2J"}} {
		if _, err := enrol(runa, wrong); err == nil {
			t.Errorf("%s was enrolled", name)
		}
	}
	if again, err := enrol(runa, lease.Machine{Name: "mole"}); err != nil || !again.Known {
		t.Errorf("%+v %v", again, err)
	}
	for _, host := range []string{"tide-db", "127.0.0.1", "::1", "localhost", "*", "*.bay.internal", "a\u0000.bay.internal", "мole.bay.internal", "reef.elsewhere", "203.0.113.7", "0.0.0.0", "::ffff:10.61.0.1", ""} {
		m := m
		m.Names = []string{host}
		if _, err := enrol(runa, m); err == nil {
			t.Errorf("a certificate was made for %q", host)
		}
	}
	bos, err := os.ReadFile(p.people["mira"] + ".pub")
	if err != nil {
		t.Fatal(err)
	}
	whelk := lease.Machine{Name: "whelk", Tags: []string{"deep"}, HostKey: string(bos), Names: []string{"whelk", "10.61.7.1"}}
	if _, err := enrol(runa, whelk); err != nil {
		t.Error(err)
	}
	// Renewed, it keeps its tags, and is certified for the same hosts.
	before, err := p.store.Trusted(t.Context(), "whelk", "")
	if err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct {
		who  string
		key  []byte
		want bool
	}{"its key": {"runa", bos, true}, "another key": {"runa", host, false}, "somebody who may not": {"mira", bos, false}} {
		as := p.as(c.who)
		told, err := lease.Told(t.Context(), as.Client, as.at, lease.Renew{Machine: lease.Machine{Name: "whelk", HostKey: string(c.key)}})
		if (err == nil) != c.want || c.want && (len(told) != 1 || told[0].HostCertificate == "") {
			t.Errorf("renewing by %s: %+v %v", name, told, err)
		}
	}
	if after, err := p.store.Trusted(t.Context(), "whelk", ""); err != nil || fmt.Sprint(after) != fmt.Sprint(before) {
		t.Errorf("renewed it is %+v, and was %+v, %v", after, before, err)
	}
	// Nobody else has the name, by another key, nor a certificate for what another has.
	theirs := lease.Machine{Name: "whelk", HostKey: string(host), Names: []string{"whelk"}}
	if _, err := enrol(p.as("bo"), theirs); err == nil || !strings.Contains(err.Error(), "another machine was enrolled") {
		t.Errorf("somebody else took the name: %v", err)
	}
	m.Names = []string{"10.61.7.1"}
	if _, err := enrol(runa, m); err == nil || !strings.Contains(err.Error(), "which whelk has") {
		t.Errorf("an address of another machine: %v", err)
	}
	// What another key had is revoked, and so is what a machine had that is removed.
	whelk.HostKey = string(host)
	if _, err := enrol(runa, whelk); err != nil {
		t.Error(err)
	}
	if _, err := lease.Told(t.Context(), runa.Client, runa.at, lease.Leave{Name: "whelk"}); err != nil {
		t.Error(err)
	}
	about, err := lease.Told(t.Context(), runa.Client, runa.at, lease.Introduce{})
	if err != nil || len(about) != 1 || len(about[0].HostsRevoked) != 3 {
		t.Errorf("%+v %v", about, err)
	}
	told2 := make(chan []uint64, 1)
	mira.Revoked = func(signer string, serials []uint64) { told2 <- serials }
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err != nil {
		t.Error(err)
	} else if got := <-told2; fmt.Sprint(got) != fmt.Sprint(about[0].HostsRevoked) {
		t.Errorf("with a lease one is told of %v", got)
	}
	used := lease.Logins{Used: []lease.Used{{Machine: "reef", Serial: 99, Says: "never given"}}}
	if _, err := lease.Told(t.Context(), mira.Client, mira.at, used); err == nil {
		t.Error("anybody tells what was used")
	}
	if _, err := lease.Told(t.Context(), runa.Client, runa.at, lease.Leave{Name: "mole"}); err != nil {
		t.Error(err)
	}
	if _, err := p.store.Trusted(t.Context(), "mole", ""); !errors.Is(err, store.ErrUnknown) {
		t.Error(err)
	}
}

// What cannot be recorded is not granted, and a key that others may read signs nothing.
func TestNothingIsGrantedThatCannotBe(t *testing.T) {
	p := open(t, "", nil)
	mira := p.as("mira")
	raw, err := sql.Open("sqlite", p.db+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	if _, err := raw.Exec("CREATE TRIGGER full BEFORE INSERT ON entry BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END"); err != nil {
		t.Fatal(err)
	}
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err == nil || !strings.Contains(err.Error(), "store does not answer") {
		t.Errorf("%v", err)
	}
	if list, err := p.store.Leases(t.Context(), ""); err != nil || len(list) > 0 {
		t.Errorf("%v %v", list, err)
	}
	if _, err := raw.Exec("DROP TRIGGER full"); err != nil {
		t.Fatal(err)
	}
	if _, err := mira.get(t.Context(), "keeper", "reef", "", nil); err != nil {
		t.Error(err)
	}
	signing := filepath.Join(p.dir, issuer.SigningFile)
	if err := os.Chmod(signing, 0o644); err != nil {
		t.Fatal(err)
	}
	var blocked *keyfile.Blocked
	if _, err := issuer.NewServer(issuer.Options{Store: p.store, Keys: &issuer.Keys{Dir: p.dir}}); !errors.As(err, &blocked) {
		t.Errorf("it starts with a key that others may read: %v", err)
	}
}

// Two issuers of one database, many askings, one ends in the middle: whatever a lease was given for stands in the
// record once, and asked again at the other it is the same one.
func TestTwoIssuersOfOneDatabase(t *testing.T) {
	a := open(t, servertest.Postgres(t).URL, nil)
	b := open(t, a.db, nil)
	for name := range a.people {
		b.people[name] = a.people[name]
	}
	text, err := os.ReadFile(a.policy)
	if err != nil {
		t.Fatal(err)
	}
	b.write(string(text))
	await.Until(t, "the other policy", func() bool {
		_, err := b.as("mira").get(t.Context(), "keeper", "reef", "", nil)
		return err == nil
	})
	const many = 60
	wants := make([]lease.Want, many)
	states := make([]lease.State, many)
	var wg sync.WaitGroup
	at := []*client{a.as("mira"), b.as("mira")}
	for i := range wants {
		wants[i] = want(t, "keeper", "reef")
		wg.Go(func() { states[i], _ = at[i%2].raw(wants[i]) })
		if i == many/2 {
			a.server.Close(t.Context())
		}
	}
	wg.Wait()
	seen := map[uint64]bool{}
	for i := range wants {
		st, err := at[1].raw(wants[i])
		if err != nil || st.Serial == 0 || states[i].Serial != 0 && st.Serial != states[i].Serial || seen[st.Serial] {
			t.Errorf("%d: first %+v, again %+v %v", i, states[i].Serial, st, err)
		}
		seen[st.Serial] = true
	}
	said := b.record()
	for serial := range seen {
		if strings.Count(said, fmt.Sprintf(", lease %d;", serial)) != 1 {
			t.Errorf("lease %d does not stand in the record once", serial)
		}
	}
	if _, err := b.store.Verify(t.Context(), record.Head{}); err != nil {
		t.Error(err)
	}
}

// A signing key is changed: the new one is trusted beside the old one before it signs.
func TestTheSigningKeyIsChanged(t *testing.T) {
	p := open(t, "", nil)
	mira := p.as("mira")
	about := func() lease.About {
		t.Helper()
		list, err := lease.Told(t.Context(), mira.Client, mira.at, lease.Introduce{})
		if err != nil || len(list) != 1 {
			t.Fatalf("%v %v", list, err)
		}
		return list[0]
	}
	first := about().Signers
	keys := &issuer.Keys{Dir: p.dir}
	if err := keys.MakeNext(); err != nil {
		t.Fatal(err)
	}
	if err := keys.MakeNext(); err == nil {
		t.Error("a second one is made beside the next one")
	}
	await.Until(t, "both keys", func() bool { return len(about().Signers) == 2 })
	if got := about().Signers; got[0] != first[0] {
		t.Error("the next one signs already")
	}
	next := about().Signers[1]
	if left, err := keys.Change(t.Context(), p.store, false); !errors.Is(err, issuer.ErrNotTrusted) || len(left) != 2 {
		t.Errorf("it was changed before machines trust it: %v %v", left, err)
	}
	for _, name := range []string{"reef", "tide-db"} {
		print := func(line string) string {
			key, _, _, _, _ := ssh.ParseAuthorizedKey([]byte(line))
			return ssh.FingerprintSHA256(key)
		}
		if err := p.store.Carried(t.Context(), name, []string{print(first[0]), print(next)}, 0); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := keys.Change(t.Context(), p.store, false); err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the new key alone", func() bool { s := about().Signers; return len(s) == 1 && s[0] == next })
	held, err := mira.get(t.Context(), "keeper", "reef", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if got := held.PublicKey().(*ssh.Certificate).SignatureKey; keyText(got) != next {
		t.Error("the old one signs still")
	}
}

// The signing key may be held by an agent, which is asked for each signature.
func TestAnAgentHoldsTheSigningKey(t *testing.T) {
	ring := agent.NewKeyring()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err == nil {
		err = ring.Add(agent.AddedKey{PrivateKey: private})
	}
	if err != nil {
		t.Fatal(err)
	}
	held, err := ring.List()
	if err != nil {
		t.Fatal(err)
	}
	dir, err := os.MkdirTemp("", "agent") // a socket's path is short
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	socket := filepath.Join(dir, "s")
	l, err := net.Listen("unix", socket)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go agent.ServeAgent(ring, conn)
		}
	}()
	print := ssh.FingerprintSHA256(held[0])
	p := open(t, "", func(o *issuer.Options) { o.Keys = &issuer.Keys{Dir: o.Keys.Dir, Socket: socket, Print: print} })
	got, err := p.as("mira").get(t.Context(), "keeper", "reef", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if by := got.PublicKey().(*ssh.Certificate).SignatureKey; ssh.FingerprintSHA256(by) != print {
		t.Errorf("another key signed: %s", ssh.FingerprintSHA256(by))
	}
	l.Close() // what cannot be signed is not given
	if _, err := p.as("mira").get(t.Context(), "keeper", "reef", "", nil); err == nil {
		t.Error("it was signed without the agent")
	}
	if _, err := issuer.NewServer(issuer.Options{Store: p.store, Keys: &issuer.Keys{Dir: p.dir, Socket: socket, Print: print}}); err == nil {
		t.Error("it starts without the agent")
	}
}

func keyText(key ssh.PublicKey) string {
	return key.Type() + " " + base64.StdEncoding.EncodeToString(key.Marshal())
}

func TestASigningKeyThatOthersMayUseSignsNoMore(t *testing.T) {
	p := open(t, "", nil)
	mira := p.as("mira")
	signs := func() bool { _, err := mira.get(t.Context(), "keeper", "reef", "", nil); return err == nil }
	if !signs() {
		t.Fatal("it does not sign")
	}
	for _, mode := range []os.FileMode{0o620, 0o604} {
		os.Chmod(filepath.Join(p.dir, issuer.SigningFile), mode)
		await.Until(t, "it to sign no more", func() bool { return !signs() })
		os.Chmod(filepath.Join(p.dir, issuer.SigningFile), 0o600)
		await.Until(t, "it to sign again", signs)
	}
}

func TestThereIsAlwaysASigningKey(t *testing.T) {
	p := open(t, "", nil)
	keys := &issuer.Keys{Dir: p.dir}
	for range 20 {
		if err := keys.MakeNext(); err != nil {
			t.Fatal(err)
		}
		stop, failed := make(chan struct{}), make(chan error, 1)
		go func() {
			defer close(failed)
			for {
				select {
				case <-stop:
					return
				default:
				}
				if _, _, err := (&issuer.Keys{Dir: p.dir}).Get(); err != nil {
					failed <- err
					return
				}
			}
		}()
		_, err := keys.Change(t.Context(), p.store, true)
		close(stop)
		if gone := <-failed; err != nil || gone != nil {
			t.Fatalf("%v; %v", err, gone)
		}
	}
}

// What stands beside the record is held against it, too.
func TestVerifyingCoversLeasesAndAnswers(t *testing.T) {
	p := open(t, "", nil)
	if _, err := p.as("mira").get(t.Context(), "keeper", "reef", "", nil); err != nil {
		t.Fatal(err)
	}
	if _, err := p.store.Verify(t.Context(), record.Head{}); err != nil {
		t.Fatal(err)
	}
	raw, err := sql.Open("sqlite", p.db+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	for change, back := range map[string]string{
		"UPDATE lease SET login = 'root'":           "UPDATE lease SET login = 'keeper'",
		"UPDATE lease SET ends_at = ends_at + 1000": "UPDATE lease SET ends_at = ends_at - 1000",
		"UPDATE lease SET agreed_by = 'runa'":       "UPDATE lease SET agreed_by = ''",
		"UPDATE lease SET serial = 7":               "UPDATE lease SET serial = 1",
		"INSERT INTO asking (id, person, machine, login, reason, rule, origin, asked_at, expires_at, state, answerer) VALUES ('x', 'mira', 'reef', 'root', 'r', 'r', '', 1, 9999999999999, 'agreed', 'runa')": "DELETE FROM asking",
	} {
		if _, err := raw.Exec(change); err != nil {
			t.Fatal(err)
		}
		var tampered *record.Tampered
		if _, err := p.store.Verify(t.Context(), record.Head{}); !errors.As(err, &tampered) {
			t.Errorf("%s: %v", change, err)
		}
		if _, err := raw.Exec(back); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.store.Verify(t.Context(), record.Head{}); err != nil {
		t.Errorf("put back: %v", err)
	}
}

// An approval is for what was asked, with its reason.
func TestAnApprovalIsForItsReason(t *testing.T) {
	p := open(t, "", nil)
	a := store.Asking{ID: "an id that is long enough", Person: "mira", Machine: "reef", Login: "root", Reason: "the float hangs", Rule: "r"}
	if _, err := p.store.Ask(t.Context(), a, time.Hour, record.Done{}); err != nil {
		t.Fatal(err)
	}
	if err := p.store.Answer(t.Context(), a.ID, store.Agreed, "runa", record.Done{}); err != nil {
		t.Fatal(err)
	}
	a.Reason = "something else"
	if _, err := p.store.Ask(t.Context(), a, time.Hour, record.Done{}); !errors.Is(err, store.ErrTwice) {
		t.Errorf("asked for another reason: %v", err)
	}
	if _, err := p.store.Grant(t.Context(), store.Lease{Asking: a.ID, Person: "mira", Machine: "reef", Login: "root", Key: "SHA256:x", Reason: a.Reason, AgreedBy: "runa"}, time.Minute, record.Done{}); !errors.Is(err, store.ErrAnswered) {
		t.Errorf("granted for another reason: %v", err)
	}
}

// What a service tells of itself is for whoever names this machine by an address of its own.
func TestStatusIsForThisMachineAlone(t *testing.T) {
	p := open(t, "", nil)
	for host, want := range map[string]int{"127.0.0.1:9180": 200, "localhost": 200, "[::1]:9180": 200, "evil.example": 421, "127.0.0.1.evil.example:9180": 421, "203.0.113.7": 421} {
		r := httptest.NewRequest("GET", "/metrics", nil)
		r.Host = host
		w := httptest.NewRecorder()
		p.server.Status().ServeHTTP(w, r)
		if w.Code != want {
			t.Errorf("%s: %d", host, w.Code)
		}
	}
	// On a disk that takes nothing it is not ready.
	raw, err := sql.Open("sqlite", p.db+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	ready := func() int {
		r := httptest.NewRequest("GET", "/ready", nil)
		r.Host = "127.0.0.1"
		w := httptest.NewRecorder()
		p.server.Status().ServeHTTP(w, r)
		return w.Code
	}
	if got := ready(); got != 200 {
		t.Errorf("ready: %d", got)
	}
	if _, err := raw.Exec("CREATE TRIGGER full BEFORE UPDATE ON probe BEGIN SELECT RAISE(FAIL, 'database or disk is full'); END"); err != nil {
		t.Fatal(err)
	}
	if got := ready(); got == 200 {
		t.Error("it is ready on a full disk")
	}
}
