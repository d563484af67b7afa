package issuer

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"sync/atomic"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/record"
	"meatus/core/sanitize"
	"meatus/core/service"
	"meatus/core/store"
)

// Options are what an issuer works with. Store and Keys are needed.
type Options struct {
	service.Options
	Store     *store.Leases
	Keys      *Keys
	Name      string        // in the record and in metrics; made where ""
	Agreement time.Duration // how long a second person may take; ten minutes where 0
}

// Bounds of an issuer.
const (
	storeTime = 10 * time.Second // for one question to the store
	agreement = 10 * time.Minute
	maxReason = 300 // bytes
	maxUsed   = 2000
)

// Server is an issuer.
type Server struct {
	*service.Service
	o       Options
	counted struct{ granted, asked atomic.Int64 }
	changed changes
}

// NewServer returns a server that serves nobody yet. It fails where its keys cannot be used.
func NewServer(o Options) (*Server, error) {
	if _, _, err := o.Keys.Get(); err != nil {
		return nil, err
	}
	if o.Name == "" {
		o.Name = rand.Text()[:8]
	}
	if o.Agreement == 0 {
		o.Agreement = agreement
	}
	s := &Server{o: o}
	o.Options.Called = "issuer"
	s.Service = service.New(o.Options, s.answer)
	return s, nil
}

// Serve serves until the server is closed. It takes the listener over.
func (s *Server) Serve(l net.Listener) error {
	s.Go(s.follow)
	return s.Service.Serve(l)
}

// Close ends the server: what waits for a second person may be asked again elsewhere.
func (s *Server) Close(context.Context) {
	s.Stop()
	s.End()
}

// Status answers how the issuer is, with metrics of its own (docs/leases.md lists the names). It is for this machine
// alone.
func (s *Server) Status() http.Handler {
	return s.Service.Status(s.o.Store.Ping, func(m service.Metrics) {
		m.Counter("asked_total", s.counted.asked.Load())
		m.Counter("granted_total", s.counted.granted.Load())
		m.Is("signing_key_usable", s.o.Keys.Wrong() == nil)
	})
}

// follow looks at who is here when the policy changes, and wakes what waits when the store changes.
func (s *Server) follow() {
	changed := s.o.Store.Watch(s.Context())
	for {
		select {
		case <-s.Context().Done():
			return
		case <-changed:
			s.changed.tell()
		case <-s.Policy.Changed():
			s.Forget()
			s.changed.tell()
		}
	}
}

// answer answers what a person asks.
func (s *Server) answer(v *service.Visitor, near *yamux.Stream, ask line.Message) {
	ctx, cancel := context.WithTimeout(s.Context(), storeTime)
	defer cancel()
	switch ask := ask.(type) {
	case line.Entries:
		s.record(ctx, v, near, ask.Most)
	case line.OfIssuer:
		q, err := lease.ReadQuestion(ask)
		if err != nil {
			s.refuseUnknown(near)
			return
		}
		s.question(ctx, v, near, q)
	default:
		s.refuseUnknown(near)
	}
}

func (s *Server) refuseUnknown(near *yamux.Stream) {
	s.Refuse(near, &line.Refusal{Reason: line.NotThere, Say: "what is asked is nothing that an issuer answers"})
}

// question answers one that [lease.ReadQuestion] has read.
func (s *Server) question(ctx context.Context, v *service.Visitor, near *yamux.Stream, q any) {
	switch q := q.(type) {
	case lease.Want:
		s.want(v, near, q)
	case lease.Rights:
		s.tell(near, v, "may")(s.may(ctx, v))
	case lease.Leases:
		s.tell(near, v, "held")(s.held(ctx, v))
	case lease.Waits:
		s.tell(near, v, "waiting")(s.waiting(ctx, v))
	case lease.Answer:
		s.tell(near, v, "answer")(nil, s.agree(ctx, v, q))
	case lease.Introduce:
		s.tell(near, v, "about")(s.about(ctx, v))
	case lease.Would:
		s.tell(near, v, "would")(s.would(v, q))
	case lease.Enrol:
		s.tell(near, v, "enrol")(s.enrol(ctx, v, q.Machine))
	case lease.Renew:
		s.tell(near, v, "renew")(s.renew(ctx, v, q.Machine))
	case lease.Carried:
		s.tell(near, v, "carried")(nil, s.carried(ctx, v, q.Machine))
	case lease.Leave:
		s.tell(near, v, "leave")(nil, s.leave(ctx, v, q.Name))
	case lease.Logins:
		s.tell(near, v, "used")(nil, s.used(ctx, v, q.Used))
	}
}

