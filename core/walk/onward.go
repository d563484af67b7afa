package walk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// Stream is one connection through a channel. Its two directions end apart.
type Stream interface {
	io.ReadWriteCloser
	CloseWrite() error
}

// Refused says that the machine at a passage's end opened no connection onward
// (RFC 4254 section 5.1), or no listener (section 7.1).
type Refused struct {
	Hop      string // the machine that said so
	Address  string
	Reason   ssh.RejectionReason
	Said     string // cleaned
	Listener bool
	Stands   string // what stands at the path of a socket there; "" where that is not known
}

func (r *Refused) Error() string {
	switch {
	case r.Stands != "":
		return fmt.Sprintf("%s opens no door at %s: %s", r.Hop, r.Address, r.Stands)
	case r.Listener && strings.HasPrefix(r.Address, "/"):
		return fmt.Sprintf("%s opens no door at %s: %s; it may forbid that (AllowStreamLocalForwarding), or a file stands there", r.Hop, r.Address, r.Said)
	case r.Listener:
		return fmt.Sprintf("%s opens no door at %s: %s; it may forbid that (AllowTcpForwarding, PermitListen), or somebody there has that port", r.Hop, r.Address, r.Said)
	}
	return fmt.Sprintf("%s opens no connection to %s: %s", r.Hop, r.Address, r.Said)
}

// Full tells whether a refusal is that the server allows no more channels on one
// link.
func (r *Refused) Full() bool { return r.Reason == ssh.ResourceShortage }

// Dial connects to an address as the machine at the passage's end sees it: network
// is "tcp" (RFC 4254 section 7.2) or "unix". It fails with a [Refused] where that
// machine says no, with [io.EOF] where the link has ended, and with the context's
// error.
func (p *Passage) Dial(ctx context.Context, network, address string) (Stream, error) {
	link := p.current()
	conn, err := link.open(ctx, network, address)
	var refusal *ssh.OpenChannelError
	switch {
	case errors.As(err, &refusal):
		return nil, &Refused{Hop: link.hop.Name, Address: address, Reason: refusal.Reason, Said: Words(errors.New(refusal.Message))}
	case err != nil && ctx.Err() != nil:
		return nil, ctx.Err()
	case err != nil && p.renew(ctx):
		return p.Dial(ctx, network, address)
	case err != nil:
		return nil, io.EOF
	}
	stream, ok := conn.(Stream)
	if !ok {
		conn.Close()
		return nil, errors.New("the protocol library gives no channel")
	}
	return stream, nil
}

// Ending waits a little for the passage's link to end, and tells whether it did.
func (p *Passage) Ending(limit time.Duration) bool {
	link := p.current()
	if link.conn != nil && !link.conn.broken.Load() {
		return false // the line is whole
	}
	select {
	case <-link.ctx.Done():
		return true
	case <-time.After(limit):
		return false
	}
}

// cancelTime is how long a far side is waited for that is to close a listener.
const cancelTime = 2 * time.Second

// forward is a listener at a far side, which is asked once to close it.
type forward struct {
	net.Listener
	link   *Link
	once   sync.Once
	closed chan struct{}
}

// Close ends the listener here at once, and waits a little for the far side's word.
func (f *forward) Close() error {
	f.once.Do(func() {
		go func() {
			f.Listener.Close()
			close(f.closed)
		}()
	})
	select {
	case <-f.closed:
	case <-f.link.ctx.Done():
	case <-time.After(cancelTime):
	}
	return nil
}

// Listen has the machine at the passage's end listen, and pass on what connects
// there (RFC 4254 section 7.1). The listener ends with the link.
func (p *Passage) Listen(ctx context.Context, network, address string) (net.Listener, error) {
	link := p.current()
	type opening struct {
		l   net.Listener
		err error
	}
	done := make(chan opening, 1)
	go func() {
		l, err := link.client.Listen(network, address)
		done <- opening{l, err}
	}()
	select {
	case o := <-done:
		if o.err != nil && link.ctx.Err() == nil {
			return nil, &Refused{Hop: link.hop.Name, Address: address, Reason: ssh.Prohibited, Said: Words(o.err), Listener: true}
		}
		if o.err != nil {
			return nil, o.err
		}
		return &forward{Listener: o.l, link: link, closed: make(chan struct{})}, nil
	case <-link.ctx.Done():
		return nil, io.EOF
	case <-ctx.Done():
		go func() {
			select {
			case o := <-done:
				if o.l != nil {
					o.l.Close()
				}
			case <-link.ctx.Done():
			}
		}()
		return nil, ctx.Err()
	}
}
