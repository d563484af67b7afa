package remote_test

import (
	"context"
	"sync"
	"testing"

	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/walk"
	"meatus/core/window"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// person vouches for every host, and answers whether a key may be used.
type person struct {
	labtest.Yes
	mu    sync.Mutex
	yes   bool
	lends []step.LendQuestion
}

func (p *person) Passphrase(context.Context, step.PassphraseQuestion) ([]byte, error) {
	return []byte(lab.Passphrase), nil
}

func (p *person) Lend(_ context.Context, q step.LendQuestion) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.lends = append(p.lends, q)
	if !p.yes {
		return step.ErrDeclined
	}
	return nil
}

// bay is a lab, a walker that reaches it, and what runs there.
type bay struct {
	*walk.Walker
	lab      *lab.Lab
	programs *remote.Programs
	person   *person
	ws       *workspace.Workspace
	t        *testing.T
}

func openBay(t *testing.T, display func() (*window.Display, error)) *bay {
	t.Helper()
	l, ws := labtest.Workspace(t)
	b := &bay{lab: l, person: &person{yes: true}, ws: ws, t: t}
	b.programs = remote.New(remote.Config{Asker: b.person, Display: display})
	b.programs.Custody.Ring.Names = ws.Vouched.NamesOf
	b.Walker = walk.New(walk.Config{Vouched: ws.Vouched, Asker: b.person, Network: l.Dialer(), Keys: b.programs.Custody, Serve: b.programs.Serve()})
	t.Cleanup(b.Walker.Close)
	return b
}

func (b *bay) route(name string) route.Route {
	b.t.Helper()
	r, err := b.ws.Planner().Plan(name)
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}
