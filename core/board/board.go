// Package board keeps what is known of every session: its route, how its gates stand,
// where a walk to it is, and which links are live.
//
// It judges sessions in the background, those that are looked at first. It promises
// that reading it does no input or output and waits for none: its lock is held for
// moments, and what it hands out does not change. It is told of what happens by the
// event stream ([Board.Hear]), and tells [Changed] when there is something new to draw.
//
// A session costs some 100 bytes here. The report of one that is not looked at is not
// kept, only its verdict and what was found out by connecting and walking.
package board

import (
	"context"
	"fmt"
	"hash/maphash"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"meatus/core/contain"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// Changed says that the board has something new to draw.
type Changed struct{ event.Note }

// Supersedes tells whether e replaces the event just before it.
func (Changed) Supersedes(before event.Event) bool { _, ok := before.(Changed); return ok }

// Trouble says that something of the board's own could not be read.
type Trouble struct {
	event.Note
	Err error
}

// State is what is known of a session at a moment.
type State struct {
	Name, Site string
	Judged     bool         // it was judged since the workspace or its keys changed
	Verdict    gate.Verdict // of its worst gate
	Walk       *Walking     // where a walk to it is, nil where none is under way
	Failure    *gate.Failure
	Said       string        // what was just done with it
	Lost       *walk.Waiting // its way was lost and is walked again, or nil
	Details    *Details      // nil where nobody has looked at it lately
}

// Details are the parts of a session that are kept for those that are looked at.
type Details struct {
	Route    route.Route
	Prefixes []string // of its hops, as [route.Route.Prefix] gives them
	Report   gate.Report
}

// Walking is where a walk is.
type Walking struct {
	Hop     int
	Gate    gate.Kind
	Through bool // that gate is passed, and the next not yet tried
	Waiting *walk.Waiting
}

// session is a session's place in memory.
type session struct {
	name, site string
	judged     bool
	verdict    gate.Verdict
	target     uint64    // the hash of the way to it, with nothing lent; 0 where not known
	found      []finding // by connecting and walking
	live       *live     // nil for most
	details    *Details
}

// finding is a gate that was found to stand in a way that this machine alone cannot
// know.
type finding struct {
	hop  int
	gate gate.Gate
}

// live is what is under way with a session, or was just done.
type live struct {
	walk    *Walking
	failure *gate.Failure
	said    string
	lost    *walk.Waiting
}

// Board is safe to use from many goroutines.
type Board struct {
	tell func(event.Event)
	seed maphash.Seed

	mu       sync.RWMutex
	ws       *workspace.Workspace
	sessions []session
	byName   map[string]int
	epoch    int      // of the sessions: what was judged for an older one is dropped
	next     int      // the first session that was not judged for its verdict
	wanted   []string // to be judged before the others
	kept     []string // sessions whose details are kept, the latest last
	shut     int
	liveNow  int // sessions with a live link
	links    *Links
	tunnels  map[string][]tunnel.Line // open ones, by session
	lines    func() []tunnel.Line
	marks    workspace.Marks
	visits   map[string]time.Time
	wake     chan struct{}
	stale    bool // the tunnels are to be looked at anew
}

// maxKept is how many sessions' details are kept.
const maxKept = 512

// New returns a board for a workspace. lines tells the open tunnels, and tell is told
// of what changes. Run [Board.Run] to have it judge.
func New(ws *workspace.Workspace, lines func() []tunnel.Line, tell func(event.Event)) *Board {
	b := &Board{tell: tell, lines: lines, seed: maphash.MakeSeed(), links: &Links{}, marks: workspace.Marks{}, visits: map[string]time.Time{}, wake: make(chan struct{}, 1)}
	b.SetWorkspace(ws)
	return b
}

// SetWorkspace takes another reading of the workspace. What was found out about a
// session stays where its way is the same.
func (b *Board) SetWorkspace(ws *workspace.Workspace) {
	b.mu.Lock()
	defer b.mu.Unlock()
	before, byName := b.sessions, b.byName
	b.ws, b.epoch, b.next, b.shut, b.liveNow = ws, b.epoch+1, 0, 0, 0
	b.sessions = make([]session, len(ws.Book.Sessions))
	b.byName = make(map[string]int, len(b.sessions))
	for i, s := range ws.Book.Sessions {
		b.sessions[i] = session{name: s.Name, site: s.Site.V}
		b.byName[s.Name] = i
		if old, ok := byName[s.Name]; ok {
			// Whether its way is still the same is seen when it is judged.
			b.sessions[i].target, b.sessions[i].found, b.sessions[i].live = before[old].target, before[old].found, before[old].live
		}
	}
	b.wanted, b.kept = append(b.kept, b.wanted...), nil
	b.signal()
}

// Want has sessions judged first, and their details kept.
func (b *Board) Want(names ...string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, name := range names {
		if i, ok := b.byName[name]; ok && b.sessions[i].details == nil && !slices.Contains(b.wanted, name) {
			b.wanted = append(b.wanted, name)
		}
	}
	b.signal()
}

// State is what is known of a session, and whether there is one of that name.
func (b *Board) State(name string) (State, bool) {
	b.mu.RLock()
	defer b.mu.RUnlock()
	i, ok := b.byName[name]
	if !ok {
		return State{}, false
	}
	return b.sessions[i].state(), true
}

func (s *session) state() State {
	out := State{Name: s.name, Site: s.site, Judged: s.judged, Verdict: s.verdict, Details: s.details}
	if s.live != nil {
		out.Walk, out.Failure, out.Said, out.Lost = s.live.walk, s.live.failure, s.live.said, s.live.lost
	}
	return out
}

// Counts are how many sessions there are, and of them live and shut.
type Counts struct{ Sessions, Live, Shut int }

// Counts counts the sessions.
func (b *Board) Counts() Counts {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return Counts{len(b.sessions), b.liveNow, b.shut}
}

// Tunnels are the open tunnels of a session.
func (b *Board) Tunnels(session string) []tunnel.Line {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.tunnels[session]
}

// Marked tells whether a person has marked a session.
func (b *Board) Marked(name string) bool {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.marks[name]
}

// Visited is when a session was last logged in to, zero where that is not known.
func (b *Board) Visited(name string) time.Time {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.visits[name]
}

// Mark marks a session, or takes its mark away, at once. Remember it with
// [workspace.Workspace.Mark].
func (b *Board) Mark(name string, on bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if delete(b.marks, name); on {
		b.marks[name] = true
	}
}

// Say puts a word on a session's card, and judges it anew: what was found out about it
// before counts no more.
func (b *Board) Say(name, text string) {
	b.change(name, func(s *session, l *live) {
		b.forgetLocked(s)
		s.target = 0 // what is said stays, also where the way is another now
		l.failure, l.said = nil, text
	})
	b.signal()
}

// Rejudge judges every session anew, since key files or vouches changed. Walks under
// way stay.
func (b *Board) Rejudge() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.sessions {
		if s := &b.sessions[i]; s.live == nil || s.live.walk == nil {
			b.forgetLocked(s)
		}
	}
	b.epoch, b.next = b.epoch+1, 0
	b.wanted, b.kept = append(b.kept, b.wanted...), nil
	b.signal()
}

