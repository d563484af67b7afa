package lab

import (
	"context"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/vouch"
)

// Passphrase opens the demo's one locked key, survey.pem.
const Passphrase = "low tide"

// Lab is a running Lantern Bay.
type Lab struct {
	Dir   string // its workspace
	hosts map[string]*Host
	names map[string]string // simulated names to addresses
	since time.Time
	cloud *Cloud

	lightship *lightship
	purser    *purser
	provider  *provider

	ctx      context.Context // ends with the bay
	cancel   context.CancelFunc
	listener net.Listener
	taken    net.Listener // holds the listener that a session of the demo wants
	mu       sync.Mutex
	closed   bool
	wg       sync.WaitGroup
}

// place is what the bay's map says of a host.
type place struct {
	name, address string
	logins        map[string]string // login to the key that opens it
	vouched       bool
}

var bayMap = []place{
	{"quay", "203.0.113.10", map[string]string{"warden": "shore.pem"}, true},
	{"tide-db", "10.61.4.20", map[string]string{"keeper": "tide.pem"}, false},
	{"gauge-1", "10.61.4.31", map[string]string{"keeper": "gauge.pem"}, true},
	{"gauge-2", "10.61.4.32", map[string]string{"keeper": "gauge.pem"}, true},
	{"gauge-3", "10.61.4.33", map[string]string{"keeper": "gauge.pem"}, true},
	{"gauge-4", "10.61.4.34", map[string]string{"keeper": "gauge.pem"}, true},
	{"survey-web", "10.61.4.40", map[string]string{"keeper": "survey.pem"}, false},
	{"archive", "10.61.4.50", map[string]string{"keeper": "gauge.pem"}, false},
	{"lamp", "10.61.4.60", map[string]string{"keeper": "gauge.pem"}, true},
	{"mast", "10.61.4.61", map[string]string{"keeper": "mast.pem"}, true},
	{"buoy", "10.61.4.62", map[string]string{"keeper": "gauge.pem"}, true},
	{"sill", "10.61.4.63", map[string]string{"keeper": "gauge.pem"}, true},
	{"sluice", "10.61.4.64", map[string]string{"keeper": "gauge.pem"}, true},
}

// adrift are hosts that nobody can knock at: they join the lightship.
var adrift = []place{
	{"sounder", "10.62.0.12", map[string]string{"keeper": "gauge.pem"}, false},
	{"skerry", "10.62.0.13", map[string]string{"keeper": "gauge.pem"}, false},
}

// LampCode is the second step at the lamp, which its banner gives away.
const LampCode = "flood tide"

// SillPassword lets keeper in at the sill, which passes its list of keys over.
const SillPassword = "ebb"

// disorder leaves at some hosts what should not be there.
func (b *Lab) disorder(h *Host) error {
	switch h.Name {
	case "quay":
		key, err := newKey("bcrypt")
		if err != nil {
			return err
		}
		block, err := ssh.MarshalPrivateKey(key, "gauges, copied for the night watch")
		if err != nil {
			return err
		}
		h.files.plant("/home/warden/rounds.old/gauges.pem", string(pem.EncodeToMemory(block)), 0o644)
		h.files.plant("/tmp/ssh-night/agent.2201", "", fs.ModeSocket|0o600)
	case "sill": // everybody may write in the home, so the list is passed over
		h.files.plant("/home/keeper/", "", 0o777)
	}
	return nil
}

// vouchedOn is when the demo's hosts were vouched for.
var vouchedOn = time.Date(2026, time.October, 12, 9, 30, 0, 0, time.UTC)

// Open starts the bay with its workspace in dir, which is made where it is
// missing. What stands there from an earlier start is kept: keys, sessions and
// vouches. The bastion listens on loopback until Close.
func Open(dir string) (*Lab, error) {
	b := &Lab{Dir: dir, hosts: map[string]*Host{}, names: map[string]string{}, since: time.Now()}
	b.ctx, b.cancel = context.WithCancel(context.Background())
	for _, sub := range []string{dir, filepath.Join(dir, "keys"), filepath.Join(dir, "lab"), b.Downloads()} {
		if err := os.MkdirAll(sub, 0o700); err != nil {
			return nil, err
		}
	}
	keys, err := b.loginKeys()
	if err != nil {
		return nil, err
	}
	for _, p := range slices.Concat(bayMap, adrift, leased) {
		if err := b.build(p, keys); err != nil {
			return nil, err
		}
	}
	if err := b.listen(); err != nil {
		return nil, err
	}
	err = b.openCloud()
	if err == nil {
		err = b.openLightship(keys)
	}
	if err == nil {
		if err = b.openProvider(); err == nil {
			err = b.openPurser(keys)
		}
	}
	if err == nil {
		err = b.writeWorkspace()
	}
	if err == nil {
		err = b.plantTables()
	}
	if err != nil {
		b.Close()
		return nil, err
	}
	b.wg.Go(b.accept)
	return b, nil
}

