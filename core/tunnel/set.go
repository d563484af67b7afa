package tunnel

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"meatus/core/book"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/route"
)

// Set is all the tunnels of one program, by session. It is safe to use from many
// goroutines.
type Set struct {
	// Links and Running tell what is alive beside the set's own flows, for other programs
	// and for measuring. They are set before the set is used.
	Links   func() []link.State
	Running func() []remote.State

	walker Walker
	tell   func(event.Event)

	mu     sync.Mutex
	ways   map[string]*along // by session
	closed bool
}

// along is a session's way and the tunnels that are open along it.
type along struct {
	way     *Way
	tunnels []*Tunnel
	retried atomic.Bool // the next try that fails is told, though one before it was
}

// NewSet returns a set without tunnels. tell is told of what happens.
func NewSet(w Walker, tell func(event.Event)) *Set {
	return &Set{
		Links: func() []link.State { return nil }, Running: func() []remote.State { return nil },
		walker: w, tell: tell, ways: map[string]*along{},
	}
}

// errGone says that a session's tunnels were closed while one was being opened.
var errGone = errors.New("its port forwards were closed meanwhile")

// Open opens tunnels along a route, those that are not open yet. It goes on where one
// cannot be opened, and returns what went wrong joined. lazy leaves the way unwalked
// until somebody connects.
func (s *Set) Open(r route.Route, specs []book.Tunnel, o Options, lazy bool) error {
	a, err := s.along(r)
	if err != nil {
		return err
	}
	o.Tell = s.tell
	var errs []error
	for _, spec := range specs {
		if err := s.openOne(a, spec, o); err != nil {
			errs = append(errs, fmt.Errorf("%s: %w", spec, err))
		}
	}
	s.mu.Lock()
	none := len(a.tunnels) == 0
	if none && s.ways[r.Session] == a {
		delete(s.ways, r.Session)
	}
	s.mu.Unlock()
	switch {
	case none:
		a.way.Close()
	case !lazy:
		a.way.Want()
		if a.way.State().Up { // it was walked before these were opened
			for _, t := range s.Of(r.Session) {
				if t.Proven().Verdict == gate.Untried {
					t.keepProof()
				}
			}
		}
	}
	return errors.Join(errs...)
}

// Walk connects a session's tunnels, unless they are connected or connecting. That this fails is told each time; of tries that
// connections to a listener cause, the first alone is.
func (s *Set) Walk(session string) {
	s.mu.Lock()
	a := s.ways[session]
	s.mu.Unlock()
	if a != nil {
		a.retried.Store(true)
		a.way.Want()
	}
}

// along is the way of a session's tunnels, a new one where there is none.
func (s *Set) along(r route.Route) (*along, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed {
		return nil, errGone
	}
	a := s.ways[r.Session]
	if a == nil {
		a = &along{way: NewWay(s.walker, r)}
		s.ways[r.Session] = a
		a.way.notify(s.follow(a))
	}
	return a, nil
}

// openOne opens a tunnel along a way, where it is not open yet. Where the way's tunnels
// are closed meanwhile, this one is closed with them.
func (s *Set) openOne(a *along, spec book.Tunnel, o Options) error {
	s.mu.Lock()
	there := slices.ContainsFunc(a.tunnels, func(t *Tunnel) bool { return t.Spec == spec })
	s.mu.Unlock()
	if there {
		return nil
	}
	t, err := Open(a.way, spec, o)
	if err != nil {
		return err
	}
	s.mu.Lock()
	gone := s.ways[a.way.route.Session] != a
	if !gone {
		a.tunnels = append(a.tunnels, t)
	}
	s.mu.Unlock()
	if gone {
		t.Close()
		return errGone
	}
	if after := spec.IdleAfter(); after > 0 {
		go s.closeIdle(t, after)
	}
	return nil
}

// follow tells of a way's coming and going.
func (s *Set) follow(a *along) func() {
	w := a.way
	var mu sync.Mutex
	var last State
	return func() {
		mu.Lock()
		defer mu.Unlock()
		now := w.State()
		if now.Lanes > max(last.Lanes, w.route.Target().Links, 1) {
			s.tell(Widened{Session: w.route.Session, Hop: w.route.Target().Name, Links: now.Lanes})
		}
		switch {
		case now.Up && !last.Up:
			for _, t := range s.Of(w.route.Session) {
				t.keepProof()
			}
			s.tell(Came{Session: w.route.Session, Again: now.Again})
		case !now.Up && (last.Up || now.Err != nil && (last.Err == nil || now.Err != last.Err && a.retried.Swap(false))):
			s.tell(Lost{Session: w.route.Session, Err: now.Err, Why: now.Why})
		}
		last = now
	}
}

// Close closes a session's tunnels. It tells how many there were.
func (s *Set) Close(session string) int {
	s.mu.Lock()
	h := s.ways[session]
	delete(s.ways, session)
	s.mu.Unlock()
	if h == nil {
		return 0
	}
	for _, t := range h.tunnels {
		t.Close()
	}
	h.way.Close()
	return len(h.tunnels)
}

// closeIdle closes a tunnel once no flow has lived for so long.
func (s *Set) closeIdle(t *Tunnel, after time.Duration) {
	for {
		rest := after - t.Idle()
		if rest <= 0 {
			s.tell(Rested{Session: t.Session, What: t.What(), After: after})
			s.CloseListener(t.Address())
			return
		}
		select {
		case <-time.After(rest):
		case <-t.ctx.Done():
			return
		}
	}
}

