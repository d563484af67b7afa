package walk

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/custody"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/lease"
	"meatus/core/sanitize"
	"meatus/core/vouch"
)

// clientVersion is how we introduce ourselves (RFC 4253 section 4.2).
const clientVersion = "SSH-2.0-meatus"

// errImpatient is why a gate that took too long was given up.
var errImpatient = errors.New("no answer in time")

// patience ends a context after a time that stands still while a person is
// asked.
type patience struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	limit  time.Duration

	mu    sync.Mutex
	timer *time.Timer
}

func newPatience(parent context.Context, limit time.Duration) *patience {
	p := &patience{limit: limit}
	p.ctx, p.cancel = context.WithCancelCause(parent)
	p.timer = time.AfterFunc(limit, func() { p.cancel(errImpatient) })
	return p
}

// renew starts the time anew, for the next gate.
func (p *patience) renew() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Reset(p.limit)
}

// pause stops the time until the returned function is called.
func (p *patience) pause() (resume func()) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Stop()
	return p.renew
}

func (p *patience) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.timer.Stop()
	p.cancel(nil)
}

func (p *patience) ranOut() bool { return errors.Is(context.Cause(p.ctx), errImpatient) }

// obtainLease requests the lease of a hop.
func (l *Link) obtainLease() error {
	if l.hop.Lease == nil {
		return nil
	}
	p := newPatience(l.ctx, l.w.Patience)
	defer p.end()
	return l.lease(p)
}

// establish connects, shakes hands and logs in. It fails with a [gate.Failure].
func (l *Link) establish() error {
	if err := l.obtainLease(); err != nil { // first: a second person who decides holds nobody else's turn
		return l.orCancelled(err, gate.Lease)
	}
	leave, err := l.w.guests.enter(l.ctx, l.server())
	if err != nil {
		return l.orCancelled(err, gate.Port)
	}
	defer leave()
	p := newPatience(l.ctx, l.w.Patience)
	defer p.end()
	raw, err := l.reach(p)
	if err != nil {
		return l.orCancelled(err, gate.Port)
	}
	l.conn = &countedConn{Conn: raw, gone: make(chan struct{}), acknowledge: acker(raw)}
	p.renew()
	h := &handshake{l: l, p: p, at: gate.Identity}
	if err := h.shake(); err != nil {
		raw.Close()
		return l.orCancelled(err, h.at)
	}
	l.conn.settled.Store(true)
	return nil
}

// server is the server that the link leads to, by the way to it.
func (l *Link) server() string {
	server := l.hop.At().String() + " " + l.hop.Knock()
	if l.below != nil {
		server = l.below.key.String() + server
	}
	return server
}

// orCancelled turns a failure of a link that was cancelled into that.
func (l *Link) orCancelled(err error, at gate.Kind) error {
	if l.ctx.Err() == nil {
		return err
	}
	var f *gate.Failure
	if errors.As(context.Cause(l.ctx), &f) {
		return f
	}
	return &gate.Failure{Hop: l.hop.Name, Gate: at, Cause: gate.Cancelled, Seen: "stopped", Why: "the walk was stopped here", Err: context.Canceled}
}

func (l *Link) fail(k gate.Kind, c gate.Cause, seen, why, remedy string, err error) *gate.Failure {
	return &gate.Failure{Hop: l.hop.Name, Gate: k, Cause: c, Seen: seen, Why: why, Remedy: gate.Remedy{Say: remedy}, Err: err}
}

// reach opens the connection that the hop's transport runs over.
func (l *Link) reach(p *patience) (net.Conn, error) {
	l.knock = l.hop.Knock()
	if l.below != nil {
		return l.reachThrough(p)
	}
	if l.hop.Gateway != nil {
		return l.reachGateway(p)
	}
	return l.reachOne(p)
}

