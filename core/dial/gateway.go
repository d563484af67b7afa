package dial

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os/exec"
	"strconv"
	"strings"
	"time"

	"github.com/libp2p/go-yamux/v5"
	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/bounded"
	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/secret"
	"meatus/core/step"
)

// A gateway is a first hop that is reached by WebSocket over TLS. Inside it speaks SSH, so that its link is one as
// any other, with the same keys and questions; what it opens onward is a stream to a machine that has joined.

// How much of a file of a gateway's is read, and of what a program prints, in bytes.
const maxGatewayFile = 1 << 20

// toGateway connects to the first of a gateway's addresses that answers.
func (r *reach) toGateway(p *step.Patience) (net.Conn, error) {
	target, err := r.gatewayTarget(p)
	if err != nil {
		return nil, err
	}
	for i, url := range r.Hop.Gateway.URLs {
		host, port := book.HostOfURL(url)
		r.Knock = net.JoinHostPort(host, strconv.Itoa(port))
		var conn net.Conn
		if conn, err = r.one(p); err == nil {
			p.Renew()
			target.URL = url
			target.Dial = func(context.Context, string, string) (net.Conn, error) { return conn, nil }
			var control net.Conn
			if control, err = r.overGateway(p.Ctx, target); err == nil {
				return control, nil
			}
			conn.Close()
			err = r.gatewayFailure(p, host, err)
		}
		var f *gate.Failure
		another := errors.As(err, &f) && (f.Gate == gate.Address || f.Gate == gate.Port)
		if !another || i == len(r.Hop.Gateway.URLs)-1 || r.Ctx.Err() != nil {
			return nil, err
		}
		p.Renew()
	}
	return nil, err
}

// Gateway is the connection to a gateway. Its first stream is SSH, by which it knows us, and the others lead to
// machines.
type Gateway struct {
	Line    *line.Conn
	Wire    *Conn // what all its streams pass
	Session *yamux.Session
}

// overGateway makes it, and returns the first stream.
func (r *reach) overGateway(ctx context.Context, target line.Target) (net.Conn, error) {
	conn, err := line.Connect(ctx, target)
	if err != nil {
		return nil, err
	}
	g := &Gateway{Line: conn, Wire: NewConn(conn, false)}
	g.Wire.Settle()
	if g.Session, err = line.Mux(g.Wire, true); err != nil {
		conn.Close()
		return nil, err
	}
	control, err := g.Session.OpenStream(ctx)
	if err != nil {
		g.Session.Close()
		return nil, err
	}
	context.AfterFunc(r.Ctx, func() { g.Session.Close() })
	r.Gateway = g
	return control, nil
}

