package walk

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/secret"
)

// A gateway is a first hop that is reached by WebSocket over TLS. Inside it speaks SSH, so that its link is one as
// any other, with the same keys and questions; what it opens onward is a stream to a machine that has joined.

// How much of a file of a gateway's is read, and of what a program prints, in bytes.
const maxGatewayFile = 1 << 20

// reachGateway connects to the first of a gateway's addresses that answers.
func (l *Link) reachGateway(p *patience) (net.Conn, error) {
	target, err := l.gatewayTarget(p)
	if err != nil {
		return nil, err
	}
	for i, url := range l.hop.Gateway.URLs {
		host, port := book.HostOfURL(url)
		l.knock = net.JoinHostPort(host, strconv.Itoa(port))
		var conn net.Conn
		if conn, err = l.reachOne(p); err == nil {
			p.renew()
			target.URL = url
			target.Dial = func(context.Context, string, string) (net.Conn, error) { return conn, nil }
			var control net.Conn
			if control, err = l.overGateway(p.ctx, target); err == nil {
				return control, nil
			}
			conn.Close()
			err = l.gatewayFailure(p, host, err)
		}
		var f *gate.Failure
		another := errors.As(err, &f) && (f.Gate == gate.Address || f.Gate == gate.Port)
		if !another || i == len(l.hop.Gateway.URLs)-1 || l.ctx.Err() != nil {
			return nil, err
		}
		p.renew()
	}
	return nil, err
}

// overGateway is the connection to a gateway. Its first stream is SSH, by which it knows us, and the others lead to
// machines.
type overGateway struct {
	line    *line.Conn
	wire    *countedConn
	session *yamux.Session
}

// overGateway makes it, and returns the first stream.
func (l *Link) overGateway(ctx context.Context, target line.Target) (net.Conn, error) {
	conn, err := line.Connect(ctx, target)
	if err != nil {
		return nil, err
	}
	g := &overGateway{line: conn, wire: &countedConn{Conn: conn, gone: make(chan struct{})}}
	g.wire.settled.Store(true)
	if g.session, err = line.Mux(g.wire, true); err != nil {
		conn.Close()
		return nil, err
	}
	control, err := g.session.OpenStream(ctx)
	if err != nil {
		g.session.Close()
		return nil, err
	}
	context.AfterFunc(l.ctx, func() { g.session.Close() })
	l.gateway = g
	return control, nil
}

// openAtGateway opens a stream to a machine that has joined. It fails with a [line.Refusal].
func (l *Link) openAtGateway(ctx context.Context, addr string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	n, _ := strconv.Atoi(port)
	stream, err := line.Open(ctx, l.gateway.session, line.Ask{Machine: host, Port: n})
	if err != nil {
		return nil, err
	}
	l.load.channels.Add(1)
	return &loadedStream{Stream: stream, load: &l.load}, nil
}

