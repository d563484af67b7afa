package issuer

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
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
	"meatus/core/words"
)

// asking is one that is answered here.
type asking struct {
	lease.Want
	v       *service.Visitor
	key     ssh.PublicKey
	machine store.Trusting
}

// errStore is all that is said where the store does not answer.
var errStore = errors.New("the issuer's store does not answer, so nothing is granted; tell whoever runs it")

// want answers somebody who asks for a lease, and tells how it stands until it is granted or refused.
func (s *Server) want(v *service.Visitor, near *yamux.Stream, w lease.Want) {
	ctx, cancel := context.WithCancel(s.Context())
	defer cancel()
	defer near.Close()
	if line.Say(near, line.Answer{}) != nil {
		return
	}
	e := json.NewEncoder(near)
	tell := func(st lease.State) bool {
		near.SetWriteDeadline(time.Now().Add(storeTime))
		return e.Encode(st) == nil
	}
	go func() { // whoever asks goes away, or its line does
		near.Read(make([]byte, 1))
		cancel()
	}()
	st, err := s.grant(ctx, v, w, tell)
	var no *refused
	switch {
	case ctx.Err() != nil:
		return
	case errors.As(err, &no):
		st = no.State
		s.Service.Refused.Add(1)
	case err != nil:
		s.Log.Error("nothing is granted", "person", v.Person, "error", err)
		st = lease.State{Refused: errStore.Error()}
	}
	tell(st)
}

// refused is a no, as whoever asks is told.
type refused struct{ lease.State }

func (r *refused) Error() string { return r.Refused }

func no(format string, args ...any) error {
	return &refused{lease.State{Refused: fmt.Sprintf(format, args...)}}
}

// grant decides, waits for a second person where that is wanted, and grants.
func (s *Server) grant(ctx context.Context, v *service.Visitor, w lease.Want, tell func(lease.State) bool) (lease.State, error) {
	s.counted.asked.Add(1)
	a := &asking{Want: w, v: v}
	if err := a.read(); err != nil {
		return lease.State{}, err
	}
	t, err := s.o.Store.Trusted(ctx, a.Machine, a.Instance)
	switch {
	case errors.Is(err, store.ErrUnknown) && !s.wouldAllow(a):
		// The existence of a machine is not revealed to people without any right there.
		return lease.State{}, s.refuse(ctx, a, policy.Decision{Why: "no such machine trusts this issuer"}, fmt.Sprintf("%s may not be %s at %s: no rule allows it", v.Person, a.Login, a.Machine), "ask the author of the issuer's policy")
	case errors.Is(err, store.ErrUnknown):
		return lease.State{}, s.refuse(ctx, a, policy.Decision{Why: "no such machine trusts this issuer"}, fmt.Sprintf("%s is not enrolled here: it trusts no lease of this issuer", a.Machine), "ask its administrator to enrol it")
	case err != nil:
		return lease.State{}, err
	}
	a.machine, a.Machine = t, t.Name
	d, err := s.decide(ctx, a)
	if err != nil {
		return lease.State{}, err
	}
	agreedBy := ""
	if len(d.Rule.Terms.AgreedBy) > 0 {
		if agreedBy, d, err = s.agreement(ctx, a, d, tell); err != nil {
			return lease.State{}, err
		}
	}
	return s.sign(ctx, a, d, agreedBy)
}

// wouldAllow reports whether the policy would allow the request at a machine of that name without tags.
func (s *Server) wouldAllow(a *asking) bool {
	return s.Policy.Get().Decide(a.v.Person, policy.Question{Machine: policy.Machine{Name: a.Machine}, Login: a.Login, From: service.Address(a.v.From), At: time.Now()}).Allowed
}

