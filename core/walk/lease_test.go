package walk_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"errors"
	"net/netip"
	"strings"
	"testing"
	"time"

	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/rights"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/walk"
	"meatus/lab/labtest"

	"golang.org/x/crypto/ssh"
)

// leasing is a walker over the bay that asks for leases.
func leasing(t *testing.T, b *bay, asker step.Asker) (*walk.Walker, *lease.Client) {
	t.Helper()
	c := &lease.Client{}
	w := walk.New(walk.Config{Vouched: b.vouched, Asker: asker, Network: b.Dialer(), Leases: c, Linger: time.Millisecond})
	c.At = w.AtGateway
	t.Cleanup(w.Close)
	return w, c
}

// A way that was lost returns with another lease, and where none is given any more it says so.
func TestAWayByALeaseReturns(t *testing.T) {
	b := openBay(t, nil)
	w, c := leasing(t, b, labtest.Yes{})
	r := b.route("weir")
	p, err := w.Walk(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	first := c.Held()
	if len(first) != 1 || first[0].Rule != "rule tide-watch" || first[0].Login != "keeper" {
		t.Fatalf("%+v", first)
	}
	b.Host("weir").Cut()
	<-p.Done()
	p.Close()
	back, err := w.Return(t.Context(), r, time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	if held := c.Held(); len(held) != 2 || held[0].Serial == held[1].Serial {
		t.Errorf("%+v", held)
	}
	back.Close()
	var f *gate.Failure
	_, err = w.Walk(t.Context(), r.AtEnd(func(h *route.Hop) { h.User = "clerk" }))
	if !errors.As(err, &f) || f.Gate != gate.Lease || f.Cause != gate.LeaseRefused || !strings.Contains(f.Why, "rule books-apart denies it") {
		t.Errorf("%v", err)
	}
	// Where the session has a key, too, that is offered, and the gate says why.
	of := *r.Target().Lease
	of.Machine = "fen"
	fen := b.route("fen").AtEnd(func(h *route.Hop) { h.Lease = &of })
	in, err := w.Walk(t.Context(), fen)
	if err != nil {
		t.Fatal(err)
	}
	in.Close()
	// And where the issuer is not there it is said where.
	gone := *r.Target().Lease
	gone.Way.Gateway = &route.Gateway{Issuer: true, URLs: []string{"wss://127.0.0.1:1"}}
	_, err = w.Walk(t.Context(), r.AtEnd(func(h *route.Hop) { h.Lease = &gone }))
	if !errors.As(err, &f) || f.Gate != gate.Lease || !strings.Contains(f.Why, "the issuer purser issues no certificate") {
		t.Errorf("%v", err)
	}
}

// sourced gives leases for one address alone.
type sourced struct{ *lease.Client }

func (s sourced) Get(_ context.Context, hop route.Hop, _ string, _ func([]string)) (*lease.Held, error) {
	signer := func() (ssh.Signer, error) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		return ssh.NewSignerFromKey(key)
	}
	ca, err1 := signer()
	own, err2 := signer()
	if err := errors.Join(err1, err2); err != nil {
		return nil, err
	}
	now := time.Now()
	cert, err := lease.Sign(own.PublicKey(), lease.Terms{Serial: 1, Person: "mira", Login: hop.User, Machine: hop.Lease.Machine, Rule: "rule near", Granted: now, Ends: now.Add(time.Minute), May: rights.Shell, Source: netip.MustParseAddr("203.0.113.7")}, ca)
	if err != nil {
		return nil, err
	}
	with, err := ssh.NewCertSigner(cert, own)
	return &lease.Held{Signer: with, Issuer: "purser", Login: hop.User, Rule: "rule near", Ends: now.Add(time.Minute)}, err
}

// A lease for one's own address cannot hold behind another hop, and that is said before the machine is connected to.
func TestALeaseForOneAddressIsRefusedBehindAHop(t *testing.T) {
	b := openBay(t, nil)
	w := walk.New(walk.Config{Vouched: b.vouched, Asker: labtest.Yes{}, Network: b.Dialer(), Leases: sourced{&lease.Client{}}, Linger: time.Millisecond})
	t.Cleanup(w.Close)
	var f *gate.Failure
	_, err := w.Walk(t.Context(), b.route("weir"))
	if !errors.As(err, &f) || f.Gate != gate.Lease || !strings.Contains(f.Why, "weir would see the connection come from quay") {
		t.Errorf("%v", err)
	}
}
