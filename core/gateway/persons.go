package gateway

import (
	"bufio"
	"cmp"
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/gateway/line"
	"meatus/core/policy"
	"meatus/core/sanitize"
	"meatus/core/store"
)

// visit is a person's connection.
type visit struct {
	s       *Server
	session *yamux.Session
	from    string
	person  string
	by      policy.Mark
	until   time.Time // its token's end, zero for none
}

// still tells whether the person is known by the same under another policy.
func (v *visit) still(p *policy.Policy) bool { return p.Known(v.by) == v.person }

// person lets a person in, by SSH in the first stream: by a key, or by what was shown before that, a certificate or a token.
func (s *Server) person(w http.ResponseWriter, r *http.Request) {
	v := &visit{s: s, from: r.RemoteAddr}
	shown, until, err := s.shown(r)
	if err != nil {
		s.refusedPerson(v, err)
		http.Error(w, errShown.Error(), http.StatusUnauthorized)
		return
	}
	v.until = until
	s.take(w, r, func(session *yamux.Session) {
		v.session = session
		if err := s.receive(v, shown); err != nil {
			s.refusedPerson(v, err)
		}
	})
}

// refusedPerson notes that somebody was not let in.
func (s *Server) refusedPerson(v *visit, err error) {
	s.counted.refused.Add(1)
	s.Log.Info("nobody was let in", "from", v.from, "why", sanitize.Line(err.Error(), 200))
}

// shown are the marks of a person that a request shows before SSH begins. It fails where a token does not hold.
func (s *Server) shown(r *http.Request) (marks []policy.Mark, until time.Time, err error) {
	if s.ClientCAs != nil && r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		leaf := r.TLS.PeerCertificates[0]
		between := x509.NewCertPool()
		for _, c := range r.TLS.PeerCertificates[1:] {
			between.AddCert(c)
		}
		if _, err := leaf.Verify(x509.VerifyOptions{Roots: s.ClientCAs, Intermediates: between, KeyUsages: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}); err != nil {
			return nil, until, fmt.Errorf("the client certificate: %w", err)
		}
		for _, email := range leaf.EmailAddresses {
			marks = append(marks, policy.Mark{Kind: policy.ByCertificate, Text: email})
		}
		marks = append(marks, policy.Mark{Kind: policy.ByCertificate, Text: leaf.Subject.CommonName})
		until = leaf.NotAfter
	}
	if raw, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
		if s.Tokens == nil {
			return nil, until, errors.New("a token was shown, and no issuer is trusted here")
		}
		claims, err := s.Tokens.Check(r.Context(), raw)
		if err != nil {
			return nil, until, fmt.Errorf("the token: %w", err)
		}
		for _, text := range []string{claims.Email, claims.Subject} {
			if text != "" {
				marks = append(marks, policy.Mark{Kind: policy.ByToken, Text: text})
			}
		}
		until = claims.Expires
	}
	return marks, until, nil
}

// errNobody is why a key, or the lack of one, lets nobody in.
var errNobody = errors.New("nobody is known by that")

// loginConfig is how a person logs in: by what was shown, or by a key.
func (s *Server) loginConfig(shown []policy.Mark) (*ssh.ServerConfig, error) {
	// A key is asked about before it is proven that somebody has it: who it is that came is only what the library
	// hands on with the login that it accepted.
	known := func(m policy.Mark) (*ssh.Permissions, error) {
		who := s.Policy.Get().Known(m)
		if who == "" {
			return nil, errNobody
		}
		return &ssh.Permissions{Extensions: map[string]string{"person": who, "kind": string(m.Kind), "mark": m.Text}}, nil
	}
	config := &ssh.ServerConfig{
		ServerVersion: "SSH-2.0-meatus_gateway",
		NoClientAuth:  len(shown) > 0,
		NoClientAuthCallback: func(ssh.ConnMetadata) (*ssh.Permissions, error) {
			for _, m := range shown {
				if p, err := known(m); err == nil {
					return p, nil
				}
			}
			return nil, errNobody
		},
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			return known(policy.Mark{Kind: policy.ByKey, Text: ssh.FingerprintSHA256(key)})
		},
	}
	signer, err := s.hostKey()
	if err != nil {
		return nil, err
	}
	config.AddHostKey(signer)
	return config, nil
}