func (b *Lab) build(p place, keys map[string]ssh.PublicKey) error {
	h := &Host{Name: p.name, Address: p.address, Bastion: p.name == "quay" || p.name == "archive" || p.name == "mast", Accounts: map[string]Account{}, bay: b, conns: map[net.Conn]bool{}}
	for login, key := range p.logins {
		if h.Accounts[login] = (Account{}); key != "" { // else leases alone let somebody in
			h.Accounts[login] = Account{Keys: []ssh.PublicKey{keys[key]}}
		}
	}
	signer, err := b.hostKey(p.name)
	if err != nil {
		return err
	}
	h.signer = signer
	switch p.name {
	case "gauge-3":
		h.Faults.ClosePort(true)
	case "lamp":
		h.Banner = "Keepers of the lamp only. Today's code is: " + LampCode + "\n"
		account := h.Accounts["keeper"]
		account.Code = LampCode
		h.Accounts["keeper"] = account
	case "buoy": // both the key that was downloaded and the gauges' open it
		h.Accounts["keeper"] = Account{Keys: []ssh.PublicKey{keys["buoy.pem"], keys["gauge.pem"]}}
	case "quay": // somebody was here
		visitor, err := newKey("bcrypt")
		if err != nil {
			return err
		}
		signer, err := ssh.NewSignerFromKey(visitor)
		if err != nil {
			return err
		}
		account := h.Accounts["warden"]
		account.Line = "restrict " + strings.TrimSpace(string(ssh.MarshalAuthorizedKey(signer.PublicKey()))) + " visitor, spring survey\n"
		h.Accounts["warden"] = account
	case "sill":
		account := h.Accounts["keeper"]
		account.Password = SillPassword
		h.Accounts["keeper"] = account
	case "mast":
		if h.Accounts["keeper"], err = b.certified(keys["mast.pem"]); err != nil {
			return err
		}
	}
	h.files = newTree(h, bayFiles[p.name])
	h.files.plant(serverConfig, usualServer, 0o644)
	if p.name == "archive" {
		h.plantArchive()
	}
	if err := h.plantLists(); err != nil {
		return err
	}
	if err := b.disorder(h); err != nil {
		return err
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	b.hosts[p.name] = h
	b.names[p.name+".internal"] = p.address
	return nil
}

// certified is an account that demands a certificate; the certificate of the key
// is written beside it, good for a day from every start on.
func (b *Lab) certified(key ssh.PublicKey) (Account, error) {
	signer, err := b.hostKey("signer")
	if err != nil {
		return Account{}, err
	}
	now := time.Now()
	cert := &ssh.Certificate{
		Key: key, CertType: ssh.UserCert, KeyId: "keeper of the mast", ValidPrincipals: []string{"keeper"},
		ValidAfter: uint64(now.Add(-time.Hour).Unix()), ValidBefore: uint64(now.Add(24 * time.Hour).Unix()),
	}
	if err := cert.SignCert(rand.Reader, signer); err != nil {
		return Account{}, err
	}
	file := filepath.Join(b.Dir, "keys", "mast.pem-cert.pub")
	return Account{Signer: signer.PublicKey()}, os.WriteFile(file, ssh.MarshalAuthorizedKey(cert), 0o600)
}

// Host returns the host of that name, or nil.
func (b *Lab) Host(name string) *Host {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.hosts[name]
}

// all are the hosts that there are now.
func (b *Lab) all() []*Host {
	b.mu.Lock()
	defer b.mu.Unlock()
	return slices.Collect(maps.Values(b.hosts))
}

// Distance makes every host as late as a real one some way off.
func (b *Lab) Distance() {
	for _, h := range b.all() {
		h.Faults.Delay(3 * time.Millisecond)
		if h.Name == "quay" {
			h.Faults.Delay(8 * time.Millisecond)
		}
	}
}

// Downloads is the demo's download folder.
func (b *Lab) Downloads() string { return filepath.Join(b.Dir, "downloads") }

// Address is where the bastion listens.
func (b *Lab) Address() string { return b.listener.Addr().String() }

// Close ends the bay and waits until nothing of it is left.
func (b *Lab) Close() {
	b.mu.Lock()
	b.closed = true
	b.mu.Unlock()
	b.cancel()
	b.listener.Close()
	b.taken.Close()
	if b.cloud != nil {
		b.cloud.close()
	}
	for _, h := range b.all() {
		h.Faults.Heal()
		h.Cut()
	}
	if b.lightship != nil {
		b.lightship.stop()
	}
	if b.provider != nil {
		b.provider.server.Close()
	}
	if b.purser != nil {
		b.purser.close()
	}
	b.wg.Wait()
	if b.lightship != nil {
		b.lightship.close()
	}
}

// listen takes the port of the last start again, so that a kept workspace still
// reaches the bay.
func (b *Lab) listen() (err error) {
	kept := filepath.Join(b.Dir, "lab", "port")
	port := "0"
	if text, err := os.ReadFile(kept); err == nil {
		port = strings.TrimSpace(string(text))
	}
	if b.listener, err = net.Listen("tcp", net.JoinHostPort("127.0.0.1", port)); err != nil {
		return fmt.Errorf("the lab's port %s is taken: %w; stop what holds it (perhaps another lab in %s)", port, err, b.Dir)
	}
	if b.taken, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
		return err
	}
	_, port, _ = net.SplitHostPort(b.Address())
	return os.WriteFile(kept, []byte(port+"\n"), 0o600)
}