// reachOne opens the connection to what it knocks at, through the proxy where there is one.
func (l *Link) reachOne(p *patience) (net.Conn, error) {
	if l.hop.Proxy.Scheme != "" {
		return l.reachByProxy(p)
	}
	l.trying(gate.Address)
	host, port, err := net.SplitHostPort(l.knock)
	if err != nil {
		return nil, l.fail(gate.Address, gate.NoAddress, l.knock, "that is no address", "correct the session's dial", err)
	}
	addrs := []string{host}
	if net.ParseIP(host) == nil {
		if addrs, err = l.w.Resolver.LookupHost(p.ctx, host); err != nil || len(addrs) == 0 {
			if p.ranOut() {
				return nil, l.fail(gate.Address, gate.NoAddress, host, fmt.Sprintf("nobody said in %s what address %s has", l.w.Patience, host), "see whether this machine's name server answers", err)
			}
			return nil, l.fail(gate.Address, gate.NoAddress, host, fmt.Sprintf("the name %s does not resolve on this machine", host), "check the spelling, or write the address; names of a private network need a via", err)
		}
	}
	seen := host
	if l.hop.Gateway == nil {
		seen = l.hop.Host
	}
	if l.hop.Dial != "" {
		seen += ", knocked at " + l.hop.Dial
	} else if addrs[0] != host {
		seen += " is " + addrs[0]
	}
	l.foundAt(seen)

	l.trying(gate.Port)
	p.renew()
	var conn net.Conn
	for _, addr := range addrs {
		began := time.Now()
		if conn, err = l.w.Dialer.DialContext(p.ctx, "tcp", net.JoinHostPort(addr, port)); err == nil {
			l.opened = time.Since(began)
			return conn, nil
		}
	}
	return nil, l.dialFailure(p, net.JoinHostPort(addrs[len(addrs)-1], port), err)
}

// foundAt passes the address gate.
func (l *Link) foundAt(seen string) {
	g := l.hop.InPlace(gate.Gate{Kind: gate.Address, Verdict: gate.Open, Seen: seen})
	l.tell(0, g, false)
}

// reachThrough opens the connection from the hop below, which resolves the name.
func (l *Link) reachThrough(p *patience) (net.Conn, error) {
	l.tell(-1, gate.Gate{Kind: gate.Channel}, true)
	began := time.Now()
	to := l.hop.Knock()
	if l.below.hop.Gateway != nil && l.hop.Instance != nil { // a gateway knows it by its id, whatever its address
		to = net.JoinHostPort(l.hop.Instance.ID, strconv.Itoa(l.hop.Port))
	}
	conn, err := l.below.open(p.ctx, "tcp", to)
	if err != nil {
		return nil, l.onwardFailure(p, err)
	}
	l.opened = time.Since(began)
	from := l.below.hop.Name
	l.tell(-1, gate.Gate{Kind: gate.Channel, Verdict: gate.Open, Seen: "onward to " + l.hop.Name}, false)
	l.foundAt(fmt.Sprintf("%s, seen from %s", l.hop.Host, from))
	l.trying(gate.Port)
	return conn, nil
}

