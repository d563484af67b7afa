package walk_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/link"
	"meatus/core/login"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab"
	"meatus/lab/await"
	"meatus/lab/labtest"
)

// person answers every question the same way and counts them.
type person struct {
	mu         sync.Mutex
	yes        bool
	passphrase string
	answers    []string
	nobody     bool
	identities []step.IdentityQuestion
	phrases    []step.PassphraseQuestion
	questions  []step.ServerQuestions
	lends      []step.LendQuestion
	wait       chan struct{} // where set, identity questions wait for it
}

func (p *person) Identity(ctx context.Context, q step.IdentityQuestion) error {
	p.mu.Lock()
	p.identities = append(p.identities, q)
	wait := p.wait
	p.mu.Unlock()
	if wait != nil {
		select {
		case <-wait:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
	switch {
	case p.nobody:
		return step.Nobody{Remedy: "bring somebody"}
	case p.yes:
		return nil
	}
	return step.ErrDeclined
}

func (p *person) Passphrase(_ context.Context, q step.PassphraseQuestion) ([]byte, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.phrases = append(p.phrases, q)
	if p.passphrase == "" {
		return nil, step.ErrDeclined
	}
	return []byte(p.passphrase), nil
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

func (p *person) Answers(_ context.Context, q step.ServerQuestions) ([]string, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.questions = append(p.questions, q)
	if p.nobody {
		return nil, step.Nobody{}
	}
	if p.answers == nil {
		return nil, step.ErrDeclined
	}
	return p.answers, nil
}

// bay is a lab with a walker that reaches it.
type bay struct {
	*lab.Lab
	*walk.Walker
	vouched  *vouch.Record
	programs *remote.Programs
	person   *person
	t        *testing.T
}

func TestMain(m *testing.M) { labtest.Main(m) }

func openBay(t *testing.T, change func(*walk.Config)) *bay {
	t.Helper()
	l := labtest.Open(t)
	p := &person{yes: true, passphrase: lab.Passphrase}
	c := walk.Config{Vouched: vouch.Open(filepath.Join(l.Dir, vouch.FileName)), Asker: p, Network: l.Dialer(), Patience: 5 * time.Second}
	if change != nil {
		change(&c)
	}
	b := &bay{l, walk.New(c), c.Vouched, remote.New(remote.Config{}), p, t}
	t.Cleanup(func() {
		b.Walker.Close()
		b.Lab.Close()
	})
	return b
}

func (b *bay) route(name string) route.Route {
	b.t.Helper()
	read, err := book.Read(filepath.Join(b.Dir, book.FileName))
	if err != nil {
		b.t.Fatal(err)
	}
	r, err := route.Planner{Source: read, Dir: b.Dir}.Plan(name)
	if err != nil {
		b.t.Fatal(err)
	}
	return r
}

func (b *bay) mendTide() {
	if _, err := keyfile.Mend(filepath.Join(b.Dir, "keys/tide.pem")); err != nil {
		b.t.Fatal(err)
	}
}

// cut loses the line to a host and waits until that is noticed.
func (b *bay) cut(name string) {
	b.Host(name).Cut()
	waitFor(b.t, func() bool {
		for _, l := range b.Links() {
			if l.Hop == name {
				return false
			}
		}
		return true
	}, func() string { return "the lost line was not noticed" })
}

// run runs a command at the end of a route and returns what it said.
func (b *bay) run(name, command string) (string, remote.Ending) {
	b.t.Helper()
	p, err := b.Walk(context.Background(), b.route(name))
	if err != nil {
		b.t.Fatalf("walking to %s: %v", name, err)
	}
	defer p.Close()
	g, err := b.programs.Start(context.Background(), p, command, nil)
	if err != nil {
		b.t.Fatalf("starting %q on %s: %v", command, name, err)
	}
	var both bytes.Buffer
	go io.Copy(io.Discard, g.Err)
	io.Copy(&both, g.Out)
	return both.String(), g.Wait()
}

func TestAWalkReachesAPrivateMachine(t *testing.T) {
	b := openBay(t, nil)
	inbox := b.Events.Subscribe()
	out, end := b.run("gauge-1", "hostname; whoami; addr; exit 7")
	if !strings.HasPrefix(out, "gauge-1\nkeeper\n") || !strings.Contains(out, "you   203.0.113.10") || end.Status != 7 || end.Err != nil {
		t.Errorf("said %q, ended %+v", out, end)
	}
	var passed []string
	for _, e := range inbox.Take(context.Background()) {
		if e, ok := e.(walk.Passed); ok {
			if e.Gate.Verdict != gate.Open || e.Gate.Seen == "" {
				t.Errorf("passed %+v", e.Gate)
			}
			passed = append(passed, fmt.Sprint(e.Hop, e.Gate.Kind))
		}
	}
	want := "0 address 0 port 0 identity 0 key 0 login 0 channel 1 address 1 port 1 identity 1 key 1 login 1 channel"
	if got := strings.Join(passed, " "); got != want {
		t.Errorf("gates passed: %s\nwant: %s", got, want)
	}
}

func TestTheSecondSessionSharesTheLink(t *testing.T) {
	b := openBay(t, nil)
	b.mendTide()
	first, err := b.Walk(context.Background(), b.route("gauge-1"))
	if err != nil {
		t.Fatal(err)
	}
	defer first.Close()
	b.run("tide-db", "hostname")
	b.run("gauge-1", "hostname")
	if n := b.Host("quay").Logins(); n != 1 {
		t.Errorf("%d logins at the bastion, want 1", n)
	}
	if n := b.Host("gauge-1").Logins(); n != 1 {
		t.Errorf("%d logins at gauge-1, want 1", n)
	}
}

func TestManyWalksAtOnceShareOneLogin(t *testing.T) {
	b := openBay(t, nil)
	r := b.route("gauge-1")
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			p, err := b.Walk(context.Background(), r)
			if err != nil {
				t.Error(err)
				return
			}
			p.Close()
		})
	}
	wg.Wait()
	await.Until(t, "the login to be counted", func() bool { return b.Host("gauge-1").Logins() > 0 })
	if q, g := b.Host("quay").Logins(), b.Host("gauge-1").Logins(); q != 1 || g != 1 {
		t.Errorf("%d logins at quay, %d at gauge-1, want 1 and 1", q, g)
	}
}