// Refusal is why somebody is not told something, or may not do it.
type Refusal string

func (r Refusal) Error() string { return string(r) }

// tell tells values, or says why there are none.
func (s *Server) tell(near *yamux.Stream, v *service.Visitor, what string) func([]any, error) {
	return func(values []any, err error) {
		var refused Refusal
		switch {
		case errors.As(err, &refused):
			s.Refuse(near, &line.Refusal{Reason: line.NotAllowed, Say: string(refused)})
		case err != nil:
			s.Log.Error("it could not be answered", "person", v.Person, "asked", what, "error", err)
			s.Refuse(near, &line.Refusal{Reason: line.NotThere, Say: "the issuer's store does not answer; tell whoever runs it"})
		default:
			s.Tell(near, values...)
		}
	}
}

// MachineOf is a machine as the policy is asked of it.
func MachineOf(t store.Trusting) policy.Machine {
	return policy.Machine{Name: t.Name, Instance: t.Instance, Site: t.Site, Tags: t.Tags, Networks: t.Networks}
}

// Known is what a store knows of machines that trust an issuer, by name, for [service.OpenPolicy].
func Known(ctx context.Context, s *store.Leases) func(name string) (policy.Machine, bool) {
	return func(name string) (policy.Machine, bool) {
		ctx, cancel := context.WithTimeout(ctx, storeTime)
		defer cancel()
		t, err := s.Trusted(ctx, name, "")
		return MachineOf(t), err == nil
	}
}

// machines are those that trust an issuer.
func (s *Server) machines(ctx context.Context) ([]store.Trusting, error) {
	return s.o.Store.Trusts(ctx)
}

