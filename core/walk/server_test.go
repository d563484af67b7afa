package walk_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/binary"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/step"
	"meatus/core/vouch"
	"meatus/core/walk"
	"meatus/lab/await"
)

// oddServer answers one connection after another with a configuration of the
// test's own.
func oddServer(t *testing.T, config *ssh.ServerConfig) string {
	t.Helper()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	signer, err := ssh.NewSignerFromKey(key)
	if err != nil {
		t.Fatal(err)
	}
	config.AddHostKey(signer)
	return listener(t, func(conn net.Conn) {
		c, channels, requests, err := ssh.NewServerConn(conn, config)
		if err != nil {
			return
		}
		go ssh.DiscardRequests(requests)
		go func() {
			for channel := range channels {
				channel.Reject(ssh.Prohibited, "no \x1b[31mshell\x1b[0m here")
			}
		}()
		c.Wait()
	})
}

// listener serves connections on loopback until the test ends.
func listener(t *testing.T, serve func(net.Conn)) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				serve(conn)
			}()
		}
	}()
	return l.Addr().String()
}

// walkTo walks to one server with one key, and returns how that went.
func walkTo(t *testing.T, addr string, p *person) error {
	t.Helper()
	dir := t.TempDir()
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	block, err := ssh.MarshalPrivateKey(key, "")
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(dir, "key.pem")
	if err := os.WriteFile(file, pem.EncodeToMemory(block), 0o600); err != nil {
		t.Fatal(err)
	}
	w := walk.New(walk.Config{Vouched: vouch.Open(filepath.Join(dir, "v")), Asker: p, Patience: 2 * time.Second})
	t.Cleanup(w.Close)
	r := route.Route{Session: "odd", Hops: []route.Hop{{Name: "odd", Destination: route.Destination{Host: "odd.lantern.example", Port: 22, Dial: addr}, Credentials: route.Credentials{User: "keeper", Keys: []string{file}}, Limits: route.Limits{Keepalive: time.Minute}}}}
	passage, err := w.Walk(context.Background(), r)
	if err != nil {
		return err
	}
	defer passage.Close()
	_, err = remote.New(remote.Config{}).Start(context.Background(), passage, "true", nil)
	return err
}

func TestAServersQuestionsAreAskedInRounds(t *testing.T) {
	addr := oddServer(t, &ssh.ServerConfig{
		KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			first, err := ask("The \x1b[1mbay\x1b[0m", "Two\r\nquestions", []string{"Name of the tide: ", "PIN: "}, []bool{true, false})
			if err != nil || !slices.Equal(first, []string{"a", "b"}) {
				return nil, errors.New("no")
			}
			second, err := ask("", "", []string{"And again\x07: ", "PIN: "}, []bool{false, false})
			if err != nil || !slices.Equal(second, []string{"a", "b"}) {
				return nil, errors.New("no")
			}
			return nil, nil
		},
	})
	p := &person{yes: true, answers: []string{"a", "b"}}
	err := walkTo(t, addr, p)
	var f *gate.Failure
	if !errors.As(err, &f) || f.Cause != gate.ChannelRefused || !strings.Contains(f.Why, "no [31mshell[0m here") {
		t.Errorf("after logging in: %v", err)
	}
	if len(p.questions) != 2 {
		t.Fatalf("asked %d times", len(p.questions))
	}
	q := p.questions[0]
	if q.Title != "The [1mbay[0m" || q.Instruction != "Two\nquestions" || q.Password || len(q.Questions) != 2 ||
		q.Questions[0] != (step.Question{Text: "Name of the tide:", Echo: true}) || q.Questions[1].Echo {
		t.Errorf("first round %+v", q)
	}
	if got := p.questions[1].Questions[0].Text; got != "And again:" {
		t.Errorf("second round %q", got)
	}
}

