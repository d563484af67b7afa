package walk_test

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/walk"
)

// elsewhere adds sessions to the bay: mole and pier, at which nobody answers, and both, a
// machine behind either of them or quay.
func (b *bay) elsewhere(via string) {
	b.t.Helper()
	f, err := os.OpenFile(filepath.Join(b.Dir, book.FileName), os.O_APPEND|os.O_WRONLY, 0)
	if err != nil {
		b.t.Fatal(err)
	}
	defer f.Close()
	for _, name := range []string{"mole", "pier"} {
		f.WriteString("\n[session." + name + "]\nhost = \"" + name + ".lantern.example\"\ndial = \"203.0.113.99:22\"\nkey = \"keys/shore.pem\"\n")
	}
	f.WriteString("\n[session.both]\nhost = \"10.61.4.31\"\nuser = \"keeper\"\nkey = \"keys/gauge.pem\"\nvia = [\"" + via + "\"]\n")
}

// taken are the ways that walks took, as the last hop before the machine, and what was
// told of a diversion.
func taken(events []event.Event) (ways, told []string) {
	for _, e := range events {
		switch e := e.(type) {
		case walk.Turned:
			ways = append(ways, e.Route.Hops[len(e.Route.Hops)-2].Name)
		case walk.Diverted:
			told = append(told, e.Record().Line())
		}
	}
	return ways, told
}

func TestAnotherWayIsTakenWhereABastionDoesNotAnswer(t *testing.T) {
	b := openBay(t, nil)
	b.elsewhere("mole | pier|quay")
	r := b.route("both")
	if len(r.Others) != 2 || r.Hops[0].Name != "mole" || r.Others[1].Hops[0].Instead != "mole" {
		t.Fatalf("planned %+v", r)
	}
	inbox := b.Events.Subscribe()
	p, err := b.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	ways, told := taken(inbox.Take(context.Background()))
	if got := strings.Join(ways, " "); got != "mole pier quay" || len(told) != 2 || told[1] != "both: goes via quay: pier: address: unreachable" {
		t.Errorf("took %s, told %q", got, told)
	}
	if at := p.Route(); at.Hops[0].Name != "quay" || len(at.Others) != 2 || at.Others[0].Hops[0].Name != "mole" {
		t.Errorf("the passage goes %+v", at)
	}
	// What is live is taken first, and nobody is knocked at for it.
	again, err := b.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	defer p.Close()
	if ways, told := taken(inbox.Take(context.Background())); strings.Join(ways, " ") != "quay" || len(told) != 1 || !strings.Contains(told[0], "its link is live") {
		t.Errorf("the second took %q, told %q", ways, told)
	}
	if n := b.Host("quay").Logins(); n != 1 {
		t.Errorf("%d logins at quay", n)
	}
}

func TestNoOtherWayIsTakenPastAnAlarm(t *testing.T) {
	b := openBay(t, nil)
	b.elsewhere("quay | mole")
	r := b.route("both")
	b.Host("quay").Replace() // another key than the vouched one
	inbox := b.Events.Subscribe()
	_, err := b.Walk(context.Background(), r)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Hop != "quay" || f.Cause != gate.IdentityChanged {
		t.Errorf("walked: %v", err)
	}
	if ways, _ := taken(inbox.Take(context.Background())); strings.Join(ways, " ") != "quay" {
		t.Errorf("took %q", ways)
	}
}

func TestWhereNoWayLeadsThereAllAreTold(t *testing.T) {
	b := openBay(t, nil)
	b.elsewhere("mole|pier")
	inbox := b.Events.Subscribe()
	_, err := b.Walk(context.Background(), b.route("both"))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Hop != "mole" || f.Cause != gate.Unreachable || len(f.Detail) == 0 || !strings.HasPrefix(f.Detail[len(f.Detail)-1], "pier: address: ") {
		t.Errorf("walked: %+v", err)
	}
	// What is told is told of the way that is named first.
	if ways, _ := taken(inbox.Take(context.Background())); strings.Join(ways, " ") != "mole pier mole" {
		t.Errorf("took %q", ways)
	}
}

func TestACheckTakesAnotherWayToo(t *testing.T) {
	b := openBay(t, nil)
	b.elsewhere("mole | quay")
	report := b.Touch(context.Background(), b.route("both"), walk.Look{Depth: walk.Knock, Quiet: true}).Report
	if report.Hops[0].Name != "quay" || report.Answers() == "" {
		t.Errorf("found %+v", report)
	}
	if seen := report.Hops[0].Gates[0].Seen; !strings.Contains(seen, "203.0.113.10") {
		t.Errorf("quay's address: %s", seen)
	}
}
