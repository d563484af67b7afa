package walk_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/vouch"
	"meatus/core/walk"
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
	r := route.Route{Session: "odd", Hops: []route.Hop{{Name: "odd", Host: "odd.lantern.example", Port: 22, User: "keeper", Dial: addr, Keys: []string{file}, Keepalive: time.Minute}}}
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
		q.Questions[0] != (walk.Question{Text: "Name of the tide:", Echo: true}) || q.Questions[1].Echo {
		t.Errorf("first round %+v", q)
	}
	if got := p.questions[1].Questions[0].Text; got != "And again:" {
		t.Errorf("second round %q", got)
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
		"retired algorithms": {oddServer(t, old), gate.NoCommon, "there: diffie-hellman-group1-sha1"},
		"closes at once":     {listener(t, func(net.Conn) {}), gate.ServerClosed, "without a word"},
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
