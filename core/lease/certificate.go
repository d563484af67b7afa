package lease

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"meatus/core/rights"
	"net/netip"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// Backdate is how long before it is signed a certificate is valid, for machines whose clocks are behind.
const Backdate = 2 * time.Minute

// maxLife is the longest time that a certificate which we take may have left.
const maxLife = 25 * time.Hour

// Terms are what a certificate for a lease holds.
type Terms struct {
	Serial  uint64
	Person  string
	Login   string
	Machine string
	Plain   bool // the machine takes the login by its name alone
	Rule    string
	Granted time.Time
	Ends    time.Time
	May     rights.Set
	Source  netip.Addr // where alone it holds, the zero value for everywhere
	Loud    string     // put before what a server's log says of it, "" for nothing
}

// Principal is what a machine's server knows a login by.
func Principal(login, machine string) string { return login + "@" + machine }

// Sign makes a user certificate (the format of OpenSSH's PROTOCOL.certkeys, section "Certificate formats") for a key.
func Sign(key ssh.PublicKey, t Terms, signer ssh.Signer) (*ssh.Certificate, error) {
	c := &ssh.Certificate{
		Key:             key,
		Serial:          t.Serial,
		CertType:        ssh.UserCert,
		KeyId:           strings.TrimSpace(fmt.Sprintf("%s lease %d of %s, %s at %s", t.Loud, t.Serial, t.Person, t.Login, t.Machine)),
		ValidPrincipals: []string{Principal(t.Login, t.Machine)},
		ValidAfter:      uint64(t.Granted.Add(-Backdate).Unix()),
		ValidBefore:     uint64(t.Ends.Unix()),
		Permissions:     ssh.Permissions{CriticalOptions: map[string]string{}, Extensions: map[string]string{}},
	}
	if t.Plain {
		c.ValidPrincipals = append(c.ValidPrincipals, t.Login)
	}
	for may, extension := range map[rights.Set]string{rights.Shell: "permit-pty", rights.Agent: "permit-agent-forwarding", rights.Tunnels: "permit-port-forwarding", rights.Windows: "permit-X11-forwarding"} {
		if t.May&may != 0 {
			c.Extensions[extension] = ""
		}
	}
	if t.May&(rights.Shell|rights.Files) == rights.Files {
		c.CriticalOptions["force-command"] = "internal-sftp"
	}
	if t.May&(rights.Shell|rights.Files) == 0 { // tunnels and the like alone
		c.CriticalOptions["force-command"] = "exit 1"
	}
	if t.Source.IsValid() {
		c.CriticalOptions["source-address"] = netip.PrefixFrom(t.Source, t.Source.BitLen()).String()
	}
	return c, c.SignCert(rand.Reader, signer)
}

// Check tells whether a certificate is what was asked for: for our key, for that login at that machine, in its time,
// and for no longer than a day. It fails with what is wrong.
func Check(c *ssh.Certificate, key ssh.PublicKey, login, machine string, now time.Time) error {
	switch {
	case c.CertType != ssh.UserCert:
		return errors.New("it is no certificate for a login")
	case string(c.Key.Marshal()) != string(key.Marshal()):
		return errors.New("it is for another key")
	case len(c.ValidPrincipals) == 0:
		return errors.New("it is for every login")
	case !slices.Contains(c.ValidPrincipals, Principal(login, machine)):
		return fmt.Errorf("it is not for %s", Principal(login, machine))
	case c.ValidBefore == ssh.CertTimeInfinity || time.Unix(int64(min(c.ValidBefore, 1<<62)), 0).After(now.Add(maxLife)):
		return errors.New("it is for longer than a lease may be")
	case time.Unix(int64(c.ValidBefore), 0).Before(now):
		return errors.New("it has ended already: the clocks here and there are apart, or the line is very slow")
	}
	for _, p := range c.ValidPrincipals {
		if p != Principal(login, machine) && p != login {
			return fmt.Errorf("it is for %q, too", p)
		}
	}
	return nil
}