func TestALinkClosesAfterItsLastUser(t *testing.T) {
	b := openBay(t, func(c *walk.Config) { c.Linger = 50 * time.Millisecond })
	inbox := b.Events.Subscribe()
	b.run("gauge-1", "hostname")
	down := 0
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	for down < 2 && ctx.Err() == nil {
		for _, e := range inbox.Take(ctx) {
			if e, ok := e.(link.Down); ok {
				if e.Failure != nil {
					t.Errorf("closing an idle link is no failure: %v", e.Failure)
				}
				down++
			}
		}
	}
	if down != 2 || len(b.Links()) != 0 {
		t.Errorf("%d links ended, %d left", down, len(b.Links()))
	}
	// What was closed here and is opened again has not come back; what was lost has.
	p, err := b.Walk(context.Background(), b.route("quay"))
	if err != nil {
		t.Fatal(err)
	}
	if n := p.Link().Again; n != 0 {
		t.Errorf("a link that was opened again in order came back %d times", n)
	}
	b.cut("quay")
	p.Close()
	if p, err = b.Walk(context.Background(), b.route("quay")); err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if n := p.Link().Again; n != 1 {
		t.Errorf("a link that was lost came back %d times", n)
	}
}

func TestFailuresAreToldApart(t *testing.T) {
	cases := []struct {
		name    string
		session string
		break_  func(b *bay)
		hop     string
		gate    gate.Kind
		cause   gate.Cause
		says    string
	}{
		{"key too open", "tide-db", nil, "tide-db", gate.Key, gate.KeyUnusable, "others can read it"},
		{"replaced machine", "gauge-2", nil, "gauge-2", gate.Identity, gate.IdentityChanged, "vouched ssh-ed25519 SHA256:"},
		{"closed port", "gauge-3", nil, "gauge-3", gate.Port, gate.Refused, "nothing listens"},
		{"wrong login", "gauge-4", nil, "gauge-4", gate.Login, gate.NoKeyAccepted, "user name is probably wrong"},
		{"nobody says yes", "archive", func(b *bay) { b.person.yes = false }, "archive", gate.Identity, gate.IdentityUnknown, "first connection"},
		{"nobody there", "archive", func(b *bay) { b.person.nobody = true }, "archive", gate.Identity, gate.IdentityUnknown, "bring somebody"},
		{"no passphrase", "survey-web", func(b *bay) { b.person.passphrase = "" }, "survey-web", gate.Key, gate.Cancelled, "passphrase of survey.pem"},
		{"wrong passphrase", "survey-web", func(b *bay) { b.person.passphrase = "high tide" }, "survey-web", gate.Key, gate.KeyUnusable, "3 wrong passphrases"},
		{"onward forbidden", "gauge-1", func(b *bay) { b.Host("quay").Faults.ForbidOnward(true) }, "quay", gate.Channel, gate.OnwardForbidden, "does not allow this user to connect onward"},
		{"no ssh server", "gauge-1", func(b *bay) { b.Host("gauge-1").Faults.Impostor(true) }, "gauge-1", gate.Port, gate.NotSSH, `it said: "220 gauge-1.lantern.example mail for the bay, [1mready[0m`},
		{"frozen machine", "gauge-1", func(b *bay) { b.Host("gauge-1").Faults.Freeze(true) }, "gauge-1", gate.Port, gate.NoAnswer, "sent nothing within"},
		{"bastion hangs up", "gauge-1", func(b *bay) { b.Host("quay").Faults.ClosePort(true) }, "quay", gate.Port, gate.ServerClosed, "closed it at once"},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			b := openBay(t, func(c *walk.Config) { c.Patience = 2 * time.Second })
			if c.break_ != nil {
				c.break_(b)
			}
			p, err := b.Walk(context.Background(), b.route(c.session))
			if err == nil {
				p.Close()
				t.Fatal("the walk got through")
			}
			var f *gate.Failure
			if !errors.As(err, &f) {
				t.Fatalf("no failure: %v", err)
			}
			if f.Hop != c.hop || f.Gate != c.gate || f.Cause != c.cause || !strings.Contains(err.Error(), c.says) {
				t.Errorf("got %s, %s, %s: %v\nwant %s, %s, %s: %s", f.Hop, f.Gate, f.Cause, err, c.hop, c.gate, c.cause, c.says)
			}
			if f.Remedy.Say == "" {
				t.Errorf("no remedy in %v", err)
			}
			if strings.ContainsAny(err.Error(), "\x1b\x07") {
				t.Errorf("control characters in %q", err)
			}
		})
	}
}