// read checks what is asked.
func (a *asking) read() error {
	wire, err := base64.StdEncoding.DecodeString(a.Key)
	if err == nil {
		a.key, err = ssh.ParsePublicKey(wire)
	}
	if err != nil {
		return no("the key that the lease is to be for cannot be read")
	}
	if _, is := a.key.(*ssh.Certificate); is || a.key.Type() != ssh.KeyAlgoED25519 {
		return no("a lease is for a key of the kind %s, made for it alone", ssh.KeyAlgoED25519)
	}
	for _, word := range []string{a.ID, a.Want.Machine, a.Instance, a.Login} {
		if len(word) > 200 || sanitize.Line(word, 201) != word {
			return no("what is asked holds what no name does")
		}
	}
	if len(a.ID) < 16 || a.Want.Machine == "" || a.Login == "" || strings.ContainsAny(a.Login, "@,: \t*?[") {
		return no("a lease is for one login at one machine, and each asking has an id of its own")
	}
	a.Reason = sanitize.Line(a.Reason, maxReason)
	return nil
}

// decide asks the policy. What it does not allow is written to the record, and refused.
func (s *Server) decide(ctx context.Context, a *asking) (policy.Decision, error) {
	p := s.Policy.Get()
	q := policy.Question{Machine: MachineOf(a.machine), Login: a.Login, From: service.Address(a.v.From), At: time.Now()}
	d := p.Decide(a.v.Person, q)
	if !d.Allowed {
		return d, s.refuse(ctx, a, d, said(a, d), could(p, a, q, d))
	}
	if d.Rule.Terms.Reason && a.Reason == "" {
		return d, &refused{lease.State{Refused: fmt.Sprintf("%s wants a reason", d.Rule.Name()), WantsReason: true, Rule: d.Rule.Name()}}
	}
	return d, nil
}

// said is a refusal as the one who is refused is told: which rule, and not what others may.
func said(a *asking, d policy.Decision) string {
	who := fmt.Sprintf("%s may not be %s at %s", a.v.Person, a.Login, a.machine.Name)
	switch {
	case d.Rule != nil:
		return fmt.Sprintf("%s: %s denies it", who, d.Rule.Name())
	case len(d.Near) > 0:
		return fmt.Sprintf("%s now, or from here: %s allows it otherwise", who, d.Near[0].Name())
	}
	return who + ": no rule allows it"
}

// could says what would be allowed instead, "" for nothing.
func could(p *policy.Policy, a *asking, q policy.Question, d policy.Decision) string {
	if len(d.Near) > 0 {
		return p.Standing(a.v.Person, q.Machine, a.Login).Conditions()
	}
	var logins []string
	for _, standing := range p.Can(a.v.Person, []policy.Machine{q.Machine}) {
		if standing.May() && standing.Login != a.Login {
			logins = append(logins, standing.Login)
		}
	}
	if len(logins) > 0 {
		return a.v.Person + " may be " + strings.Join(logins, ", ") + " there"
	}
	return "ask the author of the issuer's policy"
}

// refuse writes a refusal to the record, and is it.
func (s *Server) refuse(ctx context.Context, a *asking, d policy.Decision, say, could string) error {
	r := s.doneOf("refused", a)
	r.Why = d.Why
	if s.Records(a.v.Person) {
		if err := s.Append(ctx, r); err != nil {
			return err
		}
	}
	s.Log.Info("refused", "person", a.v.Person, "login", a.Login, "machine", a.Machine, "why", d.Why)
	return &refused{lease.State{Refused: say, Could: could}}
}

func (s *Server) doneOf(what string, a *asking) record.Done {
	d := s.done(what, a.v)
	d.Machine, d.Login, d.Reason = a.Machine, a.Login, a.Reason
	return d
}

