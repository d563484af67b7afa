package dial

import (
	"bufio"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"syscall"

	"golang.org/x/net/proxy"

	"meatus/core/bounded"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/step"
)

// How much a proxy may say before it has connected us onward, how long a file with its
// login may be, both in bytes, and how often a person is asked for the login.
const (
	maxProxySays  = 64 << 10
	maxProxyLogin = 4 << 10
	proxyTries    = 3
)

// proxyLogin is what a proxy is logged in to with.
type proxyLogin struct{ user, password string }

// refusedBy is why a proxy does not connect us onward.
type refusedBy struct {
	cause gate.Cause
	say   string
	mend  string
	login bool // it wants a login, or another one
}

func (r *refusedBy) Error() string { return r.say }

// byProxy connects to the first hop through its proxy, which resolves the name. It asks
// for the proxy's login where none is known.
func (r *reach) byProxy(p *step.Patience) (net.Conn, error) {
	r.Trying(gate.Proxy)
	login, err := r.knownProxyLogin()
	if err != nil {
		return nil, err
	}
	for try := 0; ; try++ {
		conn, err := r.throughProxy(p.Ctx, login)
		var refusal *refusedBy
		switch {
		case err == nil:
			r.throughNow(login)
			p.Renew()
			return conn, nil
		case !errors.As(err, &refusal):
			return nil, r.proxyFailure(p, err)
		case !refusal.login || r.Hop.ProxyFile != "" || try == proxyTries:
			return nil, r.proxyRefused(refusal)
		}
		if login, err = r.askProxyLogin(p, try+1); err != nil {
			return nil, err
		}
	}
}

// throughNow passes the proxy's gate and the address behind it, and keeps the login for the
// next time, in memory.
func (r *reach) throughNow(login proxyLogin) {
	g := route.ProxyGate(r.Hop)
	if g.Seen += ", connects onward"; login.user != "" {
		g.Seen += " as " + sanitize.Line(login.user, 40)
	}
	if g.Verdict == gate.Untried {
		g.Verdict = gate.Open
	}
	r.d.mu.Lock()
	if r.d.proxies == nil {
		r.d.proxies = map[string]proxyLogin{}
	}
	r.d.proxies[r.Hop.Proxy.String()] = login
	r.d.mu.Unlock()
	r.Tell(g)
	r.FoundAt(r.Hop.Host + ", seen from the proxy")
	r.Trying(gate.Port)
}

// knownProxyLogin is the login that the hop's file has, or that was right the last time, or
// the name alone.
func (r *reach) knownProxyLogin() (proxyLogin, error) {
	login := proxyLogin{user: r.Hop.Proxy.User}
	if file := r.Hop.ProxyFile; file != "" {
		if g := route.ProxyGate(r.Hop); g.Verdict == gate.Shut {
			f := r.Fail(gate.Proxy, gate.KeyUnusable, g.Seen, g.Reason, "", nil)
			f.Remedy = g.Remedy
			return login, f
		}
		text, err := bounded.File(file, maxProxyLogin)
		if err == nil {
			line, _, _ := strings.Cut(string(text), "\n")
			user, password, ok := strings.Cut(strings.TrimRight(line, "\r"), ":")
			if ok && user != "" {
				return proxyLogin{user, password}, nil
			}
			err = errors.New("its first line is not LOGIN:PASSWORD")
		}
		return login, r.Fail(gate.Proxy, gate.KeyUnusable, sanitize.Name(file), fmt.Sprintf("the proxy's login in %s cannot be read: %s", sanitize.Name(file), step.Words(err)), "write LOGIN:PASSWORD there, in one line", err)
	}
	r.d.mu.Lock()
	defer r.d.mu.Unlock()
	if known, ok := r.d.proxies[r.Hop.Proxy.String()]; ok {
		login = known
	}
	return login, nil
}