// handshake is one transport handshake and login.
type handshake struct {
	l        *Link
	p        *patience
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

func (h *handshake) shake() error {
	l := h.l
	vouched, err := l.w.Vouched.Of(l.hop.At())
	if err != nil {
		return h.recordUnreadable(err)
	}
	h.login = login{h: h}
	signers, err := l.w.Vouched.SignersFor(l.hop.Host)
	if err != nil {
		return h.recordUnreadable(err)
	}
	config := &ssh.ClientConfig{
		User:              l.hop.User,
		ClientVersion:     clientVersion,
		HostKeyAlgorithms: algorithmsFor(vouched, len(signers) > 0),
		HostKeyCallback: func(_ string, remote net.Addr, key ssh.PublicKey) error {
			err := h.contained(func() error { return h.identity(remote, key) })
			if err == nil {
				l.hostKey = plainKey(key)
			}
			return err
		},
		AuthCallback:   h.login.next,
		BannerCallback: h.hearBanner,
	}
	if l.gateway != nil {
		config.HostKeyAlgorithms = nil // it has one key
		config.HostKeyCallback = func(_ string, _ net.Addr, key ssh.PublicKey) error {
			return h.contained(func() error { return h.gatewayIdentity(key) })
		}
	}
	safe := ssh.SupportedAlgorithms() // more than the library offers by itself, and none that it holds unsafe
	config.Ciphers, config.KeyExchanges, config.MACs = Ciphers(), safe.KeyExchanges, safe.MACs
	if h.asking != nil {
		h.asking.conn = l.conn
		config.AuthCallback = h.asking.next
	}
	stop := context.AfterFunc(h.p.ctx, func() { l.conn.Close() })
	defer stop()
	conn, chans, reqs, err := ssh.NewClientConn(l.conn, l.hop.Address(), config)
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
	if meta, ok := conn.(ssh.AlgorithmsConnMetadata); ok {
		l.cipher = meta.Algorithms().Read.Cipher
	}
	if l.gateway != nil { // what passes is beside that
		l.cipher = l.gateway.line.Cipher
	}
	h.login.done()
	in := gate.Gate{Kind: gate.Login, Verdict: gate.Open, Seen: h.login.summary(), Detail: h.login.told()}
	if h.login.accepted != nil && lease.IsEmergency(h.login.accepted) {
		in.Verdict, in.Reason, in.Remedy.Say = gate.Ajar, "the way in for emergencies was taken: that machine's log says so, too", "see why no lease was given, and put the sealed key away again"
		l.w.tell(CameByEmergency{h.place()})
	}
	l.tell(0, in, false)
	l.client = ssh.NewClient(loadedConn{conn, &l.load}, l.load.opened(chans), h.requests(conn, reqs))
	for name, serve := range l.w.Serve {
		if opened := l.client.HandleChannelOpen(name); opened != nil {
			l.Go(func() { serve(l, opened) })
		}
	}
	h.tellLogin()
	l.endWithLease()
	return nil
}

// tellLogin tells how the login went.
func (h *handshake) tellLogin() {
	in := LoggedIn{Place: h.place(), Host: h.l.hop.At().Host, Port: h.l.hop.Port, Version: h.softwareName(), Banner: h.said()}
	if h.login.accepted != nil {
		in.Key = keyfile.Fingerprint(bare(h.login.accepted))
	}
	h.l.w.tell(in)
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
	return h.l.fail(gate.Identity, gate.IdentityUnknown, "the record of hosts cannot be read", err.Error(), "mend the record; no host is trusted without it", err)
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
	l := h.l
	h.answered()
	l.trying(gate.Identity)
	h.p.renew()
	if cert, ok := key.(*ssh.Certificate); ok {
		if err := h.certified(cert); err != nil {
			return err
		}
		return h.known() // its keys by themselves are not listened to: it has a certificate to show
	}
	standing, vouched, err := l.w.Vouched.Judge(l.hop.At(), key)
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
				g.Remedy.Say = "look into that before it is vouched for"
			}
			switch same, others := vouch.Agree(q.Expected, key); {
			case len(others) > 0:
				g.Verdict = gate.Shut
			case same != nil:
				g.Seen = "first visit, shows the key that " + sanitize.Line(same.Source, 60) + " told"
			}
			l.tell(0, g, false)
			return errTouched
		}
		if err := h.askIdentity(remote, key); err != nil {
			return err
		}
		l.passed(gate.Identity, "vouched just now, "+ssh.FingerprintSHA256(key))
		h.compared = true
	default:
		h.recognised(key, vouched)
		l.w.tell(Sighted{l.hop.At().Host, l.hop.Port, ssh.FingerprintSHA256(key), h.address(remote)})
	}
	return h.known()
}

