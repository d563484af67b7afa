package login

import (
	"context"
	"errors"
	"fmt"
	"meatus/core/custody"
	"meatus/core/dial"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/sanitize"
	"meatus/core/step"
	"meatus/core/vouch"
	"net"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/ssh"
)

// clientVersion is how we introduce ourselves (RFC 4253 section 4.2).
const clientVersion = "SSH-2.0-meatus"

// errTouched ends a handshake that has seen what it wanted to see.
var errTouched = errors.New("touched")

// handshake is one transport handshake and login.
type handshake struct {
	*step.Step
	c        *Config
	p        *step.Patience
	conn     *dial.Conn
	gateway  *dial.Gateway // that it is made over, nil for none
	server   string        // as its guests are counted
	took     time.Duration // how long connecting took, 0 where that is not told
	lease    Leased
	in       In
	at       gate.Kind // where it is, for what is cut off
	failure  *gate.Failure
	signers  []custody.Signer
	login    login
	port     bool      // its gate is passed
	touch    bool      // only look at the host's key
	compared bool      // the key it shows is one that a person, or a signing key, vouched for
	asking   *question // only ask which keys would be taken
	banner   []byte
}

// shake does the handshake, and logs in, looks or asks as it is set to.
func (h *handshake) shake() error {
	vouched, err := h.c.Vouched.Of(h.Hop.At())
	if err != nil {
		return h.recordUnreadable(err)
	}
	h.login = login{h: h}
	signers, err := h.c.Vouched.SignersFor(h.Hop.Host)
	if err != nil {
		return h.recordUnreadable(err)
	}
	config := h.config(algorithmsFor(vouched, len(signers) > 0))
	stop := context.AfterFunc(h.p.Ctx, func() { h.conn.Close() })
	defer stop()
	conn, chans, reqs, err := ssh.NewClientConn(h.conn, h.Hop.Address(), config)
	if err != nil {
		if h.failure != nil {
			return h.failure
		}
		if errors.Is(err, errTouched) {
			return nil
		}
		f := h.classify(err)
		if f.Gate != gate.Port { // it introduced itself, and what failed comes after that
			h.answered()
		}
		return f
	}
	if h.asking != nil { // it lets everybody in
		conn.Close()
		return nil
	}
	h.entered(conn, chans, reqs)
	return nil
}

// entered passes the login gate, and keeps what the login got.
func (h *handshake) entered(conn ssh.Conn, chans <-chan ssh.NewChannel, reqs <-chan *ssh.Request) {
	if meta, ok := conn.(ssh.AlgorithmsConnMetadata); ok {
		h.in.Cipher = meta.Algorithms().Read.Cipher
	}
	if h.gateway != nil { // what passes is beside that
		h.in.Cipher = h.gateway.Line.Cipher
	}
	h.login.done()
	in := gate.Gate{Kind: gate.Login, Verdict: gate.Open, Seen: h.login.summary(), Detail: h.login.told()}
	if h.login.accepted != nil && lease.IsEmergency(h.login.accepted) {
		in.Verdict, in.Reason, in.Remedy.Say = gate.Ajar, "the break-glass certificate was used; the machine's log says so, too", "find out why no certificate was issued, and store the break-glass key offline again"
		h.Say(CameByEmergency{h.Place()})
	}
	h.Tell(in)
	h.in.Conn, h.in.Channels, h.in.Requests, h.in.Lease = conn, chans, h.requests(conn, reqs), h.lease.Held
	h.tellLogin()
}