func TestFailuresBeforeTheFirstServer(t *testing.T) {
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	gone := closed.Addr().String()
	closed.Close()
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	for _, c := range []struct {
		dial, host string
		cause      gate.Cause
		kind       gate.Kind
	}{
		{gone, "127.0.0.1", gate.Refused, gate.Port},
		{silent.Addr().String(), "127.0.0.1", gate.NoAnswer, gate.Port},
		{"", "no-such-host.invalid", gate.NoAddress, gate.Address},
	} {
		w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(t.TempDir(), "v")), Asker: &person{}, Patience: 300 * time.Millisecond, Resolver: nowhere{}})
		r := route.Route{Session: "x", Hops: []route.Hop{{Name: "x", Destination: route.Destination{Host: c.host, Port: 22, Dial: c.dial}, Credentials: route.Credentials{User: "u"}}}}
		_, err := w.Walk(context.Background(), r)
		var f *gate.Failure
		if !errors.As(err, &f) || f.Cause != c.cause || f.Gate != c.kind || f.Remedy.Say == "" {
			t.Errorf("%s%s: %v", c.dial, c.host, err)
		}
		w.Close()
	}
}

// nowhere is a resolver that knows no name.
type nowhere struct{}

func (nowhere) LookupHost(context.Context, string) ([]string, error) {
	return nil, &net.DNSError{Err: "no such host", IsNotFound: true}
}

func TestFarNamesAreResolvedByTheHopBefore(t *testing.T) {
	b := openBay(t, func(c *walk.Config) { c.Resolver = nowhere{} })
	if out, _ := b.run("survey-web", "hostname"); out != "survey-web\n" {
		t.Errorf("said %q", out)
	}
	if n := len(b.person.phrases); n != 1 {
		t.Errorf("the passphrase was asked for %d times", n)
	}
	b.run("survey-web", "hostname")
	b.cut("survey-web")
	if out, _ := b.run("survey-web", "hostname"); out != "survey-web\n" || len(b.person.phrases) != 1 {
		t.Errorf("said %q, passphrase asked %d times", out, len(b.person.phrases))
	}
}