// recognised passes the gate of a host that shows a key which is vouched for.
func (h *handshake) recognised(key ssh.PublicKey, vouched []vouch.Vouch) {
	l := h.l
	print := ssh.FingerprintSHA256(key)
	v := vouched[slices.IndexFunc(vouched, func(v vouch.Vouch) bool { return v.SHA256 == print })]
	h.compared = v.How != vouch.Announced
	if v.Way == "" && l.hop.Way != "" {
		l.w.Vouched.CarryOver(l.hop.At()) // where it cannot be written now it is the next time
	}
	l.tell(0, v.Gate(), false)
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
	if h.l.below == nil && remote != nil && h.l.hop.Proxy.Scheme == "" {
		return remote.String()
	}
	return h.l.hop.Knock()
}

// answered passes the port gate, once.
func (h *handshake) answered() {
	if !h.port {
		h.port = true
		h.l.passed(gate.Port, h.answers())
	}
}

// answers says what answers at the port, and where that is known how soon.
func (h *handshake) answers() string {
	seen := fmt.Sprintf("%d, answers as %s", h.l.hop.Port, h.softwareName())
	if took := h.l.reached; took > 0 {
		seen += fmt.Sprintf(" in %.3g ms", float64(took)/float64(time.Millisecond))
	}
	return seen
}

