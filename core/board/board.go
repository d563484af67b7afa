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
	"errors"
	"fmt"
	"hash/maphash"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"meatus/core/contain"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/link"
	"meatus/core/login"
	"meatus/core/needs"
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
	Seen       time.Time     // when its machine was last looked at or walked to, zero where it was not
	Running    *Running      // its shells, nil where none lives
}

// Running are the live shells of a session.
type Running struct {
	Shells  int
	Links   []route.LinkKey // of the way of the latest
	Lent    []string        // the keys that are lent to where they go, by name
	Windows int             // programs of them that draw here
	Moved   bool            // the session is another now: it leads somewhere else than they go
	target  uint64          // the hash of the way of the latest
}

// Shell is a live shell: the way it goes, and what its session has besides.
type Shell struct {
	Way     route.Route
	Lent    []string
	Windows int
}

// Details are the parts of a session that are kept for those that are looked at.
type Details struct {
	Route  route.Route
	Links  []route.LinkKey // of its hops
	Report gate.Report
}

// Walking is where a walk is.
type Walking struct {
	Hop     int
	Gate    gate.Kind
	Say     string // what it waits for at that gate, "" for most
	Through bool   // that gate is passed, and the next not yet tried
	Waiting *walk.Waiting
}

// session is a session's place in memory.
type session struct {
	name, site string
	judged     bool
	verdict    gate.Verdict
	cause      *cause // why it is ajar or shut, nil where it is not or is not known
	target     uint64 // the hash of the way to it, with nothing lent; 0 where not known
	*learned
	live    *live // nil for most
	details *Details
}

// learned is what is known of few sessions; the others share [nothingLearned], which is not to be changed.
type learned struct {
	way    route.LinkKey // the end of the way that was taken last, of several; zero for the first
	others []uint64      // the hashes of the other ways
	found  []finding     // by connecting and walking
	seen   time.Time     // when that was
}

var nothingLearned = &learned{}

// learn is what is known of a session, to be changed.
func (s *session) learn() *learned {
	if s.learned == nothingLearned {
		s.learned = &learned{}
	}
	return s.learned
}

// finding is a gate that was found to stand in a way that this machine alone cannot
// know. It holds for as long as what it rests on is the same.
type finding struct {
	hop   int
	gate  gate.Gate
	rests uint64 // the hash of that, 0 until the session is judged after it was found
}

// ground is what findings at a hop rest on, in hashes: those up to the host's identity on the
// way to it and what is vouched for it, those behind that on the key that is used, too.
type ground struct{ identity, key uint64 }

// of is what a finding of a gate rests on.
func (g ground) of(k gate.Kind) uint64 {
	if k >= gate.Key {
		return g.key
	}
	return g.identity
}

// grounds are those of a judgement, by hop.
func (b *Board) grounds(d *Details, known route.Knowledge) []ground {
	var all []ground
	for i, h := range d.Report.Hops {
		on := d.Links[i].Bare().String()
		var g ground
		vouched, err := known.Vouched.Of(d.Route.Hops[i].At())
		for _, v := range vouched {
			on += "\n" + v.SHA256
		}
		g.identity = b.hashText(on + fmt.Sprint(err))
		for _, path := range d.Route.Hops[i].Keys {
			sheet := known.Keys[path]
			on += fmt.Sprintf("\n%s %s %v", path, sheet.Sheet.SHA256, sheet.Err)
		}
		for _, each := range h.Gates {
			if each.Kind == gate.Key {
				on += fmt.Sprintf("\n%s %s", each.Verdict, each.Seen)
			}
		}
		g.key = b.hashText(on)
		all = append(all, g)
	}
	return all
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
	liveNow  []int // sessions with a live link, in their order
	links    *Links
	tunnels  map[string][]tunnel.Line // open ones, by session
	lines    func() []tunnel.Line
	running  map[string]*Running // live shells, by session
	shells   func() []Shell
	marks    workspace.Marks
	visits   map[string]time.Time
	causes   map[needs.Key]*cause // each once, of all sessions
	wake     chan struct{}
	stale    bool // the tunnels are to be looked at anew
}

// maxKept is how many sessions' details are kept.
const maxKept = 256

// New returns a board for a workspace. lines tells the open tunnels, shells the live
// shells, the oldest first, and tell is told of what changes. Run [Board.Run] to have it
// judge.
func New(ws *workspace.Workspace, lines func() []tunnel.Line, shells func() []Shell, tell func(event.Event)) *Board {
	b := &Board{tell: tell, lines: lines, shells: shells, seed: maphash.MakeSeed(), links: &Links{}, marks: workspace.Marks{}, visits: map[string]time.Time{}, causes: map[needs.Key]*cause{}, wake: make(chan struct{}, 1)}
	b.SetWorkspace(ws)
	return b
}

