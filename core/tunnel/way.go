package tunnel

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/route"
	"meatus/core/walk"
)

// Walker passes routes. A [walk.Walker] is one.
type Walker interface {
	Walk(ctx context.Context, r route.Route) (*walk.Passage, error)
	Return(ctx context.Context, r route.Route, limit time.Duration) (*walk.Passage, error)
}

// maxLanes is how many links one way uses at most, where a server allows few
// channels on each.
const maxLanes = 4

// Way is the way to a session's machine for the tunnels that lead along it: walked
// when it is first wanted, and again when it was lost. It is safe to use from many
// goroutines.
type Way struct {
	walker Walker
	route  route.Route
	ctx    context.Context
	cancel context.CancelFunc
	wg     sync.WaitGroup

	next    atomic.Uint64 // the link that the next flow takes, of several side by side
	mu      sync.Mutex
	lanes   []*lane
	noSide  time.Time     // when a further lane could not be walked
	changed chan struct{} // closed when the first lane comes or fails
	err     error         // why it is not there, nil while it is or is being walked
	tell    []func()      // called when something has changed
	proofs  chan struct{} // taken while a tunnel of the way is proven
}

// lane is one link's worth of the way.
type lane struct {
	passage *walk.Passage // nil while it is walked
	since   time.Time
	lost    time.Time     // zero while it is there
	again   int           // how often it came back
	err     error         // why it is not walked any more
	why     *gate.Failure // why it was lost last
}

// NewWay returns a way that is not walked yet. Close ends it.
func NewWay(w Walker, r route.Route) *Way {
	way := &Way{walker: w, route: r, changed: make(chan struct{}), proofs: make(chan struct{}, 1)}
	way.ctx, way.cancel = context.WithCancel(context.Background())
	return way
}

// Route is where the way leads.
func (w *Way) Route() route.Route { return w.route }

// goes is the way that is taken, of several.
func (w *Way) goes() route.Route {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, l := range w.lanes {
		if l.passage != nil {
			return l.passage.Route()
		}
	}
	return w.route
}

// Close gives the way up and waits until nothing of it is left.
func (w *Way) Close() {
	w.mu.Lock()
	w.cancel() // under the lock: no lane is added any more
	w.mu.Unlock()
	w.wg.Wait()
}

// notify has f called whenever the way comes or goes.
func (w *Way) notify(f func()) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.tell = append(w.tell, f)
}

// Want starts walking where nobody has yet.
func (w *Way) Want() {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.lanes) == 0 && w.ctx.Err() == nil {
		w.addLocked()
	}
}

// addLocked adds a lane, which keeps itself walked.
func (w *Way) addLocked() *lane {
	l := &lane{}
	n := len(w.lanes)
	w.lanes = append(w.lanes, l)
	w.err = nil
	w.wg.Go(func() { w.keep(l, n) })
	return l
}

// keep walks a lane, and walks it again for as long as the route says.
func (w *Way) keep(l *lane, n int) {
	r := w.route
	if n > 0 {
		r = r.AtEnd(func(last *route.Hop) { last.Lane = n })
	}
	lost := false
	for w.ctx.Err() == nil {
		var p *walk.Passage
		var err error
		if lost {
			p, err = w.walker.Return(w.ctx, r, r.Target().Manner.Reconnect)
		} else {
			p, err = w.walker.Walk(w.ctx, r)
		}
		if err != nil {
			if w.ctx.Err() == nil { // given up here it is no loss
				w.drop(l, err)
			}
			return
		}
		w.cameUp(l, p)
		r = p.Route() // the one that was taken comes first when it is lost
		select {
		case <-p.Done():
		case <-w.ctx.Done():
		}
		if w.ctx.Err() != nil { // it is given up here, which is no loss
			p.Close()
			return
		}
		w.wentDown(l, p.Failure())
		p.Close()
		if lost = true; r.Target().Manner.Reconnect <= 0 {
			w.drop(l, errors.New("the connection was lost"))
			return
		}
	}
}

func (w *Way) cameUp(l *lane, p *walk.Passage) {
	w.change(func() {
		if l.since.IsZero() {
			l.since = time.Now()
		} else {
			l.again++
		}
		l.passage, l.lost, w.err = p, time.Time{}, nil
		w.widenLocked()
	})
}

func (w *Way) wentDown(l *lane, why *gate.Failure) {
	w.change(func() { l.passage, l.lost, l.why = nil, time.Now(), why })
}

// drop takes a lane out that could not be walked. The next who wants the way has
// it walked anew.
func (w *Way) drop(l *lane, err error) {
	w.change(func() {
		l.err = err
		if len(w.lanes) > 1 {
			w.noSide = time.Now()
		}
		for i := range w.lanes {
			if w.lanes[i] == l {
				w.lanes = append(w.lanes[:i:i], w.lanes[i+1:]...)
				break
			}
		}
		if len(w.lanes) == 0 {
			w.err = err
		}
	})
}

// change changes something under the lock, and tells those who wait and listen.
func (w *Way) change(do func()) {
	w.mu.Lock()
	do()
	close(w.changed)
	w.changed = make(chan struct{})
	tell := w.tell
	w.mu.Unlock()
	for _, f := range tell {
		f()
	}
}

