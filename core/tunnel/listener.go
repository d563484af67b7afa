package tunnel

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/time/rate"

	"meatus/core/book"
	"meatus/core/contain"
	"meatus/core/event"
	"meatus/core/link"
	"meatus/core/localaddr"
	"meatus/core/retry"
)

// Options are how a tunnel behaves. The zero value has working defaults.
type Options struct {
	Wait     time.Duration     // how long what connects waits for a lost way; 20 s where 0
	Idle     time.Duration     // after how long without a byte a flow is ended, 0 for never
	Rate     int               // at most so many bytes a second each way, 0 for as many as pass
	User     string            // asked for at a roaming listener, with Password; nobody where empty
	Password string            // where the tunnel says a login and this is empty, one is made up
	Tell     func(event.Event) // told of what happens, may be nil
}

const (
	defaultWait = 20 * time.Second
	maxFlows    = 4096 // at one listener at once; more wait to be taken
	handshake   = 10 * time.Second
	maxPause    = 30 * time.Second // between two tries to have a listener opened over there
)

// Tunnel is an open tunnel. It is safe to use from many goroutines.
type Tunnel struct {
	Spec    book.Tunnel
	Session string

	way     *Way
	o       Options
	limits  [2]*rate.Limiter // in and out, or nil
	rules   rules            // of a roaming listener
	ctx     context.Context
	cancel  context.CancelCauseFunc
	wg      sync.WaitGroup
	slots   chan struct{}
	nextID  atomic.Int64
	used    atomic.Int64 // when a flow last lived, in nanoseconds since it was opened
	since   time.Time
	in, out atomic.Uint64
	total   atomic.Int64

	mu       sync.Mutex
	listener net.Listener // nil while a lend has none over there
	address  string
	err      error       // why the listener is not open, nil while it is
	proving  atomic.Bool // it is being proven
	closing  atomic.Bool // its listener is closed for good
	untold   atomic.Bool // of some connection the system did not tell whose it was
	proof    Proof
	flows    map[int64]*flow
}

// Open opens a tunnel along a way. A listener here is open when it returns; one over
// there is opened when the way is. It fails with a [localaddr.Taken] or with why nobody
// could listen.
func Open(way *Way, spec book.Tunnel, o Options) (*Tunnel, error) {
	if o.Wait == 0 {
		o.Wait = defaultWait
	}
	if o.Tell == nil {
		o.Tell = func(event.Event) {}
	}
	if spec.Login != "" {
		if o.User = spec.Login; o.Password == "" {
			o.Password = rand.Text()
		}
	}
	kind, at := spec.Kind()
	t := &Tunnel{Spec: spec, Session: way.route.Session, way: way, o: o, flows: map[int64]*flow{}, slots: make(chan struct{}, maxFlows), address: at, rules: newRules(spec), since: time.Now()}
	t.ctx, t.cancel = context.WithCancelCause(context.Background())
	if n := spec.BytesPerSecond(); n > 0 {
		o.Rate = n
		t.o.Rate = n
	}
	if o.Rate > 0 {
		for i := range t.limits {
			t.limits[i] = rate.NewLimiter(rate.Limit(o.Rate), max(o.Rate/10, bufferSize)) // a tenth of a second at once
		}
	}
	if kind == "lend" {
		way.Want()
		contain.Go(&t.wg, "the tunnel "+t.What(), t.lend, t.broken)
		return t, nil
	}
	l, err := listen(split(at))
	if err != nil {
		if taken := localaddr.Try(at); taken != nil {
			err = taken
		}
		return nil, err
	}
	t.opened(l)
	contain.Go(&t.wg, "the tunnel "+t.What(), func() { t.accept(l, t.serve) }, t.broken)
	return t, nil
}

// broken ends the tunnel after a panic in it.
func (t *Tunnel) broken(err error) { go t.end(err) }

func listen(network, address string) (net.Listener, error) {
	if network == "unix" {
		return localaddr.ListenSocket(address)
	}
	return net.Listen(network, address)
}

// split parts an endpoint as written into network and address.
func split(at string) (network, address string) {
	if strings.HasPrefix(at, "/") {
		return "unix", at
	}
	return "tcp", strings.Replace(at, "*:", ":", 1)
}

// Proven is what was seen when the service behind the tunnel was last tried.
func (t *Tunnel) Proven() Proof {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.proof
}

// What names the tunnel: "bring 127.0.0.1:15432 from tide-db.internal:5432".
func (t *Tunnel) What() string { return t.Spec.String() }

// Address is where the listener is, with the port that was chosen where 0 was asked for.
func (t *Tunnel) Address() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.address
}

// Err is why the listener is not open, nil while it is.
func (t *Tunnel) Err() error {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.err
}