// config is what the protocol's library is given: algorithms of host keys in the order they are asked for.
func (h *handshake) config(hostKeys []string) *ssh.ClientConfig {
	config := &ssh.ClientConfig{
		User:              h.Hop.User,
		ClientVersion:     clientVersion,
		HostKeyAlgorithms: hostKeys,
		HostKeyCallback: func(_ string, remote net.Addr, key ssh.PublicKey) error {
			err := h.contained(func() error { return h.identity(remote, key) })
			if err == nil {
				h.in.HostKey = bare(key)
			}
			return err
		},
		AuthCallback:   h.login.next,
		BannerCallback: h.hearBanner,
	}
	if h.gateway != nil {
		config.HostKeyAlgorithms = nil // it has one key
		config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
			return h.contained(func() error { return h.gatewayIdentity(key) })
		}
	}
	safe := ssh.SupportedAlgorithms() // more than the library offers by itself, and none that it holds unsafe
	config.Ciphers, config.KeyExchanges, config.MACs = Ciphers(), safe.KeyExchanges, safe.MACs
	if h.asking != nil {
		h.asking.conn = h.conn
		config.AuthCallback = h.asking.next
	}
	return config
}

// tellLogin tells how the login went.
func (h *handshake) tellLogin() {
	in := LoggedIn{Place: h.Place(), Host: h.Hop.At().Host, Port: h.Hop.Port, Version: h.conn.Software(), Banner: h.said()}
	if h.login.accepted != nil {
		in.Key = keyfile.Fingerprint(bare(h.login.accepted))
	}
	h.Say(in)
}

// maxBanner is how much of what a server says before the login is kept, in bytes.
const maxBanner = 4 << 10

func (h *handshake) hearBanner(text string) error {
	h.banner = append(h.banner, text[:min(len(text), maxBanner-len(h.banner))]...)
	return nil
}

// said is what the server said before the login, cleaned.
func (h *handshake) said() string {
	return strings.TrimSpace(sanitize.Text(string(h.banner), maxBanner))
}

func (h *handshake) recordUnreadable(err error) error {
	return h.Fail(gate.Identity, gate.IdentityUnknown, "the trusted host keys cannot be read", err.Error(), "correct vouched.toml; without it, no host key is trusted", err)
}