// ParseCertificate reads a certificate in its wire form, in base64.
func ParseCertificate(text string) (*ssh.Certificate, error) {
	wire, err := base64.StdEncoding.DecodeString(text)
	if err != nil {
		return nil, err
	}
	key, err := ssh.ParsePublicKey(wire)
	if err != nil {
		return nil, err
	}
	c, ok := key.(*ssh.Certificate)
	if !ok {
		return nil, errors.New("it is a key, and no certificate")
	}
	return c, nil
}

// Host makes a host certificate for a machine's key.
func Host(key ssh.PublicKey, names []string, machine string, serial uint64, from, until time.Time, signer ssh.Signer) (*ssh.Certificate, error) {
	if len(names) == 0 {
		return nil, errors.New("a machine's certificate has to be for its hosts by name")
	}
	c := &ssh.Certificate{Key: key, Serial: serial, CertType: ssh.HostCert, KeyId: machine, ValidPrincipals: names,
		ValidAfter: uint64(from.Add(-Backdate).Unix()), ValidBefore: uint64(until.Unix())}
	return c, c.SignCert(rand.Reader, signer)
}

// ValidHost reports whether a host certificate may be issued for a host: a lower-case name of letters, digits, dots and
// hyphens (RFC 1123 section 2.1; ASCII, underscores too), other than localhost, or an address that is neither loopback,
// multicast nor unspecified.
func ValidHost(name string) bool {
	if addr, err := netip.ParseAddr(name); err == nil {
		return addr.Zone() == "" && !addr.IsLoopback() && !addr.IsUnspecified() && !addr.IsMulticast() && !addr.Is4In6() && addr.String() == name
	}
	if len(name) == 0 || len(name) > 253 {
		return false
	}
	letters := false
	for label := range strings.SplitSeq(name, ".") {
		if len(label) == 0 || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' {
			return false
		}
		for i := range len(label) {
			c := label[i]
			if c >= 'a' && c <= 'z' || c == '-' || c == '_' {
				letters = true
			} else if c < '0' || c > '9' {
				return false
			}
		}
	}
	return letters && name != "localhost" && !strings.HasSuffix(name, ".localhost")
}

// Emergency is what a server's log, and this program, say first where somebody comes in by the way that is sealed for
// the day on which the issuer is away.
const Emergency = "EMERGENCY"

// MaxEmergency is how long such a certificate may be valid.
const MaxEmergency = 90 * 24 * time.Hour

// SignEmergency makes a certificate for a login at several machines, for a long time: for a key that is sealed with a
// passphrase and kept for the day on which the issuer is away.
func SignEmergency(key ssh.PublicKey, serial uint64, login string, machines []string, from, until time.Time, signer ssh.Signer) (*ssh.Certificate, error) {
	if len(machines) == 0 || until.Sub(from) > MaxEmergency {
		return nil, errors.New("it is for machines by name, and for no longer than 90 days")
	}
	c := &ssh.Certificate{Key: key, Serial: serial, CertType: ssh.UserCert, KeyId: fmt.Sprintf("%s way in, %d, as %s", Emergency, serial, login),
		ValidAfter: uint64(from.Add(-Backdate).Unix()), ValidBefore: uint64(until.Unix()), Permissions: ssh.Permissions{Extensions: map[string]string{"permit-pty": "", "permit-port-forwarding": ""}}}
	for _, m := range machines {
		c.ValidPrincipals = append(c.ValidPrincipals, Principal(login, m))
	}
	return c, c.SignCert(rand.Reader, signer)
}

// IsEmergency tells whether a key is a certificate for such a day.
func IsEmergency(key ssh.PublicKey) bool {
	c, is := key.(*ssh.Certificate)
	return is && strings.HasPrefix(c.KeyId, Emergency)
}