// may is what a person may, and what somebody denies.
func (s *Server) may(ctx context.Context, v *service.Visitor) (told []any, err error) {
	list, err := s.machines(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range list {
		told = append(told, s.rightsAt(v, MachineOf(t))...)
	}
	return told, nil
}

// rightsAt returns a person's rights at one machine, including denied ones.
func (s *Server) rightsAt(v *service.Visitor, m policy.Machine) (told []any) {
	p := s.Policy.Get()
	for _, standing := range p.Can(v.Person, []policy.Machine{m}) {
		d := p.Decide(v.Person, policy.Question{Machine: m, Login: standing.Login, From: service.Address(v.From), At: time.Now()})
		rule := d.Rule
		if rule == nil && len(standing.Rules) > 0 {
			rule = standing.Rules[0]
		}
		told = append(told, right(m, standing.Login, d.Allowed, !standing.May(), standing.Conditions(), rule))
	}
	return told
}

func right(m policy.Machine, login string, now, denied bool, says string, rule *policy.Rule) lease.Right {
	r := lease.Right{Machine: m.Name, Instance: m.Instance, Login: login, Now: now, Denied: denied, Says: says}
	if rule != nil {
		r.Rule = rule.Name()
	}
	if rule != nil && !rule.Deny {
		r.May, r.Agreed, r.Reason = rule.Terms.May.String(), len(rule.Terms.AgreedBy) > 0, rule.Terms.Reason
	}
	return r
}

// would returns a person's rights at a machine after its enrolment.
func (s *Server) would(v *service.Visitor, w lease.Would) ([]any, error) {
	p := s.Policy.Get()
	if !p.Enrols(v.Person) {
		return nil, Refusal(v.Person + " may enrol no machine here: no line of the policy says \"enrols\"")
	}
	if err := validMachine(w.Machine); err != nil {
		return nil, err
	}
	m := policy.Machine{Name: w.Machine.Name, Instance: w.Machine.Instance, Site: w.Machine.Site, Tags: cleaned(w.Machine.Tags), Networks: cleaned(w.Machine.Networks)}
	d := p.Decide(v.Person, policy.Question{Machine: m, Login: w.Login, From: service.Address(v.From), At: time.Now()})
	told := []any{right(m, w.Login, d.Allowed, d.Rule != nil && d.Rule.Deny, d.Why, d.Rule)}
	return append(told, s.rightsAt(v, m)...), nil
}

// validMachine returns what is wrong with a machine's name and tags, or nil.
func validMachine(m lease.Machine) error {
	if m.Name == "" || len(m.Name) > 64 || sanitize.Line(m.Name, 65) != m.Name || !policy.ValidMachine(m.Name) {
		return Refusal("a machine cannot be called so: use letters, digits, dots, hyphens and underscores")
	}
	for _, list := range [][]string{m.Tags, m.Networks, {m.Instance, m.Site}} {
		for _, word := range list {
			if len(word) > 200 || sanitize.Line(word, 201) != word || len(list) > 200 {
				return Refusal("the tags, networks, site or instance of the machine hold what no such name does")
			}
		}
	}
	return nil
}

// held are a person's leases.
func (s *Server) held(ctx context.Context, v *service.Visitor) (told []any, err error) {
	list, err := s.o.Store.Leases(ctx, v.Person)
	for _, l := range list {
		told = append(told, lease.Lease{Serial: uint64(l.Serial), Machine: l.Machine, Login: l.Login, Rule: l.Rule, Granted: l.Granted, Ends: l.Ends, AgreedBy: l.AgreedBy, Reason: l.Reason})
	}
	return told, err
}

// about is what an issuer is.
func (s *Server) about(ctx context.Context, v *service.Visitor) ([]any, error) {
	signers, hosts, err := s.o.Keys.Get()
	if err != nil {
		return nil, err
	}
	serials, last, err := s.o.Store.Revoked(ctx)
	if err != nil {
		return nil, err
	}
	a := lease.About{Name: s.o.Name, Person: v.Person, Stops: last, Enrols: s.Policy.Get().Enrols(v.Person)}
	var public []ssh.PublicKey
	for _, signer := range signers {
		public = append(public, signer.PublicKey())
		a.Signers = append(a.Signers, keyLine(signer.PublicKey()))
	}
	if hosts != nil {
		a.Hosts = keyLine(hosts.PublicKey())
	}
	if a.HostsRevoked, err = s.o.Store.RevokedHosts(ctx); err != nil {
		return nil, err
	}
	now := time.Now()
	a.Revoked = lease.Revocations(public, serials, uint64(now.Unix()), now)
	return []any{a}, nil
}

// keyLine writes a public key as lists of keys have it.
func keyLine(key ssh.PublicKey) string {
	return key.Type() + " " + base64.StdEncoding.EncodeToString(key.Marshal())
}

// record tells the last entries of the record, to whom may read it.
func (s *Server) record(ctx context.Context, v *service.Visitor, near *yamux.Stream, most int) {
	if !s.Policy.Get().Reads(v.Person) {
		s.Refuse(near, &line.Refusal{Reason: line.NotAllowed, Say: v.Person + " may not read the record here: no line of its policy says \"reads\""})
		return
	}
	list, err := s.o.Store.LastEntries(ctx, min(most, line.MaxEntries))
	var told []any
	for _, e := range list {
		told = append(told, line.Entry{Number: e.Number, Body: e.Body})
	}
	s.tell(near, v, "record")(told, err)
}

// done begins an entry of the record.
func (s *Server) done(what string, v *service.Visitor) record.Done {
	return record.Done{What: what, Issuer: s.o.Name, Person: v.Person, By: string(v.By.Kind) + " " + v.By.Text, From: v.From}
}

// Append writes the record.
func (s *Server) Append(ctx context.Context, d record.Done) error {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	d.Issuer = s.o.Name
	return s.o.Store.Append(ctx, d)
}

// enrol makes a machine one that trusts this issuer, and signs its key where it shows one.
func (s *Server) enrol(ctx context.Context, v *service.Visitor, m lease.Machine) ([]any, error) {
	if !s.Policy.Get().Enrols(v.Person) {
		return nil, Refusal(v.Person + " may enrol no machine here: no line of the policy says \"enrols\"")
	}
	if err := validMachine(m); err != nil {
		return nil, err
	}
	asked := policy.Machine{Name: m.Name, Instance: m.Instance, Site: m.Site, Tags: cleaned(m.Tags), Networks: cleaned(m.Networks)}
	if !s.Policy.Get().EnrolsAt(v.Person, asked) {
		return nil, Refusal(fmt.Sprintf("%s may not enrol %s here: no line of the policy that says \"enrols %s\" is for it", v.Person, m.Name, v.Person))
	}
	t := store.Trusting{Name: m.Name, Instance: m.Instance, Site: m.Site, Tags: cleaned(m.Tags), Networks: cleaned(m.Networks), Plain: m.Plain, Signers: m.Signers, Stops: m.Stops, By: v.Person}
	var told lease.Enrolled
	d := s.done("trusts", v)
	d.Machine, d.Why = m.Name, "its tags: "+fmt.Sprint(t.Tags)
	if m.HostKey != "" {
		key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(m.HostKey))
		if err != nil {
			return nil, Refusal("the machine's key cannot be read")
		}
		if _, is := key.(*ssh.Certificate); is {
			return nil, Refusal("a certificate is shown in place of the machine's key")
		}
		if t.Hosts, err = s.hostNames(v, asked, m.Names); err != nil {
			return nil, err
		}
		cert, err := s.certify(&t, key)
		if err != nil {
			return nil, err
		}
		told.HostCertificate = keyLine(cert)
		d.Why += ", its key " + t.HostKey + " for " + fmt.Sprint(t.Hosts)
	}
	switch _, err := s.o.Store.Trusted(ctx, m.Name, ""); {
	case err == nil:
		told.Known = true
	case !errors.Is(err, store.ErrUnknown):
		return nil, err
	}
	if err := s.o.Store.Trust(ctx, t, d); errors.Is(err, store.ErrTaken) {
		return nil, Refusal(err.Error() + "; ask its author to remove it, or the issuer's administrator")
	} else if err != nil {
		return nil, err
	}
	s.Log.Info("a machine trusts this issuer", "machine", m.Name, "by", v.Person)
	return []any{told}, nil
}