// contained calls what the library calls in a goroutine of its own. A panic in it is a
// failure of the handshake.
func (h *handshake) contained(f func() error) error {
	err := h.l.contained(h.at, f)
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

// softwareName is what the server calls itself, cleaned.
func (h *handshake) softwareName() string { return software(h.l.conn.greeting()) }

// software is what a server calls itself in its greeting, cleaned.
func software(greeting []byte) string {
	for line := range strings.Lines(string(greeting)) {
		if rest, ok := strings.CutPrefix(line, "SSH-"); ok {
			if _, software, ok := strings.Cut(rest, "-"); ok {
				return sanitize.Line(software, 40)
			}
		}
	}
	return "SSH"
}

func (h *handshake) place() Place {
	l := h.l
	return Place{Session: l.route.Session, Hop: l.hop.Name, Index: l.index, Address: l.hop.Address(), User: l.hop.User}
}

// ask puts a question while the time stands still. It turns a refusal to answer
// into a failure at the gate in question.
func (h *handshake) ask(k gate.Kind, what string, put func(ctx context.Context) error) error {
	if f := h.l.ask(h.p, k, h.place(), what, put); f != nil {
		if f.Cause == gate.Cancelled && h.l.ctx.Err() != nil {
			return f
		}
		return h.give(f)
	}
	return nil
}

// ask is [handshake.ask] without a handshake; it returns nil where there was an answer.
func (l *Link) ask(p *patience, k gate.Kind, at Place, what string, put func(ctx context.Context) error) *gate.Failure {
	if l.quiet() {
		put = func(context.Context) error { return Nobody{Remedy: "check it yourself, so that it can ask"} }
	}
	resume := p.pause()
	defer resume()
	// The connection may end while a person thinks; the question ends with it.
	err := put(l.ctx)
	l.w.tell(Answered{at, what, err == nil})
	var nobody Nobody
	switch {
	case err == nil:
		return nil
	case errors.As(err, &nobody):
		remedy := nobody.Remedy
		if remedy == "" {
			remedy = "run it where a person can answer"
		}
		return l.fail(k, gate.CannotAsk, what, "there is nobody to ask for "+what, remedy, err)
	case l.ctx.Err() != nil:
		var f *gate.Failure
		if errors.As(l.orCancelled(err, k), &f) {
			return f
		}
	}
	return l.fail(k, gate.Cancelled, "no answer given", "you gave no answer for "+what, "walk the route again when you have it", err)
}

// identityQuestion is what there is to know about a key that a host shows on its first
// visit.
func (h *handshake) identityQuestion(key ssh.PublicKey) IdentityQuestion {
	l := h.l
	q := IdentityQuestion{Place: h.place(), Hops: len(l.route.Hops), Key: key, Algorithm: key.Type(), SHA256: ssh.FingerprintSHA256(key), MD5: ssh.FingerprintLegacyMD5(key)}
	q.Expected, _ = l.w.Vouched.ExpectedOf(l.hop.Host, l.hop.Port)
	if l.hop.Instance != nil { // what was expected at the address may have been another machine's
		at := l.hop.At()
		q.Expected, _ = l.w.Vouched.ExpectedOf(at.Host, at.Port)
		q.Stood, _ = l.w.Vouched.Stood(at, vouch.At{Host: l.hop.Host, Port: l.hop.Port, Way: l.hop.Way})
	}
	q.Elsewhere, _ = l.w.Vouched.Elsewhere(l.hop.At(), key)
	if signers, err := l.w.Vouched.SignersFor(l.hop.Host); err == nil && len(signers) > 0 {
		q.Covered = signers[0].Pattern
	}
	for _, before := range l.route.Hops[:l.index] {
		if standing, _, err := l.w.Vouched.Judge(before.At(), key); err == nil && standing == vouch.Known {
			q.LeadsBack = before.Name
		}
	}
	return q
}

func (h *handshake) askIdentity(remote net.Addr, key ssh.PublicKey) error {
	l := h.l
	q := h.identityQuestion(key)
	resume := h.p.pause()
	var err error = Nobody{Remedy: "check it yourself, so that it can ask"}
	if !l.quiet() {
		err = l.w.Asker.Identity(l.ctx, q)
	}
	resume()
	l.w.tell(Answered{q.Place, "the identity " + q.Algorithm + " " + q.SHA256, err == nil})
	if err == nil {
		if err := l.w.Vouched.Accept(l.hop.At(), key, h.address(remote), time.Now()); err != nil {
			return h.give(h.recordUnreadable(err).(*gate.Failure))
		}
		l.w.tell(Sighted{l.hop.At().Host, l.hop.Port, q.SHA256, h.address(remote)})
		return nil
	}
	if l.ctx.Err() != nil {
		return l.orCancelled(err, gate.Identity)
	}
	f := l.fail(gate.Identity, gate.IdentityUnknown, q.SHA256, fmt.Sprintf("%s is visited for the first time and nobody has vouched for it", l.hop.Name), "compare the fingerprint with the one the console shows, then walk again and say yes", err)
	f.Detail = append(q.Words(), "it shows "+q.Algorithm+" "+q.SHA256, "MD5:"+q.MD5)
	var nobody Nobody
	if errors.As(err, &nobody) && nobody.Remedy != "" {
		f.Remedy.Say = nobody.Remedy
	}
	return h.give(f)
}

// ChangedIdentity is what is known about a host that shows another key than the
// vouched one. It is the cause of a failure with [gate.IdentityChanged].
type ChangedIdentity struct {
	Place
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
	l := h.l
	c := &ChangedIdentity{Place: h.place(), Host: l.hop.At().Host, Port: l.hop.Port, Way: l.hop.At().Way, Key: key, Seen: l.hop.Knock(), Vouched: vouched}
	c.Elsewhere, _ = l.w.Vouched.Elsewhere(l.hop.At(), key)
	f := l.fail(gate.Identity, gate.IdentityChanged, "not the key that was vouched",
		fmt.Sprintf("%s shows another key than the vouched one: it was replaced, its address moved, or somebody stands between", l.hop.Name),
		"ask whoever runs it what changed; until then nothing is sent to it", c)
	f.Remedy.Act = gate.Settle
	f.Detail = []string{"now     " + key.Type() + " " + ssh.FingerprintSHA256(key)}
	for _, v := range vouched {
		f.Detail = append(f.Detail, fmt.Sprintf("vouched %s %s, %s %s", v.Algorithm, v.SHA256, v.When.Local().Format("2 Jan 2006 15:04"), v.Source()))
	}
	for _, v := range c.Elsewhere {
		f.Detail = append(f.Detail, fmt.Sprintf("the key it shows is vouched for %s since %s", v.Host, v.When.Local().Format("2 Jan 2006")))
	}
	return f
}