// askProxyLogin asks a person for the proxy's login.
func (r *reach) askProxyLogin(p *step.Patience, try int) (proxyLogin, error) {
	r.d.mu.Lock()
	delete(r.d.proxies, r.Hop.Proxy.String())
	r.d.mu.Unlock()
	by := r.Hop.Proxy
	q := step.ServerQuestions{
		Place: step.Place{Session: r.Route.Session, Hop: "proxy " + by.Address, Index: r.Index, Address: by.Address, User: by.User},
		Try:   try, Instruction: fmt.Sprintf("The proxy in front of %s requires a login. It is not the machine's.", r.Hop.Name),
	}
	if by.User == "" {
		q.Questions = append(q.Questions, step.Question{Text: "login:", Echo: true})
	}
	q.Questions = append(q.Questions, step.Question{Text: "password:"})
	var answers []string
	if f := r.Ask(p, gate.Proxy, q.Place, "the login of the proxy", func(ctx context.Context) (err error) {
		answers, err = r.Asker.Answers(ctx, q)
		if err == nil && len(answers) != len(q.Questions) {
			err = fmt.Errorf("%d answers to %d questions", len(answers), len(q.Questions))
		}
		return err
	}); f != nil {
		return proxyLogin{}, f
	}
	login := proxyLogin{by.User, answers[len(answers)-1]}
	if by.User == "" {
		login.user = answers[0]
	}
	return login, nil
}

// throughProxy connects to the proxy and has it connect to the hop. It fails with a
// [refusedBy] where the proxy said no.
func (r *reach) throughProxy(ctx context.Context, login proxyLogin) (net.Conn, error) {
	by := r.Hop.Proxy
	conn, err := r.dialProxy(ctx)
	if err != nil {
		return nil, err
	}
	if by.Scheme == "socks5" {
		return overSOCKS(ctx, conn, by.Address, r.Knock, login)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	if by.Scheme == "https" {
		host, _, _ := net.SplitHostPort(by.Address)
		secure := tls.Client(conn, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12, RootCAs: r.d.Roots})
		if err := secure.HandshakeContext(ctx); err != nil {
			conn.Close()
			return nil, tlsRefusal(host, err)
		}
		conn = secure
	}
	through, err := connect(conn, r.Knock, login)
	if err != nil {
		conn.Close()
		return nil, err
	}
	return through, nil
}

// dialProxy connects to the proxy itself.
func (r *reach) dialProxy(ctx context.Context) (net.Conn, error) {
	host, port, err := net.SplitHostPort(r.Hop.Proxy.Address)
	if err != nil {
		return nil, err
	}
	addrs := []string{host}
	if net.ParseIP(host) == nil {
		if addrs, err = r.d.Resolver.LookupHost(ctx, host); err != nil {
			return nil, err
		}
	}
	err = errors.New("no address")
	for _, addr := range addrs {
		var conn net.Conn
		if conn, err = r.d.Network.DialContext(ctx, "tcp", net.JoinHostPort(addr, port)); err == nil {
			return conn, nil
		}
	}
	return nil, err
}

// tlsRefusal words why a proxy's certificate, or its TLS, does not hold.
func tlsRefusal(host string, err error) error {
	var invalid *tls.CertificateVerificationError
	if errors.As(err, &invalid) {
		return &refusedBy{cause: gate.ProxyRefused, say: fmt.Sprintf("the proxy's certificate is not valid for %s: %s", host, step.Words(invalid.Err)), mend: "ask the proxy's administrator to renew it; no login was sent"}
	}
	var record tls.RecordHeaderError
	if errors.As(err, &record) {
		return &refusedBy{cause: gate.ProxyRefused, say: "what answers there does not speak TLS", mend: "write http:// if the proxy does not use TLS"}
	}
	return err
}

