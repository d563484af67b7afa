package service

import (
	"bufio"
	"cmp"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/line"
	"meatus/core/policy"
	"meatus/core/sanitize"
)

// Visitor is a person's connection.
type Visitor struct {
	Session *yamux.Session
	From    string // the address it comes from
	Person  string
	By      policy.Mark
	Until   time.Time // the end of what it is known by, zero for none

	entered func() // called once it is known who it is
}

// Answer answers what a person asks over a stream, which it closes.
type Answer func(v *Visitor, near *yamux.Stream, ask line.Message)

// Still reports whether another policy knows the person by the same proof.
func (v *Visitor) Still(p *policy.Policy) bool { return p.Known(v.By) == v.Person }

// person lets a person in, by SSH in the first stream: by a key, or by what was shown before that, a certificate or a token.
func (s *Service) person(w http.ResponseWriter, r *http.Request) {
	v := &Visitor{From: r.RemoteAddr}
	shown, until, err := s.shown(r)
	if err != nil {
		s.refusedPerson(v, err)
		http.Error(w, errShown.Error(), http.StatusUnauthorized)
		return
	}
	v.Until = until
	s.take(w, r, func(session *yamux.Session, guard *line.Guard) {
		v.Session = session
		v.entered = func() {
			guard.Known()
			known(r)
		}
		if err := s.receive(v, shown); err != nil {
			s.refusedPerson(v, err)
		}
	})
}

// refusedPerson notes that somebody was not let in.
func (s *Service) refusedPerson(v *Visitor, err error) {
	s.Refused.Add(1)
	s.Log.Info("nobody was let in", "from", v.From, "why", sanitize.Line(err.Error(), 200))
}

// shown are the marks of a person that a request shows before SSH begins. It fails where a token does not hold.
func (s *Service) shown(r *http.Request) (marks []policy.Mark, until time.Time, err error) {
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

// loginConfig accepts a person by the proofs already shown, such as a client certificate, or by an SSH key. Entered is
// called after authentication, before the client is told.
func (s *Service) loginConfig(shown []policy.Mark, entered func()) (*ssh.ServerConfig, error) {
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
		ServerVersion: "SSH-2.0-meatus_" + s.Called,
		NoClientAuth:  len(shown) > 0,
		NoClientAuthCallback: func(ssh.ConnMetadata) (*ssh.Permissions, error) {
			for _, m := range shown {
				if p, err := known(m); err == nil {
					entered()
					return p, nil
				}
			}
			return nil, errNobody
		},
		PublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			return known(policy.Mark{Kind: policy.ByKey, Text: ssh.FingerprintSHA256(key)})
		},
		// A client asks about a key before it proves possession, so the policy is asked again here.
		VerifiedPublicKeyCallback: func(_ ssh.ConnMetadata, key ssh.PublicKey, _ *ssh.Permissions, _ string) (*ssh.Permissions, error) {
			p, err := known(policy.Mark{Kind: policy.ByKey, Text: ssh.FingerprintSHA256(key)})
			if err == nil {
				entered()
			}
			return p, err
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
func (s *Service) receive(v *Visitor, shown []policy.Mark) error {
	config, err := s.loginConfig(shown, v.entered)
	if err != nil {
		return err
	}
	late := time.AfterFunc(loginTime, func() { v.Session.Close() })
	control, err := v.Session.AcceptStream()
	if err != nil {
		return err
	}
	conn, chans, requests, err := ssh.NewServerConn(control, config)
	if !late.Stop() || err != nil {
		return fmt.Errorf("no login: %w", err)
	}
	defer conn.Close()
	is := conn.Permissions.Extensions
	v.Person, v.By = is["person"], policy.Mark{Kind: policy.Kind(is["kind"]), Text: is["mark"]}
	go ssh.DiscardRequests(requests)
	go func() {
		for opened := range chans {
			opened.Reject(ssh.UnknownChannelType, "nothing is opened over this connection: what is asked goes by its other streams")
		}
		v.Session.Close() // who it is is known for as long as that lasts
	}()
	full, known := s.enter(v)
	if !known {
		return errNotAnyMore
	}
	defer s.exit(v)
	if full == "" {
		s.Log.Info("a person is here", "person", v.Person, "by", v.By.Kind, "from", v.From)
	}
	if !v.Until.IsZero() {
		defer time.AfterFunc(time.Until(v.Until), func() { v.Session.Close() }).Stop()
	}
	room := make(chan struct{}, maxStreams)
	for {
		near, err := v.Session.AcceptStream()
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
			s.Contained(func() { s.asked(v, near, full) })
		})
	}
}