// receive lets a person in over the first stream, and answers the others until the connection ends.
func (s *Server) receive(v *visit, shown []policy.Mark) error {
	config, err := s.loginConfig(shown)
	if err != nil {
		return err
	}
	late := time.AfterFunc(loginTime, func() { v.session.Close() })
	control, err := v.session.AcceptStream()
	if err != nil {
		return err
	}
	conn, chans, requests, err := ssh.NewServerConn(control, config)
	if !late.Stop() || err != nil {
		return fmt.Errorf("no login: %w", err)
	}
	defer conn.Close()
	is := conn.Permissions.Extensions
	v.person, v.by = is["person"], policy.Mark{Kind: policy.Kind(is["kind"]), Text: is["mark"]}
	go ssh.DiscardRequests(requests)
	go func() {
		for opened := range chans {
			opened.Reject(ssh.UnknownChannelType, "a gateway leads to machines, and opens nothing of its own")
		}
		v.session.Close() // who it is is known for as long as that lasts
	}()
	full := s.enter(v)
	if full == "" {
		s.Log.Info("a person is here", "person", v.person, "by", v.by.Kind, "from", v.from)
		defer s.exit(v)
	}
	if !v.until.IsZero() {
		defer time.AfterFunc(time.Until(v.until), func() { v.session.Close() }).Stop()
	}
	room := make(chan struct{}, maxStreams)
	for {
		near, err := v.session.AcceptStream()
		if err != nil {
			return nil
		}
		select {
		case room <- struct{}{}:
		default:
			near.Reset()
			continue
		}
		s.wg.Go(func() {
			defer func() { <-room }()
			s.contained(func() { s.onward(v, near, full) })
		})
	}
}

// enter counts a person's connection, and says why there are too many of them.
func (s *Server) enter(v *visit) string {
	limits := s.Policy.Get().LimitsOf(v.person)
	s.mu.Lock()
	defer s.mu.Unlock()
	have := 0
	for other := range s.visitors {
		if other.person == v.person {
			have++
		}
	}
	if limits.Connections > 0 && have >= limits.Connections {
		return fmt.Sprintf("%s has %d connections to this gateway already, and may have no more", v.person, have)
	}
	s.visitors[v] = true
	return ""
}

func (s *Server) exit(v *visit) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.visitors, v)
}

// onward answers one stream of a person: it leads to a machine. Where the person has too many connections, full
// says so.
func (s *Server) onward(v *visit, near *yamux.Stream, full string) {
	near.SetReadDeadline(time.Now().Add(storeTime))
	var ask line.Ask
	if err := line.Hear(near, &ask); err != nil || len(ask.Machine) > 255 {
		near.Reset()
		return
	}
	near.SetReadDeadline(time.Time{})
	if full != "" {
		s.refuse(near, &line.Refusal{Reason: line.NoRoom, Say: full})
		return
	}
	ctx, cancel := context.WithTimeout(s.ctx, openTime)
	defer cancel()
	if ask.List || ask.Entries > 0 {
		s.answer(ctx, v, near, ask)
		return
	}
	st, far, refusal := s.open(ctx, v, ask.Machine, ask.Port)
	if refusal != nil {
		s.refuse(near, refusal)
		return
	}
	if err := line.Say(near, line.Answer{}); err != nil {
		near.Reset()
		abort(far)
		s.close(st, err)
		return
	}
	s.pass(st, near, far)
}

// answer tells a person what machines there are that may be reached, or the record where that may be read.
func (s *Server) answer(ctx context.Context, v *visit, near *yamux.Stream, ask line.Ask) {
	p, now := s.Policy.Get(), time.Now()
	var told []any
	var err error
	if ask.List {
		var list []store.Machine
		list, err = s.Store.Machines(ctx)
		for _, m := range list {
			if m.Revoked.IsZero() && p.Decide(v.person, policy.Machine{Name: m.Name, Tags: m.Tags}, now).Allowed {
				told = append(told, line.Listed{Name: m.Name, Instance: m.Instance, Tags: m.Tags, Offers: m.Offers, Joined: m.Joined})
			}
		}
	} else {
		if !p.Reads(v.person) {
			s.refuse(near, &line.Refusal{Reason: line.NotAllowed, Say: v.person + " may not read the record here: no line of its policy says \"reads\""})
			return
		}
		var last int64
		var list []store.Entry
		if last, err = s.Store.Length(ctx); err == nil {
			most := min(ask.Entries, line.MaxEntries)
			list, err = s.Store.Entries(ctx, max(last-int64(most)+1, 1), most)
		}
		for _, e := range list {
			told = append(told, line.Entry{Number: e.Number, Body: e.Body})
		}
	}
	if err != nil {
		s.Log.Error("the store does not answer", "error", err)
		s.refuse(near, &line.Refusal{Reason: line.NotThere, Say: "the gateway's store does not answer"})
		return
	}
	near.SetDeadline(now.Add(openTime))
	err = line.Say(near, line.Answer{})
	w := bufio.NewWriter(near)
	e := json.NewEncoder(w)
	for i := 0; i < len(told) && err == nil; i++ {
		err = e.Encode(told[i])
	}
	if err = cmp.Or(err, w.Flush()); err != nil {
		near.Reset()
		return
	}
	near.Close()
}