// connect has an HTTP proxy connect onward (RFC 9110 section 9.3.6), logged in by the Basic
// scheme (RFC 7617) where a login is known.
func connect(conn net.Conn, to string, login proxyLogin) (net.Conn, error) {
	request := &http.Request{Method: http.MethodConnect, URL: &url.URL{Opaque: to}, Host: to, Header: http.Header{"User-Agent": {""}}}
	if login.password != "" {
		basic := http.Request{Header: http.Header{}}
		basic.SetBasicAuth(login.user, login.password)
		request.Header.Set("Proxy-Authorization", basic.Header.Get("Authorization"))
	}
	if err := request.Write(conn); err != nil {
		return nil, err
	}
	reader := bufio.NewReader(io.LimitReader(conn, maxProxySays))
	answer, err := http.ReadResponse(reader, request)
	if err != nil {
		if strings.Contains(err.Error(), "malformed") {
			return nil, &refusedBy{cause: gate.ProxyRefused, say: "what answers there is no HTTP proxy", mend: "check the proxy's address, and whether it is a SOCKS 5 proxy"}
		}
		return nil, err
	}
	said := sanitize.Line(answer.Status, 80)
	switch code := answer.StatusCode; {
	case code/100 == 2:
		rest, err := reader.Peek(reader.Buffered()) // the server behind it may have spoken already
		return &begunConn{Conn: conn, begun: rest}, err
	case code == http.StatusProxyAuthRequired, code == http.StatusUnauthorized: // some say the latter to a wrong login
		return nil, &refusedBy{cause: gate.ProxyRefused, say: "the proxy refused the login: " + said, mend: "check the user name and password for the proxy", login: true}
	case code == http.StatusBadGateway, code == http.StatusServiceUnavailable, code == http.StatusGatewayTimeout, code == http.StatusNotFound:
		return nil, &refusedBy{cause: gate.FarUnreachable, say: fmt.Sprintf("the proxy could not connect to %s: %s", to, said), mend: "check whether the machine is up and accepts connections from the proxy"}
	default:
		return nil, &refusedBy{cause: gate.ProxyRefused, say: fmt.Sprintf("the proxy does not allow connections to %s: %s", to, said), mend: "ask the proxy's administrator to allow CONNECT to that port"}
	}
}

// begunConn is a connection of which some bytes were read already.
type begunConn struct {
	net.Conn
	begun []byte
}

func (c *begunConn) Read(b []byte) (int, error) {
	if len(c.begun) > 0 {
		n := copy(b, c.begun)
		c.begun = c.begun[n:]
		return n, nil
	}
	return c.Conn.Read(b)
}

// over dials to a proxy by a connection that is there already.
type over struct{ conn net.Conn }

func (o over) Dial(string, string) (net.Conn, error) { return o.conn, nil }

func (o over) DialContext(context.Context, string, string) (net.Conn, error) { return o.conn, nil }

// overSOCKS has a SOCKS 5 proxy connect onward (RFC 1928), logged in by name and password
// (RFC 1929) where a login is known.
func overSOCKS(ctx context.Context, conn net.Conn, by, to string, login proxyLogin) (net.Conn, error) {
	var auth *proxy.Auth
	if login.password != "" {
		auth = &proxy.Auth{User: login.user, Password: login.password}
	}
	dialer, err := proxy.SOCKS5("tcp", by, auth, over{conn})
	if err != nil {
		return nil, err
	}
	through, err := dialer.(proxy.ContextDialer).DialContext(ctx, "tcp", to)
	if err == nil {
		return through, nil
	}
	conn.Close()
	said := err.Error()
	for _, w := range socksWords {
		if strings.Contains(said, w.word) {
			r := w.refusal
			r.say = strings.ReplaceAll(r.say, "TO", to)
			return nil, &r
		}
	}
	return nil, err
}

