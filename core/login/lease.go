package login

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"meatus/core/custody"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/step"
	"meatus/core/words"
)

// Leases are where logins for a while come from.
type Leases interface {
	// Get asks for a lease for the login at a hop. Waits is told whose yes is waited for. It fails with a
	// [lease.Refused], and with what keeps the issuer from being asked.
	Get(ctx context.Context, hop route.Hop, reason string, waits func(who []string)) (*lease.Held, error)
}

// leaseLeft is how much of a lease has to be left where it is shown; with less another one is asked for.
const leaseLeft = 5 * time.Second

// Leased is the lease of a hop, or why there is none. The zero value is that of a hop without leases.
type Leased struct {
	Held *lease.Held
	None *gate.Failure
}

// Obtain asks for the hop's lease before it is knocked at, since a second person may have to agree, and a server waits
// for no login that long, nor does anybody's turn at the server. Where the hop has keys, too, it goes on without one.
func (c *Config) Obtain(s *step.Step) (leased Leased, err error) {
	if s.Hop.Lease == nil {
		return leased, nil
	}
	p := s.Begin()
	defer p.End()
	s.Trying(gate.Lease)
	leased.Held, err = c.getLease(s, p, "")
	var no *lease.Refused
	if errors.As(err, &no) && no.Reason {
		var reason string
		if reason, err = askReason(s, p, no); err == nil {
			leased.Held, err = c.getLease(s, p, reason)
		}
	}
	var f *gate.Failure
	switch {
	case err == nil:
		return leased, nil
	case s.Ctx.Err() != nil:
		return leased, s.OrCancelled(err, gate.Lease)
	case errors.As(err, &f) && f.Hop == s.Hop.Name:
		return leased, f
	}
	if leased.None = leaseFailure(s, err); len(s.Hop.Keys) == 0 {
		return leased, leased.None
	}
	return leased, nil
}

// getLease asks for it while the time stands still: the issuer's gates have their own.
func (c *Config) getLease(s *step.Step, p *step.Patience, reason string) (*lease.Held, error) {
	resume := p.Pause()
	defer resume()
	if c.Leases == nil {
		return nil, errors.New("this program requests no certificates")
	}
	held, err := c.Leases.Get(p.Ctx, s.Hop, reason, func(who []string) {
		s.Hear(0, gate.Gate{Kind: gate.Lease, Seen: "waits for the approval of " + strings.Join(who, " or ")}, true)
	})
	if before := s.Before(); err == nil && before != nil && held.Source() {
		return nil, &lease.Refused{Issuer: s.Hop.Lease.Issuer,
			Say:   fmt.Sprintf("%s issues it only for your own address (with source), but %s would see the connection come from %s", held.Rule, s.Hop.Name, before.Name),
			Could: "connect to the machine directly, or have the rule leave \"with source\" out"}
	}
	return held, err
}

// askReason asks for the reason that a rule wants.
func askReason(s *step.Step, p *step.Patience, no *lease.Refused) (reason string, err error) {
	q := step.ServerQuestions{Place: s.Place(), Title: "a lease of " + s.Hop.Lease.Issuer, Instruction: no.Say + ", which is written to its record", Try: 1, Questions: []step.Question{{Text: "the reason", Echo: true}}}
	f := s.Ask(p, gate.Lease, s.Place(), "the reason for the certificate", func(ctx context.Context) error {
		answers, err := s.Asker.Answers(ctx, q)
		if err == nil && (len(answers) != 1 || strings.TrimSpace(answers[0]) == "") {
			err = step.ErrDeclined
		}
		if err == nil {
			reason = strings.TrimSpace(answers[0])
		}
		return err
	})
	if f != nil {
		return "", f
	}
	return reason, nil
}

// leaseFailure words why there is no lease.
func leaseFailure(s *step.Step, err error) *gate.Failure {
	issuer := s.Hop.Lease.Issuer
	var no *lease.Refused
	var f *gate.Failure
	switch {
	case errors.As(err, &no):
		f = s.Fail(gate.Lease, gate.LeaseRefused, "refused by "+issuer, no.Say, no.Could, err)
		if f.Remedy.Say == "" {
			f.Remedy.Say = "ask the author of the policy of " + issuer
		}
	case errors.As(err, &f):
		inner := f
		f = s.Fail(gate.Lease, inner.Cause, issuer+" is not reached", fmt.Sprintf("the issuer %s issues no certificate: %s", issuer, inner.Why), inner.Remedy.Say, err)
		f.Detail = append([]string{fmt.Sprintf("its gate %s: %s", inner.Gate, inner.Seen)}, inner.Detail...)
	default:
		f = s.Fail(gate.Lease, gate.NoAnswer, issuer+" gave none", sanitize.Line(err.Error(), 300), "connect again in a moment; the administrator of "+issuer+" can tell more", err)
	}
	return f
}

// leaseSigner is the lease as a key to offer, none where there is none, and passes its gate. One that has nearly ended
// meanwhile is asked for anew.
func (h *handshake) leaseSigner() ([]custody.Signer, error) {
	if h.Hop.Lease == nil {
		return nil, nil
	}
	if h.lease.Held != nil && h.lease.Held.Left(time.Now()) < leaseLeft && h.lease.Held.AgreedBy == "" {
		var err error
		if h.lease.Held, err = h.c.getLease(h.Step, h.p, ""); err != nil {
			h.lease.Held, h.lease.None = nil, leaseFailure(h.Step, err)
		}
	}
	if h.lease.Held == nil {
		if len(h.Hop.Keys) == 0 {
			return nil, h.give(h.lease.None)
		}
		h.Tell(gate.Gate{Kind: gate.Lease, Verdict: gate.Ajar, Seen: h.lease.None.Seen, Reason: h.lease.None.Why + "; the key is offered in its place", Detail: h.lease.None.Detail, Remedy: h.lease.None.Remedy})
		return nil, nil
	}
	h.Tell(gate.Gate{Kind: gate.Lease, Verdict: gate.Open, Seen: saysLease(h.lease.Held), Detail: []string{fmt.Sprintf("lease %d of %s, may %s", h.lease.Held.Serial, h.lease.Held.Issuer, h.lease.Held.May)}})
	return []custody.Signer{{Signer: h.lease.Held.Signer, Name: "lease of " + h.lease.Held.Issuer}}, nil
}

// saysLease says a lease in a few words.
func saysLease(held *lease.Held) string {
	say := fmt.Sprintf("for %s at %s, %s, by %s", held.Login, held.Machine, words.Span(held.Life), held.Rule)
	if held.AgreedBy != "" {
		say += ", agreed by " + held.AgreedBy
	}
	return say
}

// CameByEmergency says that somebody came in by the way that is sealed for the day on which an issuer is away.
type CameByEmergency struct{ step.Place }

func (CameByEmergency) IsEvent() {}

// Say says it in a line.
func (e CameByEmergency) Say() string {
	return fmt.Sprintf("EMERGENCY: %s was entered as %s with the break-glass certificate", e.Hop, e.User)
}

// Record words the event.
func (e CameByEmergency) Record() event.Record {
	return event.Record{Name: "emergency", Session: e.Session, Hop: e.Hop, Say: e.Say(), Failed: "no lease was shown"}
}