// CloseListener closes one tunnel, by where its listener is. It tells whether there was one.
func (s *Set) CloseListener(address string) bool {
	s.mu.Lock()
	var found *Tunnel
	var last *along
	for session, h := range s.ways {
		if i := slices.IndexFunc(h.tunnels, func(t *Tunnel) bool { return t.Address() == address }); i >= 0 {
			found = h.tunnels[i]
			h.tunnels = slices.Delete(slices.Clone(h.tunnels), i, i+1)
			if len(h.tunnels) == 0 {
				delete(s.ways, session)
				last = h
			}
		}
	}
	s.mu.Unlock()
	if found == nil {
		return false
	}
	found.Close()
	if last != nil {
		last.way.Close()
	}
	return true
}

// CloseAll closes everything, the listeners first; flows have so long to come to their
// end. Nothing is opened after it.
func (s *Set) CloseAll(drain time.Duration) {
	s.mu.Lock()
	ways := s.ways
	s.ways, s.closed = map[string]*along{}, true
	s.mu.Unlock()
	var wg sync.WaitGroup
	for _, h := range ways {
		wg.Go(func() {
			var each sync.WaitGroup
			for _, t := range h.tunnels {
				each.Go(func() { t.Drain(drain) })
			}
			each.Wait()
			h.way.Close()
		})
	}
	wg.Wait()
}

// Line is one tunnel, as it can be listed.
type Line struct {
	Session  string    `json:"session"`
	Kind     string    `json:"kind"`
	Listener string    `json:"door"`
	Reach    string    `json:"reach,omitempty"`
	Only     string    `json:"only,omitempty"`   // destinations of a roaming listener, see [book.Tunnel]
	Direct   string    `json:"direct,omitempty"` // those connected to from here
	As       string    `json:"seen_from"`        // the machine whose name the reach is seen from
	Hops     []string  `json:"way"`              // the machines of its way, in order
	Open     bool      `json:"door_open"`
	Up       bool      `json:"up"`
	Beyond   bool      `json:"beyond_loopback"`
	Others   bool      `json:"open_to_other_accounts"` // programs of other accounts here can use it, or it cannot be told that they cannot
	Error    string    `json:"error,omitempty"`
	Lost     time.Time `json:"lost,omitzero"`
	Again    int       `json:"came_back"`
	Live     int       `json:"live_flows"`
	Flows    int64     `json:"flows"`
	Proof    string    `json:"proof,omitempty"`
	Answers  string    `json:"answers"`              // the verdict of trying the service
	Heard    string    `json:"first_line,omitempty"` // that the service said by itself
	Rule     string    `json:"rule,omitempty"`       // what its owner would have to allow
	In       uint64    `json:"bytes_in"`
	Out      uint64    `json:"bytes_out"`
}

// Drawn says a tunnel with its direction: "your 127.0.0.1:15432 ⇐ tide-db:5432, as
// seen from quay".
func (l Line) Drawn() string {
	others := ""
	if l.Others {
		others = ", open to other accounts here"
	}
	switch l.Kind {
	case "bring":
		return fmt.Sprintf("your %s ⇐ %s, as seen from %s%s", l.Listener, l.Reach, l.As, others)
	case "lend":
		return fmt.Sprintf("your %s ⇒ %s at %s", l.Reach, l.Listener, l.As)
	}
	say := fmt.Sprintf("your %s ⇐ anywhere that %s reaches", l.Listener, l.As)
	if l.Only != "" {
		say = fmt.Sprintf("your %s ⇐ %s alone, as seen from %s", l.Listener, l.Only, l.As)
	}
	if l.Direct != "" {
		say += "; " + l.Direct + " from here"
	}
	return say + others
}

// Lines lists every tunnel, by session.
func (s *Set) Lines() []Line {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []Line
	for session, h := range s.ways {
		state := h.way.State()
		for _, t := range h.tunnels {
			kind, _ := t.Spec.Kind()
			l := Line{Session: session, Kind: kind, Listener: t.Address(), Reach: t.Spec.Reach, Only: t.Spec.Only, Direct: t.Spec.Direct, As: h.way.route.Target().Name, Open: t.open(), Up: state.Up, Beyond: t.Beyond(), Others: kind != "lend" && (t.Spec.Share != "" || t.Untold()), Lost: state.Lost, Again: state.Again, Live: len(t.Flows())}
			for _, hop := range h.way.goes().Hops {
				l.Hops = append(l.Hops, hop.Name)
			}
			if err := cmp.Or(t.Err(), state.Err); err != nil {
				l.Error = err.Error()
			}
			l.Flows, l.In, l.Out = t.Count()
			proof := t.Proven()
			l.Proof, l.Answers, l.Heard, l.Rule = proof.Say, proof.Verdict.String(), proof.Heard, proof.Rule
			all = append(all, l)
		}
	}
	slices.SortFunc(all, func(a, b Line) int {
		return cmp.Or(cmp.Compare(a.Session, b.Session), cmp.Compare(a.Listener, b.Listener))
	})
	return all
}

// Of are a session's open tunnels.
func (s *Set) Of(session string) []*Tunnel {
	s.mu.Lock()
	defer s.mu.Unlock()
	if h := s.ways[session]; h != nil {
		return slices.Clone(h.tunnels)
	}
	return nil
}

// All are all open tunnels.
func (s *Set) All() []*Tunnel {
	s.mu.Lock()
	defer s.mu.Unlock()
	var all []*Tunnel
	for _, h := range s.ways {
		all = append(all, h.tunnels...)
	}
	slices.SortFunc(all, func(a, b *Tunnel) int {
		return cmp.Or(cmp.Compare(a.Session, b.Session), cmp.Compare(a.Address(), b.Address()))
	})
	return all
}