func (b *Lab) accept() {
	quay := b.Host("quay")
	for {
		conn, err := b.listener.Accept()
		if err != nil {
			return
		}
		if quay.Faults.portClosed() || quay.off() {
			conn.Close()
			continue
		}
		b.start(quay, bridge(conn, &quay.Faults))
	}
}

// start serves a connection unless the bay is closing.
func (b *Lab) start(h *Host, conn net.Conn) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		conn.Close()
		return false
	}
	b.wg.Go(func() { h.serve(conn) })
	return true
}

// startService serves a connection to a service of a host unless the bay is closing.
func (b *Lab) startService(serve service, h *Host, conn net.Conn, from *Host) bool {
	seen := from.at()
	if from.Name == "quay" {
		seen = InnerAddress
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.closed {
		conn.Close()
		return false
	}
	h.mu.Lock()
	h.conns[conn] = true
	h.mu.Unlock()
	b.wg.Go(func() {
		serve(b.ctx, h, conn, seen)
		conn.Close()
		h.mu.Lock()
		delete(h.conns, conn)
		h.mu.Unlock()
	})
	return true
}

type simulated string

func (s simulated) Network() string { return "lab" }
func (s simulated) String() string  { return string(s) }

// refusal is why a host cannot be connected to, worded as servers word it.
type refusal string

func (r refusal) Error() string { return string(r) }

// dial joins a connection to a host of the simulated network.
func (b *Lab) dial(from *Host, address string) (net.Conn, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return nil, errors.New("address not understood")
	}
	if name := host; net.ParseIP(host) == nil {
		b.mu.Lock()
		known, ok := b.names[host]
		b.mu.Unlock()
		if !ok {
			return nil, refusal("Name or service not known")
		}
		if host = known; b.Host(strings.TrimSuffix(name, ".internal")) != nil {
			host = b.Host(strings.TrimSuffix(name, ".internal")).at()
		}
	}
	for _, h := range b.all() {
		if h.at() != host {
			continue
		}
		if h.off() {
			return nil, refusal("No route to host")
		}
		if !b.cloud.lets(from, h, port) {
			select { // what no rule lets in is dropped, and not answered
			case <-b.ctx.Done():
			case <-time.After(silence):
			}
			return nil, refusal("Connection timed out")
		}
		serve := bayServices[h.Name][port]
		if port != "22" && serve == nil || h.Faults.portClosed() {
			return nil, refusal("Connection refused")
		}
		if serve != nil {
			near, far := newLine(&h.Faults, simulated(from.at()+":40000"), simulated(address))
			if !b.startService(serve, h, far, from) {
				return nil, refusal("Connection refused")
			}
			return near, nil
		}
		near, far := newLine(&h.Faults, simulated(from.at()+":40000"), simulated(address))
		if !b.start(h, far) {
			return nil, refusal("Connection refused")
		}
		return near, nil
	}
	return nil, refusal("No route to host")
}

// hostKey reads a host's key of an earlier start, or makes one.
func (b *Lab) hostKey(name string) (ssh.Signer, error) {
	file := filepath.Join(b.Dir, "lab", name+".host")
	text, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		_, key, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		if text, err = writeKey(file, key, "", "", 0o600); err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(text)
}