// agreement waits until a second person has agreed, and asks the policy again behind that.
func (s *Server) agreement(ctx context.Context, a *asking, d policy.Decision, tell func(lease.State) bool) (string, policy.Decision, error) {
	who := s.Policy.Get().Agreers(d.Rule, a.v.Person)
	if len(who) == 0 {
		return "", d, no("%s wants a second person's yes, and nobody else may give it", d.Rule.Name())
	}
	asked := s.doneOf("asked", a)
	asked.Rule = d.Why
	one, err := s.o.Store.Ask(ctx, store.Asking{ID: a.ID, Person: a.v.Person, Machine: a.Machine, Login: a.Login, Reason: a.Reason, Rule: d.Rule.Name(), From: a.v.From}, s.o.Agreement, asked)
	if errors.Is(err, store.ErrTwice) {
		return "", d, no("%s", err)
	}
	if err != nil {
		return "", d, err
	}
	if !tell(lease.State{Waits: who, Rule: d.Rule.Name()}) {
		return "", d, context.Canceled
	}
	for {
		changed := s.changed.next()
		var ok bool
		one, ok, err = s.o.Store.Asking(ctx, a.ID)
		switch {
		case err != nil && ctx.Err() != nil:
			s.withdraw(a)
			return "", d, err
		case err != nil:
			return "", d, err
		case !ok:
			return "", d, no("nobody agreed within %s", words.Span(s.o.Agreement))
		case one.State == store.Declined:
			return "", d, no("%s declined", one.Answerer)
		case one.State == store.Withdrawn:
			return "", d, no("it was withdrawn")
		case one.State == store.Agreed, one.State == store.Granted:
			again, err := s.decide(ctx, a)
			if err != nil {
				return "", d, err
			}
			if one.State == store.Agreed && !slices.Contains(s.Policy.Get().Agreers(again.Rule, a.v.Person), one.Answerer) {
				return "", d, no("%s has agreed, and may not any more", one.Answerer)
			}
			return one.Answerer, again, nil
		}
		select {
		case <-changed:
		case <-time.After(time.Until(one.Expires) + time.Second): // by the clock here; the store's decides
		case <-ctx.Done():
			s.withdraw(a)
			return "", d, ctx.Err()
		}
	}
}

// withdraw takes an asking back whose asker has gone.
func (s *Server) withdraw(a *asking) {
	ctx, cancel := context.WithTimeout(context.Background(), storeTime)
	defer cancel()
	if s.Ending() {
		return // it is asked again at another issuer
	}
	d := s.doneOf("withdrawn", a)
	d.By = a.v.Person
	if err := s.o.Store.Answer(ctx, a.ID, store.Withdrawn, a.v.Person, d); err != nil && !errors.Is(err, store.ErrAnswered) {
		s.Log.Error("the record cannot be written", "error", err)
	}
}

// sign grants, and signs what was granted.
func (s *Server) sign(ctx context.Context, a *asking, d policy.Decision, agreedBy string) (lease.State, error) {
	signers, _, err := s.o.Keys.Get()
	if err != nil {
		s.Log.Error("the signing key cannot be used", "error", err)
		return lease.State{}, no("the issuer's signing key cannot be used; tell whoever runs it")
	}
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), storeTime)
	defer cancel()
	done := s.doneOf("granted", a)
	done.Rule = d.Why
	terms := d.Rule.Terms
	l, err := s.o.Store.Grant(ctx, store.Lease{Asking: a.ID, Person: a.v.Person, Machine: a.machine.Name, Login: a.Login, Key: ssh.FingerprintSHA256(a.key), Rule: d.Rule.Name(), Reason: a.Reason, AgreedBy: agreedBy}, terms.Life, done)
	switch {
	case errors.Is(err, store.ErrStopped):
		return lease.State{}, s.refuse(ctx, a, policy.Decision{Why: "leases are stopped"}, fmt.Sprintf("leases of %s, or for %s, are stopped", a.v.Person, a.Login), "ask the issuer's administrator")
	case errors.Is(err, store.ErrTwice), errors.Is(err, store.ErrAnswered):
		return lease.State{}, no("%s", err)
	case err != nil:
		return lease.State{}, err
	}
	if !l.Stopped.IsZero() || time.Now().After(l.Ends) {
		return lease.State{}, no("that lease has ended; ask anew")
	}
	// The policy may have changed during a slow write to the store: a lease that it no longer allows is not signed.
	if again, err := s.decide(ctx, a); err != nil {
		return lease.State{}, err
	} else if again.Rule != d.Rule && again.Rule.Text != d.Rule.Text {
		return lease.State{}, no("the policy has changed meanwhile; ask anew")
	}
	if !a.v.Still(s.Policy.Get()) {
		return lease.State{}, no("%s is not known by that any more", a.v.Person)
	}
	t := lease.Terms{Serial: uint64(l.Serial), Person: l.Person, Login: l.Login, Machine: l.Machine, Plain: a.machine.Plain, Rule: l.Rule, Granted: l.Granted, Ends: l.Ends, May: terms.May}
	if terms.Source {
		t.Source = service.Address(a.v.From)
	}
	cert, err := lease.Sign(a.key, t, signers[0])
	if err != nil {
		s.Log.Error("it could not be signed", "error", err)
		return lease.State{}, no("the issuer could not sign; tell whoever runs it")
	}
	s.counted.granted.Add(1)
	s.Log.Info("granted", "person", l.Person, "login", l.Login, "machine", l.Machine, "serial", l.Serial, "rule", l.Rule)
	granted := lease.State{Certificate: base64.StdEncoding.EncodeToString(cert.Marshal()), Rule: l.Rule, Ends: l.Ends, Seconds: int(l.Ends.Sub(l.Granted) / time.Second), Serial: uint64(l.Serial), May: terms.May.String(), EndsShells: terms.Ends, AgreedBy: l.AgreedBy}
	// Each lease carries the list of revoked host certificates to clients that trust the host CA.
	if _, hosts, err := s.o.Keys.Get(); err == nil && hosts != nil {
		if granted.HostsRevoked, err = s.o.Store.RevokedHosts(ctx); err != nil {
			s.Log.Error("the store does not answer", "error", err)
		} else {
			granted.Hosts = keyLine(hosts.PublicKey())
		}
	}
	return granted, nil
}

