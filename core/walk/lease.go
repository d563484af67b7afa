package walk

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

// LeaseEnds says that the shells at a hop end with its lease, how long before that.
type LeaseEnds struct {
	Link ID
	Hop  string
	At   time.Time
	Rule string
}

func (LeaseEnds) IsEvent() {}

// lease asks for the hop's lease before it is knocked at, since a second person may have to agree, and a server waits
// for no login that long. Where the hop has keys, too, it goes on without one.
func (l *Link) lease(p *patience) error {
	l.trying(gate.Lease)
	err := l.getLease(p, "")
	var no *lease.Refused
	if errors.As(err, &no) && no.Reason {
		var reason string
		if reason, err = l.askReason(p, no); err == nil {
			err = l.getLease(p, reason)
		}
	}
	var f *gate.Failure
	switch {
	case err == nil:
		return nil
	case l.ctx.Err() != nil:
		return l.orCancelled(err, gate.Lease)
	case errors.As(err, &f) && f.Hop == l.hop.Name:
		return f
	}
	f = l.leaseFailure(err)
	if len(l.hop.Keys) == 0 {
		return f
	}
	l.noLease = f
	return nil
}

// getLease asks for it while the time stands still: the issuer's gates have their own.
func (l *Link) getLease(p *patience, reason string) (err error) {
	resume := p.pause()
	defer resume()
	if l.w.Leases == nil {
		return errors.New("this program asks for no leases")
	}
	l.leased, err = l.w.Leases.Get(p.ctx, l.hop, reason, func(who []string) {
		l.tell(0, gate.Gate{Kind: gate.Lease, Seen: "waits for the yes of " + strings.Join(who, " or ")}, true)
	})
	if err == nil && l.below != nil && l.leased.Source() {
		err = &lease.Refused{Issuer: l.hop.Lease.Issuer,
			Say:   fmt.Sprintf("%s gives it for the address that you come from alone (with source), and %s would see the connection come from %s", l.leased.Rule, l.hop.Name, l.below.hop.Name),
			Could: "reach the machine directly, or have the rule leave \"with source\" out"}
		l.leased = nil
	}
	return err
}

// askReason asks for the reason that a rule wants.
func (l *Link) askReason(p *patience, no *lease.Refused) (reason string, err error) {
	at := Place{Session: l.route.Session, Hop: l.hop.Name, Index: l.index, Address: l.hop.Address(), User: l.hop.User}
	q := ServerQuestions{Place: at, Title: "a lease of " + l.hop.Lease.Issuer, Instruction: no.Say + ", which is written to its record", Try: 1, Questions: []Question{{Text: "the reason", Echo: true}}}
	f := l.ask(p, gate.Lease, at, "the reason for a lease", func(ctx context.Context) error {
		answers, err := l.w.Asker.Answers(ctx, q)
		if err == nil && (len(answers) != 1 || strings.TrimSpace(answers[0]) == "") {
			err = ErrDeclined
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
func (l *Link) leaseFailure(err error) *gate.Failure {
	issuer := l.hop.Lease.Issuer
	var no *lease.Refused
	var f *gate.Failure
	switch {
	case errors.As(err, &no):
		f = l.fail(gate.Lease, gate.LeaseRefused, "refused by "+issuer, no.Say, no.Could, err)
		if f.Remedy.Say == "" {
			f.Remedy.Say = "ask whoever writes the policy of " + issuer
		}
	case errors.As(err, &f):
		inner := f
		f = l.fail(gate.Lease, inner.Cause, issuer+" is not reached", fmt.Sprintf("the issuer %s gives no lease: %s", issuer, inner.Why), inner.Remedy.Say, err)
		f.Detail = append([]string{fmt.Sprintf("its gate %s: %s", inner.Gate, inner.Seen)}, inner.Detail...)
	default:
		f = l.fail(gate.Lease, gate.NoAnswer, issuer+" gave none", sanitize.Line(err.Error(), 300), "walk again in a moment; whoever runs "+issuer+" can tell more", err)
	}
	return f
}

// leaseSigner is the lease as a key to offer, none where there is none, and passes its gate. One that has nearly ended
// meanwhile is asked for anew.
func (h *handshake) leaseSigner() ([]custody.Signer, error) {
	l := h.l
	if l.hop.Lease == nil {
		return nil, nil
	}
	if l.leased != nil && l.leased.Left(time.Now()) < leaseLeft && l.leased.AgreedBy == "" {
		if err := l.getLease(h.p, ""); err != nil {
			l.leased, l.noLease = nil, l.leaseFailure(err)
		}
	}
	if l.leased == nil {
		if len(l.hop.Keys) == 0 {
			return nil, h.give(l.noLease)
		}
		l.tell(0, gate.Gate{Kind: gate.Lease, Verdict: gate.Ajar, Seen: l.noLease.Seen, Reason: l.noLease.Why + "; the key is offered in its place", Detail: l.noLease.Detail, Remedy: l.noLease.Remedy}, false)
		return nil, nil
	}
	l.tell(0, gate.Gate{Kind: gate.Lease, Verdict: gate.Open, Seen: saysLease(l.leased), Detail: []string{fmt.Sprintf("lease %d of %s, may %s", l.leased.Serial, l.leased.Issuer, l.leased.May)}}, false)
	return []custody.Signer{{Signer: l.leased.Signer, Name: "lease of " + l.leased.Issuer}}, nil
}

// saysLease says a lease in a few words.
func saysLease(held *lease.Held) string {
	say := fmt.Sprintf("for %s at %s, %s, by %s", held.Login, held.Machine, words.Span(held.Life), held.Rule)
	if held.AgreedBy != "" {
		say += ", agreed by " + held.AgreedBy
	}
	return say
}

// leaseWarnings are how long before the end of a lease, with which shells end, it is said.
var leaseWarnings = []time.Duration{5 * time.Minute, time.Minute, 15 * time.Second}

// endWithLease ends the link with its lease, where its rule says that shells end with it, and says so before.
func (l *Link) endWithLease() {
	held := l.leased
	if held == nil || !held.Shells {
		return
	}
	l.Go(func() {
		for _, before := range append(leaseWarnings, 0) {
			left := time.Until(held.Ends) - before
			if left < 0 && before > 0 {
				continue
			}
			select {
			case <-time.After(left):
			case <-l.ctx.Done():
				return
			}
			if before > 0 {
				l.w.tell(LeaseEnds{Link: l.id, Hop: l.hop.Name, At: held.Ends, Rule: held.Rule})
			}
		}
		l.cancel(l.fail(gate.Lease, gate.LeaseRefused, "the lease has ended", fmt.Sprintf("the lease for %s at %s has ended, and %s has shells end with it", held.Login, held.Machine, held.Rule), "walk again: another lease is asked for", nil))
	})
}

// Say says it in a line.
func (e LeaseEnds) Say() string {
	return fmt.Sprintf("the lease at %s ends in %s, and with it what is open there, as %s has it", e.Hop, time.Until(e.At).Round(time.Second), e.Rule)
}

// CameByEmergency says that somebody came in by the way that is sealed for the day on which an issuer is away.
type CameByEmergency struct{ Place }

func (CameByEmergency) IsEvent() {}

// Say says it in a line.
func (e CameByEmergency) Say() string {
	return fmt.Sprintf("EMERGENCY: %s was entered as %s by the sealed way in, and not by a lease", e.Hop, e.User)
}

// Record words the event.
func (e CameByEmergency) Record() event.Record {
	return event.Record{Name: "emergency", Session: e.Session, Hop: e.Hop, Say: e.Say(), Failed: "no lease was shown"}
}
