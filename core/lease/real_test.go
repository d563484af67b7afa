package lease_test

import (
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/lease"
	"meatus/core/rights"
	"meatus/lab/servertest"
)

// The distribution's server lets leases in for what they say, and for nothing else.
func TestARealServerTakesLeases(t *testing.T) {
	ca, other := signer(t), signer(t)
	dir := t.TempDir()
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	signers := write("signers", string(ssh.MarshalAuthorizedKey(ca.PublicKey())))
	revoked := write("revoked", string(lease.Revocations([]ssh.PublicKey{other.PublicKey(), ca.PublicKey()}, []uint64{9, 8, 9}, 1, time.Now())))
	s := servertest.StartWith(t, "TrustedUserCAKeys "+signers+"\nRevokedKeys "+revoked+"\nAuthorizedPrincipalsCommand /bin/echo %u@reef\nAuthorizedPrincipalsCommandUser nobody\nPasswordAuthentication no\nKbdInteractiveAuthentication no\n")
	login := s.Way(1).Hops[0].User
	enter := func(by ssh.Signer, change func(*lease.Terms)) (*ssh.Client, error) {
		t.Helper()
		key := signer(t)
		cert, err := lease.Sign(key.PublicKey(), terms(func(x *lease.Terms) {
			if x.Login = login; change != nil {
				change(x)
			}
		}), by)
		if err != nil {
			t.Fatal(err)
		}
		leased, err := ssh.NewCertSigner(cert, key)
		if err != nil {
			t.Fatal(err)
		}
		c, err := ssh.Dial("tcp", s.Address, &ssh.ClientConfig{User: login, Auth: []ssh.AuthMethod{ssh.PublicKeys(leased)}, HostKeyCallback: ssh.InsecureIgnoreHostKey(), Timeout: 10 * time.Second})
		if err == nil {
			t.Cleanup(func() { c.Close() })
		}
		return c, err
	}
	now := time.Now()
	for name, c := range map[string]struct {
		by     ssh.Signer
		change func(*lease.Terms)
		in     bool
	}{
		"as it is":            {ca, nil, true},
		"of another issuer":   {other, nil, false},
		"for another machine": {ca, func(x *lease.Terms) { x.Machine = "tide-db" }, false},
		"for another login":   {ca, func(x *lease.Terms) { x.Login = "somebody" }, false},
		"ended":               {ca, func(x *lease.Terms) { x.Granted, x.Ends = now.Add(-2*time.Minute), now.Add(-time.Second) }, false},
		"by a clock that is ahead": {ca, func(x *lease.Terms) {
			x.Granted, x.Ends = now.Add(lease.Backdate-10*time.Second), now.Add(5*time.Minute)
		}, true},
		"by a clock that is far ahead":   {ca, func(x *lease.Terms) { x.Granted, x.Ends = now.Add(lease.Backdate+time.Minute), now.Add(9*time.Minute) }, false},
		"from here":                      {ca, func(x *lease.Terms) { x.Source = netip.MustParseAddr("127.0.0.1") }, true},
		"from elsewhere":                 {ca, func(x *lease.Terms) { x.Source = netip.MustParseAddr("203.0.113.7") }, false},
		"stopped":                        {ca, func(x *lease.Terms) { x.Serial = 8 }, false},
		"stopped, too":                   {ca, func(x *lease.Terms) { x.Serial = 9 }, false},
		"one more than those":            {ca, func(x *lease.Terms) { x.Serial = 10 }, true},
		"plain, at a machine that isn't": {ca, func(x *lease.Terms) { x.Plain, x.Machine = true, "tide-db" }, false},
	} {
		client, err := enter(c.by, c.change)
		if (err == nil) != c.in {
			t.Errorf("%s: %v", name, err)
		}
		if err == nil {
			client.Close()
		}
	}
	run := func(c *ssh.Client, pty bool, command string) (string, error) {
		session, err := c.NewSession()
		if err != nil {
			t.Fatal(err)
		}
		defer session.Close()
		if pty {
			if err := session.RequestPty("vt100", 24, 80, nil); err != nil {
				return "", err
			}
		}
		out, err := session.CombinedOutput(command)
		return string(out), err
	}
	shell, err := enter(ca, nil)
	if err != nil {
		t.Fatal(err)
	}
	if out, err := run(shell, true, "echo in"); err != nil || !strings.Contains(out, "in") {
		t.Errorf("a shell: %q %v", out, err)
	}
	if _, err := shell.Dial("tcp", s.Address); err == nil {
		t.Error("a tunnel opened that the lease does not allow")
	}
	files, err := enter(ca, func(x *lease.Terms) { x.May = rights.Files })
	if err != nil {
		t.Fatal(err)
	}
	if out, _ := run(files, false, "echo in"); strings.Contains(out, "in\n") {
		t.Errorf("a command ran that the lease does not allow: %q", out)
	}
	if _, err := run(files, true, "echo in"); err == nil {
		t.Error("a terminal was given that the lease does not allow")
	}
	tunnels, err := enter(ca, func(x *lease.Terms) { x.May = rights.Tunnels })
	if err != nil {
		t.Fatal(err)
	}
	if out, _ := run(tunnels, false, "echo in"); strings.Contains(out, "in\n") {
		t.Errorf("a command ran that the lease does not allow: %q", out)
	}
	through, err := tunnels.Dial("tcp", s.Address)
	if err != nil {
		t.Fatalf("a tunnel: %v", err)
	}
	through.Close()
}
