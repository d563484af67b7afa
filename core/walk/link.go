package walk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/contain"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/line"
	"meatus/core/route"
)

// missedLimit is how many keepalives may go unanswered before a link is given
// up.
const missedLimit = 3

// Link is one live transport to a hop. Its fields above the line are set before
// ready is closed and not changed after; those below are guarded by the
// walker's lock. One goroutine, run, owns its life from dialling to the end.
type Link struct {
	w       *Walker
	id      ID
	hop     route.Hop
	key     route.LinkKey
	route   route.Route // of the walk that made it
	index   int         // of the hop on that route
	below   *Link       // what it runs inside, nil for the first hop
	ready   chan struct{}
	err     error
	client  *ssh.Client
	conn    *countedConn
	knock   string        // what is really connected to
	gateway *overGateway  // that it is made over, where the hop is a gateway
	leased  *lease.Held   // the lease that is shown at the login, nil for none
	noLease *gate.Failure // why there is none, where its hop has leases
	cipher  string
	hostKey ssh.PublicKey // that the machine showed and that was found right
	since   time.Time
	reached time.Duration   // how long connecting took, where that was looked at
	opened  time.Duration   // how long its connection took to be opened: a round trip
	ctx     context.Context // ends when the link is to end
	cancel  context.CancelCauseFunc

	load   load
	trips  trips
	frozen atomic.Bool
	taken  atomic.Bool // the one session channel that a server of its make opens
	// frozenAt is since when, for the goroutine of its keepalives.
	frozenAt time.Time
	asking   atomic.Bool   // a sign of life is asked for and not there yet
	alive    atomic.Bool   // it has answered one
	probes   chan struct{} // a sign of life is wanted now

	// ----
	up       bool
	users    int
	orphans  int // channel openings that nobody waits for any more
	linger   *time.Timer
	watchers []watcher
	told     []telling
}

// watcher is a walk that waits for a link, and which of its hops the link is.
type watcher struct {
	a   *attempt
	hop int
}

// telling is something a link told, kept for walks that join later. delta is
// -1 for the gate of the hop below that the link found out about.
type telling struct {
	delta  int
	gate   gate.Gate
	trying bool
}

var (
	errClosed = errors.New("closed here")
	errUnused = errors.New("nobody used it any more")
)

// run makes the link, waits for its end and clears up.
func (l *Link) run() {
	err := l.contained(gate.Port, l.establish)
	if err != nil {
		l.cancel(err)
		l.drop(func() { l.err = err })
		close(l.ready)
		return
	}
	l.since = time.Now()
	l.trips.add(l.opened)
	l.w.mu.Lock()
	l.up = true
	l.w.ups[l.key]++
	state := l.stateLocked()
	l.w.mu.Unlock()
	l.w.tell(LinkUp{state})
	close(l.ready)

	stop := context.AfterFunc(l.ctx, func() { l.client.Close() })
	l.Go(l.keepAlive)
	waitErr := l.waitForEnd()
	stop()
	l.learnSilence(waitErr)
	l.cancel(l.hungUp(waitErr))
	l.client.Close()

	state = l.drop(nil)
	if f := l.failure(); f != nil {
		l.w.lived(l, time.Since(l.since), f)
	} else if context.Cause(l.ctx) == errUnused { // another is no return of it
		l.w.mu.Lock()
		delete(l.w.ups, l.key)
		l.w.mu.Unlock()
	}
	l.w.tell(LinkDown{state, l.failure()})
}

// hangTime is how long the library has to tell why it closed a connection.
const hangTime = time.Second

// waitForEnd waits until the link has ended and tells why.
//
// Where a server breaks the protocol's rules while more of it waits to be read, the
// library closes the connection and then waits for itself for ever. Its closing is
// seen all the same.
func (l *Link) waitForEnd() error {
	told := make(chan error, 1)
	go func() { told <- l.client.Wait() }()
	select {
	case err := <-told:
		return err
	case <-l.conn.gone:
	}
	select {
	case err := <-told:
		return err
	case <-time.After(hangTime):
		return errors.New("it does not keep to the protocol")
	}
}

// drop takes the link out of the walker and gives up the one below.
func (l *Link) drop(also func()) LinkState {
	l.w.mu.Lock()
	if also != nil {
		also()
	}
	state := l.stateLocked()
	l.up = false
	if l.w.links[l.key] == l {
		delete(l.w.links, l.key)
	}
	if l.linger != nil {
		l.linger.Stop()
	}
	l.w.mu.Unlock()
	if l.below != nil {
		l.below.release()
	}
	return state
}

