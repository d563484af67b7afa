package walk_test

import (
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/login"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
)

// asInstance is the route to a session whose machine is an instance of an estate.
func (b *bay) asInstance(session, id string) route.Route {
	return b.route(session).AtEnd(func(h *route.Hop) {
		h.Instance = &book.Binding{Source: "bay", ID: id, Name: session, State: "running", Host: h.Host}
	})
}

func TestIdentityFollowsTheInstance(t *testing.T) {
	b := openBay(t, nil)
	walked := func(what string, r route.Route, asked int) error {
		t.Helper()
		before := len(b.person.identities)
		p, err := b.Walk(t.Context(), r)
		if err == nil {
			p.Close()
		}
		if got := len(b.person.identities) - before; got != asked {
			t.Errorf("%s: asked %d times, want %d (%v)", what, got, asked, err)
		}
		return err
	}
	if err := walked("the first visit of the instance", b.asInstance("gauge-1", "i-1"), 1); err != nil {
		t.Fatal(err)
	}
	if words := strings.Join(b.person.identities[len(b.person.identities)-1].Words(), "; "); !strings.Contains(words, "the same key is vouched for") || strings.Contains(words, "another machine stood") {
		t.Errorf("of the first visit it is said: %s", words)
	}
	moved := b.asInstance("gauge-1", "i-1").AtEnd(func(h *route.Hop) { h.Dial, h.Host = h.Address(), "10.61.4.99" })
	if err := walked("the instance at another address", moved, 0); err != nil {
		t.Error(err)
	}
	var f *gate.Failure
	if err := walked("the instance with another key", b.asInstance("lamp", "i-1"), 0); !errors.As(err, &f) || f.Cause != gate.IdentityChanged {
		t.Errorf("another key of the same instance: %v", err)
	}
	var c *login.ChangedIdentity
	if !errors.As(f, &c) || c.At().Host != "i-1" || c.At().Way != "of bay" {
		t.Errorf("the alarm is about %+v", c)
	}
	if err := walked("another instance at an address that was vouched", b.asInstance("gauge-2", "i-2"), 1); err != nil {
		t.Fatal(err)
	}
	if words := strings.Join(b.person.identities[len(b.person.identities)-1].Words(), "; "); !strings.Contains(words, "another machine stood: 10.61.4.32:22 via quay") {
		t.Errorf("of another instance at a vouched address it is said: %s", words)
	}
	if err := walked("the session that goes by the address", b.route("gauge-2"), 0); !errors.As(err, &f) || f.Cause != gate.IdentityChanged {
		t.Errorf("the address itself is still another's: %v", err)
	}
}

// asked remembers by what it was asked how a login got in before.
type asked struct {
	mu    sync.Mutex
	hosts []string
}

func (a *asked) Last(host string, _ int, _ string) (route.Login, bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.hosts = append(a.hosts, host)
	return route.Login{}, false
}

func TestALoginIsRememberedByTheInstance(t *testing.T) {
	var stream event.Stream
	before := &asked{}
	b := openBay(t, func(c *walk.Config) { c.Events = &stream })
	inbox := stream.Subscribe()
	r := b.asInstance("gauge-1", "i-1")
	r.Check(route.Knowledge{Vouched: vouch.Open(filepath.Join(b.Dir, vouch.FileName)), Logins: before})
	p, err := b.Walk(t.Context(), r)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
	hosts := map[string]bool{}
	for len(hosts) < 2 {
		for _, e := range inbox.Take(t.Context()) {
			if in, ok := e.(login.LoggedIn); ok {
				hosts[in.Host] = true
			}
		}
	}
	if !hosts["i-1"] || !hosts["203.0.113.10"] || !slices.Contains(before.hosts, "i-1") || slices.Contains(before.hosts, "10.61.4.31") {
		t.Errorf("it is remembered by %v, and asked about by %v", hosts, before.hosts)
	}
}