// SetWorkspace takes another reading of the workspace. What is known of a session stays until
// it is judged anew, and what was found out about it where its way is the same.
func (b *Board) SetWorkspace(ws *workspace.Workspace) {
	b.mu.Lock()
	defer b.mu.Unlock()
	before, byName := b.sessions, b.byName
	b.ws, b.epoch, b.next, b.shut, b.liveNow, b.stale = ws, b.epoch+1, 0, 0, nil, true
	b.causes = map[needs.Key]*cause{} // those that are still there come back when they are judged
	b.sessions = make([]session, len(ws.Book.Sessions))
	b.byName = make(map[string]int, len(b.sessions))
	for i, s := range ws.Book.Sessions {
		b.sessions[i] = session{name: s.Name, site: s.Site.V, learned: nothingLearned}
		b.byName[s.Name] = i
		if old, ok := byName[s.Name]; ok {
			// Whether its way is still the same is seen when it is judged.
			was := before[old]
			was.site, was.judged = s.Site.V, false
			if b.sessions[i] = was; was.verdict == gate.Shut {
				b.shut++
			}
		}
	}
	b.kept = slices.DeleteFunc(b.kept, func(name string) bool { _, is := b.byName[name]; return !is })
	b.wanted = append(slices.Clone(b.kept), b.wanted...)
	b.countLiveLocked()
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
	s := b.sessions[i].state()
	if r := b.running[name]; r != nil {
		one := *r
		one.Moved = b.sessions[i].leadsElsewhere(r.target)
		s.Running = &one
	}
	return s, true
}

// leadsElsewhere tells whether none of a session's ways is the one of that hash. Before it is
// judged that is not known.
func (s *session) leadsElsewhere(way uint64) bool {
	return s.judged && s.target != way && !slices.Contains(s.others, way)
}

func (s *session) state() State {
	out := State{Name: s.name, Site: s.site, Judged: s.judged, Verdict: s.verdict, Details: s.details, Seen: s.seen}
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
	return Counts{len(b.sessions), len(b.liveNow), b.shut}
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

// Verdict is that of a session's worst gate, as it is known now.
func (b *Board) Verdict(name string) gate.Verdict {
	b.mu.RLock()
	defer b.mu.RUnlock()
	i, ok := b.byName[name]
	if !ok {
		return gate.Untried
	}
	return b.sessions[i].verdict
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

// Rejudge judges every session anew, since key files or vouches changed. What was found out
// about one stays where that changes nothing about it.
func (b *Board) Rejudge() {
	b.mu.Lock()
	defer b.mu.Unlock()
	for i := range b.sessions {
		b.sessions[i].judged = false
	}
	b.epoch, b.next = b.epoch+1, 0
	b.wanted = append(slices.Clone(b.kept), b.wanted...)
	b.signal()
}

// forgetLocked forgets what is known of a session, so that it is judged anew.
func (b *Board) forgetLocked(s *session) {
	b.judgeLocked(s, gate.Untried)
	if s.judged = false; len(s.found) > 0 {
		s.learn().found = nil
	}
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
		l.failure, l.said, l.walk = nil, "", &Walking{Gate: gate.Address}
		b.wanted = append(b.wanted, name)
		b.epoch++ // what was read of key files before may be old
	})
	b.signal()
}

// Failed says how a walk that failed ended.
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
	r = r.Turned(s.way)
	names := make([]string, len(r.Hops))
	for i, h := range r.Hops {
		names[i] = h.Name
	}
	return names
}

// findLocked takes a gate that was found out, and the session's verdict with it.
func (b *Board) findLocked(s *session, hop int, g gate.Gate) {
	found := slices.DeleteFunc(slices.Clone(s.found), func(f finding) bool { return f.hop == hop && f.gate.Kind == g.Kind })
	known := s.learn()
	known.found, known.seen = append(found, finding{hop: hop, gate: g}), time.Now()
	if !slices.Contains(b.wanted, s.name) { // to see what it rests on
		b.wanted = append(b.wanted, s.name)
	}
	b.signal()
	if s.details == nil {
		if g.Verdict == gate.Shut {
			b.judgeLocked(s, gate.Shut)
		}
		return
	}
	d := *s.details
	d.Report.Set(hop, g)
	s.details = &d
	b.judgeLocked(s, d.Report.Verdict())
	b.causeLocked(s, d.Report)
}