func (s *Server) refuse(near *yamux.Stream, r *line.Refusal) {
	s.counted.refused.Add(1)
	line.Say(near, line.Answer{Refused: r.Say, Reason: r.Reason})
	near.Close()
}

// openTime is how long a stream may take to be opened, with the time that is waited for its machine.
const openTime = 30 * time.Second

// open finds a machine and opens a stream to it for a person.
func (s *Server) open(ctx context.Context, v *visit, name string, port int) (*stream, line.Stream, *line.Refusal) {
	if s.ending.Load() {
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: errEnding.Error()}
	}
	m, to, err := s.find(ctx, name)
	unknown := errors.Is(err, store.ErrUnknown) || errors.Is(err, store.ErrRevoked)
	if err != nil && !unknown {
		s.Log.Error("the store does not answer", "error", err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: "the gateway's store does not answer, so nothing new is let through; tell whoever runs it"}
	}
	if unknown {
		m = store.Machine{Name: sanitize.Line(name, 64)}
	}
	st := &stream{s: s, id: rand.Text()[:12], person: v.person, by: string(v.by.Kind) + " " + v.by.Text, from: v.from, machine: m, to: to, began: time.Now()}
	p := s.Policy.Get()
	d := st.decide(p)
	if !d.Allowed {
		// Whether there is such a machine is not said to whom it is not for.
		s.note(ctx, store.Done{What: "refused", Person: v.person, By: st.by, From: v.from, Machine: m.Name, To: to, Why: d.Why})
		s.Log.Info("refused", "person", v.person, "machine", m.Name, "why", d.Why)
		return nil, nil, &line.Refusal{Reason: line.NotAllowed, Say: fmt.Sprintf("%s may not reach %s here: %s", v.person, st.name(), said(d))}
	}
	if unknown {
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: fmt.Sprintf("no machine called %s has joined here", m.Name)}
	}
	st.rule = d.Why
	if why := s.admit(ctx, st, p); why != "" {
		return nil, nil, &line.Refusal{Reason: line.NoRoom, Say: why}
	}
	if err := s.Append(ctx, st.done("opened")); err != nil {
		s.release(st)
		s.Log.Error("the record cannot be written: nothing new is let through", "error", err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: "the gateway's record cannot be written, so nothing new is let through; tell whoever runs it"}
	}
	far, err := s.reach(ctx, st, port)
	if err != nil {
		s.close(st, err)
		return nil, nil, &line.Refusal{Reason: line.NotThere, Say: err.Error()}
	}
	return st, far, nil
}

// said is a decision as the one who is refused is told: which rule, and not what others may.
func said(d policy.Decision) string {
	switch {
	case d.Rule != nil:
		return fmt.Sprintf("line %d of its policy denies it", d.Rule.Line)
	case len(d.Near) > 0:
		return fmt.Sprintf("line %d of its policy allows it at another time: %s", d.Near[0].Line, d.Near[0].Text)
	}
	return "no rule of its policy allows it; ask whoever runs it"
}

// Append writes the record.
func (s *Server) Append(ctx context.Context, d store.Done) error {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	d.Gateway = s.id
	return s.Store.Append(ctx, d)
}

// note writes to the record what has happened already. What cannot be recorded is said in the log.
func (s *Server) note(ctx context.Context, d store.Done) {
	if err := s.Append(context.WithoutCancel(ctx), d); err != nil {
		text, _ := json.Marshal(d)
		s.Log.Error("the record cannot be written", "error", err, "entry", string(text))
	}
}