// forgetLocked forgets what is known of a session, so that it is judged anew.
func (b *Board) forgetLocked(s *session) {
	b.judgeLocked(s, gate.Untried)
	s.judged, s.found = false, nil
	if s.live != nil {
		l := *s.live
		l.failure = nil
		s.live = &l
	}
	if !slices.Contains(b.wanted, s.name) && s.details != nil {
		b.wanted = append(b.wanted, s.name)
	}
}

// judgeLocked takes a session's verdict, and keeps count of what is shut.
func (b *Board) judgeLocked(s *session, v gate.Verdict) {
	if s.verdict == gate.Shut {
		b.shut--
	}
	if s.verdict = v; v == gate.Shut {
		b.shut++
	}
}

// change changes what is under way with a session. The old value is left as it was
// handed out.
func (b *Board) change(name string, do func(s *session, l *live)) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.changeLocked(name, do)
}

func (b *Board) changeLocked(name string, do func(s *session, l *live)) {
	i, ok := b.byName[name]
	if !ok {
		return
	}
	s := &b.sessions[i]
	var l live
	if s.live != nil {
		l = *s.live
	}
	do(s, &l)
	s.live = &l
	if l == (live{}) {
		s.live = nil
	}
}

// Begin says that a walk to a session starts.
func (b *Board) Begin(name string) {
	b.change(name, func(s *session, l *live) {
		b.forgetLocked(s)
		l.failure, l.said, l.walk = nil, "", &Walking{}
		b.wanted = append(b.wanted, name)
		b.epoch++ // what was read of key files before may be old
	})
	b.signal()
}

// Failed says how a walk that did not get through ended.
func (b *Board) Failed(name string, failure *gate.Failure) {
	b.change(name, func(s *session, l *live) {
		l.walk = nil
		if failure.Cause == gate.Cancelled {
			l.said = fmt.Sprintf("stopped at %s, %s", failure.Hop, failure.Gate)
			return
		}
		l.failure = failure
		b.shutLocked(s, failure)
	})
}

// Arrived says that a walk got through.
func (b *Board) Arrived(name string) {
	b.change(name, func(_ *session, l *live) { l.walk = nil })
}

