package walk_test

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"
	"unicode"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/shell"
	"meatus/core/step"
	"meatus/core/walk"
)

// cutter stands between us and a server and closes the line after so many bytes
// from the server.
func cutter(t *testing.T, server string, after int64) string {
	return listener(t, func(near net.Conn) {
		far, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer far.Close()
		go io.Copy(far, near)
		io.CopyN(near, far, after)
	})
}

func TestALineCutAtAnyByteIsToldAtItsGate(t *testing.T) {
	server := oddServer(t, &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) { return nil, nil }})
	passed := 0
	for after := int64(0); after < 6000; after += 179 {
		tr := newTraveller(t, 1, &person{yes: true})
		err := tr.walk(cutter(t, server, after))
		tr.Close()
		var f *gate.Failure
		switch {
		case err == nil:
			passed++
		case !errors.As(err, &f) || f.Remedy.Say == "" || f.Cause != gate.ServerClosed && f.Cause != gate.NotSSH && f.Cause != gate.Unexpected:
			t.Errorf("cut after %d bytes: %v", after, err)
		}
	}
	if passed == 0 {
		t.Error("no walk got through: the cuts do not reach the end of the handshake")
	}
}

// steering tells whether a text could steer a terminal.
func steering(s string) bool {
	return strings.ContainsFunc(s, func(r rune) bool { return r != '\n' && unicode.IsControl(r) })
}

func TestControlCharactersReachNobody(t *testing.T) {
	const evil = "\x1b]0;owned\x07\x1b[2J\u009bx\r\x08evil"
	config := &ssh.ServerConfig{
		BannerCallback: func(ssh.ConnMetadata) string { return evil + "\n" + evil },
		KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			ask(evil, evil, []string{evil, evil}, []bool{true, false})
			return nil, errors.New(evil)
		},
		MaxAuthTries: 2,
	}
	p := &person{yes: true, answers: []string{"a", "b"}}
	tr := newTraveller(t, 1, p)
	err := tr.walk(oddServer(t, config))
	var f *gate.Failure
	if !errors.As(err, &f) {
		t.Fatalf("%v", err)
	}
	for _, text := range append(f.Detail, f.Error(), f.Seen, f.Why) {
		if steering(text) {
			t.Errorf("told %q", text)
		}
	}
	if len(p.questions) == 0 {
		t.Fatal("nothing was asked", err)
	}
	for _, q := range p.questions {
		for _, text := range []string{q.Title, q.Instruction, q.Banner, q.Questions[0].Text, q.Questions[1].Text} {
			if steering(text) || !strings.Contains(text, "evil") {
				t.Errorf("asked %q", text)
			}
		}
	}
	for _, e := range tr.inbox.Take(context.Background()) {
		if text := fmt.Sprintf("%+v", e); steering(text) {
			t.Errorf("event %q", text)
		}
	}
}

func TestTwoHundredSessionsFailAtOnce(t *testing.T) {
	var conns atomic.Int64
	addr := listener(t, func(net.Conn) { conns.Add(1) })
	tr := newTraveller(t, 1, &person{yes: true})
	var group sync.WaitGroup
	var failed atomic.Int64
	for i := range 200 {
		r := tr.way(addr)
		r.Session, r.Hops[0].Host = fmt.Sprint("s", i), fmt.Sprintf("h%d.lantern.example", i)
		group.Go(func() {
			var f *gate.Failure
			if _, err := tr.Walk(context.Background(), r); errors.As(err, &f) && f.Cause == gate.ServerClosed {
				failed.Add(1)
			}
		})
	}
	group.Wait()
	if failed.Load() != 200 || conns.Load() != 200 || len(tr.Links()) != 0 {
		t.Errorf("%d failed, %d connections, %d links left", failed.Load(), conns.Load(), len(tr.Links()))
	}
}

func TestABastionThatDiesUnderFiftyShellsIsWalkedToOnce(t *testing.T) {
	b := openBay(t, nil)
	r := b.route("gauge-1")
	r.Hops[1].Manner = route.Manner{Reconnect: time.Minute}
	var shells []*shell.Shell
	for range 50 {
		p, err := b.Walk(context.Background(), r)
		if err != nil {
			t.Fatal(err)
		}
		s, err := shell.Open(context.Background(), p, b.programs, b.Walker, 80, 24)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		shells = append(shells, s)
	}
	before := b.Lab.Host("quay").Logins()
	b.Lab.Host("quay").Cut()
	text := func(s *shell.Shell) string {
		f := s.Frame()
		var all strings.Builder
		for i := range f.Rows {
			all.WriteString(f.Line(i) + "\n")
		}
		return all.String()
	}
	for i, s := range shells {
		waitFor(t, func() bool { return strings.Contains(text(s), "this is a new shell") }, func() string {
			return fmt.Sprintf("shell %d: %v\n%s", i, s.Live(), text(s))
		})
	}
	if now := b.Lab.Host("quay").Logins(); now-before > 2 {
		t.Errorf("%d logins at the bastion for 50 shells", now-before)
	}
	if links := b.Links(); len(links) != 2 {
		t.Errorf("%d links", len(links))
	}
}

func TestAServerThatDripsIsWaitedForNoLongerThanItsTime(t *testing.T) {
	signer, _ := newSigner(t)
	server := listener(t, func(conn net.Conn) {
		config := &ssh.ServerConfig{NoClientAuth: true}
		config.AddHostKey(signer)
		ssh.NewServerConn(conn, config)
	})
	slow := listener(t, func(near net.Conn) {
		far, err := net.Dial("tcp", server)
		if err != nil {
			return
		}
		defer far.Close()
		go io.Copy(far, near)
		var one [1]byte
		for n := 0; ; n++ {
			if _, err := far.Read(one[:]); err != nil {
				return
			}
			if n > 30 { // after the version line
				<-time.After(300 * time.Millisecond) // it drips
			}
			if _, err := near.Write(one[:]); err != nil {
				return
			}
		}
	})
	tr := newTraveller(t, 1, &person{yes: true})
	var f *gate.Failure
	if err := tr.walk(slow); !errors.As(err, &f) || f.Cause != gate.NoAnswer {
		t.Errorf("%v", err)
	}
	if errors.Is(f, step.ErrDeclined) {
		t.Error("a slow server is taken for a person's no")
	}
}

func TestAnIntroductionIsCleanedBeforeItIsShown(t *testing.T) {
	addr := listener(t, func(conn net.Conn) {
		fmt.Fprint(conn, "welcome \x1b[31m\r\nSSH-2.0-odd\x1b]0;owned\x07\u009b evil\r\n")
		io.Copy(io.Discard, conn)
	})
	tr := newTraveller(t, 1, &person{yes: true})
	report := tr.Touch(context.Background(), tr.way(addr), walk.Look{Depth: walk.Knock}).Report
	if seen := report.Hops[0].Gates[1].Seen; steering(seen) || !strings.Contains(seen, "odd") {
		t.Errorf("it is shown as %q", seen)
	}
}