// algorithmsFor asks for a host's key in a form that is vouched first, so that a
// host with several keys shows one we know.
func algorithmsFor(vouched []vouch.Vouch, certificates bool) []string {
	var first []string
	for _, v := range vouched {
		if v.Algorithm == ssh.KeyAlgoRSA {
			first = append(first, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			first = append(first, v.Algorithm)
		}
	}
	for _, a := range ssh.SupportedAlgorithms().HostKeys {
		if strings.Contains(a, "-cert-") {
			if certificates { // a signing key is vouched for it: that is asked for first
				first = append([]string{a}, first...)
			}
			continue
		}
		first = append(first, a)
	}
	seen := map[string]bool{}
	var list []string
	for _, a := range first {
		if !seen[a] {
			seen[a] = true
			list = append(list, a)
		}
	}
	return list
}

// identity judges the host's key, and asks where it is unknown.
func (h *handshake) identity(remote net.Addr, key ssh.PublicKey) error {
	h.answered()
	h.Trying(gate.Identity)
	h.p.Renew()
	if cert, ok := key.(*ssh.Certificate); ok {
		if err := h.certified(cert); err != nil {
			return err
		}
		return h.known() // its keys by themselves are not listened to: it has a certificate to show
	}
	standing, vouched, err := h.c.Vouched.Judge(h.Hop.At(), key)
	if err != nil {
		return h.give(h.recordUnreadable(err).(*gate.Failure))
	}
	switch standing {
	case vouch.Changed:
		return h.give(h.changed(key, vouched))
	case vouch.Unknown:
		if h.touch {
			g := gate.Gate{Kind: gate.Identity, Seen: "first visit, shows " + ssh.FingerprintSHA256(key)}
			q := h.identityQuestion(key)
			if g.Detail = q.Words(); len(g.Detail) > 0 {
				g.Verdict, g.Reason = gate.Ajar, g.Detail[0]
				g.Remedy.Say = "find out why before you trust it"
			}
			switch same, others := vouch.Agree(q.Expected, key); {
			case len(others) > 0:
				g.Verdict = gate.Shut
			case same != nil:
				g.Seen = "first visit, shows the key that " + sanitize.Line(same.Source, 60) + " told"
			}
			h.Tell(g)
			return errTouched
		}
		if err := h.askIdentity(remote, key); err != nil {
			return err
		}
		h.Passed(gate.Identity, "vouched just now, "+ssh.FingerprintSHA256(key))
		h.compared = true
	default:
		h.recognised(key, vouched)
		h.Say(Sighted{h.Hop.At().Host, h.Hop.Port, ssh.FingerprintSHA256(key), h.address(remote)})
	}
	return h.known()
}

// recognised passes the gate of a host that shows a key which is vouched for.
func (h *handshake) recognised(key ssh.PublicKey, vouched []vouch.Vouch) {
	print := ssh.FingerprintSHA256(key)
	v := vouched[slices.IndexFunc(vouched, func(v vouch.Vouch) bool { return v.SHA256 == print })]
	h.compared = v.How != vouch.Announced
	if v.Way == "" && h.Hop.Way != "" {
		h.c.Vouched.CarryOver(h.Hop.At()) // where it cannot be written now it is the next time
	}
	h.Tell(v.Gate())
}

// known goes on behind the identity gate.
func (h *handshake) known() error {
	h.at = gate.Login
	if h.asking != nil {
		return nil
	}
	if h.touch {
		return errTouched
	}
	return h.loadKeys()
}

// address is where the host was found: what really answered for the first hop,
// and what the hop before connected to for the others.
func (h *handshake) address(remote net.Addr) string {
	if h.Before() == nil && remote != nil && h.Hop.Proxy.Scheme == "" {
		return remote.String()
	}
	return h.Hop.Knock()
}

// answered passes the port gate, once.
func (h *handshake) answered() {
	if !h.port {
		h.port = true
		h.Passed(gate.Port, h.answers())
	}
}

// answers says what answers at the port, and where that is known how soon.
func (h *handshake) answers() string {
	seen := fmt.Sprintf("%d, answers as %s", h.Hop.Port, h.conn.Software())
	if took := h.took; took > 0 {
		seen += fmt.Sprintf(" in %.3g ms", float64(took)/float64(time.Millisecond))
	}
	return seen
}

// contained calls what the library calls in a goroutine of its own. A panic in it is a
// failure of the handshake.
func (h *handshake) contained(f func() error) error {
	err := h.Contained(h.at, f)
	var failure *gate.Failure
	if errors.As(err, &failure) && failure.Cause == gate.Unexpected {
		return h.give(failure)
	}
	return err
}

// give remembers the failure, which the library would wrap, and returns it.
func (h *handshake) give(f *gate.Failure) error {
	h.failure = f
	return f
}

// ask puts a question while the time stands still. It turns a refusal to answer
// into a failure at the gate in question.
func (h *handshake) ask(k gate.Kind, what string, put func(ctx context.Context) error) error {
	if f := h.Ask(h.p, k, h.Place(), what, put); f != nil {
		if f.Cause == gate.Cancelled && h.Ctx.Err() != nil {
			return f
		}
		return h.give(f)
	}
	return nil
}

// identityQuestion is what there is to know about a key that a host shows on its first
// visit.
func (h *handshake) identityQuestion(key ssh.PublicKey) step.IdentityQuestion {
	q := step.IdentityQuestion{Place: h.Place(), Hops: len(h.Route.Hops), Key: key, Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key), MD5: ssh.FingerprintLegacyMD5(key)}
	q.Expected, _ = h.c.Vouched.ExpectedOf(h.Hop.Host, h.Hop.Port)
	if h.Hop.Instance != nil { // what was expected at the address may have been another machine's
		at := h.Hop.At()
		q.Expected, _ = h.c.Vouched.ExpectedOf(at.Host, at.Port)
		q.Stood, _ = h.c.Vouched.Stood(at, vouch.At{Host: h.Hop.Host, Port: h.Hop.Port, Way: h.Hop.Way})
	}
	q.Elsewhere, _ = h.c.Vouched.Elsewhere(h.Hop.At(), key)
	if signers, err := h.c.Vouched.SignersFor(h.Hop.Host); err == nil && len(signers) > 0 {
		q.Covered = signers[0].Pattern
	}
	for _, before := range h.Route.Hops[:h.Index] {
		if standing, _, err := h.c.Vouched.Judge(before.At(), key); err == nil && standing == vouch.Known {
			q.LeadsBack = before.Name
		}
	}
	return q
}