// waiting are the askings that a person may agree to, and those of the person's own.
func (s *Server) waiting(ctx context.Context, v *service.Visitor) (told []any, err error) {
	list, err := s.o.Store.Askings(ctx)
	if err != nil {
		return nil, err
	}
	for _, a := range list {
		mine := a.Person == v.Person
		if !mine && !s.mayAgree(ctx, v.Person, a) {
			continue
		}
		told = append(told, lease.Waiting{ID: a.ID, Person: a.Person, Machine: a.Machine, Login: a.Login, Reason: a.Reason, Rule: a.Rule, From: a.From, Asked: a.Asked, Expires: a.Expires, State: string(a.State), By: a.Answerer, Mine: mine})
	}
	return told, nil
}

// mayAgree tells whether a person may agree to an asking, by the policy as it is now.
func (s *Server) mayAgree(ctx context.Context, who string, a store.Asking) bool {
	t, err := s.o.Store.Trusted(ctx, a.Machine, "")
	if err != nil {
		return false
	}
	p := s.Policy.Get()
	d := p.Decide(a.Person, policy.Question{Machine: MachineOf(t), Login: a.Login, From: service.Address(a.From), At: time.Now()})
	return d.Allowed && slices.Contains(p.Agreers(d.Rule, a.Person), who)
}

// agree takes a person's answer to an asking.
func (s *Server) agree(ctx context.Context, v *service.Visitor, answer lease.Answer) error {
	a, ok, err := s.o.Store.Asking(ctx, answer.ID)
	if err != nil {
		return err
	}
	to := map[string]store.AskingState{"agree": store.Agreed, "decline": store.Declined, "withdraw": store.Withdrawn}[answer.Say]
	mine := a.Person == v.Person
	switch {
	case !ok || to == "":
		return Refusal(store.ErrAnswered.Error())
	case to == store.Withdrawn && !mine, to != store.Withdrawn && !s.mayAgree(ctx, v.Person, a):
		return Refusal(fmt.Sprintf("%s may not answer that", v.Person))
	}
	d := record.Done{Issuer: s.o.Name, Person: a.Person, By: v.Person, From: v.From, Machine: a.Machine, Login: a.Login, Reason: a.Reason}
	err = s.o.Store.Answer(ctx, a.ID, to, v.Person, d)
	if errors.Is(err, store.ErrAnswered) {
		return Refusal(err.Error())
	}
	if err == nil {
		s.Log.Info("an asking was answered", "by", v.Person, "answer", answer.Say, "person", a.Person, "login", a.Login, "machine", a.Machine)
	}
	return err
}

// changes wakes whoever waits for something to change.
type changes struct {
	mu sync.Mutex
	c  chan struct{}
}

// next is closed at the next change.
func (c *changes) next() <-chan struct{} {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.c == nil {
		c.c = make(chan struct{})
	}
	return c.c
}

func (c *changes) tell() {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.c != nil {
		close(c.c)
		c.c = nil
	}
}