func TestATooOpenKeyIsFoundBeforeAPacketLeaves(t *testing.T) {
	b := openBay(t, func(c *walk.Config) { c.Network = noPackets{} })
	_, err := b.Walk(context.Background(), b.route("tide-db"))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Cause != gate.KeyUnusable || f.Remedy.Act != gate.MendKey {
		t.Errorf("got %v", err)
	}
}

type noPackets struct{}

func (noPackets) DialContext(context.Context, string, string) (net.Conn, error) {
	panic("a connection was tried")
}

func TestAYesIsRememberedAndANoIsNot(t *testing.T) {
	b := openBay(t, nil)
	b.person.yes = false
	if _, err := b.Walk(context.Background(), b.route("archive")); err == nil {
		t.Fatal("a no let the walk through")
	}
	b.person.yes = true
	b.run("archive", "hostname")
	b.cut("archive")
	b.run("archive", "hostname")
	if n := len(b.person.identities); n != 2 {
		t.Errorf("asked %d times, want once for the no and once for the yes", n)
	}
	q := b.person.identities[1]
	if q.Session != "archive" || q.Hop != "archive" || q.Index != 1 || !strings.HasPrefix(q.SHA256, "SHA256:") || len(q.MD5) != 47 {
		t.Errorf("question %+v", q)
	}
}

func TestPasswordsAreAskedForWhereKeysFail(t *testing.T) {
	b := openBay(t, nil)
	b.Host("archive").Accounts["keeper"] = lab.Account{Password: "neap"}
	b.Host("archive").SetList("keeper", "")
	b.person.answers = []string{"neap"}
	if out, _ := b.run("archive", "whoami"); out != "keeper\n" {
		t.Errorf("said %q", out)
	}
	if q := b.person.questions; len(q) != 1 || !q[0].Password || q[0].Hop != "archive" {
		t.Errorf("questions %+v", q)
	}
	b.cut("archive")
	b.person.answers = []string{"spring"}
	_, err := b.Walk(context.Background(), b.route("archive"))
	if err == nil || !strings.Contains(err.Error(), "no answer for user") || len(b.person.questions) != 4 {
		t.Errorf("wrong password: %v after %d questions", err, len(b.person.questions))
	}
}

func TestCancellingLeavesNothingBehind(t *testing.T) {
	before := runtime.NumGoroutine()
	for _, stop := range []struct {
		name  string
		setup func(b *bay)
		until func(event.Event) bool
	}{
		{"while the bastion is frozen", func(b *bay) { b.Host("quay").Faults.Freeze(true) }, func(e event.Event) bool { _, ok := e.(walk.Trying); return ok }},
		{"while the far machine is frozen", func(b *bay) { b.Host("archive").Faults.Freeze(true) }, atHop(1)},
		{"while a person is asked", func(b *bay) { b.person.wait = make(chan struct{}) }, func(e event.Event) bool { p, ok := e.(walk.Trying); return ok && p.Hop == 1 && p.Gate == gate.Identity }},
	} {
		t.Run(stop.name, func(t *testing.T) {
			l := labtest.Open(t)
			defer l.Close()
			p := &person{yes: true}
			w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(l.Dir, vouch.FileName)), Asker: p, Network: l.Dialer()})
			defer w.Close()
			b := &bay{l, w, nil, remote.New(remote.Config{}), p, t}
			stop.setup(b)
			inbox := w.Events.Subscribe()
			ctx, cancel := context.WithCancel(context.Background())
			go func() {
				for events := inbox.Take(ctx); events != nil; events = inbox.Take(ctx) {
					for _, e := range events {
						if stop.until(e) {
							cancel()
							return
						}
					}
				}
			}()
			_, err := w.Walk(ctx, b.route("archive"))
			var f *gate.Failure
			if !errors.As(err, &f) || f.Cause != gate.Cancelled {
				t.Errorf("got %v", err)
			}
			cancel()
			await.Until(t, "the far link to end; the bastion's may linger", func() bool { return len(w.Links()) <= 1 })
		})
	}
	waitFor(t, func() bool { return runtime.NumGoroutine() <= before }, func() string {
		buf := make([]byte, 1<<20)
		return fmt.Sprintf("%d goroutines before, %d after\n%s", before, runtime.NumGoroutine(), buf[:runtime.Stack(buf, true)])
	})
}

