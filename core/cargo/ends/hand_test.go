package ends_test

import (
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"net"
	"os"
	"os/user"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"meatus/core/cargo/ends"
	"meatus/lab/servertest"
)

// lent is a connection to an agent that has a key.
func lent(t *testing.T, key string) net.Conn {
	t.Helper()
	keys := agent.NewKeyring()
	if key != "" {
		text, err := os.ReadFile(key)
		if err != nil {
			t.Fatal(err)
		}
		private, err := ssh.ParseRawPrivateKey(text)
		if err != nil {
			t.Fatal(err)
		}
		if err := keys.Add(agent.AddedKey{PrivateKey: private}); err != nil {
			t.Fatal(err)
		}
	}
	here, there := net.Pipe()
	go agent.ServeAgent(keys, there)
	return here
}

// A stream is handed to the machine that has the key it has to have, and to no other.
func TestHandOver(t *testing.T) {
	s := servertest.Start(t)
	me, err := user.Current()
	if err != nil {
		t.Fatal(err)
	}
	public, _, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	other, err := ssh.NewPublicKey(public)
	if err != nil {
		t.Fatal(err)
	}
	right, wrong := string(ssh.MarshalAuthorizedKey(s.Signer.PublicKey())), string(ssh.MarshalAuthorizedKey(other))
	for _, c := range []struct {
		name, host, key, command, says string
		arrives                        bool
	}{
		{"its key", right, s.Key, "cat > FILE", "", true},
		{"another host key", wrong, s.Key, "cat > FILE", "host key mismatch", false},
		{"no host key", "keeper", s.Key, "cat > FILE", "the key of", false},
		{"no key that is lent", right, "", "cat > FILE", "unable to authenticate", false},
		{"a command that fails loudly", right, s.Key, "cat > /dev/null; yes 'no \033[31m' | head -c 100000 >&2; exit 3", "status 3", false},
	} {
		t.Run(c.name, func(t *testing.T) {
			file := filepath.Join(t.TempDir(), "arrived")
			h := ends.Handover{Address: s.Address, User: me.Username, HostKey: c.host, Command: strings.ReplaceAll(c.command, "FILE", file)}
			err := ends.HandOver(t.Context(), strings.NewReader("high water 06:12"), h, lent(t, c.key))
			text, _ := os.ReadFile(file)
			if c.arrives != (string(text) == "high water 06:12") {
				t.Errorf("arrived: %q", text)
			}
			switch {
			case (err == nil) != (c.says == ""):
				t.Fatalf("it says: %v", err)
			case err != nil && !strings.Contains(err.Error(), c.says):
				t.Fatalf("it says: %v", err)
			case err != nil && (strings.Contains(err.Error(), "\033") || len(err.Error()) > 600):
				t.Fatalf("what a far side says is shown as it came: %.700q", err)
			}
		})
	}
}

// A machine that says nothing, and an agent that says nothing, do not hold whoever waits.
func TestHandOverEnds(t *testing.T) {
	silent, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer silent.Close()
	s := servertest.Start(t)
	key := string(ssh.MarshalAuthorizedKey(s.Signer.PublicKey()))
	dumb, asked := net.Pipe()
	for name, c := range map[string]struct {
		address string
		agent   net.Conn
		reached func() error // returns when it was asked
	}{
		"machine": {silent.Addr().String(), lent(t, s.Key), func() error {
			_, err := silent.Accept()
			return err
		}},
		"agent": {s.Address, dumb, func() error {
			_, err := asked.Read(make([]byte, 1))
			return err
		}},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithCancel(t.Context())
			defer cancel()
			over := make(chan error, 1)
			go func() {
				over <- ends.HandOver(ctx, strings.NewReader(""), ends.Handover{Address: c.address, User: "keeper", HostKey: key, Command: "cat"}, c.agent)
			}()
			if err := c.reached(); err != nil {
				t.Fatal(err)
			}
			cancel()
			if err := <-over; err == nil {
				t.Fatal("it ended well")
			}
		})
	}
}