// renew signs a new certificate for a machine's host key, if the key is unchanged and the policy still allows each of its
// host names. Nothing else about the machine changes.
func (s *Server) renew(ctx context.Context, v *service.Visitor, m lease.Machine) ([]any, error) {
	t, err := s.o.Store.Trusted(ctx, m.Name, "")
	if errors.Is(err, store.ErrUnknown) {
		return nil, Refusal("there is no such machine")
	}
	if err != nil {
		return nil, err
	}
	if !s.Policy.Get().EnrolsAt(v.Person, MachineOf(t)) {
		return nil, Refusal(fmt.Sprintf("%s may not have certificates of %s renewed here", v.Person, t.Name))
	}
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte(m.HostKey))
	if err != nil || ssh.FingerprintSHA256(key) != t.HostKey {
		return nil, Refusal(fmt.Sprintf("the key that %s shows is not the one that was certified: enrol it again", t.Name))
	}
	if t.Hosts, err = s.hostNames(v, MachineOf(t), t.Hosts); err != nil {
		return nil, err
	}
	d := s.done("trusts", v)
	d.Machine, d.Why = t.Name, "its key "+t.HostKey+" is certified anew for "+fmt.Sprint(t.Hosts)
	cert, err := s.certify(&t, key)
	if err != nil {
		return nil, err
	}
	if err := s.o.Store.Renew(ctx, t, d); err != nil {
		return nil, err
	}
	return []any{lease.Enrolled{HostCertificate: keyLine(cert), Known: true}}, nil
}