func atHop(n int) func(event.Event) bool {
	return func(e event.Event) bool { p, ok := e.(walk.Trying); return ok && p.Hop == n }
}

// waitFor waits for something to come true, and says what there is instead where it does
// not.
func waitFor(t *testing.T, ok func() bool, say func() string) {
	t.Helper()
	defer func() {
		if t.Failed() {
			t.Log(say())
		}
	}()
	await.Until(t, "it to come true", ok)
}

func TestUnansweredKeepalivesEndTheLink(t *testing.T) {
	b := openBay(t, nil)
	r := b.route("gauge-1")
	for i := range r.Hops {
		r.Hops[i].Keepalive = 100 * time.Millisecond
	}
	p, err := b.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	waitFor(t, func() bool { return p.Link().RoundTrip > 0 }, func() string { return "no round trip was measured" })
	g, err := b.programs.Start(context.Background(), p, "sleep 60", nil)
	if err != nil {
		t.Fatal(err)
	}
	b.Host("gauge-1").Faults.Freeze(true)
	io.Copy(io.Discard, g.Out)
	end := g.Wait()
	var f *gate.Failure
	if !errors.As(end.Err, &f) || f.Cause != gate.LinkLost || !strings.Contains(f.Why, "did not answer for 300ms") {
		t.Errorf("ended %+v", end)
	}
}

