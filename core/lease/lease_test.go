package lease_test

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"net/netip"
	"strings"
	"testing"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/lease"
	"meatus/core/rights"
)

// signer is a new key.
func signer(t testing.TB) ssh.Signer {
	t.Helper()
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	s, err := ssh.NewSignerFromKey(private)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

// terms are those of a lease for keeper at reef that was granted now.
func terms(change func(*lease.Terms)) lease.Terms {
	now := time.Now()
	t := lease.Terms{Serial: 7, Person: "mira", Login: "keeper", Machine: "reef", Rule: "night-watch", Granted: now, Ends: now.Add(time.Minute), May: rights.Shell}
	if change != nil {
		change(&t)
	}
	return t
}

func TestWhatACertificateHolds(t *testing.T) {
	key, ca := signer(t), signer(t)
	for name, c := range map[string]struct {
		change     func(*lease.Terms)
		principals string
		extensions string
		critical   map[string]string
	}{
		"a shell": {nil, "keeper@reef", "permit-pty", nil},
		"all":     {func(t *lease.Terms) { t.May |= rights.Agent | rights.Tunnels | rights.Windows }, "keeper@reef", "permit-X11-forwarding permit-agent-forwarding permit-port-forwarding permit-pty", nil},
		"files":   {func(t *lease.Terms) { t.May = rights.Files }, "keeper@reef", "", map[string]string{"force-command": "internal-sftp"}},
		"tunnels": {func(t *lease.Terms) { t.May = rights.Tunnels }, "keeper@reef", "permit-port-forwarding", map[string]string{"force-command": "exit 1"}},
		"plain":   {func(t *lease.Terms) { t.Plain = true }, "keeper@reef keeper", "permit-pty", nil},
		"source":  {func(t *lease.Terms) { t.Source = netip.MustParseAddr("203.0.113.7") }, "keeper@reef", "permit-pty", map[string]string{"source-address": "203.0.113.7/32"}},
	} {
		cert, err := lease.Sign(key.PublicKey(), terms(c.change), ca)
		if err != nil {
			t.Fatal(err)
		}
		var extensions []string
		for _, name := range []string{"permit-X11-forwarding", "permit-agent-forwarding", "permit-port-forwarding", "permit-pty", "permit-user-rc"} {
			if _, is := cert.Extensions[name]; is {
				extensions = append(extensions, name)
			}
		}
		if got := strings.Join(cert.ValidPrincipals, " "); got != c.principals || strings.Join(extensions, " ") != c.extensions || len(cert.CriticalOptions) != len(c.critical) {
			t.Errorf("%s: %q %v %v", name, got, extensions, cert.CriticalOptions)
		}
		for option, value := range c.critical {
			if cert.CriticalOptions[option] != value {
				t.Errorf("%s: %v", name, cert.CriticalOptions)
			}
		}
		if cert.KeyId != "lease 7 of mira, keeper at reef" || cert.Serial != 7 || cert.CertType != ssh.UserCert {
			t.Errorf("%s: %+v", name, cert)
		}
		checker := ssh.CertChecker{IsUserAuthority: func(auth ssh.PublicKey) bool { return string(auth.Marshal()) == string(ca.PublicKey().Marshal()) }, SupportedCriticalOptions: []string{"force-command", "source-address"}}
		if err := checker.CheckCert("keeper@reef", cert); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		again, err := lease.ParseCertificate(base64.StdEncoding.EncodeToString(cert.Marshal()))
		if err != nil || again.Serial != 7 {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// A certificate that an issuer gives is taken where it is what was asked for, and nothing else.
func TestAWrongCertificateIsNotTaken(t *testing.T) {
	key, ca, now := signer(t), signer(t), time.Now()
	for name, change := range map[string]func(*ssh.Certificate){
		"":                                 func(*ssh.Certificate) {},
		"for another key":                  func(c *ssh.Certificate) { c.Key = signer(t).PublicKey() },
		"no certificate for a login":       func(c *ssh.Certificate) { c.CertType = ssh.HostCert },
		"for every login":                  func(c *ssh.Certificate) { c.ValidPrincipals = nil },
		"not for keeper@reef":              func(c *ssh.Certificate) { c.ValidPrincipals = []string{"root@reef"} },
		"for \"root\", too":                func(c *ssh.Certificate) { c.ValidPrincipals = append(c.ValidPrincipals, "root") },
		"for longer than a lease may be":   func(c *ssh.Certificate) { c.ValidBefore = uint64(now.Add(26 * time.Hour).Unix()) },
		"longer than a lease may be":       func(c *ssh.Certificate) { c.ValidBefore = ssh.CertTimeInfinity },
		"than a lease may be":              func(c *ssh.Certificate) { c.ValidBefore = ssh.CertTimeInfinity - 1 },
		"it has ended already: the clocks": func(c *ssh.Certificate) { c.ValidBefore = uint64(now.Add(-time.Second).Unix()) },
	} {
		cert, err := lease.Sign(key.PublicKey(), terms(nil), ca)
		if err != nil {
			t.Fatal(err)
		}
		change(cert)
		err = lease.Check(cert, key.PublicKey(), "keeper", "reef", now)
		if (err == nil) != (name == "") || err != nil && !strings.Contains(err.Error(), name) {
			t.Errorf("%q: %v", name, err)
		}
	}
	for _, text := range []string{"", "!", base64.StdEncoding.EncodeToString(key.PublicKey().Marshal()), "AAAA"} {
		if _, err := lease.ParseCertificate(text); err == nil {
			t.Errorf("%q was taken", text)
		}
	}
	if _, err := lease.Host(key.PublicKey(), nil, "reef", 1, now, now.Add(time.Hour), ca); err == nil {
		t.Error("a machine's certificate is for every host")
	}
}

func TestFirstBootText(t *testing.T) {
	var b strings.Builder
	if err := lease.FirstBoot(&b, "reef", []string{"ssh-ed25519 AAAA"}); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"ssh-ed25519 AAAA\nKEYS", "AuthorizedPrincipalsCommand /bin/echo %u@reef\n", "sshd -t\n", "TrustedUserCAKeys /etc/ssh/meatus-lease-signers.pub"} {
		if !strings.Contains(b.String(), want) {
			t.Errorf("no %q in\n%s", want, b.String())
		}
	}
}

func FuzzParseCertificate(f *testing.F) {
	key, ca := signer(f), signer(f)
	cert, err := lease.Sign(key.PublicKey(), terms(nil), ca)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(base64.StdEncoding.EncodeToString(cert.Marshal()))
	f.Add("")
	f.Fuzz(func(t *testing.T, text string) {
		c, err := lease.ParseCertificate(text)
		if err != nil {
			return
		}
		if lease.Check(c, key.PublicKey(), "keeper", "reef", time.Now()) == nil && len(c.ValidPrincipals) == 0 {
			t.Errorf("%q is for everybody", text)
		}
	})
}