func (h *handshake) askIdentity(remote net.Addr, key ssh.PublicKey) error {
	q := h.identityQuestion(key)
	resume := h.p.Pause()
	var err error = step.Nobody{Remedy: "check this session alone, so that you can be asked"}
	if !h.Quiet() {
		err = h.Asker.Identity(h.Ctx, q)
	}
	resume()
	h.Say(step.Answered{Place: q.Place, What: "the identity " + q.Algorithm + " " + q.SHA256, Yes: err == nil})
	if err == nil {
		if err := h.c.Vouched.Accept(h.Hop.At(), key, h.address(remote), time.Now()); err != nil {
			return h.give(h.recordUnreadable(err).(*gate.Failure))
		}
		h.Say(Sighted{h.Hop.At().Host, h.Hop.Port, q.SHA256, h.address(remote)})
		return nil
	}
	if h.Ctx.Err() != nil {
		return h.OrCancelled(err, gate.Identity)
	}
	f := h.Fail(gate.Identity, gate.IdentityUnknown, q.SHA256, fmt.Sprintf("%s: first connection, and its host key is not trusted yet", h.Hop.Name), "compare the fingerprint with the machine's console, then connect again and answer yes", err)
	f.Detail = append(q.Words(), "it shows "+q.Algorithm+" "+q.SHA256, "MD5:"+q.MD5)
	var nobody step.Nobody
	if errors.As(err, &nobody) && nobody.Remedy != "" {
		f.Remedy.Say = nobody.Remedy
	}
	return h.give(f)
}

// ChangedIdentity is what is known about a host that shows another key than the
// vouched one. It is the cause of a failure with [gate.IdentityChanged].
type ChangedIdentity struct {
	step.Place
	Host      string
	Port      int
	Way       string        // as in [vouch.At]
	Key       ssh.PublicKey // the one it shows
	Seen      string        // the address that showed it
	Vouched   []vouch.Vouch // what was accepted
	Elsewhere []vouch.Vouch // other hosts this key is vouched for
}

// At is the host.
func (c *ChangedIdentity) At() vouch.At { return vouch.At{Host: c.Host, Port: c.Port, Way: c.Way} }

func (c *ChangedIdentity) Error() string {
	return fmt.Sprintf("%s shows %s", c.Hop, ssh.FingerprintSHA256(c.Key))
}

func (h *handshake) changed(key ssh.PublicKey, vouched []vouch.Vouch) *gate.Failure {
	c := &ChangedIdentity{Place: h.Place(), Host: h.Hop.At().Host, Port: h.Hop.Port, Way: h.Hop.At().Way, Key: key, Seen: h.Hop.Knock(), Vouched: vouched}
	c.Elsewhere, _ = h.c.Vouched.Elsewhere(h.Hop.At(), key)
	f := h.Fail(gate.Identity, gate.IdentityChanged, "not the trusted host key",
		fmt.Sprintf("%s shows another host key than the trusted one: it was replaced, its address moved, or someone intercepts the connection", h.Hop.Name),
		"ask its administrator what changed; until then, nothing is sent to it", c)
	f.Remedy.Act = gate.Settle
	f.Detail = []string{"now     " + key.Type() + " " + ssh.FingerprintSHA256(key)}
	for _, v := range vouched {
		f.Detail = append(f.Detail, fmt.Sprintf("vouched %s %s, %s %s", v.Algorithm, v.SHA256, v.When.Local().Format("2 Jan 2006 15:04"), v.Source()))
	}
	for _, v := range c.Elsewhere {
		f.Detail = append(f.Detail, fmt.Sprintf("the key it shows is trusted for %s since %s", v.Host, v.When.Local().Format("2 Jan 2006")))
	}
	return f
}