func TestALostLineEndsWhatRanThroughIt(t *testing.T) {
	b := openBay(t, nil)
	p, err := b.Walk(context.Background(), b.route("gauge-1"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	g, err := b.programs.Start(context.Background(), p, "", &remote.Terminal{Cols: 80, Rows: 24})
	if err != nil {
		t.Fatal(err)
	}
	b.Host("quay").Cut()
	io.Copy(io.Discard, g.Out)
	if end := g.Wait(); end.Err == nil || !strings.Contains(end.Err.Error(), "ended the connection") {
		t.Errorf("ended %+v", end)
	}
	b.run("gauge-1", "hostname") // the way can be walked again
}

func TestSignalsAndBothOutputs(t *testing.T) {
	b := openBay(t, nil)
	p, err := b.Walk(context.Background(), b.route("quay"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	g, err := b.programs.Start(context.Background(), p, "echo out; complain err; copy", nil)
	if err != nil {
		t.Fatal(err)
	}
	var errs bytes.Buffer
	done := make(chan struct{})
	go func() { io.Copy(&errs, g.Err); close(done) }()
	io.WriteString(g.In, "typed")
	g.In.Close()
	out, _ := io.ReadAll(g.Out)
	<-done
	if string(out) != "out\ntyped" || errs.String() != "err\n" {
		t.Errorf("out %q, err %q", out, errs.String())
	}
	if end := g.Wait(); end.Status != 0 || end.Err != nil {
		t.Errorf("ended %+v", end)
	}
}

func TestTheCipherIsTheFirstOffered(t *testing.T) {
	b := openBay(t, nil)
	p, err := b.Walk(context.Background(), b.route("quay"))
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	if got := p.Link().Cipher; got != login.Ciphers()[0] {
		t.Errorf("cipher %s, want %s", got, login.Ciphers()[0])
	}
}

func TestADamagedRecordTrustsNobody(t *testing.T) {
	b := openBay(t, nil)
	if err := os.WriteFile(filepath.Join(b.Dir, vouch.FileName), []byte("[[vouched"), 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Walk(context.Background(), b.route("quay")); err == nil || !strings.Contains(err.Error(), "correct vouched.toml") {
		t.Errorf("got %v", err)
	}
	if b.Host("quay").Logins() != 0 {
		t.Error("a login happened without a record")
	}
}

func TestALinkThatDiedUnnoticedIsMadeAnew(t *testing.T) {
	b := openBay(t, nil)
	for i := range 30 {
		b.run("gauge-1", "hostname")
		b.Host([]string{"quay", "gauge-1"}[i%2]).Cut()
	}
}

func TestWaitingGoesOnWhenTheMachineIsUp(t *testing.T) {
	b := openBay(t, nil)
	inbox := b.Events.Subscribe()
	go func() {
		for {
			for _, e := range inbox.Take(context.Background()) {
				if e, ok := e.(walk.Waiting); ok {
					if e.Failure.Cause != gate.Refused || e.Try != 1 || !e.Next.Before(e.End) {
						t.Errorf("waiting %+v", e)
					}
					b.Host("gauge-3").Faults.ClosePort(false)
					return
				}
			}
		}
	}()
	p, err := b.Await(context.Background(), b.route("gauge-3"), time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	p.Close()
}

func TestWaitingEnds(t *testing.T) {
	b := openBay(t, nil)
	for session, want := range map[string]gate.Cause{"gauge-4": gate.NoKeyAccepted, "gauge-3": gate.Refused} {
		var f *gate.Failure
		if _, err := b.Await(context.Background(), b.route(session), 500*time.Millisecond); !errors.As(err, &f) || f.Cause != want {
			t.Errorf("%s: %v", session, err)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), 300*time.Millisecond)
	defer cancel()
	var f *gate.Failure
	if _, err := b.Await(ctx, b.route("gauge-3"), time.Hour); !errors.As(err, &f) || f.Cause != gate.Cancelled {
		t.Errorf("stopped: %v", err)
	}
}

func TestTouchingGoesAsFarAsTheHostKey(t *testing.T) {
	b := openBay(t, nil)
	names := []string{"quay", "gauge-1", "gauge-2", "gauge-3", "gauge-4", "survey-web", "archive"}
	var routes []route.Route
	for range 20 {
		for _, name := range names {
			routes = append(routes, b.route(name))
		}
	}
	var mu sync.Mutex
	reports := map[string]gate.Report{}
	b.TouchAll(context.Background(), routes, walk.Look{Depth: walk.Identity}, func(_ int, t walk.Touched) {
		mu.Lock()
		defer mu.Unlock()
		reports[t.Report.Session] = t.Report
	})
	for name, want := range map[string]string{
		"quay":       "address open, port open, identity open, key open, login untried, channel untried",
		"gauge-1":    "address open, port open, identity open, key open, login untried, channel untried",
		"gauge-2":    "address open, port open, identity shut, key open, login untried, channel untried",
		"gauge-3":    "address untried, port shut, identity open, key open, login untried, channel untried",
		"gauge-4":    "address open, port open, identity open, key open, login untried, channel untried",
		"survey-web": "address open, port open, identity untried, key open, login untried, channel untried",
		"archive":    "address open, port open, identity untried, key open, login untried, channel untried",
	} {
		var got []string
		hops := reports[name].Hops
		if len(hops) == 0 {
			t.Errorf("%s was not touched", name)
			continue
		}
		for _, g := range hops[len(hops)-1].Gates {
			got = append(got, fmt.Sprint(g.Kind, " ", g.Verdict))
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %s\nwant %s", name, strings.Join(got, ", "), want)
		}
	}
	if n := b.Host("quay").Logins(); n != 1 {
		t.Errorf("%d logins at the bastion", n)
	}
	for _, name := range names[1:] {
		if n := b.Host(name).Logins(); n != 0 {
			t.Errorf("%d logins at %s", n, name)
		}
	}
	if len(b.person.identities) != 0 {
		t.Error("somebody was asked")
	}
}

func TestAFrozenLinkIsToldAndThaws(t *testing.T) {
	b := openBay(t, nil)
	r := b.route("gauge-1")
	for i := range r.Hops {
		r.Hops[i].Keepalive = 200 * time.Millisecond
	}
	p, err := b.Walk(context.Background(), r)
	if err != nil {
		t.Fatal(err)
	}
	defer p.Close()
	state := func() link.State { return p.Link() }
	waitFor(t, func() bool { return state().RoundTrip > 0 }, func() string { return "no round trip" })
	b.Host("gauge-1").Faults.Freeze(true)
	waitFor(t, func() bool { return state().Frozen }, func() string { return "it was not told as frozen" })
	b.Host("gauge-1").Faults.Freeze(false)
	waitFor(t, func() bool { return !state().Frozen }, func() string { return "it did not thaw" })
	g, err := b.programs.Start(context.Background(), p, "hostname", nil)
	if err != nil {
		t.Fatal(err)
	}
	if out, _ := io.ReadAll(g.Out); string(out) != "gauge-1\n" {
		t.Errorf("afterwards it says %q", out)
	}
}
