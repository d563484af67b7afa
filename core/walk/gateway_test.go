package walk_test

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"log"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

// atSea opens the bay, and waits until the sounder has joined.
func atSea(t *testing.T) *bay {
	t.Helper()
	b := openBay(t, nil)
	b.joined("sounder")
	return b
}

// joined waits until a machine can be walked to through the gateway.
func (b *bay) joined(name string) {
	b.t.Helper()
	var last error
	if !await.Within(await.Patience, func() bool {
		p, err := b.Walk(context.Background(), b.route(name))
		if last = err; err == nil {
			p.Close()
		}
		return err == nil
	}) {
		b.t.Fatalf("%s never joined: %v", name, last)
	}
}

// A way through a gateway is one as any other: its link is shared, its gates stand in the report, and it returns.
func TestAWayThroughAGateway(t *testing.T) {
	b := atSea(t)
	if out, end := b.run("sounder", "hostname"); out != "sounder\n" || end.Status != 0 {
		t.Errorf("%q %+v", out, end)
	}
	var gateway, machine link.State
	for _, l := range b.Links() {
		if l.Hop == lab.Lightship {
			gateway = l
		} else {
			machine = l
		}
	}
	if !gateway.Gateway || machine.Below != gateway.ID || gateway.PayIn == 0 || gateway.In < gateway.PayIn || gateway.Channels != 1 {
		t.Errorf("%+v\n%+v", gateway, machine)
	}
	r := b.route("sounder")
	report := r.Check(route.Knowledge{Vouched: b.vouched})
	if h := report.Hops[0]; !h.Gateway || h.User != "" || len(h.Gates) != 6 || report.Verdict() == gate.Shut {
		t.Errorf("%+v", report)
	}
	// A gateway knows an instance by its id, whatever address the estate has of it.
	bound := b.route("sounder")
	bound.Hops[1].Host, bound.Hops[1].Instance = "10.62.0.12", &book.Binding{Source: "bay", ID: "i-sounder"}
	p, err := b.Walk(t.Context(), bound)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
	b.RestartLightship(0)
	await.Until(t, "the link to end", func() bool { return len(b.Links()) == 0 })
	b.joined("sounder")
}