// failure is why the link ended, nil where it was closed here.
func (l *Link) failure() *gate.Failure {
	var f *gate.Failure
	if errors.As(context.Cause(l.ctx), &f) {
		return f
	}
	return nil
}

// hungUp words the end of a link that we did not ask for.
func (l *Link) hungUp(err error) *gate.Failure {
	seen := "the connection ended"
	if err != nil {
		seen = Words(err)
	}
	if l.below != nil {
		if f := l.below.failure(); f != nil {
			seen = fmt.Sprintf("the link to %s is gone", l.below.hop.Name)
		}
	}
	if cut := line.CutOf(err); cut.String() != "" && l.below != nil && l.below.gateway != nil {
		remedy := "walk the route again"
		if cut == line.CutByPolicy {
			remedy = "ask whoever runs " + l.below.hop.Name + " to allow it in its policy"
		}
		return &gate.Failure{
			Hop: l.hop.Name, Gate: gate.Channel, Cause: gate.ServerClosed, Seen: "ended by " + l.below.hop.Name,
			Why: fmt.Sprintf("%s ended the connection to %s: %s", l.below.hop.Name, l.hop.Name, cut), Remedy: gate.Remedy{Say: remedy}, Err: err,
		}
	}
	return &gate.Failure{
		Hop: l.hop.Name, Gate: gate.Channel, Cause: gate.ServerClosed, Seen: seen,
		Why:    fmt.Sprintf("%s ended the connection", l.hop.Name),
		Remedy: gate.Remedy{Say: "walk the route again; if it ends at once, look at the log of that machine"}, Err: err,
	}
}

// contained calls what belongs to the link. A panic in it is a failure at a gate.
func (l *Link) contained(at gate.Kind, f func() error) error {
	err := contain.Do("the link to "+l.hop.Name, f)
	var fault *contain.Panic
	if errors.As(err, &fault) {
		return l.fail(at, gate.Unexpected, "a fault of this program", fault.Error(), "walk again; if it comes back, send the report", fault)
	}
	return err
}

// Go runs f in a goroutine that the walker waits for when it is closed. Where it panics
// the link ends.
func (l *Link) Go(f func()) {
	l.w.wg.Go(func() {
		if err := l.contained(gate.Channel, func() error { f(); return nil }); err != nil {
			l.cancel(err)
		}
	})
}

// close ends the link now.
func (l *Link) close() { l.cancel(errClosed) }

// release gives up one use. The last one starts the link's last minute, or ends
// it at once where it is not up yet or still has an opening pending.
func (l *Link) release() {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	l.users--
	if l.users > 0 {
		return
	}
	if !l.up || l.orphans > 0 || l.w.closed || l.hop.Alone != "" {
		if l.w.links[l.key] == l && !l.up {
			delete(l.w.links, l.key) // a walk that comes now starts anew
		}
		l.cancel(errClosed)
		return
	}
	l.linger = time.AfterFunc(l.w.Linger, func() {
		l.w.mu.Lock()
		defer l.w.mu.Unlock()
		if l.users > 0 {
			return
		}
		if l.w.links[l.key] == l {
			delete(l.w.links, l.key) // who comes from now on has a new one
		}
		l.cancel(errUnused) // under the lock: nobody has joined meanwhile
	})
}

// quiet tells whether the link is made for nobody who may be asked.
func (l *Link) quiet() bool {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	for _, w := range l.watchers {
		if !w.a.quiet {
			return false
		}
	}
	return len(l.watchers) > 0
}

func (l *Link) unwatch(a *attempt) {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	for i, w := range l.watchers {
		if w.a == a {
			l.watchers = append(l.watchers[:i:i], l.watchers[i+1:]...)
			return
		}
	}
}

// tell says what was found at this link's hop, or with delta -1 at the one
// below, to every walk that waits for the link.
func (l *Link) tell(delta int, g gate.Gate, trying bool) {
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	l.told = append(l.told, telling{delta, g, trying})
	for _, w := range l.watchers {
		w.a.hearLocked(w.hop+delta, g, trying)
	}
}

func (l *Link) trying(k gate.Kind) { l.tell(0, gate.Gate{Kind: k}, true) }

func (l *Link) passed(k gate.Kind, seen string) {
	l.tell(0, gate.Gate{Kind: k, Verdict: gate.Open, Seen: seen}, false)
}