func TestAPortAnswersThoughNothingIsAgreedUpon(t *testing.T) {
	for name, serve := range map[string]func(net.Conn){
		"no common algorithm": func(c net.Conn) { exchanges(c, "tide-exchange@lantern.example") },
		"hung up on":          func(c net.Conn) { fmt.Fprint(c, "SSH-2.0-odd\r\n"); hearIntroduction(c) },
	} {
		tr := newTraveller(t, 1, &person{})
		report := tr.Touch(context.Background(), tr.way(listener(t, serve)), walk.Look{Depth: walk.Identity}).Report
		if worst, _ := report.Worst(); worst.Kind != gate.Identity || worst.Verdict != gate.Shut {
			t.Errorf("%s: shut at %+v", name, worst)
		}
		for _, g := range report.Hops[0].Gates {
			if g.Kind == gate.Port && (g.Verdict != gate.Open || !strings.Contains(g.Seen, "answers as odd")) {
				t.Errorf("%s: the port %+v", name, g)
			}
		}
	}
}

func TestAServerThatAsksTooMuchIsLeft(t *testing.T) {
	many := make([]string, 17)
	for name, asks := range map[string][]string{"in one round": many, "without an end": nil} {
		rounds := 0
		addr := oddServer(t, &ssh.ServerConfig{KeyboardInteractiveCallback: func(_ ssh.ConnMetadata, ask ssh.KeyboardInteractiveChallenge) (*ssh.Permissions, error) {
			for {
				if _, err := ask("", "", asks, make([]bool, len(asks))); err != nil {
					return nil, err
				}
				rounds++
			}
		}})
		p := &person{yes: true, answers: make([]string, len(asks))}
		err := walkTo(t, addr, p)
		var f *gate.Failure
		if !errors.As(err, &f) || f.Gate != gate.Login || !strings.Contains(err.Error(), fmt.Sprintf("asks %d questions", len(asks))) || len(p.questions) != 0 {
			t.Errorf("%s: after %d rounds, %d put: %v", name, rounds, len(p.questions), err)
		}
	}
}

func TestASecondStepAfterTheKey(t *testing.T) {
	second := ssh.ServerAuthCallbacks{
		PasswordCallback: func(_ ssh.ConnMetadata, password []byte) (*ssh.Permissions, error) {
			if string(password) != "neap" {
				return nil, errors.New("no")
			}
			return nil, nil
		},
	}
	config := func() *ssh.ServerConfig {
		return &ssh.ServerConfig{PublicKeyCallback: func(ssh.ConnMetadata, ssh.PublicKey) (*ssh.Permissions, error) {
			return nil, &ssh.PartialSuccessError{Next: second}
		}}
	}
	p := &person{yes: true, answers: []string{"neap"}}
	var f *gate.Failure
	if err := walkTo(t, oddServer(t, config()), p); !errors.As(err, &f) || f.Cause != gate.ChannelRefused {
		t.Errorf("with the password: %v", err)
	}
	if len(p.questions) != 1 || !p.questions[0].Password {
		t.Errorf("questions %+v", p.questions)
	}
	if err := walkTo(t, oddServer(t, config()), &person{yes: true, nobody: false}); !errors.As(err, &f) || f.Gate != gate.Login || f.Cause != gate.Cancelled {
		t.Errorf("with no answer: %v", err)
	}
}

func TestServersThatMisbehave(t *testing.T) {
	old := &ssh.ServerConfig{NoClientAuth: true}
	old.KeyExchanges = []string{ssh.InsecureKeyExchangeDH1SHA1}
	flood := strings.Repeat("x", 1<<20)
	for name, c := range map[string]struct {
		addr  string
		cause gate.Cause
		says  string
	}{
		"retired algorithms": {oddServer(t, old), gate.NoCommon, "no longer safe"},
		"unknown algorithms": {listener(t, func(c net.Conn) { exchanges(c, "sntrup761x25519-sha512", "ext-info-s", "kex-strict-s-v00@openssh.com") }), gate.NoCommon, "some of its own are safe"},
		"closes at once":     {listener(t, func(net.Conn) {}), gate.ServerClosed, "closed it at once"},
		"closes after greeting": {listener(t, func(c net.Conn) {
			fmt.Fprint(c, "SSH-2.0-odd\r\n")
			hearIntroduction(c)
		}), gate.ServerClosed, "closed the session"},
		"floods its greeting": {listener(t, func(c net.Conn) { fmt.Fprint(c, flood) }), gate.NotSSH, "it said: "},
		"drips a letter":      {listener(t, func(c net.Conn) { drip(c, "SSH-2.0-slow server that never ends its line") }), gate.NoAnswer, "within 2s"},
		"speaks of tides":     {listener(t, func(c net.Conn) { fmt.Fprint(c, "HTTP/1.1 400 low tide\r\n\x1b]0;x\x07\r\n") }), gate.NotSSH, "HTTP/1.1 400 low tide"},
		"an old protocol":     {listener(t, func(c net.Conn) { fmt.Fprint(c, "SSH-1.5-ancient\r\n"); hearIntroduction(c) }), gate.ServerClosed, "odd"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			err := walkTo(t, c.addr, &person{yes: true})
			var f *gate.Failure
			if !errors.As(err, &f) || f.Cause != c.cause || !strings.Contains(err.Error(), c.says) || strings.ContainsAny(err.Error(), "\x1b\x07") || len(err.Error()) > 1500 {
				t.Errorf("got %v", err)
			}
			if f != nil && f.Remedy.Say == "" {
				t.Error("no remedy")
			}
		})
	}
}

