package link

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"

	"meatus/core/dial"
	"meatus/core/gate"
	"meatus/core/line"
	"meatus/core/route"
	"meatus/core/step"
)

// missedLimit is how many keepalives may go unanswered before a link is given
// up.
const missedLimit = 3

// Link is one live transport to a hop, shared by everything that goes through it. Its fields above the line are set before
// ready is closed and not changed after; those below are guarded by the pool's lock. One goroutine, run, owns its life from
// dialling to the end.
type Link struct {
	pool    *Pool
	id      ID
	hop     route.Hop
	key     route.LinkKey
	below   *Link // what it runs inside, nil for the first hop
	make    Make
	ready   chan struct{}
	err     error
	client  *ssh.Client
	conn    *dial.Conn
	gateway *dial.Gateway // that it is made over, where the hop is a gateway
	cipher  string
	hostKey ssh.PublicKey // that the machine showed and that was found right
	since   time.Time
	ctx     context.Context // ends when the link is to end
	cancel  context.CancelCauseFunc

	ears   ears
	load   load
	trips  trips
	frozen atomic.Bool
	taken  atomic.Bool // the one session channel that a server of its make opens
	// frozenAt is since when, for the goroutine of its keepalives.
	frozenAt time.Time
	asking   atomic.Bool   // a sign of life is asked for and not there yet
	alive    atomic.Bool   // it has answered one
	probes   chan struct{} // a sign of life is wanted now

	// ---- guarded by the lock of the pool
	up      bool
	users   int
	orphans int // channel openings that nobody waits for any more
	linger  *time.Timer
}

// Transport is what a link is made of.
type Transport struct {
	Conn     *dial.Conn
	Gateway  *dial.Gateway // that it is made over, nil for none
	SSH      ssh.Conn
	Channels <-chan ssh.NewChannel // that the far side opens
	Requests <-chan *ssh.Request
	Cipher   string
	HostKey  ssh.PublicKey
	Opened   time.Duration // how long connecting took: a round trip
}

// Make makes the transport of a link, and tells of the gates on the way by [Link.Hear]. It ends with [Link.Context], and
// fails with a [gate.Failure].
type Make func(l *Link) (*Transport, error)

var (
	errClosed = errors.New("closed here")
	errUnused = errors.New("nobody used it any more")
)

// establish has the transport made, and answers what the far side opens.
func (l *Link) establish() error {
	t, err := l.make(l)
	if err != nil {
		return err
	}
	l.conn, l.gateway, l.cipher, l.hostKey = t.Conn, t.Gateway, t.Cipher, t.HostKey
	l.client = ssh.NewClient(loadedConn{t.SSH, &l.load}, l.load.opened(t.Channels), t.Requests)
	for name, serve := range l.pool.Serve {
		if opened := l.client.HandleChannelOpen(name); opened != nil {
			l.Go(func() { serve(l, opened) })
		}
	}
	l.trips.add(t.Opened)
	return nil
}

// run makes the link, waits for its end and clears up.
func (l *Link) run() {
	err := step.Contained(l.hop, gate.Port, l.establish)
	if err != nil {
		l.cancel(err)
		l.drop(func() { l.err = err })
		close(l.ready)
		return
	}
	l.since = time.Now()
	l.pool.mu.Lock()
	l.up = true
	l.pool.ups[l.key]++
	state := l.stateLocked()
	l.pool.mu.Unlock()
	l.pool.Events.Tell(Up{state})
	close(l.ready)

	stop := context.AfterFunc(l.ctx, func() { l.client.Close() })
	l.Go(l.keepAlive)
	waitErr := l.waitForEnd()
	stop()
	l.learnSilence(waitErr)
	l.cancel(l.hungUp(waitErr))
	l.client.Close()

	state = l.drop(nil)
	if f := l.Failure(); f != nil {
		l.pool.lived(l, time.Since(l.since), f)
	} else if context.Cause(l.ctx) == errUnused { // another is no return of it
		l.pool.mu.Lock()
		delete(l.pool.ups, l.key)
		l.pool.mu.Unlock()
	}
	l.pool.Events.Tell(Down{state, l.Failure()})
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
	case <-l.conn.Gone():
	}
	select {
	case err := <-told:
		return err
	case <-time.After(hangTime):
		return errors.New("it does not keep to the protocol")
	}
}

// drop takes the link out of the walker and gives up the one below.
func (l *Link) drop(also func()) State {
	l.pool.mu.Lock()
	if also != nil {
		also()
	}
	state := l.stateLocked()
	l.up = false
	if l.pool.links[l.key] == l {
		delete(l.pool.links, l.key)
	}
	if l.linger != nil {
		l.linger.Stop()
	}
	l.pool.mu.Unlock()
	if l.below != nil {
		l.below.Release()
	}
	return state
}

// Failure is why the link ended, nil where it was closed here.
func (l *Link) Failure() *gate.Failure {
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
		seen = step.Words(err)
	}
	if l.below != nil {
		if f := l.below.Failure(); f != nil {
			seen = fmt.Sprintf("the connection to %s is gone", l.below.hop.Name)
		}
	}
	if cut := line.CutOf(err); cut.String() != "" && l.below != nil && l.below.gateway != nil {
		remedy := "connect again"
		if cut == line.CutByPolicy {
			remedy = "ask the administrator of " + l.below.hop.Name + " to allow it in the policy"
		}
		return &gate.Failure{
			Hop: l.hop.Name, Gate: gate.Channel, Cause: gate.ServerClosed, Seen: "ended by " + l.below.hop.Name,
			Why: fmt.Sprintf("%s ended the connection to %s: %s", l.below.hop.Name, l.hop.Name, cut), Remedy: gate.Remedy{Say: remedy}, Err: err,
		}
	}
	return &gate.Failure{
		Hop: l.hop.Name, Gate: gate.Channel, Cause: gate.ServerClosed, Seen: seen,
		Why:    fmt.Sprintf("%s ended the connection", l.hop.Name),
		Remedy: gate.Remedy{Say: "connect again; if it ends at once, see the log of that machine"}, Err: err,
	}
}