func (l *Link) stateLocked() LinkState {
	s := LinkState{ID: l.id, Hop: l.hop.Name, Key: l.key, Since: l.since, Users: l.users, Cipher: l.cipher, Gateway: l.hop.Gateway != nil, Again: max(l.w.ups[l.key]-1, 0)}
	if s.Lane = l.hop.Lane; l.below != nil {
		s.Below = l.below.id
	}
	s.RoundTrip, s.Smoothed, s.Spread = time.Duration(l.trips.now.Load()), time.Duration(l.trips.smoothed.Load()), time.Duration(l.trips.spread.Load())
	s.Best, s.Worst = time.Duration(l.trips.best.Load()), time.Duration(l.trips.worst.Load())
	s.PayIn, s.PayOut, s.Channels = l.load.in.Load(), l.load.out.Load(), int(l.load.channels.Load())
	if last := l.load.last.Load(); last != 0 {
		s.LastUse = epoch.Add(time.Duration(last))
	}
	if l.conn != nil {
		s.In, s.Out = l.wire().in.Load(), l.wire().out.Load()
		s.Software = software(l.conn.greeting())
		s.LastIn, s.Frozen = epoch.Add(time.Duration(l.wire().lastIn.Load())), l.frozen.Load()
	}
	return s
}

// silentServers are what servers call themselves that do not know global requests at all
// (RFC 4254 section 4): they answer that a packet is not implemented (RFC 4253 section
// 11.4), by which the library takes the link for broken.
var silentServers = []string{"tinyssh"}

// oneChannel are what servers call themselves that open one session channel for each login (RFC 4254 section 6.1).
var oneChannel = []string{"tinyssh"}

// earlyEnders are what servers call themselves that end the connection, without an exit status, when a program ends before
// it has read its input.
var earlyEnders = []string{"tinyssh"}

// isOf tells whether the server calls itself by one of these names.
func (l *Link) isOf(names []string) bool {
	software := strings.ToLower(software(l.conn.greeting()))
	return slices.ContainsFunc(names, func(s string) bool { return strings.HasPrefix(software, s) })
}

// LosesStatus tells whether the server ends the connection where a program ends before its input.
func (l *Link) LosesStatus() bool { return l.isOf(earlyEnders) }

// mayAsk tells whether the server can be asked for a sign of life without harm.
func (l *Link) mayAsk() bool {
	if l.isOf(silentServers) {
		return false
	}
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	return !l.w.silent[strings.ToLower(software(l.conn.greeting()))]
}

// learnSilence notes that a server like this one is not to be asked, where the link ended
// by the answer to its first keepalive. A line that is cut while one is under way says nothing of the server.
func (l *Link) learnSilence(err error) {
	if err == nil || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) || strings.Contains(err.Error(), "EOF") || l.alive.Load() || !l.asking.Load() {
		return
	}
	if !strings.Contains(err.Error(), "message type 3") && !strings.Contains(err.Error(), "unexpected") {
		return
	}
	l.w.mu.Lock()
	defer l.w.mu.Unlock()
	l.w.silent[strings.ToLower(software(l.conn.greeting()))] = true
}

// keepAlive asks for a sign of life at the session's interval, and never where that is
// off. It ends the link after missedLimit intervals without one. Any server
// answers a request it does not know with a refusal (RFC 4254 section 4), and
// that is the sign.
func (l *Link) keepAlive() {
	if l.hop.Keepalive <= 0 || !l.mayAsk() {
		return
	}
	answered := make(chan time.Duration, 1)
	ask := func() {
		l.Go(func() {
			start := time.Now()
			l.asking.Store(true)
			if _, _, err := l.client.SendRequest("keepalive@meatus.invalid", true, nil); err == nil {
				l.asking.Store(false)
				l.alive.Store(true)
				answered <- time.Since(start)
			}
		})
	}
	waiting, missed := false, 0
	var asked time.Time
	tick := time.NewTicker(l.hop.Keepalive)
	defer tick.Stop()
	for {
		select {
		case took := <-answered:
			l.trips.add(took)
			l.freeze(false)
			waiting, missed = false, 0
		case <-l.probes:
			if !waiting {
				waiting, asked = true, time.Now()
				ask()
			} else if time.Since(asked) > overdue {
				l.freeze(time.Duration(l.wire().lastIn.Load()) < asked.Sub(epoch))
			}
		case <-tick.C:
			if !waiting {
				waiting, asked = true, time.Now()
				ask()
				continue
			}
			l.freeze(time.Duration(l.wire().lastIn.Load()) < asked.Sub(epoch))
			if missed++; missed >= missedLimit {
				l.cancel(l.lost())
				return
			}
		case <-l.ctx.Done():
			return
		}
	}
}