// exchanges is a server that offers key exchanges and says no more (RFC 4253 section 7.1).
func exchanges(c net.Conn, names ...string) {
	fmt.Fprint(c, "SSH-2.0-odd\r\n")
	all := strings.Join(names, ",")
	body := ssh.Marshal(struct {
		Kind                                                     byte
		Cookie                                                   [16]byte
		Kex, Keys, CipherTo, CipherFrom, MACTo, MACFrom          string
		CompressionTo, CompressionFrom, LanguageTo, LanguageFrom string
		Follows                                                  bool
		Reserved                                                 uint32
	}{20, [16]byte{}, all, "ssh-ed25519", "aes128-ctr", "aes128-ctr", "hmac-sha2-256", "hmac-sha2-256", "none", "none", "", "", false, 0})
	pad := 8 - (len(body)+5)%8 + 8
	packet := append(binary.BigEndian.AppendUint32(nil, uint32(1+len(body)+pad)), byte(pad))
	c.Write(append(append(packet, body...), make([]byte, pad)...))
	hearIntroduction(c)
	io.Copy(io.Discard, c)
}

// hearIntroduction waits for the client's version line, by when it has read ours or is
// about to.
func hearIntroduction(c net.Conn) { bufio.NewReader(c).ReadString('\n') }

func drip(c net.Conn, text string) {
	for i := range text {
		if _, err := c.Write([]byte{text[i]}); err != nil {
			return
		}
		<-time.After(200 * time.Millisecond) // slower than anybody has patience for
	}
}

func TestABusyServerIsABusyServer(t *testing.T) {
	var mu sync.Mutex
	left, came := 2, 0
	p := &person{yes: true}
	config := &ssh.ServerConfig{NoClientAuth: true}
	signer, _ := newSigner(t)
	config.AddHostKey(signer)
	addr := listener(t, func(conn net.Conn) {
		mu.Lock()
		came++
		left--
		busy := left >= 0
		mu.Unlock()
		if busy {
			fmt.Fprint(conn, "Not allowed at this time\r\n")
			return
		}
		if c, channels, requests, err := ssh.NewServerConn(conn, config); err == nil {
			go ssh.DiscardRequests(requests)
			for ch := range channels {
				ch.Reject(ssh.Prohibited, "no")
			}
			c.Wait()
		}
	})
	tr := newTraveller(t, 1, p)
	_, err := tr.Walk(context.Background(), tr.way(addr))
	var f *gate.Failure
	if !errors.As(err, &f) || f.Cause != gate.Busy || !walk.MayPass(f) || !strings.Contains(err.Error(), "connecting is slowed down") || !strings.Contains(err.Error(), "Not allowed at this time") {
		t.Fatalf("got %v", err)
	}
	passage, err := tr.Await(context.Background(), tr.way(addr), time.Minute)
	if err != nil {
		t.Fatal(err)
	}
	passage.Close()
	mu.Lock()
	defer mu.Unlock()
	if came != 3 {
		t.Errorf("%d connections were made", came)
	}
}

