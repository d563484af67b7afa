package lease

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"slices"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/route"
	"meatus/core/sanitize"
)

// Refused is an issuer's no.
type Refused struct {
	Issuer string
	Say    string // why, cleaned
	Could  string // what would allow it, cleaned
	Reason bool   // a reason is wanted, and none was given
}

func (r *Refused) Error() string { return r.Issuer + ": " + r.Say }

// Held is a lease with its key, which is in memory alone.
type Held struct {
	ssh.Signer
	Issuer   string
	Machine  string
	Login    string
	Serial   uint64
	Rule     string
	May      string
	AgreedBy string
	Life     time.Duration
	Ends     time.Time
	Shells   bool // shells end with it
}

// Source reports whether the lease is limited to a source address (critical option "source-address").
func (h *Held) Source() bool {
	cert, ok := h.Signer.PublicKey().(*ssh.Certificate)
	if !ok {
		return false
	}
	_, bound := cert.CriticalOptions["source-address"]
	return bound
}

// Left is how long it lasts still.
func (h *Held) Left(now time.Time) time.Duration { return h.Ends.Sub(now) }

// At takes a question to an issuer, and returns what it tells, which the caller closes.
type At func(ctx context.Context, issuer route.Route, ask line.Message) (io.ReadCloser, error)

// Client asks issuers for leases. It is safe to use from many goroutines.
type Client struct {
	At     At
	Reason string // given where a rule wants one and nobody is asked
	// Revoked receives the fingerprints of revoked certificates of a host CA, which is given as an authorized_keys line;
	// may be nil.
	Revoked func(signer string, serials []uint64)

	mu   sync.Mutex
	held []*Held
	told map[string]told // what issuers told of what one may
}

// told is what an issuer told, and when.
type told struct {
	rights []Right
	at     time.Time
}

// stale is how long what an issuer told counts.
const stale = 10 * time.Minute

// Remember keeps what an issuer told of what one may, and tells whether that is another than before.
func (c *Client) Remember(issuer string, rights []Right) (changed bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.told == nil {
		c.told = map[string]told{}
	}
	before, known := c.told[issuer]
	c.told[issuer] = told{rights, time.Now()}
	return !known || !slices.Equal(before.rights, rights)
}

// LeaseGate judges whether a hop's lease is given, by what its issuer told last.
func (c *Client) LeaseGate(h route.Hop) (g gate.Gate, ok bool) {
	c.mu.Lock()
	t, known := c.told[h.Lease.Issuer]
	c.mu.Unlock()
	if !known || time.Since(t.at) > stale {
		return g, false
	}
	at := "told at " + t.at.Local().Format("15:04")
	g = gate.Gate{Kind: gate.Lease, Verdict: gate.Shut, Seen: fmt.Sprintf("for %s at %s, asked of %s", h.User, h.Lease.Machine, h.Lease.Issuer),
		Reason: fmt.Sprintf("%s lets you log in nowhere as %s at %s, %s", h.Lease.Issuer, h.User, h.Lease.Machine, at), Remedy: gate.Remedy{Say: "see in Leases what you may"}}
	for _, r := range t.rights {
		fits, _ := path.Match(r.Login, h.User)
		if r.Machine != h.Lease.Machine && (h.Instance == nil || r.Instance != h.Instance.ID) || !fits {
			continue
		}
		says, rule := sanitize.Line(r.Says, 300), sanitize.Line(r.Rule, 80)
		switch {
		case r.Denied:
			g.Reason = fmt.Sprintf("%s says no: %s, %s", h.Lease.Issuer, says, at)
		case !r.Now:
			g.Reason = fmt.Sprintf("%s says not now: %s, %s", h.Lease.Issuer, says, at)
		case r.Agreed:
			return gate.Gate{Kind: gate.Lease, Verdict: gate.Ajar, Seen: g.Seen + ", " + rule, Reason: "a second person has to agree: " + says, Remedy: gate.Remedy{Say: "walk, and wait for the yes"}}, true
		default:
			return gate.Gate{Kind: gate.Lease, Verdict: gate.Open, Seen: fmt.Sprintf("for %s at %s, %s, by %s", h.User, h.Lease.Machine, h.Lease.Issuer, rule), Detail: []string{says + ", " + at}}, true
		}
		return g, true
	}
	return g, true
}

// Bounds of asking.
const (
	firstWord = 30 * time.Second // for an issuer to say how it stands
	longest   = time.Hour        // for a second person to agree
	maxSaid   = 64 << 10         // bytes of one answer
)

