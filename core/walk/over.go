package walk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/route"
)

// Over has something opened over the link of a passage: what says what it is, "shell".
// It waits for the far side until the link or the context ends; what comes after that is
// given to late. A passage that shared a link which turns out to be dead walks anew and
// tries again: open may be called over the new link while its call over the dead one has
// not returned. Over fails with a [gate.Failure] at the channel gate. open may fail with
// one, too, with an [ssh.OpenChannelError] where the far side said no, and with [io.EOF]
// where the link has ended.
func Over[T any](ctx context.Context, p *Passage, what string, open func(*Link) (T, error), late func(T)) (T, error) {
	type opened struct {
		it  T
		err error
	}
	var none T
	link, err := p.linkFor(ctx)
	if err != nil {
		return none, err
	}
	done := make(chan opened, 1)
	go func() {
		it, err := open(link)
		done <- opened{it, err}
	}()
	var o opened
	came := false
	select {
	case o = <-done:
		came = true
	case <-link.ctx.Done(): // see Link.open
		o.err = io.EOF
	case <-ctx.Done():
		o.err = ctx.Err()
	}
	if !came {
		go func() { // it comes back with the end of the link at the latest
			if o := <-done; o.err == nil {
				late(o.it)
			}
		}()
	}
	if o.err == nil {
		return o.it, nil
	}
	f := link.refused(ctx, what, o.err)
	if isDead(f) && p.renew(ctx) {
		return Over(ctx, p, what, open, late)
	}
	return none, f
}

// refused words why nothing was opened over a link, and ends one that is dead.
func (l *Link) refused(ctx context.Context, what string, err error) *gate.Failure {
	if f := l.failure(); f != nil {
		return f
	}
	var known *gate.Failure
	var refusal *ssh.OpenChannelError
	switch {
	case errors.As(err, &known):
		return known
	case ctx.Err() != nil:
		return l.fail(gate.Channel, gate.Cancelled, "stopped", "the walk was stopped here", "", err)
	case errors.Is(err, io.EOF):
		f := l.hungUp(err)
		l.cancel(f)
		return f
	case errors.As(err, &refusal):
		err = errors.New(refusal.Message)
	}
	return l.fail(gate.Channel, gate.ChannelRefused, "no "+what,
		fmt.Sprintf("%s lets %s in, but opens no %s: %s", l.hop.Name, l.hop.User, what, Words(err)),
		"the account may be for tunnels only, or the machine has no room for more; ask whoever runs it", err)
}

// Trying tells that a channel of the passage is about to be opened.
func (p *Passage) Trying() {
	p.walker.tell(Trying{p.id, p.route.Session, len(p.route.Hops) - 1, gate.Channel, ""})
}

// Opened tells that the passage's walk has come to its end: to a channel, or to a
// failure where err is not nil.
func (p *Passage) Opened(what string, err error) {
	last := len(p.route.Hops) - 1
	if err != nil {
		p.walker.tell(Ended{Walk: p.id, Session: p.route.Session, Hop: last, Err: err})
		return
	}
	p.walker.tell(Passed{p.id, p.route.Session, last, gate.Gate{Kind: gate.Channel, Verdict: gate.Open, Seen: what}})
}

// Tell tells an event to whoever follows what the walker does.
func (p *Passage) Tell(e event.Event) { p.walker.tell(e) }

// Place is the end of the passage.
func (p *Passage) Place() Place {
	target := p.route.Target()
	return Place{Session: p.route.Session, Hop: target.Name, Index: len(p.route.Hops) - 1, Address: target.Address(), User: target.User}
}

// Probe asks the links of the passage for a sign of life now: where one is frozen, that is
// seen in seconds.
func (p *Passage) Probe() { p.current().probe() }

// Failure is why the passage's link ended, nil where it did not or was closed here.
func (p *Passage) Failure() *gate.Failure { return p.current().failure() }

// Lives asks the far side whether the passage's link is up.
func (p *Passage) Lives() bool {
	l := p.current()
	l.Settle()
	return l.ctx.Err() == nil
}

// ID is the link's number.
func (l *Link) ID() ID { return l.id }

// Hop is the machine that the link leads to.
func (l *Link) Hop() route.Hop { return l.hop }

// Done is closed when the link has ended.
func (l *Link) Done() <-chan struct{} { return l.ctx.Done() }

// Failure is why the link ended, nil where it did not or was closed here.
func (l *Link) Failure() *gate.Failure { return l.failure() }

// Session opens a session channel (RFC 4254 section 6.1). Only the end of the link goes
// without an answer: it fails with [io.EOF] then, and with an [ssh.OpenChannelError]
// where the far side says no.
func (l *Link) Session() (*ssh.Session, error) {
	began := time.Now()
	session, err := l.client.NewSession()
	if err == nil {
		l.trips.add(time.Since(began))
	}
	var refusal *ssh.OpenChannelError
	if err != nil && !errors.As(err, &refusal) {
		return nil, io.EOF
	}
	return session, err
}

// Settle waits until the link has ended where it is about to: where the far side does
// not answer any more.
func (l *Link) Settle() {
	if !l.mayAsk() {
		return
	}
	if _, _, err := l.client.SendRequest("ended@meatus.invalid", true, nil); err != nil {
		<-l.ctx.Done()
	}
}

// OfChannel is an error of one channel of the link. [io.EOF] stays only where the link has ended: a far side may end one
// channel at once, and the link is good for others.
func (l *Link) OfChannel(err error) error {
	if !errors.Is(err, io.EOF) {
		return err
	}
	if l.Settle(); l.ctx.Err() != nil {
		return err
	}
	return errors.New("it was ended there at once")
}

// Tell tells an event to whoever follows what the walker does.
func (l *Link) Tell(e event.Event) { l.w.tell(e) }

// Refuse is a failure of what was to be opened over the link.
func (l *Link) Refuse(cause gate.Cause, seen, why, remedy string, err error) *gate.Failure {
	return l.fail(gate.Channel, cause, seen, why, remedy, err)
}