// socksWords are the words of the library for what a SOCKS proxy answers (RFC 1928 section 6).
var socksWords = []struct {
	word    string
	refusal refusedBy
}{
	{"no acceptable authentication methods", refusedBy{gate.ProxyRefused, "the proxy requires a login", "name a valid one", true}},
	{"username/password authentication failed", refusedBy{gate.ProxyRefused, "the proxy refused the login", "check the user name and password for the proxy", true}},
	{"invalid username/password", refusedBy{gate.ProxyRefused, "the login or the password is longer than 255 bytes, or empty", "check the user name and password for the proxy", true}},
	{"unexpected protocol version", refusedBy{gate.ProxyRefused, "what answers there is no SOCKS 5 proxy", "check the proxy's address, and whether it is an HTTP proxy", false}},
	{"connection not allowed by ruleset", refusedBy{gate.ProxyRefused, "the proxy does not allow connections to TO", "ask the proxy's administrator to allow that port", false}},
	{"network unreachable", refusedBy{gate.FarUnreachable, "the proxy has no route to TO", "check whether the machine is up, in a network that the proxy can reach", false}},
	{"host unreachable", refusedBy{gate.FarUnreachable, "the proxy has no route to TO, or does not know its name", "check whether the machine is up, in a network that the proxy can reach", false}},
	{"connection refused", refusedBy{gate.Refused, "the proxy reaches the machine, but nothing listens at TO", "check the port; if the machine has just started, give it a moment", false}},
	{"TTL expired", refusedBy{gate.FarUnreachable, "the proxy's way to TO runs in a circle", "tell the proxy's administrator", false}},
	{"general SOCKS server failure", refusedBy{gate.FarUnreachable, "the proxy could not connect to TO, and gives no reason", "check whether the machine is up and accepts connections from the proxy", false}},
}

// proxyRefused is the failure where the proxy said no.
func (r *reach) proxyRefused(by *refusedBy) *gate.Failure {
	at := gate.Proxy
	switch by.cause {
	case gate.Refused:
		at = gate.Port
	case gate.FarUnreachable:
		at = gate.Address
	}
	if at != gate.Proxy {
		r.Passed(gate.Proxy, r.Hop.Proxy.String())
	}
	return r.Fail(at, by.cause, string(by.cause), by.say, by.mend, by)
}

// proxyFailure words why the proxy itself could not be reached.
func (r *reach) proxyFailure(p *step.Patience, err error) *gate.Failure {
	by := r.Hop.Proxy.Address
	var f *gate.Failure
	var timeout net.Error
	var name *net.DNSError
	switch {
	case errors.As(err, &name):
		f = r.Fail(gate.Proxy, gate.NoAddress, by, fmt.Sprintf("the name of the proxy %s does not resolve on this machine", by), "check the spelling, and whether this machine is in the right network", err)
	case p.RanOut(), errors.Is(err, syscall.ETIMEDOUT), errors.As(err, &timeout) && timeout.Timeout():
		f = r.Fail(gate.Proxy, gate.NoAnswer, "no answer from "+by, fmt.Sprintf("the proxy %s did not answer within %s", by, r.Limit), "check whether the proxy is up, and its address", err)
	case errors.Is(err, syscall.ECONNREFUSED):
		f = r.Fail(gate.Proxy, gate.Refused, by+" refused", fmt.Sprintf("the machine at %s answers, but no proxy listens on that port", by), "check the proxy's port, or set proxy to off", err)
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		f = r.Fail(gate.Proxy, gate.Unreachable, by+" unreachable", fmt.Sprintf("there is no network route from here to the proxy %s", by), "check whether this machine is in the right network, or set proxy to off", err)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE):
		f = r.Fail(gate.Proxy, gate.ServerClosed, by+" hung up", fmt.Sprintf("the proxy %s hung up before it had connected us onward", by), "try again; if it stays, ask the proxy's administrator", err)
	default:
		f = r.Fail(gate.Proxy, gate.Unexpected, by, fmt.Sprintf("the proxy %s could not be used: %s", by, step.Words(err)), "check that it is a proxy of the configured kind", err)
	}
	return f
}
