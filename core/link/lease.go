package link

import (
	"fmt"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/step"
	"time"
)

// LeaseEnds says that the shells at a hop end with its lease, how long before that.
type LeaseEnds struct {
	Link ID
	Hop  string
	At   time.Time
	Rule string
}

func (LeaseEnds) IsEvent() {}

// leaseWarnings are how long before the end of a lease, with which shells end, it is said.
var leaseWarnings = []time.Duration{5 * time.Minute, time.Minute, 15 * time.Second}

// EndWith ends the link with a lease, where its rule says that shells end with it, and says so before.
func (l *Link) EndWith(held *lease.Held) {
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
				l.Tell(LeaseEnds{Link: l.id, Hop: l.hop.Name, At: held.Ends, Rule: held.Rule})
			}
		}
		l.cancel(step.Fail(l.hop, gate.Lease, gate.LeaseRefused, "the certificate has expired", fmt.Sprintf("the certificate for %s at %s has expired, and the policy of %s ends sessions with it", held.Login, held.Machine, held.Rule), "connect again: a new certificate is requested", nil))
	})
}

// Say says it in a line.
func (e LeaseEnds) Say() string {
	return fmt.Sprintf("the certificate at %s expires in %s; the policy of %s then ends the connection", e.Hop, time.Until(e.At).Round(time.Second), e.Rule)
}