// Get asks for a lease for the login at a hop, with a key that is made for it. Waits is told whose yes is waited for. It
// fails with a [Refused], and with what keeps the issuer from being asked. Cancelled, it is withdrawn.
func (c *Client) Get(ctx context.Context, hop route.Hop, reason string, waits func(who []string)) (*Held, error) {
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	if reason == "" {
		reason = c.Reason
	}
	_, private, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return nil, err
	}
	key, err := ssh.NewSignerFromKey(private)
	if err != nil {
		return nil, err
	}
	w := Want{ID: rand.Text(), Machine: hop.Lease.Machine, Login: hop.User, Key: base64.StdEncoding.EncodeToString(key.PublicKey().Marshal()), Reason: reason}
	if hop.Instance != nil {
		w.Instance = hop.Instance.ID
	}
	ask, err := Asked(w)
	if err != nil {
		return nil, err
	}
	told, err := c.At(ctx, hop.Lease.Way.AsRoute(), ask)
	if err != nil {
		return nil, err
	}
	defer told.Close()
	defer context.AfterFunc(ctx, func() { told.Close() })()
	slow := time.AfterFunc(firstWord, func() { told.Close() })
	defer slow.Stop()
	lines := bufio.NewScanner(told)
	lines.Buffer(nil, maxSaid)
	for lines.Scan() {
		slow.Stop()
		var st State
		if err := json.Unmarshal(lines.Bytes(), &st); err != nil {
			return nil, fmt.Errorf("what the issuer %s tells cannot be read: %w", hop.Lease.Issuer, err)
		}
		switch {
		case st.Refused != "":
			return nil, &Refused{Issuer: hop.Lease.Issuer, Say: sanitize.Line(st.Refused, 300), Could: sanitize.Line(st.Could, 300), Reason: st.WantsReason}
		case st.Certificate != "":
			if c.Revoked != nil && st.Hosts != "" {
				c.Revoked(st.Hosts, st.HostsRevoked)
			}
			return c.take(hop, key, st)
		case waits != nil:
			for i := range st.Waits {
				st.Waits[i] = sanitize.Line(st.Waits[i], 64)
			}
			waits(st.Waits)
		}
	}
	if err := context.Cause(ctx); err != nil {
		return nil, err
	}
	return nil, fmt.Errorf("the issuer %s gave no answer: %w", hop.Lease.Issuer, errors.Join(lines.Err(), io.ErrUnexpectedEOF))
}

// take holds a lease that was granted, where it is what was asked for.
func (c *Client) take(hop route.Hop, key ssh.Signer, st State) (*Held, error) {
	cert, err := ParseCertificate(st.Certificate)
	now := time.Now()
	machine := hop.Lease.Machine
	if err == nil && hop.Instance != nil { // the issuer knows it by its instance, under whatever name
		machine = machineOf(cert, hop.User, machine)
	}
	if err == nil {
		err = Check(cert, key.PublicKey(), hop.User, machine, now)
	}
	var signer ssh.Signer
	if err == nil {
		signer, err = ssh.NewCertSigner(cert, key)
	}
	if err != nil {
		return nil, fmt.Errorf("the lease that %s gave is not taken: %w", hop.Lease.Issuer, err)
	}
	h := &Held{Signer: signer, Issuer: hop.Lease.Issuer, Machine: machine, Login: hop.User, Serial: cert.Serial,
		Rule: sanitize.Line(st.Rule, 80), May: sanitize.Line(st.May, 60), AgreedBy: sanitize.Line(st.AgreedBy, 64),
		Life: time.Duration(st.Seconds) * time.Second, Ends: time.Unix(int64(cert.ValidBefore), 0), Shells: st.EndsShells}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held = slices.DeleteFunc(c.held, func(h *Held) bool { return h.Left(now) <= 0 })
	c.held = append(c.held, h)
	return h, nil
}

// machineOf is the machine's name in a certificate's principals, or the one that is known here.
func machineOf(cert *ssh.Certificate, login, name string) string {
	for _, p := range cert.ValidPrincipals {
		if len(p) > len(login)+1 && p[:len(login)+1] == login+"@" {
			return p[len(login)+1:]
		}
	}
	return name
}

// Held are the leases that have not ended, the newest first.
func (c *Client) Held() []*Held {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := time.Now()
	c.held = slices.DeleteFunc(c.held, func(h *Held) bool { return h.Left(now) <= 0 })
	all := slices.Clone(c.held)
	slices.Reverse(all)
	return all
}

// Told asks an issuer something that it answers at once.
func Told[R any](ctx context.Context, c *Client, issuer route.Route, q Question[R]) ([]R, error) {
	ctx, cancel := context.WithTimeout(ctx, firstWord)
	defer cancel()
	ask, err := Asked(q)
	if err != nil {
		return nil, err
	}
	told, err := c.At(ctx, issuer, ask)
	if err != nil {
		return nil, err
	}
	defer told.Close()
	defer context.AfterFunc(ctx, func() { told.Close() })()
	return line.Told[R](told)
}