// shutLocked puts a failure's gate among what was found.
func (b *Board) shutLocked(s *session, failure *gate.Failure) {
	hops := b.hopsLocked(s)
	if at := slices.Index(hops, failure.Hop); at >= 0 {
		b.findLocked(s, at, failure.Judged())
	}
}

// hopsLocked are the names of a session's hops.
func (b *Board) hopsLocked(s *session) []string {
	r, err := b.ws.Planner().Plan(s.name)
	if err != nil {
		return nil
	}
	names := make([]string, len(r.Hops))
	for i, h := range r.Hops {
		names[i] = h.Name
	}
	return names
}

// findLocked takes a gate that was found out, and the session's verdict with it.
func (b *Board) findLocked(s *session, hop int, g gate.Gate) {
	found := slices.DeleteFunc(slices.Clone(s.found), func(f finding) bool { return f.hop == hop && f.gate.Kind == g.Kind })
	s.found = append(found, finding{hop, g})
	if s.details == nil {
		if g.Verdict == gate.Shut {
			b.judgeLocked(s, gate.Shut)
		}
		if !slices.Contains(b.wanted, s.name) {
			b.wanted = append(b.wanted, s.name)
		}
		b.signal()
		return
	}
	d := *s.details
	d.Report.Set(hop, g)
	s.details = &d
	b.judgeLocked(s, d.Report.Verdict())
}

// Hear takes an event. It is for [event.Stream.Attach].
func (b *Board) Hear(e event.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch e := e.(type) {
	case walk.Trying:
		b.changeLocked(e.Session, func(_ *session, l *live) {
			if l.walk != nil {
				l.walk = &Walking{Hop: e.Hop, Gate: e.Gate}
			}
		})
	case walk.Passed:
		b.changeLocked(e.Session, func(s *session, l *live) {
			b.findLocked(s, e.Hop, e.Gate)
			if w := l.walk; w != nil && w.Hop == e.Hop && w.Gate == e.Gate.Kind {
				through := *w
				through.Through = true
				l.walk = &through
			}
		})
	case walk.Touched:
		b.touchedLocked(e)
	case walk.Ended:
		if e.Err == nil {
			b.changeLocked(e.Session, func(_ *session, l *live) { l.lost = nil })
		}
	case remote.Finished:
		b.changeLocked(e.Session, func(_ *session, l *live) { l.lost = nil })
	case walk.Waiting:
		b.changeLocked(e.Session, func(s *session, l *live) {
			switch {
			case e.Lost:
				l.lost = &e
			case l.walk != nil:
				at := *l.walk
				at.Waiting = &e
				l.walk = &at
				b.shutLocked(s, e.Failure)
			}
		})
	case walk.LoggedIn:
		b.visits[e.Hop] = time.Now()
	case walk.LinkUp:
		b.linksLocked(func(all map[string]*Link) { take(all, e.Link) })
	case walk.LinkDown:
		b.linksLocked(func(all map[string]*Link) { delete(all, e.Link.Prefix) })
	case walk.Pulse:
		b.linksLocked(func(all map[string]*Link) {
			for _, l := range e.Links {
				take(all, l)
			}
		})
	case tunnel.Opened, tunnel.Shut, tunnel.Stuck, tunnel.Rested, tunnel.Proven, tunnel.Came, tunnel.Lost, tunnel.Widened:
		b.stale = true
		b.signal()
	}
}

var depthSays = [...]string{"this machine alone can know", "what answers there", "its host key"}

// touchedLocked takes what a look at a session's machine found.
func (b *Board) touchedLocked(e walk.Touched) {
	b.changeLocked(e.Report.Session, func(s *session, l *live) {
		if l.walk != nil {
			return
		}
		l.failure, l.said = e.Failure, "checked just now, as far as "+depthSays[e.Depth]
		s.found = nil
		last := len(e.Report.Hops) - 1
		for i, h := range e.Report.Hops {
			for _, g := range h.Gates {
				looked := g.Kind <= gate.Identity || g.Kind == gate.Login && i < last
				failed := e.Failure != nil && e.Failure.Hop == h.Name && e.Failure.Gate == g.Kind
				if looked && g.Verdict != gate.Untried || failed || g.Kind == gate.Identity {
					s.found = append(s.found, finding{i, g})
				}
			}
		}
		b.judgeLocked(s, e.Report.Verdict())
		s.judged = true
		if s.details != nil {
			d := *s.details
			d.Report = e.Report
			s.details = &d
		}
	})
}

func (b *Board) signal() {
	select {
	case b.wake <- struct{}{}:
	default:
	}
}

// How many sessions are judged between two looks at what is wanted, and how often the
// links and tunnels are measured.
const (
	batch   = 256
	measure = time.Second
)