// Hear takes an event. It is for [event.Stream.Attach].
func (b *Board) Hear(e event.Event) {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch e := e.(type) {
	case walk.Trying:
		b.changeLocked(e.Session, func(_ *session, l *live) {
			if l.walk != nil {
				l.walk = &Walking{Hop: e.Hop, Gate: e.Gate, Say: e.Say}
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
	case walk.Turned:
		b.turnedLocked(e)
	case walk.Ended:
		b.changeLocked(e.Session, func(s *session, l *live) {
			l.lost = nil
			var failure *gate.Failure
			if l.walk == nil && errors.As(e.Err, &failure) && failure.Cause != gate.Cancelled { // a way that was lost, a tunnel's, another's
				l.failure = failure
				b.shutLocked(s, failure)
			}
		})
	case remote.Began:
		b.stale = true
		b.signal()
	case remote.Finished:
		b.changeLocked(e.Session, func(s *session, l *live) {
			l.lost = nil
			if f := e.Ending.Turned; f != nil {
				l.failure = f
				b.shutLocked(s, f)
			}
		})
		b.stale = true
		b.signal()
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
	case login.LoggedIn:
		b.visits[e.Hop] = time.Now()
	case link.Up:
		b.linksLocked(func(all map[route.LinkKey]*Link) { take(all, e.Link) })
	case link.Down:
		b.linksLocked(func(all map[route.LinkKey]*Link) { delete(all, e.Link.Key) })
	case link.Pulse:
		b.linksLocked(func(all map[route.LinkKey]*Link) {
			for _, l := range e.Links {
				take(all, l)
			}
		})
	case tunnel.Opened, tunnel.Shut, tunnel.Stuck, tunnel.Rested, tunnel.Proven, tunnel.Came, tunnel.Lost, tunnel.Widened:
		b.stale = true
		b.signal()
	}
}

// turnedLocked takes that of several ways to a session another is gone: what was found on the
// one before is not known of this one.
func (b *Board) turnedLocked(e walk.Turned) {
	b.changeLocked(e.Route.Session, func(s *session, l *live) {
		way := e.Route.End()
		if s.target == b.hash(way) {
			return
		}
		s.target = b.hash(way)
		known := s.learn()
		known.way, known.others, known.found = way, b.others(e.Route), nil
		if s.details != nil {
			s.details = &Details{Route: e.Route, Links: e.Route.Links(), Report: e.Report}
		}
		b.judgeLocked(s, e.Report.Verdict())
	})
}

var depthSays = [...]string{"this machine alone can know", "what answers there", "its host key", "the login, by asking"}

// touchedLocked takes what a look at a session's machine found.
func (b *Board) touchedLocked(e walk.Touched) {
	b.changeLocked(e.Report.Session, func(s *session, l *live) {
		if l.walk != nil {
			return
		}
		l.failure, l.said = e.Failure, "checked just now, as far as "+depthSays[e.Depth]
		known := s.learn()
		known.found, known.seen = nil, time.Now()
		last := len(e.Report.Hops) - 1
		for i, h := range e.Report.Hops {
			for _, g := range h.Gates {
				looked := g.Kind <= gate.Identity && g.Kind != gate.State && g.Kind != gate.Rules || g.Kind == gate.Login && (i < last || e.Depth == walk.Login)
				failed := e.Failure != nil && e.Failure.Hop == h.Name && e.Failure.Gate == g.Kind
				if looked && g.Verdict != gate.Untried || failed || g.Kind == gate.Identity {
					known.found = append(known.found, finding{hop: i, gate: g})
				}
			}
		}
		b.judgeLocked(s, e.Report.Verdict())
		s.judged = true
		b.wanted = append(b.wanted, s.name) // to see what it rests on
		b.signal()
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
			if b.lookAtOpen(false) {
				b.tell(Changed{})
			}
		case now := <-tick.C:
			if measured := b.measure(now); b.lookAtOpen(true) || measured {
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
	way     route.LinkKey // of several
	details *Details
	target  uint64
	others  []uint64
	found   bool     // something is known that rests on them:
	grounds []ground // nil where nothing did when it was judged
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
			todo = append(todo, judged{at: i, name: name, way: b.sessions[i].way, kept: true, found: len(b.sessions[i].found) > 0})
		}
	}
	for ; len(todo) < batch && b.next < len(b.sessions); b.next++ {
		if s := &b.sessions[b.next]; !s.judged {
			todo = append(todo, judged{at: b.next, name: s.name, way: s.way, found: len(s.found) > 0})
		}
	}
	b.mu.Unlock()
	if len(todo) == 0 {
		return false
	}
	known := ws.Knowledge()
	known.Keys = sheets
	for i := range todo {
		b.look(&todo[i], ws, known)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.ws != ws { // what is there now is judged next, and what is wanted stays so
		b.wanted = append(wanted, b.wanted...)
		return true
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

// look judges what this machine alone can know about a session, and what rests on that.
func (b *Board) look(j *judged, ws *workspace.Workspace, known route.Knowledge) {
	d := &Details{}
	j.details = d
	err := contain.Do("judging "+j.name, func() error { d.Route, d.Report = ws.CheckWay(j.name, j.way, known); return nil })
	if err != nil {
		d.Report = gate.Report{Session: j.name, Broken: err.Error()}
	}
	if d.Report.Broken != "" {
		return
	}
	d.Links = d.Route.Links()
	j.target = b.hash(d.Links[len(d.Links)-1])
	j.others = b.others(d.Route)
	if j.found {
		j.grounds = b.grounds(d, known)
	}
}

// others are the hashes of a route's other ways.
func (b *Board) others(r route.Route) []uint64 {
	var all []uint64
	for _, way := range r.Others {
		all = append(all, b.hash(way.End()))
	}
	return all
}

func (b *Board) hashText(text string) uint64 { return maphash.String(b.seed, text) | 1 }

// hash is that of a way, whatever is lent at its end.
func (b *Board) hash(key route.LinkKey) uint64 { return maphash.Comparable(b.seed, key.Bare()) | 1 }

// takeLocked takes a judgement, made truer by what was found.
func (b *Board) takeLocked(j judged) {
	s := &b.sessions[j.at]
	if s.way != j.way { // another was taken meanwhile
		b.wanted = append(b.wanted, j.name)
		return
	}
	other := s.target != 0 && s.target != j.target
	found := s.found[:0:0]
	for _, f := range s.found {
		if f.rests == 0 && other || j.found && f.hop >= len(j.grounds) {
			continue
		}
		if j.found {
			rests := j.grounds[f.hop].of(f.gate.Kind)
			if f.rests != 0 && f.rests != rests {
				continue
			}
			f.rests = rests
		}
		found = append(found, f)
	}
	if l := s.live; l != nil && l.walk == nil && (other || l.failure != nil && !failsStill(found, l.failure, j.details)) {
		next := *l
		if next.failure = nil; other { // what was said of it was of the way before
			next.said, next.lost = "", nil
		}
		s.live = &next
	}
	s.target, s.judged = j.target, true
	if s.learned != nothingLearned || len(j.others) > 0 {
		known := s.learn()
		if known.found, known.others = found, j.others; len(found) == 0 {
			known.seen = time.Time{}
		}
	}
	for _, f := range found {
		j.details.Report.Set(f.hop, f.gate)
	}
	b.judgeLocked(s, j.details.Report.Verdict())
	b.causeLocked(s, j.details.Report)
	if !j.kept {
		return
	}
	if s.details == nil {
		b.kept = append(b.kept, j.name)
	}
	s.details = j.details
}

// failsStill tells whether a failure is among what was found, or is of no gate that is kept.
func failsStill(found []finding, failure *gate.Failure, d *Details) bool {
	at := slices.IndexFunc(d.Report.Hops, func(h gate.Hop) bool { return h.Name == failure.Hop })
	return slices.ContainsFunc(found, func(f finding) bool { return f.hop == at && f.gate.Kind == failure.Gate })
}

// mended forgets what was found wrong with a file. It is not left to be seen by what that
// rests on: what was found a moment ago was not judged for that yet.
func (b *Board) mended(path string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	about := func(f finding) bool { return f.gate.Remedy.Subject == path }
	for i := range b.sessions {
		s := &b.sessions[i]
		if slices.ContainsFunc(s.found, about) {
			s.learn().found = slices.DeleteFunc(slices.Clone(s.found), about)
		}
		if l := s.live; l != nil && l.failure != nil && l.failure.Remedy.Subject == path {
			next := *l
			next.failure = nil
			s.live = &next
		}
	}
}

// KeyMended says what became of mending a key from a session's card.
func (b *Board) KeyMended(name, path string, say string, err error) {
	if err == nil {
		b.mended(path)
	}
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