// What is wrong at a gateway stands at its gate, with what to do.
func TestWhatIsWrongAtAGateway(t *testing.T) {
	b := atSea(t)
	right := b.route("sounder")
	folder := t.TempDir()
	file := func(name, text string, mode os.FileMode) string {
		path := filepath.Join(folder, name)
		if err := os.WriteFile(path, []byte(text), mode); err != nil {
			t.Fatal(err)
		}
		if err := os.Chmod(path, mode); err != nil {
			t.Fatal(err)
		}
		return path
	}
	for name, c := range map[string]struct {
		change func(*route.Hop)
		gate   gate.Kind
		says   string
	}{
		"another key than named":    {func(h *route.Hop) { h.Gateway.HostKeys = []string{"SHA256:" + strings.Repeat("A", 43)} }, gate.Identity, "is not valid for 127.0.0.1"},
		"signed by nobody":          {func(h *route.Hop) { h.Gateway.HostKeys = nil }, gate.Identity, "is not valid for 127.0.0.1"},
		"no certificate in ca":      {func(h *route.Hop) { h.Gateway.CA = file("ca", "nothing", 0o600) }, gate.Identity, "there is no certificate in it"},
		"no such ca":                {func(h *route.Hop) { h.Gateway.CA = filepath.Join(folder, "none") }, gate.Identity, "no such file"},
		"another person's key":      {func(h *route.Hop) { h.Keys = []string{filepath.Join(b.Dir, "keys/gauge.pem")} }, gate.Login, "lightship does not know the key or certificate"},
		"no key":                    {func(h *route.Hop) { h.Keys = nil }, gate.Login, "lightship does not know the key or certificate"},
		"a token others can read":   {func(h *route.Hop) { h.Gateway.TokenFile = file("open", "x", 0o644) }, gate.Key, "the token in"},
		"a token of two lines":      {func(h *route.Hop) { h.Gateway.TokenFile = file("two", "a\nb\n", 0o600) }, gate.Key, "it does not hold one token"},
		"a token that nobody takes": {func(h *route.Hop) { h.Gateway.TokenFile = file("token", "x.y.z\n", 0o600) }, gate.Login, "the certificate or token is not taken"},
		"a program that fails":      {func(h *route.Hop) { h.Gateway.TokenCommand = []string{"false"} }, gate.Key, "the token in false cannot be read"},
		"no client certificate":     {func(h *route.Hop) { h.Gateway.Certificate = file("cert", "x", 0o600) }, gate.Key, "the client certificate"},
		"no gateway":                {func(h *route.Hop) { h.Gateway.URLs = []string{"wss://" + b.Address()} }, gate.Port, "does not speak TLS"},
		"nothing there":             {func(h *route.Hop) { h.Gateway.URLs = []string{"wss://127.0.0.1:1", "wss://127.0.0.1:2"} }, gate.Address, "there is no network route from here to 127.0.0.1:2"},
	} {
		t.Run(name, func(t *testing.T) {
			r := right
			r.Hops = append([]route.Hop{}, right.Hops...)
			gateway := *r.Hops[0].Gateway
			r.Hops[0].Gateway = &gateway
			c.change(&r.Hops[0])
			_, err := b.Walk(t.Context(), r)
			var f *gate.Failure
			if !errors.As(err, &f) || f.Gate != c.gate || f.Hop != lab.Lightship || !strings.Contains(f.Why, c.says) || f.Remedy.Say == "" {
				t.Errorf("%+v", err)
			}
		})
	}
	// One that is away is passed over for the next.
	r := right
	r.Hops = append([]route.Hop{}, right.Hops...)
	gateway := *r.Hops[0].Gateway
	gateway.URLs = append([]string{"wss://127.0.0.1:1"}, gateway.URLs...)
	r.Hops[0].Gateway = &gateway
	p, err := b.Walk(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
}

// What stands before a gateway and speaks an older TLS is told as that.
func TestAnOlderTLSIsTold(t *testing.T) {
	older := httptest.NewUnstartedServer(http.NotFoundHandler())
	older.TLS = &tls.Config{MaxVersion: tls.VersionTLS12}
	older.Config.ErrorLog = log.New(io.Discard, "", 0)
	older.StartTLS()
	defer older.Close()
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(t.TempDir(), "v")), Asker: labtest.Yes{}})
	defer w.Close()
	h := route.Hop{Name: "front", Destination: route.Destination{Host: "127.0.0.1", Port: older.Listener.Addr().(*net.TCPAddr).Port, Gateway: &route.Gateway{URLs: []string{"wss://" + older.Listener.Addr().String()}}}, Credentials: route.Credentials{User: "meatus"}, Limits: route.Limits{Keepalive: time.Minute}}
	var f *gate.Failure
	if _, err := w.Walk(t.Context(), h.AsRoute()); !errors.As(err, &f) || !strings.Contains(f.Why, "does not support TLS 1.3") {
		t.Errorf("%v", err)
	}
}

// What a gateway's policy cuts is told as cut by it.
func TestACutByThePolicyIsToldAsThat(t *testing.T) {
	b := atSea(t)
	p, err := b.Walk(context.Background(), b.route("sounder"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	path := filepath.Join(b.Dir, "lab", lab.Lightship, "gateway.policy")
	rules, err := os.ReadFile(path)
	if err == nil {
		err = os.WriteFile(path, []byte(strings.Replace(string(rules), "allow warden to sounder", "allow warden to", 1)), 0o600)
	}
	if err != nil {
		t.Fatal(err)
	}
	await.Until(t, "the link to end", func() bool { return p.Failure() != nil })
	if f := p.Failure(); !strings.Contains(f.Why, "its policy does not allow it any more") || !strings.Contains(f.Why, lab.Lightship) {
		t.Errorf("it is told as %q", f.Why)
	}
}