// Run judges sessions and measures links and tunnels, until ctx ends.
func (b *Board) Run(ctx context.Context) {
	b.remember()
	tick := time.NewTicker(measure)
	defer tick.Stop()
	sheets, epoch := route.KeySheets{}, -1
	for ctx.Err() == nil {
		if again := b.epochNow(); again != epoch {
			sheets, epoch = route.KeySheets{}, again
		}
		if b.judge(sheets) {
			b.tell(Changed{})
			continue
		}
		select {
		case <-b.wake:
			if b.lookAtTunnels(false) {
				b.tell(Changed{})
			}
		case now := <-tick.C:
			if b.measure(now) || b.lookAtTunnels(true) {
				b.tell(Changed{})
			}
		case <-ctx.Done():
		}
	}
}

// remember reads the marks and the visits.
func (b *Board) remember() {
	b.mu.RLock()
	ws := b.ws
	b.mu.RUnlock()
	marks, err := ws.Marks()
	if err != nil {
		b.tell(Trouble{Err: err})
	}
	visits := map[string]time.Time{}
	if t, ok := ws.Logins.(interface{ Visits() map[string]time.Time }); ok {
		visits = t.Visits()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	for name := range b.marks {
		marks[name] = true
	}
	for name, at := range b.visits {
		visits[name] = at
	}
	b.marks, b.visits = marks, visits
}

func (b *Board) epochNow() int {
	b.mu.RLock()
	defer b.mu.RUnlock()
	return b.epoch
}

// judged is one session's judgement.
type judged struct {
	at      int
	name    string
	details *Details
	target  uint64
	kept    bool
}

// judge judges what is wanted, or the next of the others. It tells whether there was
// anything to judge.
func (b *Board) judge(sheets route.KeySheets) bool {
	b.mu.Lock()
	ws := b.ws
	wanted := b.wanted
	b.wanted = nil
	var todo []judged
	for _, name := range wanted {
		if i, ok := b.byName[name]; ok {
			todo = append(todo, judged{at: i, name: name, kept: true})
		}
	}
	for ; len(todo) < batch && b.next < len(b.sessions); b.next++ {
		if s := &b.sessions[b.next]; !s.judged {
			todo = append(todo, judged{at: b.next, name: s.name})
		}
	}
	b.mu.Unlock()
	if len(todo) == 0 {
		return false
	}
	known := ws.Knowledge()
	known.Keys = sheets
	for i := range todo {
		todo[i].details, todo[i].target = b.look(ws, todo[i].name, known)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ws != ws {
		return true // what is there now is judged next
	}
	for _, j := range todo {
		b.takeLocked(j)
	}
	for len(b.kept) > maxKept {
		if i, ok := b.byName[b.kept[0]]; ok {
			b.sessions[i].details = nil
		}
		b.kept = b.kept[1:]
	}
	b.countLiveLocked()
	return true
}

// look judges what this machine alone can know about a session.
func (b *Board) look(ws *workspace.Workspace, name string, known route.Knowledge) (*Details, uint64) {
	d := &Details{}
	err := contain.Do("judging "+name, func() error { d.Route, d.Report = ws.Check(name, known); return nil })
	if err != nil {
		d.Report = gate.Report{Session: name, Broken: err.Error()}
	}
	if d.Report.Broken != "" {
		return d, 0
	}
	for n := range d.Route.Hops {
		d.Prefixes = append(d.Prefixes, d.Route.Prefix(n))
	}
	return d, b.hash(route.Unlent(d.Prefixes[len(d.Prefixes)-1]))
}

func (b *Board) hash(prefix string) uint64 { return maphash.String(b.seed, prefix) | 1 }

// takeLocked takes a judgement, made truer by what was found.
func (b *Board) takeLocked(j judged) {
	s := &b.sessions[j.at]
	if s.target != 0 && s.target != j.target { // another way: what was found is of the old one
		s.found = nil
		if l := s.live; l != nil && l.walk == nil {
			s.live = nil
		}
	}
	s.target, s.judged = j.target, true
	for _, f := range s.found {
		j.details.Report.Set(f.hop, f.gate)
	}
	b.judgeLocked(s, j.details.Report.Verdict())
	if !j.kept {
		return
	}
	if s.details == nil {
		b.kept = append(b.kept, j.name)
	}
	s.details = j.details
}

// KeyMended says what became of mending a key from a session's card.
func (b *Board) KeyMended(name, path string, say string, err error) {
	b.Rejudge()
	b.change(name, func(s *session, l *live) {
		l.said = say
		if err == nil {
			return
		}
		l.said = ""
		hops := b.hopsLocked(s)
		b.findLocked(s, len(hops)-1, gate.Gate{Kind: gate.Key, Verdict: gate.Shut, Seen: filepath.Base(path), Reason: err.Error(), Remedy: gate.Remedy{Say: "mend it as the file's owner"}})
	})
}
