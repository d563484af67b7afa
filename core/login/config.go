// Package login logs in to a server over a connection that is there: it judges the host's key, offers keys, certificates
// and leases, and puts the server's questions to a person. It also looks at a server without logging in: what answers,
// which host key it shows, and which keys it would take.
//
// It promises that no host whose key is unknown or changed is logged in to without the [step.Asker] saying yes, a changed
// one not at all, and that no key others can read is offered.
package login

import (
	"fmt"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/dial"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/vouch"
)

// Config is what logins work with. Vouched and Keys are needed. It is safe to use from many goroutines.
type Config struct {
	Vouched *vouch.Record
	Keys    custody.Provider // where logins get their keys
	Logins  route.Logins     // how logins got in before, may be nil
	Leases  Leases           // where logins for a while come from; none are where nil
	Guests  *dial.Guests     // told of servers that turn connections away
}

// At is a server that is connected to.
type At struct {
	Conn    *dial.Conn
	Gateway *dial.Gateway // that it is made over, nil for none
	Server  string        // as [dial.Guests] counts its guests
	Took    time.Duration // how long connecting took, 0 where that is not told
}

// In is a login that got in.
type In struct {
	Conn     ssh.Conn
	Channels <-chan ssh.NewChannel
	Requests <-chan *ssh.Request
	Cipher   string
	HostKey  ssh.PublicKey // that the machine showed and that was found right; where it showed a certificate the key in that
	Lease    *lease.Held   // that was shown, nil for none
}

func (c *Config) handshake(s *step.Step, p *step.Patience, at At) *handshake {
	return &handshake{Step: s, c: c, p: p, conn: at.Conn, gateway: at.Gateway, server: at.Server, took: at.Took, at: gate.Identity}
}

// In logs in, with a lease where the hop has one. It fails with a [gate.Failure].
func (c *Config) In(s *step.Step, p *step.Patience, at At, leased Leased) (*In, error) {
	h := c.handshake(s, p, at)
	h.lease = leased
	if err := h.shake(); err != nil {
		return nil, s.OrCancelled(err, h.at)
	}
	at.Conn.Settle()
	return &h.in, nil
}

// Look judges the server's host key, and logs nobody in.
func (c *Config) Look(s *step.Step, p *step.Patience, at At) error {
	h := c.handshake(s, p, at)
	h.touch = true
	return h.shake()
}

// Introduction reads what the server calls itself.
func (c *Config) Introduction(s *step.Step, p *step.Patience, at At) error {
	return c.handshake(s, p, at).introduction()
}

// AskLogin asks the server which of the hop's keys it would take: nothing is signed and nobody is logged in.
func (c *Config) AskLogin(s *step.Step, p *step.Patience, at At) error {
	h := c.handshake(s, p, at)
	h.touch = true
	return h.askLogin()
}

// WouldTake asks the server which of some keys it would take for the hop's login (RFC 4252 section 7: a request without a
// signature). Nothing is signed, and nobody is logged in. It stops before the server's patience ends, after five refusals,
// and so returns what it asked about. A key that nobody has is asked about first: a server that would take that says yes to
// any. It fails with a [gate.Failure] where it did, and where the server could not be asked.
func (c *Config) WouldTake(s *step.Step, p *step.Patience, at At, keys []ssh.PublicKey) ([]Asked, error) {
	nobodys, err := throwaway()
	if err != nil {
		return nil, err
	}
	h := c.handshake(s, p, at)
	h.asking = &question{keys: append([]ssh.PublicKey{nobodys}, keys...)}
	if err := h.shake(); err != nil {
		return nil, err
	}
	answers := h.asking.answers
	if len(answers) == 0 {
		return nil, nil
	}
	if answers[0].Takes {
		return nil, s.Fail(gate.Login, gate.Unexpected, "says yes to any key",
			fmt.Sprintf("%s says that it accepts a key that was just created: it says so of any key, so its answers prove nothing", s.Hop.Name), "try each key by logging in, or ask its administrator", nil)
	}
	return answers[1:], nil
}