// gatewayTarget is what is known of a gateway before it is connected to, with what we show there.
func (r *reach) gatewayTarget(p *step.Patience) (line.Target, error) {
	g := r.Hop.Gateway
	t := line.Target{Path: line.ForPersons, HostKeys: g.HostKeys, Header: http.Header{}, Roots: r.d.Roots}
	unreadable := func(at gate.Kind, file, what string, err error) error {
		return r.Fail(at, gate.KeyUnusable, sanitize.Name(file), fmt.Sprintf("%s in %s cannot be read: %s", what, sanitize.Name(file), step.Words(err)), "correct the gateway's table in the sessions file, or that file", err)
	}
	if g.CA != "" {
		text, err := bounded.File(g.CA, maxGatewayFile)
		t.Roots = x509.NewCertPool()
		if err == nil && !t.Roots.AppendCertsFromPEM(text) {
			err = errors.New("there is no certificate in it")
		}
		if err != nil {
			return t, unreadable(gate.Identity, g.CA, "the certificates that sign the gateway's", err)
		}
	}
	if judged := route.GatewayKey(r.Hop, route.KeySheets{}); judged.Verdict == gate.Shut {
		f := r.Fail(gate.Key, gate.KeyUnusable, judged.Seen, judged.Reason, "", nil)
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
	token, file, err := r.gatewayToken(p)
	if g.Device != "" {
		if token, err = r.deviceToken(p); err != nil {
			return t, r.Fail(gate.Key, gate.CannotAsk, "no token", sanitize.Line(err.Error(), 300), "go to the address that is shown, or name another way to be known", err)
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
func (r *reach) gatewayToken(p *step.Patience) (token, from string, err error) {
	g := r.Hop.Gateway
	var text []byte
	switch {
	case g.TokenFile != "":
		from = g.TokenFile
		text, err = bounded.File(from, maxGatewayFile)
	case len(g.TokenCommand) > 0:
		from = g.TokenCommand[0]
		cmd := exec.CommandContext(p.Ctx, g.TokenCommand[0], g.TokenCommand[1:]...)
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
func (r *reach) gatewayFailure(p *step.Patience, host string, err error) error {
	var invalid *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	var refusal *line.Refusal
	switch {
	case errors.As(err, &invalid):
		r.Passed(gate.Port, r.Knock+", answers with TLS")
		f := r.Fail(gate.Identity, gate.IdentityUnknown, "its certificate is not valid",
			fmt.Sprintf("the certificate of %s is not valid for %s: %s", r.Hop.Name, host, sanitize.Line(invalid.Err.Error(), 160)),
			"ask its administrator for its key, and write host_key = \"SHA256:…\" or ca = \"FILE\" in the gateway's table; nothing was sent to it", err)
		if key, kerr := ssh.NewPublicKey(invalid.UnverifiedCertificates[0].PublicKey); kerr == nil {
			f.Detail = []string{"it shows " + key.Type() + " " + ssh.FingerprintSHA256(key)}
			if len(r.Hop.Gateway.HostKeys) > 0 {
				f.Cause, f.Seen = gate.IdentityChanged, "not the key that is named"
				f.Detail = append(f.Detail, "named    "+strings.Join(r.Hop.Gateway.HostKeys, " "))
			}
		}
		return f
	case errors.As(err, &record):
		return r.Fail(gate.Port, gate.NotSSH, "no TLS", "what answers at "+r.Knock+" does not speak TLS", "check the gateway's address", err)
	case strings.Contains(err.Error(), "protocol version not supported"), strings.Contains(err.Error(), "unsupported protocol version"):
		return r.Fail(gate.Port, gate.NotSSH, "an older TLS", "what answers at "+r.Knock+" does not support TLS 1.3, which is required", "have TLS 1.3 enabled on the front of the gateway", err)
	case errors.As(err, &refusal) && (refusal.Status == http.StatusUnauthorized || refusal.Status == http.StatusForbidden):
		return r.Fail(gate.Login, gate.NoKeyAccepted, "not let in", fmt.Sprintf("%s does not let us in: %s", r.Hop.Name, refusal.Say), "get a token, or a certificate, that is valid now; the gateway's log has the reason", err)
	case errors.As(err, &refusal) && refusal.Status == http.StatusServiceUnavailable:
		return r.Fail(gate.Port, gate.Busy, "busy", fmt.Sprintf("%s takes nobody now: %s", r.Hop.Name, refusal.Say), "connect again in a moment", err)
	case errors.As(err, &refusal):
		return r.Fail(gate.Port, gate.NotSSH, "no gateway", refusal.Say+", at "+r.Knock, "check the gateway's address", err)
	case p.RanOut():
		return r.Fail(gate.Port, gate.NoAnswer, "connected, then silence", fmt.Sprintf("%s accepted the connection, but sent nothing within %s", r.Knock, r.Limit), "a firewall or proxy holds the connection; try again", err)
	}
	return r.Fail(gate.Port, gate.ServerClosed, "closed at once", fmt.Sprintf("%s took the connection and closed it: %s", r.Knock, step.Words(err)), "the gateway may be starting, or a proxy in between does not allow WebSocket", err)
}
