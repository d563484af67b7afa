package link

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
	"meatus/core/step"
)

// Over has something opened over a link: what says what it is, "shell". It waits for the far side until the link or the
// context ends; what comes after that is given to late. It fails with a [gate.Failure] at the channel gate. open may fail
// with one, too, with an [ssh.OpenChannelError] where the far side said no, and with [io.EOF] where the link has ended.
func Over[T any](ctx context.Context, l *Link, what string, open func(*Link) (T, error), late func(T)) (T, error) {
	type opened struct {
		it  T
		err error
	}
	done := make(chan opened, 1)
	go func() {
		it, err := open(l)
		done <- opened{it, err}
	}()
	var o opened
	came := false
	select {
	case o = <-done:
		came = true
	case <-l.ctx.Done(): // see Link.Open
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
	var none T
	return none, l.refused(ctx, what, o.err)
}

// refused words why nothing was opened over a link, and ends one that is dead.
func (l *Link) refused(ctx context.Context, what string, err error) *gate.Failure {
	if f := l.Failure(); f != nil {
		return f
	}
	var known *gate.Failure
	var refusal *ssh.OpenChannelError
	switch {
	case errors.As(err, &known):
		return known
	case ctx.Err() != nil:
		return step.Fail(l.hop, gate.Channel, gate.Cancelled, "stopped", "connecting was stopped here", "", err)
	case errors.Is(err, io.EOF):
		f := l.hungUp(err)
		l.cancel(f)
		return f
	case errors.As(err, &refusal):
		err = errors.New(refusal.Message)
	}
	return step.Fail(l.hop, gate.Channel, gate.ChannelRefused, "no "+what,
		fmt.Sprintf("%s accepted the login of %s, but opened no %s: %s", l.hop.Name, l.hop.User, what, step.Words(err)),
		"the account may be for port forwards only, or the machine at its limit; ask its administrator", err)
}

// ID is the link's number.
func (l *Link) ID() ID { return l.id }

// Hop is the machine that the link leads to.
func (l *Link) Hop() route.Hop { return l.hop }

// Done is closed when the link has ended.
func (l *Link) Done() <-chan struct{} { return l.ctx.Done() }

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
func (l *Link) Tell(e event.Event) { l.pool.Events.Tell(e) }

// Refuse is a failure of what was to be opened over the link.
func (l *Link) Refuse(cause gate.Cause, seen, why, remedy string, err error) *gate.Failure {
	return step.Fail(l.hop, gate.Channel, cause, seen, why, remedy, err)
}

// TakeChannel tells whether a session channel may be opened over the link: its server opens one for each login, and that one
// is taken with the first yes. Other servers open any number.
func (l *Link) TakeChannel() bool {
	return !l.isOf(oneChannel) || l.taken.CompareAndSwap(false, true)
}
