package service

import (
	"context"
	"errors"
	"net"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"meatus/core/policy"
)

// from is a connection from an address, which counts how often it is closed.
type from struct {
	net.Conn
	at     string
	closed *int
}

func (c from) RemoteAddr() net.Addr {
	a, _ := net.ResolveTCPAddr("tcp", c.at)
	return a
}
func (c from) Close() error { *c.closed++; return nil }

// queue is a listener of connections that are there already.
type queue struct {
	net.Listener
	all []net.Conn
}

func (q *queue) Accept() (net.Conn, error) {
	if len(q.all) == 0 {
		return nil, net.ErrClosed
	}
	c := q.all[0]
	q.all = q.all[1:]
	return c, nil
}

// One address, or one IPv6 network, has so many connections that are not logged in, and what ends makes room.
func TestStrangersOfOneNetworkAreLimited(t *testing.T) {
	for _, c := range []struct {
		what     string
		at, then func(i int) string
	}{
		{"an address", func(int) string { return "198.51.100.7:40000" }, func(int) string { return "198.51.100.8:40000" }},
		{"a network", func(i int) string { return "[2001:db8:1:2::" + string("0123456789abcdef"[i%16]) + "]:40000" }, func(int) string { return "[2001:db8:1:3::1]:40000" }},
		{"an address written for the other family", func(i int) string {
			return []string{"198.51.100.7:40000", "[::ffff:198.51.100.7]:40000"}[i%2]
		}, func(int) string { return "198.51.100.8:40000" }},
	} {
		refused := 0
		q := &queue{}
		for i := range maxFromOne + 3 {
			q.all = append(q.all, from{at: c.at(i), closed: &refused})
		}
		ended := 0
		q.all = append(q.all, from{at: c.then(0), closed: &ended})
		s := newStrangers(q)
		var in []net.Conn
		for range maxFromOne + 1 {
			conn, err := s.Accept()
			if err != nil {
				t.Fatal(err)
			}
			in = append(in, conn)
		}
		if refused != 3 || s.refused.Load() != 3 || in[maxFromOne].RemoteAddr().String() != c.then(0) {
			t.Errorf("%s: %d were refused, %d counted", c.what, refused, s.refused.Load())
		}
		in[0].Close()
		in[0].Close() // twice makes room for one
		q.all = append(q.all, from{at: c.at(0), closed: &refused}, from{at: c.at(0), closed: &refused})
		if _, err := s.Accept(); err != nil {
			t.Errorf("%s: there is no room after one has left: %v", c.what, err)
		}
		if _, err := s.Accept(); !errors.Is(err, net.ErrClosed) {
			t.Errorf("%s: two were let in for one that left: %v", c.what, err)
		}
	}
}

// All strangers together are limited, too.
func TestStrangersAreLimitedInAll(t *testing.T) {
	refused := 0
	q := &queue{}
	for i := range maxStrangers + 5 {
		q.all = append(q.all, from{at: net.JoinHostPort(net.IPv4(203, 0, byte(i>>8), byte(i)).String(), "40000"), closed: &refused})
	}
	s := newStrangers(q)
	for range maxStrangers {
		if _, err := s.Accept(); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Accept(); !errors.Is(err, net.ErrClosed) || refused != 5 {
		t.Errorf("%v, %d refused", err, refused)
	}
}

// What a service tells of itself: that it runs, whether it takes anybody, and its metrics, to this machine alone.
func TestStatusTellsWhetherTheServiceIsReady(t *testing.T) {
	path := t.TempDir() + "/gateway.policy"
	if err := os.WriteFile(path, []byte("person mira key SHA256:54c5B5WBJm7pzOoe1FGAi5P8mnsYSk4ZJ5zLxwgq0KQ\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	rules, err := OpenPolicy(policy.Gateway, path, nil)
	if err != nil {
		t.Fatal(err)
	}
	own := t.TempDir() + "/own.pem"
	cert := &Certificate{CertFile: own, KeyFile: own}
	if err := cert.Make("gateway.lantern.example"); err != nil {
		t.Fatal(err)
	}
	s := New(Options{Called: "gateway", Policy: rules, Certificate: cert}, nil)
	var store error
	h := s.Status(func(context.Context) error { return store }, func(m Metrics) { m.Gauge("machines", 3) })
	get := func(path, host string) (int, string) {
		r := httptest.NewRequest("GET", path, nil)
		r.Host = host
		w := httptest.NewRecorder()
		h.ServeHTTP(w, r)
		return w.Code, w.Body.String()
	}
	for path, want := range map[string]int{"/health": 200, "/ready": 200, "/metrics": 200, "/": 404} {
		if got, _ := get(path, "127.0.0.1:9180"); got != want {
			t.Errorf("%s: %d", path, got)
		}
		if got, _ := get(path, "lantern.example"); got != 421 {
			t.Errorf("%s by another name: %d", path, got)
		}
	}
	s.Refused.Add(2)
	_, text := get("/metrics", "localhost")
	for _, want := range []string{"meatus_gateway_machines 3\n", "meatus_gateway_refused_total 2\n", "meatus_gateway_policy_current 1\n", "meatus_gateway_certificate_current 1\n", "# TYPE meatus_gateway_refused_total counter\n"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing of\n%s", want, text)
		}
	}
	store = errors.New("no room")
	if got, say := get("/ready", "localhost"); got != 503 || strings.Contains(say, "no room") {
		t.Errorf("without a store: %d, %s", got, say)
	}
	if got, _ := get("/health", "localhost"); got != 200 {
		t.Errorf("without a store it does not run: %d", got)
	}
	store = nil
	s.Stop()
	if got, _ := get("/ready", "localhost"); got != 503 {
		t.Errorf("at its end: %d", got)
	}
}