// Go runs f in a goroutine that the walker waits for when it is closed. Where it panics
// the link ends.
func (l *Link) Go(f func()) {
	l.pool.wg.Go(func() {
		if err := step.Contained(l.hop, gate.Channel, func() error { f(); return nil }); err != nil {
			l.cancel(err)
		}
	})
}

// close ends the link now.
func (l *Link) close() { l.cancel(errClosed) }

// Release gives up one use. The last one starts the link's last minute, or ends
// it at once where it is not up yet or still has an opening pending.
func (l *Link) Release() {
	l.pool.mu.Lock()
	defer l.pool.mu.Unlock()
	l.users--
	if l.users > 0 {
		return
	}
	if !l.up || l.orphans > 0 || l.pool.closed || l.hop.Alone != "" {
		if l.pool.links[l.key] == l && !l.up {
			delete(l.pool.links, l.key) // a walk that comes now starts anew
		}
		l.cancel(errClosed)
		return
	}
	l.linger = time.AfterFunc(l.pool.Linger, func() {
		l.pool.mu.Lock()
		defer l.pool.mu.Unlock()
		if l.users > 0 {
			return
		}
		if l.pool.links[l.key] == l {
			delete(l.pool.links, l.key) // who comes from now on has a new one
		}
		l.cancel(errUnused) // under the lock: nobody has joined meanwhile
	})
}

func (l *Link) stateLocked() State {
	s := State{ID: l.id, Hop: l.hop.Name, Key: l.key, Since: l.since, Users: l.users, Cipher: l.cipher, Gateway: l.hop.Gateway != nil, Again: max(l.pool.ups[l.key]-1, 0)}
	if s.Lane = l.hop.Lane; l.below != nil {
		s.Below = l.below.id
	}
	s.RoundTrip, s.Smoothed, s.Spread = time.Duration(l.trips.now.Load()), time.Duration(l.trips.smoothed.Load()), time.Duration(l.trips.spread.Load())
	s.Best, s.Worst = time.Duration(l.trips.best.Load()), time.Duration(l.trips.worst.Load())
	s.PayIn, s.PayOut, s.Channels = l.load.in.Load(), l.load.out.Load(), int(l.load.channels.Load())
	if last := l.load.last.Load(); last != 0 {
		s.LastUse = dial.Epoch.Add(time.Duration(last))
	}
	if l.conn != nil {
		s.In, s.Out = l.wire().In.Load(), l.wire().Out.Load()
		s.Software = l.conn.Software()
		s.LastIn, s.Frozen = dial.Epoch.Add(l.wire().LastIn()), l.frozen.Load()
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
	software := strings.ToLower(l.conn.Software())
	return slices.ContainsFunc(names, func(s string) bool { return strings.HasPrefix(software, s) })
}

// LosesStatus tells whether the server ends the connection where a program ends before its input.
func (l *Link) LosesStatus() bool { return l.isOf(earlyEnders) }

// mayAsk tells whether the server can be asked for a sign of life without harm.
func (l *Link) mayAsk() bool {
	if l.isOf(silentServers) {
		return false
	}
	l.pool.mu.Lock()
	defer l.pool.mu.Unlock()
	return !l.pool.silent[strings.ToLower(l.conn.Software())]
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
	l.pool.mu.Lock()
	defer l.pool.mu.Unlock()
	l.pool.silent[strings.ToLower(l.conn.Software())] = true
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
				l.freeze(l.wire().LastIn() < asked.Sub(dial.Epoch))
			}
		case <-tick.C:
			if !waiting {
				waiting, asked = true, time.Now()
				ask()
				continue
			}
			l.freeze(l.wire().LastIn() < asked.Sub(dial.Epoch))
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
	silent := time.Since(dial.Epoch) - l.wire().LastIn()
	if on {
		l.frozenAt = time.Now().Add(-silent)
		l.pool.Events.Tell(Froze{Hop: l.hop.Name, Silent: silent})
		return
	}
	l.pool.Events.Tell(Thawed{Hop: l.hop.Name, After: time.Since(l.frozenAt)})
}

// Probe asks the link, and those that it runs through, for a sign of life now.
func (l *Link) Probe() {
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
		Why:    fmt.Sprintf("%s did not answer for %s, so the connection was closed", l.hop.Name, missedLimit*l.hop.Keepalive),
		Remedy: gate.Remedy{Say: "check the network, then connect again"},
	}
}

// Open opens a connection from this link's machine onward to addr.
//
// The library does not always answer an opening when the transport ends under
// it, so the end of the link is waited for beside it.
func (l *Link) Open(ctx context.Context, network, addr string) (net.Conn, error) {
	if l.gateway != nil {
		return l.streamAtGateway(ctx, addr)
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
	l.pool.mu.Lock()
	l.orphans++
	l.pool.mu.Unlock()
	l.Go(func() {
		select {
		case o := <-done:
			if o.conn != nil {
				o.conn.Close()
			}
		case <-l.ctx.Done():
		}
		l.pool.mu.Lock()
		l.orphans--
		l.pool.mu.Unlock()
	})
	return nil, context.Cause(ctx)
}

// wire is what all that the link carries passes.
func (l *Link) wire() *dial.Conn {
	if l.gateway != nil {
		return l.gateway.Wire
	}
	return l.conn
}