// Login is what programs have to name at a roaming listener, "" where that is nothing.
func (t *Tunnel) Login() (user, password string) { return t.o.User, t.o.Password }

// open tells whether the listener is.
func (t *Tunnel) open() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.listener != nil
}

// Beyond tells whether a listener listens to more than this machine.
func (t *Tunnel) Beyond() bool { return t.Spec.Beyond() }

func (t *Tunnel) opened(l net.Listener) {
	t.mu.Lock()
	t.listener, t.err = l, nil
	kind, at := t.Spec.Kind()
	if a, ok := l.Addr().(*net.TCPAddr); ok && strings.HasSuffix(at, ":0") {
		host, _, _ := net.SplitHostPort(at)
		t.address = net.JoinHostPort(host, fmt.Sprint(a.Port))
	}
	at = t.address
	t.mu.Unlock()
	if kind != "lend" {
		localaddr.Claim(at)
	}
	t.o.Tell(Opened{Session: t.Session, What: t.What(), Address: at})
}

// Close ends the listener and every flow, and waits until nothing is left.
func (t *Tunnel) Close() { t.end(errClosed) }

func (t *Tunnel) end(why error) {
	if t.ctx.Err() == nil {
		defer t.o.Tell(Shut{Session: t.Session, What: t.What()})
	}
	t.closing.Store(true)
	t.mu.Lock()
	t.cancel(why) // under the lock: nothing is begun any more, see keep
	localaddr.Release(t.address)
	l := t.listener
	t.mu.Unlock()
	if l != nil { // one at the far side may wait for that
		l.Close()
	}
	t.wg.Wait()
}

// Drain closes the listener and waits until its flows have ended, at most so long; then
// it ends them.
func (t *Tunnel) Drain(limit time.Duration) {
	t.closing.Store(true)
	t.mu.Lock()
	l := t.listener
	t.mu.Unlock()
	if l != nil {
		l.Close()
	}
	end := time.Now().Add(limit)
	for time.Now().Before(end) && len(t.Flows()) > 0 {
		time.Sleep(10 * time.Millisecond)
	}
	t.Close()
}

// accept takes what connects until the listener ends.
func (t *Tunnel) accept(l net.Listener, serve func(net.Conn)) {
	for {
		select {
		case t.slots <- struct{}{}:
		case <-t.ctx.Done():
			return
		}
		conn, err := l.Accept()
		if err != nil {
			<-t.slots
			if t.ctx.Err() != nil || errors.Is(err, net.ErrClosed) || errors.Is(err, io.EOF) {
				return
			}
			select { // out of files, perhaps
			case <-time.After(50 * time.Millisecond):
			case <-t.ctx.Done():
				return
			}
			continue
		}
		contain.Go(&t.wg, "a flow of "+t.What(), func() {
			defer func() { <-t.slots }()
			serve(conn)
		}, func(error) { conn.Close() })
	}
}

// admit refuses what connects from this machine and was made by a program of another
// account, where the listener is not shared. Where the system does not tell, it is let in,
// and that is remembered.
func (t *Tunnel) admit(conn net.Conn) error {
	from, ok := conn.RemoteAddr().(*net.TCPAddr)
	if t.Spec.Share != "" || !ok || !from.IP.IsLoopback() {
		return nil
	}
	err := localaddr.Ours(conn)
	var foreign *localaddr.Foreign
	if errors.As(err, &foreign) {
		return fmt.Errorf("refused: %w, and the port is not shared", foreign)
	}
	if err != nil {
		t.untold.Store(true)
	}
	return nil
}

// Untold tells whether the system did not tell of some connection whose it was, so that
// other accounts of this machine can use the listener.
func (t *Tunnel) Untold() bool { return t.untold.Load() }

// serve joins what connects to a listener here to the far side.
func (t *Tunnel) serve(conn net.Conn) {
	f := t.begin(conn)
	if err := t.admit(conn); err != nil {
		breakOff(conn)
		t.finish(f, err)
		return
	}
	reach := t.Spec.Reach
	var answer func(error) error
	if t.Spec.Roam != "" {
		var err error
		if reach, answer, err = t.greet(conn); err != nil {
			conn.Close()
			t.finish(f, err)
			return
		}
	}
	direct := false
	var err error
	if t.Spec.Roam != "" {
		direct, err = t.rules.judge(reach)
	}
	to := reach
	if direct {
		to += ", from here"
	}
	f.to.Store(&to)
	network, address := split(reach)
	ctx, cancel := context.WithTimeout(t.ctx, t.o.Wait)
	defer context.AfterFunc(t.ctx, cancel)()
	var stream link.Stream
	switch {
	case err != nil:
	case direct:
		var conn net.Conn
		if conn, err = (&net.Dialer{}).DialContext(ctx, network, address); err == nil {
			stream = conn.(link.Stream)
		}
	default:
		stream, f.cut, err = t.way.Dial(ctx, network, address)
	}
	cancel()
	if answer != nil {
		if aerr := answer(err); err == nil && aerr != nil {
			stream.Close()
			err = aerr
		}
	}
	if err != nil {
		breakOff(conn)
		t.finish(f, err)
		return
	}
	t.finish(f, t.join(f, conn.(link.Stream), stream))
}

