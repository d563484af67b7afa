package walk

import (
	"context"
	"errors"
	"io"
	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/route"
	"meatus/core/step"

	"github.com/libp2p/go-yamux/v5"
)

// AtGateway asks a gateway something, and returns what it tells, which the caller closes. It walks there where no
// link is up; one that is up is not kept from ending by that. It fails with a [gate.Failure].
func (w *Walker) AtGateway(ctx context.Context, r route.Route, ask line.Message) (io.ReadCloser, error) {
	var p *Passage
	var stream *yamux.Stream
	err := again(func(bool) (shared bool, err error) {
		l := w.links.Live(r.Link(0))
		if shared = l != nil; !shared {
			if p, err = w.Walk(ctx, r); err != nil {
				return false, err
			}
			l = p.current()
		}
		stream, err = l.Ask(ctx, ask)
		if shared && errors.Is(err, yamux.ErrSessionShutdown) { // its last user has gone at this moment
			select {
			case <-l.Done():
			case <-ctx.Done():
				return false, ctx.Err()
			}
		}
		return shared, err
	})
	var known *gate.Failure
	var refusal *line.Refusal
	switch {
	case err == nil:
		return &toldStream{stream, p}, nil
	case errors.As(err, &known):
	case errors.As(err, &refusal):
		err = step.Fail(r.Hops[0], gate.Channel, gate.OnwardForbidden, "not allowed", refusal.Say, "ask the administrator of "+r.Hops[0].Name, err)
	default:
		err = step.Fail(r.Hops[0], gate.Channel, gate.NoAnswer, "no answer", r.Hops[0].Name+" gave no answer: "+step.Words(err), "try again in a moment", err)
	}
	if p != nil {
		p.Close()
	}
	return nil, err
}

// toldStream holds the way to a gateway while it tells something.
type toldStream struct {
	*yamux.Stream
	p *Passage // nil where the link was up
}

func (t *toldStream) Close() error {
	if t.p != nil {
		defer t.p.Close()
	}
	return t.Stream.Reset()
}