// up reports whether the connection is up, and returns a channel that is closed at the next change.
func (w *Way) up() (up bool, changed <-chan struct{}) {
	w.mu.Lock()
	defer w.mu.Unlock()
	return slices.ContainsFunc(w.lanes, func(l *lane) bool { return l.passage != nil }), w.changed
}

// Passage is the way's first passage. It waits for it until the context ends, and
// fails with why it could not be walked.
func (w *Way) Passage(ctx context.Context) (*walk.Passage, error) {
	w.Want()
	for {
		w.mu.Lock()
		for _, l := range w.lanes {
			if l.passage != nil {
				p := l.passage
				w.mu.Unlock()
				return p, nil
			}
		}
		err, changed := w.err, w.changed
		w.mu.Unlock()
		if err != nil {
			return nil, err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, fmt.Errorf("not connected to %s: %w", w.route.Session, ctx.Err())
		case <-w.ctx.Done():
			return nil, errClosed
		}
	}
}

var errClosed = errors.New("the tunnel is closed")

// Dial connects to an address as the way's machine sees it. Where that machine
// allows no more channels on a link, another link is made.
//
// cut tells, once the stream has ended, whether that was because the link did.
func (w *Way) Dial(ctx context.Context, network, address string) (stream link.Stream, cut func() bool, err error) {
	var p *walk.Passage
	n := 0
	if links := w.route.Target().Links; links > 1 {
		n = int(w.next.Add(1) % uint64(links))
	}
	for {
		if p, err = w.Passage(ctx); err != nil {
			return nil, nil, err
		}
		if n > 0 {
			if side := w.side(n); side != nil {
				p = side
			}
			n = 0
		}
		if stream, err = p.Dial(ctx, network, address); !errors.Is(err, io.EOF) {
			break
		}
		// The link has just ended: what connects waits for the next.
		if err := w.gone(ctx, p); err != nil {
			return nil, nil, err
		}
	}
	var refused *link.Refused
	for lane := 1; errors.As(err, &refused) && refused.Full() && lane < maxLanes; lane++ {
		var lerr error
		if p, lerr = w.lane(ctx, lane); lerr != nil {
			return nil, nil, errors.Join(err, lerr)
		}
		stream, err = p.Dial(ctx, network, address)
	}
	return stream, cutOf(p), err
}

// gone waits until a passage whose link has ended is no longer the way's.
func (w *Way) gone(ctx context.Context, p *walk.Passage) error {
	for {
		w.mu.Lock()
		there := slices.ContainsFunc(w.lanes, func(l *lane) bool { return l.passage == p })
		changed := w.changed
		w.mu.Unlock()
		if !there {
			return nil
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return fmt.Errorf("connection to %s lost: %w", w.route.Session, ctx.Err())
		case <-w.ctx.Done():
			return errClosed
		}
	}
}

// cutTime is how long the end of a channel may be ahead of the end of its link.
const cutTime = 100 * time.Millisecond

// cutOf tells whether a passage's link is gone. A channel's end and its link's come
// at the same moment where a line is cut.
func cutOf(p *walk.Passage) func() bool {
	return func() bool {
		select {
		case <-p.Done():
			return true
		default:
			return p.Ending(cutTime)
		}
	}
}

// sidePause is how long a further link that could not be made is not tried again, where
// it is for width alone.
const sidePause = time.Minute

// side is the passage of a further lane, nil where it is not there: then it is made for
// those who come later.
func (w *Way) side(n int) *walk.Passage {
	w.mu.Lock()
	defer w.mu.Unlock()
	if len(w.lanes) > n {
		return w.lanes[n].passage
	}
	w.widenLocked()
	return nil
}

// widenLocked makes as many links side by side as the route wants.
func (w *Way) widenLocked() {
	for len(w.lanes) < min(w.route.Target().Links, maxLanes) && w.ctx.Err() == nil && time.Since(w.noSide) > sidePause {
		w.addLocked()
	}
}

// lane is the passage of a further lane, made where there is none. It fails with why
// that could not be walked.
func (w *Way) lane(ctx context.Context, n int) (*walk.Passage, error) {
	var l *lane
	for {
		w.mu.Lock()
		if l == nil {
			if len(w.lanes) <= n && w.ctx.Err() == nil {
				l = w.addLocked()
			} else if len(w.lanes) > n {
				l = w.lanes[n]
			}
		}
		var p *walk.Passage
		var err error
		if l != nil {
			p, err = l.passage, l.err
		}
		changed := w.changed
		w.mu.Unlock()
		if p != nil || err != nil {
			return p, err
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-w.ctx.Done():
			return nil, errClosed
		}
	}
}

// State is how a way stands.
type State struct {
	Up    bool
	Lanes int           // links in use
	Since time.Time     // when it first came, zero before
	Lost  time.Time     // since when it is lost, zero while it is there
	Again int           // how often it came back
	Err   error         // why it is not walked any more
	Why   *gate.Failure // why it was lost last, nil where that is not known
}

// State tells how the way stands.
func (w *Way) State() State {
	w.mu.Lock()
	defer w.mu.Unlock()
	s := State{Err: w.err, Lanes: len(w.lanes)}
	if len(w.lanes) > 0 {
		l := w.lanes[0]
		s.Up, s.Since, s.Lost, s.Again, s.Why = l.passage != nil, l.since, l.lost, l.again, l.why
	}
	return s
}