// loginKeys makes the workspace's keys, each in another container, and returns
// their public halves, which stand in lab/ beside the hosts' keys.
func (b *Lab) loginKeys() (map[string]ssh.PublicKey, error) {
	public := map[string]ssh.PublicKey{}
	for _, k := range []struct {
		name, form string
		mode       os.FileMode
	}{
		{"shore.pem", "pkcs8", 0o400},
		{"tide.pem", "bcrypt", 0o644}, // too open, on purpose
		{"gauge.pem", "sec1", 0o600},
		{"survey.pem", "locked", 0o600},
		{"mast.pem", "pkcs8", 0o600},
		{"spare.pem", "sec1", 0o640}, // too open as well, and used by nothing
		{"buoy.pem", "pkcs8", 0o644}, // lies in the download folder
	} {
		kept := filepath.Join(b.Dir, "lab", k.name+".pub")
		if text, err := os.ReadFile(kept); err == nil {
			pub, _, _, _, err := ssh.ParseAuthorizedKey(text)
			if err != nil {
				return nil, fmt.Errorf("%s: %w", kept, err)
			}
			public[k.name] = pub
			continue
		}
		key, err := newKey(k.form)
		if err != nil {
			return nil, err
		}
		passphrase := ""
		if k.form == "locked" {
			passphrase = Passphrase
		}
		folder := filepath.Join(b.Dir, "keys")
		if k.name == "buoy.pem" {
			folder = b.Downloads()
		}
		if _, err := writeKey(filepath.Join(folder, k.name), key, k.form, passphrase, k.mode); err != nil {
			return nil, err
		}
		signer, err := ssh.NewSignerFromKey(key)
		if err != nil {
			return nil, err
		}
		public[k.name] = signer.PublicKey()
		if err := os.WriteFile(kept, ssh.MarshalAuthorizedKey(signer.PublicKey()), 0o600); err != nil {
			return nil, err
		}
	}
	return public, nil
}

func newKey(form string) (crypto.PrivateKey, error) {
	if form == "sec1" {
		return ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	}
	_, key, err := ed25519.GenerateKey(rand.Reader)
	return key, err
}

// writeKey writes a private key in a container, and returns what it wrote.
func writeKey(file string, key crypto.PrivateKey, form, passphrase string, mode os.FileMode) ([]byte, error) {
	var block *pem.Block
	var err error
	switch form {
	case "pkcs8":
		block = &pem.Block{Type: "PRIVATE KEY"}
		block.Bytes, err = x509.MarshalPKCS8PrivateKey(key)
	case "sec1":
		block = &pem.Block{Type: "EC PRIVATE KEY"}
		block.Bytes, err = x509.MarshalECPrivateKey(key.(*ecdsa.PrivateKey))
	case "locked":
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, "keeper of the survey", []byte(passphrase))
	default:
		block, err = ssh.MarshalPrivateKey(key, "keeper of the bay")
	}
	if err != nil {
		return nil, err
	}
	text := pem.EncodeToMemory(block)
	if err := os.WriteFile(file, text, 0o600); err != nil {
		return nil, err
	}
	return text, os.Chmod(file, mode)
}

// writeWorkspace writes the sessions and vouches of a first start.
func (b *Lab) writeWorkspace() error {
	sessions := filepath.Join(b.Dir, "sessions.toml")
	if _, err := os.Stat(sessions); err == nil {
		return nil
	}
	for _, p := range slices.Concat(bayMap, leased) {
		if !p.vouched {
			continue
		}
		key := b.hosts[p.name].Identity()
		if p.name == "gauge-2" { // replaced since it was vouched for
			pub, _, err := ed25519.GenerateKey(rand.Reader)
			if err != nil {
				return err
			}
			if key, err = ssh.NewPublicKey(pub); err != nil {
				return err
			}
		}
		record := vouch.Open(filepath.Join(b.Dir, vouch.FileName))
		at := vouch.At{Host: p.address, Port: 22}
		if p.name != "quay" {
			at.Way = "via quay"
		}
		if err := record.Accept(at, key, p.address+":22", vouchedOn); err != nil {
			return err
		}
	}
	return os.WriteFile(sessions, []byte(strings.NewReplacer("QUAY", b.Address(), "DOOR", b.taken.Addr().String(), "LIGHTSHIP", b.lightship.URL(), "SHIPKEY", b.lightship.HostKey(), "PURSER", b.purser.url, "TOLLKEY", b.purser.hostKey, "GANGWAY", b.provider.url).Replace(baySessions)), 0o600)
}

// Dialer reaches the bay and nothing else: any address but the bastion's has no
// route.
func (b *Lab) Dialer() *Dialer { return &Dialer{b} }

// Dialer is a dialer that knows the bay alone.
type Dialer struct{ bay *Lab }

// DialContext connects to the bastion, the gateway or the issuer.
func (d *Dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	if address != d.bay.Address() && "wss://"+address != d.bay.lightship.URL() && "wss://"+address != d.bay.purser.url {
		return nil, &net.OpError{Op: "dial", Net: network, Err: fmt.Errorf("%s is not in the lab: %w", address, syscall.ENETUNREACH)}
	}
	return (&net.Dialer{}).DialContext(ctx, network, address)
}