func TestOneServerHasFewGuestsAtATime(t *testing.T) {
	var mu sync.Mutex
	now, most, came := 0, 0, 0
	release := make(chan struct{})
	addr := listener(t, func(conn net.Conn) {
		mu.Lock()
		now, came = now+1, came+1
		most = max(most, now)
		mu.Unlock()
		<-release
		mu.Lock()
		now--
		mu.Unlock()
	})
	tr := newTraveller(t, 1, &person{})
	var walks sync.WaitGroup
	for i := range 12 { // logins of their own, so that no link is shared
		r := tr.way(addr)
		r.Hops[0].User = fmt.Sprint("keeper-", i)
		walks.Go(func() {
			if _, err := tr.Walk(context.Background(), r); err == nil {
				t.Error("a walk got through")
			}
		})
	}
	await.Until(t, "the first guests", func() bool { mu.Lock(); defer mu.Unlock(); return now == 4 })
	close(release)
	walks.Wait()
	await.Until(t, "the last guest to be gone", func() bool { mu.Lock(); defer mu.Unlock(); return now == 0 })
	mu.Lock()
	defer mu.Unlock()
	if most > 4 || came != 12 {
		t.Errorf("%d at once, %d in all", most, came)
	}
}

func TestAMachineIsLookedAtOnceForAllItsSessions(t *testing.T) {
	var came atomic.Int64
	signer, _ := newSigner(t)
	addr := listener(t, func(conn net.Conn) {
		came.Add(1)
		config := &ssh.ServerConfig{NoClientAuth: true}
		config.AddHostKey(signer)
		ssh.NewServerConn(conn, config)
	})
	tr := newTraveller(t, 1, &person{})
	var routes []route.Route
	for i := range 30 {
		r := tr.way(addr)
		r.Session = fmt.Sprint("odd-", i)
		r.Hops[0].Name, r.Hops[0].User = r.Session, fmt.Sprint("keeper-", i)
		routes = append(routes, r)
	}
	var mu sync.Mutex
	seen := map[string]bool{}
	tr.TouchAll(context.Background(), routes, walk.Look{Depth: walk.Identity}, func(i int, t walk.Touched) {
		mu.Lock()
		defer mu.Unlock()
		report := t.Report
		if report.Session == routes[i].Session && strings.Contains(report.Hops[0].Gates[2].Seen, ssh.FingerprintSHA256(signer.PublicKey())) && report.Hops[0].User == routes[i].Hops[0].User {
			seen[report.Session] = true
		}
	})
	if len(seen) != 30 || came.Load() != 1 {
		t.Errorf("%d sessions were told, by %d connections", len(seen), came.Load())
	}
}

func TestAWayThatEndsAsSoonAsItComesIsTriedLessAndLess(t *testing.T) {
	signer, _ := newSigner(t)
	addr := listener(t, func(conn net.Conn) { // it lets everybody in, and ends
		config := &ssh.ServerConfig{NoClientAuth: true}
		config.AddHostKey(signer)
		if c, _, _, err := ssh.NewServerConn(conn, config); err == nil {
			c.Close()
		}
	})
	tr := newTraveller(t, 1, &person{yes: true})
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var pauses []time.Duration
	for try := 1; try <= 3; try++ {
		if try == 1 {
			if _, err := tr.Walk(ctx, tr.way(addr)); err != nil {
				t.Fatal(err)
			}
		} else if _, err := tr.Return(ctx, tr.way(addr), time.Minute); err != nil {
			t.Fatal(err)
		}
		down := hear[link.Down](tr)
		for down.Failure == nil {
			down = hear[link.Down](tr)
		}
		returns := make(chan struct{})
		asking, stop := context.WithCancel(ctx)
		go func() {
			defer close(returns)
			tr.Return(asking, tr.way(addr), time.Minute)
		}()
		began := time.Now()
		waiting := hear[walk.Waiting](tr)
		stop()
		<-returns
		if waiting.Try != try || waiting.Failure == nil || !waiting.Lost {
			t.Errorf("after %d short lives: %+v", try, waiting)
		}
		pauses = append(pauses, waiting.Next.Sub(began))
	}
	if pauses[0] < time.Second/2 || pauses[2] < pauses[0]*3/2 {
		t.Errorf("the pauses are %v", pauses)
	}
}
