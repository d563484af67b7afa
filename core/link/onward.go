package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"meatus/core/step"
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
		return fmt.Sprintf("%s does not listen at %s: %s", r.Hop, r.Address, r.Stands)
	case r.Listener && strings.HasPrefix(r.Address, "/"):
		return fmt.Sprintf("%s does not listen at %s: %s; it may be forbidden (AllowStreamLocalForwarding), or a file exists there", r.Hop, r.Address, r.Said)
	case r.Listener:
		return fmt.Sprintf("%s does not listen at %s: %s; it may be forbidden (AllowTcpForwarding, PermitListen), or the port is in use", r.Hop, r.Address, r.Said)
	}
	return fmt.Sprintf("%s opens no connection to %s: %s", r.Hop, r.Address, r.Said)
}

// Full tells whether a refusal is that the server allows no more channels on one
// link.
func (r *Refused) Full() bool { return r.Reason == ssh.ResourceShortage }

// Dial connects to an address as the link's machine sees it: network is "tcp" (RFC 4254 section 7.2) or "unix". It fails
// with a [Refused] where that machine says no, with [io.EOF] where the link has ended, and with the context's error.
func (l *Link) Dial(ctx context.Context, network, address string) (Stream, error) {
	conn, err := l.Open(ctx, network, address)
	var refusal *ssh.OpenChannelError
	switch {
	case errors.As(err, &refusal):
		return nil, &Refused{Hop: l.hop.Name, Address: address, Reason: refusal.Reason, Said: step.Words(errors.New(refusal.Message))}
	case err != nil && ctx.Err() != nil:
		return nil, ctx.Err()
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

// Ending waits a little for the link to end, and tells whether it did.
func (l *Link) Ending(limit time.Duration) bool {
	if l.conn != nil && !l.conn.Broken() {
		return false // the line is whole
	}
	select {
	case <-l.ctx.Done():
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

// Listen has the link's machine listen, and pass on what connects
// there (RFC 4254 section 7.1). The listener ends with the link.
func (l *Link) Listen(ctx context.Context, network, address string) (net.Listener, error) {
	type opening struct {
		at  net.Listener
		err error
	}
	done := make(chan opening, 1)
	go func() {
		at, err := l.client.Listen(network, address)
		done <- opening{at, err}
	}()
	select {
	case o := <-done:
		if o.err != nil && l.ctx.Err() == nil {
			return nil, &Refused{Hop: l.hop.Name, Address: address, Reason: ssh.Prohibited, Said: step.Words(o.err), Listener: true}
		}
		if o.err != nil {
			return nil, o.err
		}
		return &forward{Listener: o.at, link: l, closed: make(chan struct{})}, nil
	case <-l.ctx.Done():
		return nil, io.EOF
	case <-ctx.Done():
		go func() {
			select {
			case o := <-done:
				if o.at != nil {
					o.at.Close()
				}
			case <-l.ctx.Done():
			}
		}()
		return nil, ctx.Err()
	}
}