// certify signs a machine's host key for its host names, and records the certificate with the machine.
func (s *Server) certify(t *store.Trusting, key ssh.PublicKey) (*ssh.Certificate, error) {
	_, hosts, err := s.o.Keys.Get()
	if err != nil {
		return nil, err
	}
	if hosts == nil {
		return nil, Refusal("this issuer has no key for machines' keys")
	}
	now := time.Now()
	t.HostKey = ssh.FingerprintSHA256(key)
	t.Certificate = store.HostCertificate{Serial: uint64(now.UnixNano()), Ends: now.Add(hostLife)}
	cert, err := lease.Host(key, t.Hosts, t.Name, t.Certificate.Serial, now, t.Certificate.Ends, hosts)
	if err != nil {
		return nil, Refusal(err.Error())
	}
	return cert, nil
}

// hostLife is the lifetime of a host certificate. Each refresh of the machine renews it after half of that.
const hostLife = 14 * 24 * time.Hour

// maxHosts limits the names and addresses of a host certificate.
const maxHosts = 32

// hostNames returns the names and addresses for a machine's host certificate, and fails if one is invalid or the policy
// denies it to the person.
func (s *Server) hostNames(v *service.Visitor, m policy.Machine, names []string) (all []string, err error) {
	p := s.Policy.Get()
	for _, name := range names {
		if all = append(all, name); !lease.ValidHost(name) {
			return nil, Refusal(fmt.Sprintf("a machine's certificate is for names and addresses by which others reach it, and not for %q", sanitize.Line(name, 80)))
		}
		if !p.MayCertify(v.Person, m, name) {
			return nil, Refusal(fmt.Sprintf("%s may not have a certificate for %s made for %s: the policy has to say \"enrols %s to %s as %s\"", v.Person, name, m.Name, v.Person, m.Name, name))
		}
	}
	slices.Sort(all)
	if all = slices.Compact(all); len(all) == 0 || len(all) > maxHosts {
		return nil, Refusal(fmt.Sprintf("a machine's certificate is for 1 to %d names and addresses", maxHosts))
	}
	return all, nil
}

// words leaves out what holds a blank, or is empty.
func cleaned(list []string) (all []string) {
	for _, word := range list {
		if word != "" && len([]byte(word)) == len(sanitize.Line(word, 200)) && !hasBlank(word) {
			all = append(all, word)
		}
	}
	return all
}

func hasBlank(s string) bool {
	for _, r := range s {
		if r == ' ' || r == '\t' {
			return true
		}
	}
	return false
}

// carried notes which signing keys and stops a machine knows.
func (s *Server) carried(ctx context.Context, v *service.Visitor, m lease.Machine) error {
	if !s.Policy.Get().Enrols(v.Person) {
		return Refusal(v.Person + " may carry nothing to machines: no line of the policy says \"enrols\"")
	}
	err := s.o.Store.Carried(ctx, m.Name, cleaned(m.Signers), m.Stops)
	if errors.Is(err, store.ErrUnknown) {
		return Refusal("there is no such machine")
	}
	return err
}

// leave takes a machine out of those that trust this issuer.
func (s *Server) leave(ctx context.Context, v *service.Visitor, name string) error {
	if !s.Policy.Get().Enrols(v.Person) {
		return Refusal(v.Person + " may enrol no machine here, nor have one leave: no line of the policy says \"enrols\"")
	}
	d := s.done("distrusted", v)
	d.Machine, d.Why = sanitize.Line(name, 64), "it trusts this issuer no more"
	err := s.o.Store.Distrust(ctx, name, d)
	if errors.Is(err, store.ErrUnknown) {
		return Refusal("there is no such machine")
	}
	return err
}

// used writes to the record what machines' logs tell of leases.
func (s *Server) used(ctx context.Context, v *service.Visitor, list []lease.Used) error {
	if !s.Policy.Get().Enrols(v.Person) {
		return Refusal(v.Person + " may not tell what machines' logs say: no line of the policy says \"enrols\"")
	}
	for _, u := range list[:min(len(list), maxUsed)] {
		d := s.done("used", v)
		d.Machine, d.Serial, d.Why = sanitize.Line(u.Machine, 64), int64(u.Serial), sanitize.Line(u.Says, 200)
		if err := s.o.Store.AppendUsed(ctx, d); err != nil {
			return err
		}
	}
	return nil
}
