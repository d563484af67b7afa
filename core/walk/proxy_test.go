package walk_test

import (
	"context"
	"crypto/x509"
	"errors"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/walk"
)

// httpProxy is a proxy that connects onward for one login, or for everybody where it is "".
type httpProxy struct {
	login    string
	connects atomic.Int64
}

func (p *httpProxy) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if p.login != "" {
		given := http.Request{Header: http.Header{"Authorization": r.Header["Proxy-Authorization"]}}
		if user, password, _ := given.BasicAuth(); user+":"+password != p.login {
			w.Header().Set("Proxy-Authenticate", `Basic realm="bay"`)
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
	}
	far, err := net.Dial("tcp", r.Host)
	if r.Method != http.MethodConnect || err != nil {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	p.connects.Add(1)
	w.WriteHeader(http.StatusOK)
	near, buffered, err := http.NewResponseController(w).Hijack()
	if err != nil {
		return
	}
	go func() { io.Copy(far, buffered); far.Close() }()
	io.Copy(near, far)
	near.Close()
}

// proxied is a bay whose bastion is reached through a proxy, with no other way to it.
func proxied(t *testing.T, uri string, change func(*walk.Config)) *bay {
	b := openBay(t, func(c *walk.Config) {
		c.Network = nil
		if change != nil {
			change(c)
		}
	})
	if _, err := book.Set(filepath.Join(b.Dir, book.FileName), "quay", "proxy", uri); err != nil {
		t.Fatal(err)
	}
	return b
}

func TestAFirstHopIsReachedThroughAnHTTPProxy(t *testing.T) {
	p := &httpProxy{login: "keeper:low tide"}
	server := httptest.NewServer(p)
	defer server.Close()
	b := proxied(t, "http://keeper@"+server.Listener.Addr().String(), nil)
	b.person.answers = []string{"low tide"}
	inbox := b.Events.Subscribe()
	if out, _ := b.run("gauge-1", "hostname"); out != "gauge-1\n" {
		t.Errorf("it said %q", out)
	}
	var seen []string
	for _, e := range inbox.Take(context.Background()) {
		if e, ok := e.(walk.Passed); ok && e.Hop == 0 {
			seen = append(seen, e.Gate.Kind.String()+" "+e.Gate.Seen)
		}
	}
	if len(seen) < 3 || seen[0] != "proxy http://keeper@"+server.Listener.Addr().String()+", connects onward as keeper" || !strings.Contains(seen[1], "seen from the proxy") || p.connects.Load() != 1 {
		t.Errorf("gates %q, %d connections", seen, p.connects.Load())
	}
	// What was right is not asked for again.
	b.cut("quay")
	b.run("gauge-1", "hostname")
	if n := len(b.person.questions); n != 1 || !strings.Contains(b.person.questions[0].Instruction, "It is not the machine's") {
		t.Errorf("asked %d times: %+v", n, b.person.questions)
	}
}

func TestAProxysLoginIsReadFromAFileThatNobodyElseReads(t *testing.T) {
	p := &httpProxy{login: "keeper:low:tide"}
	server := httptest.NewServer(p)
	defer server.Close()
	b := proxied(t, server.URL, nil)
	file := filepath.Join(b.Dir, "keys", "proxy.login")
	if err := os.WriteFile(file, []byte("keeper:low:tide\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := book.Set(filepath.Join(b.Dir, book.FileName), "quay", "proxy_login", "keys/proxy.login"); err != nil {
		t.Fatal(err)
	}
	if out, _ := b.run("gauge-1", "hostname"); out != "gauge-1\n" {
		t.Errorf("it said %q", out)
	}
	b.cut("quay")
	if err := os.Chmod(file, 0o640); err != nil {
		t.Fatal(err)
	}
	before := p.connects.Load()
	_, err := b.Walk(context.Background(), b.route("gauge-1"))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Gate != gate.Proxy || f.Cause != gate.KeyUnusable || f.Remedy.Act != gate.MendFile || f.Remedy.Subject != file || p.connects.Load() != before {
		t.Errorf("with mode 0640: %+v, %d connections more", err, p.connects.Load()-before)
	}
	if len(b.person.questions) > 0 {
		t.Errorf("asked %+v", b.person.questions)
	}
}

func TestAProxysCertificateIsLookedAt(t *testing.T) {
	server := httptest.NewTLSServer(&httpProxy{})
	defer server.Close()
	roots := x509.NewCertPool()
	roots.AddCert(server.Certificate())
	b := proxied(t, server.URL, func(c *walk.Config) { c.Roots = roots })
	if out, _ := b.run("gauge-1", "hostname"); out != "gauge-1\n" {
		t.Errorf("it said %q", out)
	}
	b = proxied(t, server.URL, func(c *walk.Config) { c.Roots = x509.NewCertPool() })
	_, err := b.Walk(context.Background(), b.route("quay"))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Gate != gate.Proxy || !strings.Contains(f.Why, "certificate is not valid") {
		t.Errorf("a certificate nobody knows: %v", err)
	}
}

func TestWhatAProxyDoesNotDoIsSaid(t *testing.T) {
	answer := func(text string, wait bool) string {
		return listener(t, func(c net.Conn) {
			c.Read(make([]byte, 4096))
			io.WriteString(c, text)
			if wait {
				io.Copy(io.Discard, c)
			}
		})
	}
	socks := func(reply byte) string {
		return listener(t, func(c net.Conn) {
			c.Read(make([]byte, 4096))
			c.Write([]byte{5, 0})
			c.Read(make([]byte, 4096))
			c.Write([]byte{5, reply, 0, 1, 0, 0, 0, 0, 0, 0})
		})
	}
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	closed.Close()
	endless := listener(t, func(c net.Conn) {
		c.Read(make([]byte, 4096))
		io.WriteString(c, "HTTP/1.1 200 OK\r\n")
		for {
			if _, err := io.WriteString(c, "X-Tide: "+strings.Repeat("a", 4000)+"\r\n"); err != nil {
				return
			}
		}
	})
	for _, c := range []struct {
		uri   string
		gate  gate.Kind
		cause gate.Cause
		say   string
	}{
		{"http://" + answer("HTTP/1.1 403 Keep \x1b[31mout\r\n\r\n", false), gate.Proxy, gate.ProxyRefused, "does not allow connections to 203.0.113.10:22: 403 Keep [31mout"},
		{"http://" + answer("HTTP/1.1 502 No\r\n\r\n", false), gate.Address, gate.FarUnreachable, "could not connect"},
		{"http://" + answer("SSH-2.0-odd\r\n", false), gate.Proxy, gate.ProxyRefused, "is no HTTP proxy"},
		{"http://" + answer("", false), gate.Proxy, gate.ServerClosed, "hung up"},
		{"http://" + answer("", true), gate.Proxy, gate.NoAnswer, "did not answer within"},
		{"http://" + endless, gate.Proxy, gate.ServerClosed, "hung up"},
		{"https://" + answer("SSH-2.0-odd\r\n", false), gate.Proxy, gate.ProxyRefused, "does not speak TLS"},
		{"http://" + closed.Addr().String(), gate.Proxy, gate.Refused, "no proxy listens"},
		{"socks5://" + answer("SSH-2.0-odd\r\n", false), gate.Proxy, gate.ProxyRefused, "no SOCKS 5 proxy"},
		{"socks5://" + answer("\x05\xff", true), gate.Proxy, gate.CannotAsk, "nobody to ask"},
		{"socks5://" + answer("\x05", true), gate.Proxy, gate.NoAnswer, "did not answer within"},
		{"socks5://" + socks(2), gate.Proxy, gate.ProxyRefused, "does not allow connections to"},
		{"socks5://" + socks(4), gate.Address, gate.FarUnreachable, "no route to"},
		{"socks5://" + socks(5), gate.Port, gate.Refused, "nothing listens at"},
	} {
		tr := newTraveller(t, 1, &person{nobody: true})
		by, err := book.ParseProxy(c.uri)
		if err != nil {
			t.Fatal(err)
		}
		r := route.Route{Session: "odd", Hops: []route.Hop{{Name: "odd", Destination: route.Destination{Host: "203.0.113.10", Port: 22, Proxy: by}, Credentials: route.Credentials{User: "keeper", Keys: tr.keys}, Limits: route.Limits{Keepalive: time.Minute}}}}
		_, err = tr.Walk(context.Background(), r)
		var f *gate.Failure
		if !errors.As(err, &f) || f.Gate != c.gate || f.Cause != c.cause || !strings.Contains(f.Why, c.say) || f.Remedy.Say == "" {
			t.Errorf("%s: %v (%+v)", c.uri, err, f)
		}
	}
}

func TestAWrongProxyLoginIsAskedForAFewTimes(t *testing.T) {
	server := httptest.NewServer(&httpProxy{login: "keeper:low tide"})
	defer server.Close()
	b := proxied(t, server.URL, nil)
	b.person.answers = []string{"keeper", "high tide"}
	_, err := b.Walk(context.Background(), b.route("quay"))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Gate != gate.Proxy || f.Cause != gate.ProxyRefused || len(b.person.questions) != 3 || b.person.questions[2].Try != 3 {
		t.Errorf("walked: %v, asked %d times", err, len(b.person.questions))
	}
	if q := b.person.questions[0]; len(q.Questions) != 2 || !q.Questions[0].Echo || q.Questions[1].Echo {
		t.Errorf("asked %+v", q)
	}
}