// freeze notes that the link is frozen, or is not any more, and tells it where that is new.
func (l *Link) freeze(on bool) {
	if l.frozen.Swap(on) == on {
		return
	}
	silent := time.Since(epoch) - time.Duration(l.wire().lastIn.Load())
	if on {
		l.frozenAt = time.Now().Add(-silent)
		l.w.tell(Froze{Hop: l.hop.Name, Silent: silent})
		return
	}
	l.w.tell(Thawed{Hop: l.hop.Name, After: time.Since(l.frozenAt)})
}

// probe asks the link, and those that it runs through, for a sign of life now.
func (l *Link) probe() {
	for ; l != nil; l = l.below {
		select {
		case l.probes <- struct{}{}:
		default:
		}
	}
}

// overdue is how long an answer may take, where somebody watches, before a link is
// said to be frozen.
const overdue = 5 * time.Second

func (l *Link) lost() *gate.Failure {
	return &gate.Failure{
		Hop: l.hop.Name, Gate: gate.Channel, Cause: gate.LinkLost,
		Seen:   fmt.Sprintf("%d keepalives unanswered", missedLimit),
		Why:    fmt.Sprintf("%s gave no sign of life for %s, so the link was given up", l.hop.Name, missedLimit*l.hop.Keepalive),
		Remedy: gate.Remedy{Say: "see whether the line is up, then walk the route again"},
	}
}

// open opens a connection from this link's machine onward to addr.
//
// The library does not always answer an opening when the transport ends under
// it, so the end of the link is waited for beside it.
func (l *Link) open(ctx context.Context, network, addr string) (net.Conn, error) {
	if l.gateway != nil {
		return l.openAtGateway(ctx, addr)
	}
	type opening struct {
		conn net.Conn
		err  error
	}
	done := make(chan opening, 1)
	go func() {
		conn, err := l.client.Dial(network, addr)
		done <- opening{conn, err}
	}()
	select {
	case o := <-done:
		return o.conn, o.err
	case <-l.ctx.Done():
		return nil, io.EOF
	case <-ctx.Done():
	}
	// The protocol has no way to take an opening back: what comes is closed.
	l.w.mu.Lock()
	l.orphans++
	l.w.mu.Unlock()
	l.Go(func() {
		select {
		case o := <-done:
			if o.conn != nil {
				o.conn.Close()
			}
		case <-l.ctx.Done():
		}
		l.w.mu.Lock()
		l.orphans--
		l.w.mu.Unlock()
	})
	return nil, context.Cause(ctx)
}

// wire is what all that the link carries passes.
func (l *Link) wire() *countedConn {
	if l.gateway != nil {
		return l.gateway.wire
	}
	return l.conn
}

// countedConn counts what passes, and keeps the first bytes that came in, which
// say what answered where it was no SSH server.
type countedConn struct {
	net.Conn
	in, out atomic.Uint64
	lastIn  atomic.Int64  // when the last byte came in, in nanoseconds since epoch
	settled atomic.Bool   // the handshake is over, first is no longer kept
	broken  atomic.Bool   // reading has failed
	gone    chan struct{} // closed when it is
	once    sync.Once

	acknowledge func() // of what was received, at once; nil where that cannot be asked for

	mu    sync.Mutex
	first []byte // at most maxFirst
}

const maxFirst = 512

// fewBytes is below how many bytes what came is a message of its own, behind which another one may wait for its
// acknowledgement. More is a stream, which is acknowledged as it comes.
const fewBytes = 4 << 10

// epoch is what moments are counted from, so that a wall clock that is set makes
// nothing look frozen, or awake.
var epoch = time.Now()

func (c *countedConn) Close() error {
	c.once.Do(func() { close(c.gone) })
	return c.Conn.Close()
}

func (c *countedConn) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	c.in.Add(uint64(n))
	if err != nil {
		c.broken.Store(true)
	}
	if n > 0 {
		c.lastIn.Store(int64(time.Since(epoch)))
		if c.acknowledge != nil && n < fewBytes {
			c.acknowledge()
		}
	}
	if !c.settled.Load() {
		c.mu.Lock()
		c.first = append(c.first, p[:min(n, maxFirst-len(c.first))]...)
		c.mu.Unlock()
	}
	return n, err
}

func (c *countedConn) Write(p []byte) (int, error) {
	n, err := c.Conn.Write(p)
	c.out.Add(uint64(n))
	return n, err
}

// greeting returns the first bytes that came in.
func (c *countedConn) greeting() []byte {
	c.mu.Lock()
	defer c.mu.Unlock()
	return append([]byte(nil), c.first...)
}