// AtGateway asks a gateway something, and returns what it tells, which the caller closes. It walks there where no
// link is up; one that is up is not kept from ending by that. It fails with a [gate.Failure].
func (w *Walker) AtGateway(ctx context.Context, r route.Route, ask line.Ask) (io.ReadCloser, error) {
	w.mu.Lock()
	l := w.links[r.Link(0)]
	up := l != nil && l.up
	w.mu.Unlock()
	var p *Passage
	if !up {
		var err error
		if p, err = w.Walk(ctx, r); err != nil {
			return nil, err
		}
		l = p.current()
	}
	stream, err := line.Open(ctx, l.gateway.session, ask)
	if up && errors.Is(err, yamux.ErrSessionShutdown) { // its last user has gone at this moment
		select {
		case <-l.Done():
		case <-ctx.Done():
			return nil, ctx.Err()
		}
		if p, err = w.Walk(ctx, r); err != nil {
			return nil, err
		}
		l = p.current()
		stream, err = line.Open(ctx, l.gateway.session, ask)
	}
	var refusal *line.Refusal
	if errors.As(err, &refusal) {
		err = l.fail(gate.Channel, gate.OnwardForbidden, "not allowed", refusal.Say, "ask whoever runs "+l.hop.Name, err)
	} else if err != nil {
		err = l.fail(gate.Channel, gate.NoAnswer, "no answer", l.hop.Name+" gave no answer: "+Words(err), "try again in a moment", err)
	}
	if err != nil {
		if p != nil {
			p.Close()
		}
		return nil, err
	}
	return &toldStream{stream, p}, nil
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

// gatewayTarget is what is known of a gateway before it is connected to, with what we show there.
func (l *Link) gatewayTarget(p *patience) (line.Target, error) {
	g := l.hop.Gateway
	t := line.Target{Path: line.ForPersons, HostKeys: g.HostKeys, Header: http.Header{}, Roots: l.w.Roots}
	unreadable := func(at gate.Kind, file, what string, err error) error {
		return l.fail(at, gate.KeyUnusable, sanitize.Name(file), fmt.Sprintf("%s in %s cannot be read: %s", what, sanitize.Name(file), Words(err)), "correct the table of the gateway in the sessions file, or the file", err)
	}
	if g.CA != "" {
		text, err := readUpTo(g.CA, maxGatewayFile)
		t.Roots = x509.NewCertPool()
		if err == nil && !t.Roots.AppendCertsFromPEM(text) {
			err = errors.New("there is no certificate in it")
		}
		if err != nil {
			return t, unreadable(gate.Identity, g.CA, "the certificates that sign the gateway's", err)
		}
	}
	if judged := route.GatewayKey(l.hop, route.KeySheets{}); judged.Verdict == gate.Shut {
		f := l.fail(gate.Key, gate.KeyUnusable, judged.Seen, judged.Reason, "", nil)
		f.Remedy = judged.Remedy
		return t, f
	}
	if g.Certificate != "" {
		cert, err := tls.LoadX509KeyPair(g.Certificate, g.Certificate)
		if err != nil {
			return t, unreadable(gate.Key, g.Certificate, "the client certificate and its key", err)
		}
		t.Present = &cert
	}
	token, file, err := l.gatewayToken(p)
	if g.Device != "" {
		if token, err = l.deviceToken(p); err != nil {
			return t, l.fail(gate.Key, gate.CannotAsk, "no token", sanitize.Line(err.Error(), 300), "go to the address that is shown, or name another way to be known", err)
		}
	}
	if err != nil {
		return t, unreadable(gate.Key, file, "the token", err)
	}
	if token != "" {
		t.Header.Set("Authorization", "Bearer "+token)
	}
	return t, nil
}

// gatewayToken is the bearer token that the gateway's table names, "" for none, and where it is from.
func (l *Link) gatewayToken(p *patience) (token, from string, err error) {
	g := l.hop.Gateway
	var text []byte
	switch {
	case g.TokenFile != "":
		from = g.TokenFile
		text, err = readUpTo(from, maxGatewayFile)
	case len(g.TokenCommand) > 0:
		from = g.TokenCommand[0]
		cmd := exec.CommandContext(p.ctx, g.TokenCommand[0], g.TokenCommand[1:]...)
		cmd.WaitDelay = time.Second
		cmd.Env = secret.Environ()
		text, err = cmd.Output()
	default:
		return "", "", nil
	}
	defer clear(text)
	token = strings.TrimSpace(string(text))
	if err == nil && (token == "" || strings.ContainsAny(token, " \t\r\n") || len(token) > 16<<10) {
		err = errors.New("it does not hold one token in a line")
	}
	return token, from, err
}

// gatewayFailure words why what answers is not the gateway, or does not take us.
func (l *Link) gatewayFailure(p *patience, host string, err error) error {
	var invalid *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var refusal *line.Refusal
	switch {
	case errors.As(err, &invalid):
		l.passed(gate.Port, l.knock+", answers with TLS")
		f := l.fail(gate.Identity, gate.IdentityUnknown, "its certificate does not hold",
			fmt.Sprintf("the certificate that %s shows does not hold for %s: %s", l.hop.Name, host, sanitize.Line(invalid.Err.Error(), 160)),
			"ask whoever runs it for its key, and write host_key = \"SHA256:…\" or ca = \"FILE\" in the gateway's table; nothing was sent to it", err)
		if key, kerr := ssh.NewPublicKey(invalid.UnverifiedCertificates[0].PublicKey); kerr == nil {
			f.Detail = []string{"it shows " + key.Type() + " " + ssh.FingerprintSHA256(key)}
			if len(l.hop.Gateway.HostKeys) > 0 {
				f.Cause, f.Seen = gate.IdentityChanged, "not the key that is named"
				f.Detail = append(f.Detail, "named    "+strings.Join(l.hop.Gateway.HostKeys, " "))
			}
		}
		return f
	case errors.As(err, &record):
		return l.fail(gate.Port, gate.NotSSH, "no TLS", "what answers at "+l.knock+" does not speak TLS", "check the gateway's address", err)
	case strings.Contains(err.Error(), "protocol version not supported"), strings.Contains(err.Error(), "unsupported protocol version"):
		return l.fail(gate.Port, gate.NotSSH, "an older TLS", "what answers at "+l.knock+" speaks no TLS 1.3, which is the least that is taken", "have whoever runs what stands before the gateway allow TLS 1.3 there", err)
	case errors.As(err, &refusal) && (refusal.Status == http.StatusUnauthorized || refusal.Status == http.StatusForbidden):
		return l.fail(gate.Login, gate.NoKeyAccepted, "not let in", fmt.Sprintf("%s does not let us in: %s", l.hop.Name, refusal.Say), "get a token, or a certificate, that is valid now; the gateway's log has the reason", err)
	case errors.As(err, &refusal) && refusal.Status == http.StatusServiceUnavailable:
		return l.fail(gate.Port, gate.Busy, "busy", fmt.Sprintf("%s takes nobody now: %s", l.hop.Name, refusal.Say), "walk again in a moment", err)
	case errors.As(err, &refusal):
		return l.fail(gate.Port, gate.NotSSH, "no gateway", refusal.Say+", at "+l.knock, "check the gateway's address", err)
	case p.ranOut():
		return l.fail(gate.Port, gate.NoAnswer, "connected, then silence", fmt.Sprintf("%s took the connection and did not introduce itself within %s", l.knock, l.w.Patience), "something in between holds the line; try again", err)
	}
	return l.fail(gate.Port, gate.ServerClosed, "closed before a word", fmt.Sprintf("%s took the connection and closed it: %s", l.knock, Words(err)), "the gateway may be starting, or a proxy stands between that does not let WebSocket through", err)
}

// gatewayIdentity judges the key that a gateway shows inside: it is that of its certificate, or the one that is
// named. So what ends TLS on the way there is found.
func (h *handshake) gatewayIdentity(key ssh.PublicKey) error {
	l := h.l
	h.answered()
	l.trying(gate.Identity)
	h.p.renew()
	print, c := ssh.FingerprintSHA256(key), l.gateway.line
	switch {
	case slices.Contains(l.hop.Gateway.HostKeys, print):
		l.passed(gate.Identity, "the key that is named, "+print)
	case len(l.hop.Gateway.HostKeys) == 0 && print == ssh.FingerprintSHA256(c.Key):
		l.passed(gate.Identity, fmt.Sprintf("a certificate for %s, by %s", l.hop.Host, c.Issuer))
	default:
		f := l.fail(gate.Identity, gate.IdentityChanged, "not the key of its certificate",
			fmt.Sprintf("what ends TLS before %s has another key than %s itself: something stands between", l.hop.Name, l.hop.Name),
			"where that is meant to be so, ask whoever runs the gateway for its key, and write host_key = \"SHA256:…\"", nil)
		f.Detail = []string{"it shows " + print, "TLS has " + ssh.FingerprintSHA256(c.Key)}
		return h.give(f)
	}
	return h.known()
}

// gatewayLogin is the failure of a login at a gateway that knows nobody by what was offered.
func (g *login) gatewayLogin() *gate.Failure {
	l := g.h.l
	prints := []string{}
	for _, t := range g.tries {
		if t.Print != "" {
			prints = append(prints, t.Print)
		}
	}
	f := l.fail(gate.Login, gate.NoKeyAccepted, "not known there", fmt.Sprintf("%s knows nobody by what was shown", l.hop.Name),
		"have whoever runs it write you into its policy", &LoginRefused{Place: g.h.place(), Version: g.h.softwareName(), Tries: g.tries, Offered: g.offered})
	if len(prints) > 0 {
		f.Remedy = gate.Remedy{Say: "send whoever runs it this line for its policy: person NAME key " + prints[0], Act: gate.HandOn, Subject: "person NAME key " + prints[0]}
	} else if len(g.h.signers) == 0 {
		f.Remedy.Say = "name the key that you are known by in the gateway's table: key = \"PATH\""
	}
	f.Detail = g.told()
	return f
}

// gatewayRefusal words why a gateway opens no stream to the machine behind it.
func (l *Link) gatewayRefusal(refusal *line.Refusal) *gate.Failure {
	at, said := l.below.hop.Name, refusal.Say
	var f *gate.Failure
	switch refusal.Reason {
	case line.NotAllowed:
		f = l.fail(gate.Channel, gate.OnwardForbidden, "not allowed", said, "ask whoever runs "+at+" to allow it in its policy", refusal)
		f.Remedy.Act, f.Remedy.Subject = gate.HandOn, said
	case line.NoRoom:
		f = l.fail(gate.Channel, gate.ChannelRefused, "no room", said, "end what is not needed, or wait", refusal)
	default:
		f = l.fail(gate.Address, gate.FarUnreachable, "not there", said, fmt.Sprintf("see whether %s is up, and whether it is joined at %s: meatus gateway join has to run there", l.hop.Name, at), refusal)
		return f
	}
	f.Hop = at
	return f
}
