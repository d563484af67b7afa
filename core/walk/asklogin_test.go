package walk_test

import (
	"context"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/walk"
)

// loginGate is the login gate at the end of a report.
func loginGate(r gate.Report) gate.Gate {
	for _, g := range r.Hops[len(r.Hops)-1].Gates {
		if g.Kind == gate.Login {
			return g
		}
	}
	return gate.Gate{}
}

func TestACheckAsFarAsTheLoginSignsNothing(t *testing.T) {
	b := openBay(t, nil)
	look := walk.Look{Depth: walk.Login, Quiet: true}
	report := b.Touch(context.Background(), b.route("gauge-1"), look).Report
	if g := loginGate(report); g.Verdict != gate.Open || !strings.Contains(g.Seen, "accepted: gauge.pem") {
		t.Errorf("gauge-1: %+v", g)
	}
	if n := b.Host("gauge-1").Logins(); n != 0 {
		t.Errorf("%d logins at gauge-1", n)
	}
	if g := loginGate(b.Touch(context.Background(), b.route("gauge-4"), look).Report); g.Verdict != gate.Shut || !strings.Contains(g.Reason, "the server accepts none of gauge.pem for user warden") || len(g.Detail) != 1 {
		t.Errorf("gauge-4, the wrong login: %+v", g)
	}
	// Nobody has vouched for the archive: nothing is asked of it, and nobody.
	if g := loginGate(b.Touch(context.Background(), b.route("archive"), look).Report); g.Verdict != gate.Untried {
		t.Errorf("archive: %+v", g)
	}
	if len(b.person.identities) > 0 {
		t.Errorf("asked about %+v", b.person.identities)
	}
	// A password would be asked for as well.
	b.person.answers = []string{"x"}
	if _, err := b.Walk(context.Background(), b.route("sill")); err == nil {
		t.Fatal("sill took a wrong password")
	}
	if g := loginGate(b.Touch(context.Background(), b.route("sill"), look).Report); g.Verdict != gate.Ajar || !strings.Contains(g.Reason, "password") {
		t.Errorf("sill: %+v", g)
	}
	if _, err := book.Set(filepath.Join(b.Dir, book.FileName), "gauge-1", "key", filepath.Join(b.Dir, "keys", "nowhere.pem")); err != nil {
		t.Fatal(err)
	}
	if g := loginGate(b.Touch(context.Background(), b.route("gauge-1"), look).Report); g.Verdict != gate.Untried || !strings.Contains(g.Seen, "no key to ask about") {
		t.Errorf("without a key: %+v", g)
	}
}

func TestAServerThatSaysYesToAnyKeyIsNotBelieved(t *testing.T) {
	addr := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }})
	tr := newTraveller(t, 1, &person{yes: true})
	if err := tr.walk(addr); err != nil && !strings.Contains(err.Error(), "shell") {
		t.Fatal(err)
	}
	g := loginGate(tr.Touch(context.Background(), tr.way(addr), walk.Look{Depth: walk.Login}).Report)
	if g.Verdict != gate.Ajar || !strings.Contains(g.Reason, "proves nothing") {
		t.Errorf("%+v", g)
	}
}