// errNotAnyMore refuses a person whom the policy knew when the key was asked about and no longer knows.
var errNotAnyMore = errors.New("nobody is known by that any more")

// enter counts a person's connection, and returns why it is refused. The policy is asked again here, since a client asks
// about a key before it proves possession; from here on [Service.Forget] finds the connection.
func (s *Service) enter(v *Visitor) (full string, known bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	p := s.Policy.Get()
	if !v.Still(p) {
		return "", false
	}
	limits := p.LimitsOf(v.Person)
	have := 0
	for other := range s.visitors {
		if other.Person == v.Person {
			have++
		}
	}
	if limits.Connections > 0 && have >= limits.Connections {
		return fmt.Sprintf("%s has %d connections to this %s already, and may have no more", v.Person, have, s.Called), true
	}
	s.visitors[v] = true
	return "", true
}

func (s *Service) exit(v *Visitor) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.visitors, v)
}

// asked hears what a person asks over a stream, and has it answered. Where the person has too many connections, full
// says so.
func (s *Service) asked(v *Visitor, near *yamux.Stream, full string) {
	near.SetReadDeadline(time.Now().Add(askTime))
	ask, err := line.HearMessage(near)
	if err != nil {
		near.Reset()
		return
	}
	near.SetReadDeadline(time.Time{})
	if !v.Still(s.Policy.Get()) {
		s.Refuse(near, &line.Refusal{Reason: line.NotAllowed, Say: errNotAnyMore.Error()})
		v.Session.Close()
		return
	}
	if full != "" {
		s.Refuse(near, &line.Refusal{Reason: line.NoRoom, Say: full})
		return
	}
	s.answer(v, near, ask)
}

// Refuse answers a stream with a no, and closes it.
func (s *Service) Refuse(near *yamux.Stream, r *line.Refusal) {
	s.Refused.Add(1)
	line.Say(near, line.Answer{Refused: r.Say, Reason: r.Reason})
	near.Close()
}

// tellTime is how long whoever asked may take to hear what is told.
const tellTime = 30 * time.Second

// Tell answers a stream with a yes and with JSON values, each in a line, and closes it.
func (s *Service) Tell(near *yamux.Stream, values ...any) {
	near.SetDeadline(time.Now().Add(tellTime))
	err := line.Say(near, line.Answer{})
	w := bufio.NewWriter(near)
	e := json.NewEncoder(w)
	for i := 0; i < len(values) && err == nil; i++ {
		err = e.Encode(values[i])
	}
	if err = cmp.Or(err, w.Flush()); err != nil {
		near.Reset()
		return
	}
	near.Close()
}

// Forget ends the connections of persons who are not known by the same under the policy that holds now.
func (s *Service) Forget() {
	p := s.Policy.Get()
	s.mu.Lock()
	defer s.mu.Unlock()
	for v := range s.visitors {
		if !v.Still(p) {
			v.Session.Close()
		}
	}
}

// Visitors is how many persons' connections there are.
func (s *Service) Visitors() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.visitors)
}

// hostKey is the certificate's key as SSH has it.
func (s *Service) hostKey() (ssh.Signer, error) {
	cert, err := s.Certificate.Get()
	if err != nil {
		return nil, err
	}
	return ssh.NewSignerFromKey(cert.PrivateKey)
}

// Address is that of "address:port", the zero value where it is none.
func Address(at string) netip.Addr {
	a, _ := netip.ParseAddrPort(at)
	return a.Addr().Unmap()
}