// lend has the far side listen whenever the way is there, and joins what connects
// there to the service here.
func (t *Tunnel) lend() {
	network, at := split(t.Spec.Lend)
	pauses, ways := retry.Pauses(time.Second, maxPause), retry.Pauses(time.Second, maxWayPause)
	socket := farSocket{path: at}
	for !t.closing.Load() {
		p, err := t.way.Passage(t.ctx)
		if err != nil {
			t.stuck(err)
			t.await(ways.NextBackOff()) // or until somebody else has the way walked again
			continue
		}
		ways.Reset()
		l, err := p.Listen(t.ctx, network, at)
		if network == "unix" {
			l, err = socket.settle(t.ctx, p, l, err)
		}
		if err != nil {
			t.stuck(err)
			var refused *link.Refused
			if errors.As(err, &refused) { // the listener of a link that was lost may be held a while
				select {
				case <-time.After(pauses.NextBackOff()):
				case <-p.Done():
				case <-t.ctx.Done():
				}
			}
			continue
		}
		pauses.Reset()
		t.opened(l)
		listens := t.Address()
		t.keep(func(ctx context.Context) Proof { return t.proveLent(ctx, listens) })
		stop := context.AfterFunc(t.ctx, func() { l.Close() })
		t.accept(l, t.serveLent)
		stop()
		if t.closing.Load() {
			if network == "unix" {
				socket.remove(context.WithoutCancel(t.ctx), p)
			}
			return
		}
		t.stuck(errors.New("connection lost"))
	}
}

// maxWayPause is the longest pause between two tries to connect: each is a login, and servers limit those.
const maxWayPause = 5 * time.Minute

// await waits for the given time, or until the connection is up.
func (t *Tunnel) await(pause time.Duration) {
	late := time.NewTimer(pause)
	defer late.Stop()
	for {
		up, changed := t.way.up()
		if up {
			return
		}
		select {
		case <-changed:
		case <-late.C:
			return
		case <-t.ctx.Done():
			return
		}
	}
}

func (t *Tunnel) stuck(err error) {
	t.mu.Lock()
	was := t.err
	t.listener, t.err = nil, err
	t.mu.Unlock()
	var refused *link.Refused
	if errors.As(err, &refused) && (was == nil || was.Error() != err.Error()) {
		t.o.Tell(Stuck{Session: t.Session, What: t.What(), Err: err})
	}
}

func (t *Tunnel) serveLent(conn net.Conn) {
	f := t.begin(conn)
	f.to.Store(&t.Spec.Reach)
	network, address := split(t.Spec.Reach)
	near, err := (&net.Dialer{Timeout: handshake}).DialContext(t.ctx, network, address)
	if err != nil {
		conn.Close()
		t.finish(f, fmt.Errorf("the service here does not answer: %w", err))
		return
	}
	far, ok := conn.(link.Stream)
	if !ok {
		near.Close()
		conn.Close()
		return
	}
	t.finish(f, t.join(f, near.(link.Stream), far))
}

// Idle is how long no flow has lived, 0 while one does.
func (t *Tunnel) Idle() time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	if len(t.flows) > 0 {
		return 0
	}
	return time.Since(t.since) - time.Duration(t.used.Load())
}

// Flows are those that live, the oldest first.
func (t *Tunnel) Flows() []Flow {
	t.mu.Lock()
	defer t.mu.Unlock()
	var all []Flow
	for _, f := range t.flows {
		all = append(all, f.state())
	}
	slices.SortFunc(all, func(a, b Flow) int { return int(a.ID - b.ID) })
	return all
}

// Count is what went through the tunnel since it was opened: flows, and bytes in
// from the far side and out to it.
func (t *Tunnel) Count() (flows int64, in, out uint64) {
	return t.total.Load(), t.in.Load(), t.out.Load()
}

// EndFlow ends one flow. It tells whether there was such a one.
func (t *Tunnel) EndFlow(id int64) bool {
	t.mu.Lock()
	f := t.flows[id]
	t.mu.Unlock()
	if f == nil {
		return false
	}
	f.cancel(errEnded)
	return true
}

var errEnded = errors.New("ended here")
