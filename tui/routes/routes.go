// Package routes is the home place: each session drawn as its way, and for the
// selected one the gate card.
//
// The model owns what is shown and which session is selected. It judges a
// session when it comes into view, and the rest in the background; walking is
// the frame's, whose events it is told.
package routes

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/mend"
	"meatus/core/route"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Open asks the frame for a new shell on a session.
type Open struct{ Session string }

// Touch asks the frame to check sessions as far as a depth.
type Touch struct {
	Sessions []string
	Depth    walk.Depth
}

// Repeat asks the frame to check all sessions again and again, 0 for no more.
type Repeat struct{ Every time.Duration }

// Marked asks the frame to remember a mark.
type Marked struct {
	Session string
	On      bool
}

// Wait asks the frame for a new shell on a session as soon as it can be reached.
type Wait struct{ Session string }

// Stop asks the frame to stop the walk of a session.
type Stop struct{ Session string }

// Visit asks the frame to show a live shell of a session.
type Visit struct{ Session string }

// Settle asks the frame to have a changed identity decided.
type Settle struct{ Changed *walk.ChangedIdentity }

// Mend asks the frame for the list of what mends a gate.
type Mend struct{ Case mend.Case }

// Edit asks the frame for the sheet of a session, and Undo to take the last edit
// back.
type (
	Edit struct{ Session string }
	Undo struct{}
)

// Sweep asks the frame to look through a session's account, Lend for a shell with
// keys lent to it, Better for the way that needs nothing lent.
type (
	Sweep  struct{ Session string }
	Lend   struct{ Session string }
	Better struct{ Session string }
	Which  struct{ Session string } // asks its machine which keys it would take
	// Tunnels opens a session's tunnels, or closes them; Compose asks for another one.
	Tunnels struct{ Session string }
	Compose struct{ Session string }
	// Draw writes the map of the sessions that are listed.
	Draw struct{ Sessions []string }
)

// Judged brings reports made in the background.
type Judged struct {
	epoch int
	from  int
	found []judged
	seen  route.KeySheets
}

type judged struct {
	route  route.Route
	report gate.Report
}

// Mended says how mending a key went.
type Mended struct {
	session string
	path    string
	access  keyfile.Access
	err     error
}

// Entry is what the mending leaves in the trail.
func (m Mended) Entry() trail.Entry {
	e := trail.Entry{Kind: trail.Mend, Session: m.session, Say: fmt.Sprintf("%s now has mode %04o", filepath.Base(m.path), m.access.Mode.Perm())}
	if m.err != nil {
		e.Say, e.Failed = "mending "+m.path, m.err.Error()
	}
	return e
}

// entry is one session of the board.
type entry struct {
	name, site string
	known      bool // route and report are there
	route      route.Route
	prefixes   []string
	report     gate.Report
	walk       *walking
	failure    *gate.Failure
	said       string        // what was just done, for the card
	lost       *walk.Waiting // its way was lost and is walked again, or nil
}

// walking is where a walk is.
type walking struct {
	hop     int
	gate    gate.Kind
	through bool // that gate is passed, and the next not yet tried
	waiting *walk.Waiting
}

// link is a live link with its recent traffic.
type link struct {
	state walk.LinkState
	bytes uint64
	at    time.Time
	past  []float64 // bytes each second, the newest last
}

const pastSeconds = 8

// rate is the traffic of the last seconds, in bytes each second, both ways.
func (l *link) rate() float64 {
	if len(l.past) == 0 {
		return 0
	}
	return l.past[len(l.past)-1]
}

func (l *link) rates() []float64 {
	return append(make([]float64, max(4-len(l.past), 0)), l.past[max(len(l.past)-4, 0):]...)
}

// Model is the place.
type Model struct {
	ws      *workspace.Workspace
	theme   *theme.Theme
	width   int
	entries []entry
	byName  map[string]int
	lines   []boardLine
	lineOf  []int
	cursor  int
	top     int
	height  int                  // of the board, as last drawn
	tunnels func() []tunnel.Line // that are open
	links   map[string]*link
	lending map[string]*link // by the prefix of the same way with nothing lent at its end
	order   []string         // of links, by age
	seen    route.KeySheets
	epoch   int // of the entries: background work for older ones is dropped
	shut    int
	spin    int
	whole   bool // the card shows what is wrong alone, with all its details
	cut     bool // details did not fit beside the gates
	clicked time.Time
	find    find
	depth   walk.Depth // how far a check goes
	every   int        // of repeats: how often all are checked, 0 for not
	marks   workspace.Marks
	sorted  int // of orders: how the board is ordered
	visits  map[string]time.Time
}

// repeats are how often all sessions can be checked in the background.
var repeats = []time.Duration{0, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// The orders of the board.
const (
	asWritten = iota
	recentFirst
	markedFirst
)

var orderWords = [...]string{"", "most recent first", "marked first"}

// New returns the place for a workspace.
func New(ws *workspace.Workspace, t *theme.Theme) *Model {
	m := &Model{theme: t, links: map[string]*link{}, depth: walk.Identity, marks: ws.Marks()}
	m.SetWorkspace(ws)
	return m
}

// SetTunnels says where the open tunnels are told.
func (m *Model) SetTunnels(lines func() []tunnel.Line) { m.tunnels = lines }

// open tunnels of a session.
func (m *Model) openTunnels(session string) []tunnel.Line {
	if m.tunnels == nil {
		return nil
	}
	var all []tunnel.Line
	for _, l := range m.tunnels() {
		if l.Session == session {
			all = append(all, l)
		}
	}
	return all
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

// SetWorkspace shows another reading of the workspace. Walks and failures of
// sessions that are still there stay.
func (m *Model) SetWorkspace(ws *workspace.Workspace) {
	before := m.entries
	byName := m.byName
	selected := m.Selected()
	m.ws, m.seen = ws, route.KeySheets{}
	m.epoch++
	m.shut = 0
	m.find = find{}
	m.entries = make([]entry, len(ws.Book.Sessions))
	m.byName = make(map[string]int, len(m.entries))
	for i, s := range ws.Book.Sessions {
		m.entries[i] = entry{name: s.Name, site: s.Site.V}
		m.byName[s.Name] = i
		if old, ok := byName[s.Name]; ok && before[old].walk != nil {
			m.entries[i].walk = before[old].walk
		}
	}
	m.lay()
	m.cursor = min(m.cursor, max(len(m.entries)-1, 0))
	if selected == "" {
		m.cursor = 0
		for _, l := range slices.Backward(m.lines) {
			if l.session >= 0 {
				m.cursor = l.session
			}
		}
	}
	m.Select(selected)
}

// Select moves to the session of that name, where there is one.
func (m *Model) Select(name string) {
	if i, ok := m.byName[name]; ok {
		m.cursor = i
	}
}

// Selected is the name of the selected session, "" where there are none.
func (m *Model) Selected() string {
	if len(m.entries) == 0 {
		return ""
	}
	return m.entries[m.cursor].name
}

// Route is the route of a session, and whether it has one.
func (m *Model) Route(name string) (route.Route, bool) {
	r, _, ok := m.Report(name)
	return r, ok
}

// Report is Route with what was last found out about it.
func (m *Model) Report(name string) (route.Route, gate.Report, bool) {
	i, ok := m.byName[name]
	if !ok {
		return route.Route{}, gate.Report{}, false
	}
	e := m.entry(i)
	return e.route, e.report, e.report.Broken == ""
}

// Walking tells whether the session is being walked to.
func (m *Model) Walking(name string) bool {
	i, ok := m.byName[name]
	return ok && m.entries[i].walk != nil
}

// entry returns session i, judged.
func (m *Model) entry(i int) *entry {
	e := &m.entries[i]
	if !e.known {
		r, report := m.ws.Check(e.name, m.seen)
		m.learn(i, r, report)
	}
	return e
}

// learn takes a session's route and report, and keeps count of what is shut.
func (m *Model) learn(i int, r route.Route, report gate.Report) {
	e := &m.entries[i]
	m.count(e, -1)
	e.known, e.route, e.report = true, r, report
	e.prefixes = nil
	if report.Broken == "" {
		for n := range r.Hops {
			e.prefixes = append(e.prefixes, r.Prefix(n))
		}
	}
	m.count(e, 1)
}

func (m *Model) count(e *entry, by int) {
	if e.known && e.report.Verdict() == gate.Shut {
		m.shut += by
	}
}

// set changes one gate of a session.
func (m *Model) set(e *entry, hop int, g gate.Gate) {
	m.count(e, -1)
	e.report.Set(hop, g)
	m.count(e, 1)
}

// judgeAgain forgets what is known of a session, so that it is judged anew.
func (m *Model) judgeAgain(e *entry) {
	m.count(e, -1)
	e.known, e.failure = false, nil
}

// JudgeRest judges the sessions from one on, some at a time, off the screen.
func (m *Model) JudgeRest(from int) tea.Cmd {
	const some = 500
	var todo []string
	for i := from; i < min(from+some, len(m.entries)); i++ {
		todo = append(todo, m.entries[i].name)
	}
	if len(todo) == 0 {
		return nil
	}
	ws, epoch := m.ws, m.epoch
	return func() tea.Msg {
		j := Judged{epoch: epoch, from: from, seen: route.KeySheets{}}
		for _, name := range todo {
			r, report := ws.Check(name, j.seen)
			j.found = append(j.found, judged{r, report})
		}
		return j
	}
}

// Update takes a message. Keys come here only while the place has focus. It
// returns what is asked of the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case Judged:
		if msg.epoch != m.epoch {
			return nil, nil
		}
		for n, j := range msg.found {
			if i := msg.from + n; !m.entries[i].known {
				m.learn(i, j.route, j.report)
			}
		}
		return nil, m.JudgeRest(msg.from + len(msg.found))
	case Mended:
		return nil, m.afterMending(msg)
	case tea.KeyPressMsg:
		return m.key(msg)
	case tea.MouseClickMsg:
		return m.click(msg), nil
	case tea.MouseWheelMsg:
		switch msg.Button {
		case tea.MouseWheelUp:
			m.step(-1)
		case tea.MouseWheelDown:
			m.step(1)
		}
	}
	return nil, nil
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	if m.find.typing {
		return m.findKey(msg), nil
	}
	switch msg.String() {
	case "/":
		m.startFind()
	case "up", "k":
		m.step(-1)
	case "down", "j":
		m.step(1)
	case "pgup":
		m.step(-max(m.height-1, 1))
	case "pgdown":
		m.step(max(m.height-1, 1))
	case "home":
		m.step(-len(m.lines))
	case "end":
		m.step(len(m.lines))
	case "enter":
		return m.open(), nil
	case "d":
		m.whole = !m.whole
	case "s":
		if name := m.Selected(); name != "" {
			return Visit{name}, nil
		}
	case "m":
		if cmd := m.mend(); cmd != nil {
			return nil, cmd
		}
		return m.ways(), nil
	case "M":
		return m.ways(), nil
	case "i":
		return m.settle(), nil
	case "e":
		if name := m.Selected(); name != "" {
			return Edit{name}, nil
		}
	case "u":
		return Undo{}, nil
	case "x":
		return Draw{m.listed()}, nil
	case "X":
		if name := m.Selected(); name != "" {
			return Draw{[]string{name}}, nil
		}
	case "S", "l", "b", "a", "t", "T":
		if name := m.Selected(); name != "" {
			return map[string]tea.Msg{"S": Sweep{name}, "l": Lend{name}, "b": Better{name}, "a": Which{name}, "t": Tunnels{name}, "T": Compose{name}}[msg.String()], nil
		}
	case "c":
		if name := m.Selected(); name != "" && !m.Walking(name) {
			return Touch{[]string{name}, m.depth}, nil
		}
	case "C":
		return Touch{m.ws.Book.Names(), m.depth}, nil
	case "v":
		m.depth = (m.depth + 1) % walk.Depth(len(walk.DepthWords))
	case "R":
		m.every = (m.every + 1) % len(repeats)
		return Repeat{repeats[m.every]}, nil
	case "space":
		return m.mark(), nil
	case "o":
		m.sorted = (m.sorted + 1) % len(orderWords)
		if t, ok := m.ws.Logins.(interface{ Visits() map[string]time.Time }); ok {
			m.visits = t.Visits()
		}
		m.lay()
	case "w":
		if open, ok := m.open().(Open); ok {
			return Wait(open), nil
		}
	case "esc", "ctrl+c":
		if name := m.Selected(); m.Walking(name) {
			return Stop{name}, nil
		}
		m.endFind()
	}
	return nil, nil
}

// mark marks the selected session, or takes its mark away.
func (m *Model) mark() tea.Msg {
	name := m.Selected()
	if name == "" {
		return nil
	}
	on := !m.marks[name]
	if delete(m.marks, name); on {
		m.marks[name] = true
	}
	return Marked{name, on}
}

// Depth is how far a check goes, Every how often all are checked, 0 for not.
func (m *Model) Depth() walk.Depth    { return m.depth }
func (m *Model) Every() time.Duration { return repeats[m.every] }

func (m *Model) open() tea.Msg {
	name := m.Selected()
	if name == "" || m.Walking(name) || len(m.lines) == 0 {
		return nil
	}
	return Open{name}
}

// listed are the sessions on the board, as it is narrowed.
func (m *Model) listed() []string {
	var names []string
	for _, l := range m.lines {
		if l.session >= 0 {
			names = append(names, m.entries[l.session].name)
		}
	}
	return names
}

// step moves by lines of the board, over the sites' own lines.
func (m *Model) step(by int) {
	if len(m.lines) == 0 {
		return
	}
	at := min(max(m.lineOf[m.cursor]+by, 0), len(m.lines)-1)
	direction := 1
	if by < 0 {
		direction = -1
	}
	for m.lines[at].session < 0 {
		if next := at + direction; next >= 0 && next < len(m.lines) {
			at = next
			continue
		}
		direction = -direction
	}
	m.cursor, m.whole, m.cut = m.lines[at].session, false, false
}

// click selects a session; a second click soon after opens it.
func (m *Model) click(msg tea.MouseClickMsg) tea.Msg {
	at := m.top + msg.Y - 1 - m.headLines()
	if msg.Button != tea.MouseLeft || msg.Y > m.height || at < 0 || at >= len(m.lines) || m.lines[at].session < 0 {
		return nil
	}
	again := m.cursor == m.lines[at].session && time.Since(m.clicked) < 400*time.Millisecond
	m.cursor, m.clicked = m.lines[at].session, time.Now()
	if again {
		return m.open()
	}
	return nil
}

// settle is the wish to decide a changed identity, nil where none was met.
func (m *Model) settle() tea.Msg {
	if len(m.entries) == 0 {
		return nil
	}
	e := m.entry(m.cursor)
	var changed *walk.ChangedIdentity
	if e.walk != nil || e.failure == nil || !errors.As(e.failure, &changed) {
		return nil
	}
	return Settle{changed}
}

// Say judges a session anew and puts a word on its card.
func (m *Model) Say(session, text string) {
	if i, ok := m.byName[session]; ok {
		e := &m.entries[i]
		m.judgeAgain(e)
		m.entry(i).said = text
	}
}

// mend does the remedy of the selected session's worst gate, where we can.
func (m *Model) mend() tea.Cmd {
	if len(m.entries) == 0 {
		return nil
	}
	e := m.entry(m.cursor)
	worst, _ := e.report.Worst()
	if worst.Remedy.Act != gate.MendKey || e.walk != nil {
		return nil
	}
	name, path := e.name, worst.Remedy.Subject
	return func() tea.Msg {
		access, err := keyfile.Mend(path)
		return Mended{name, path, access, err}
	}
}

// ways is the wish for the list of what mends the selected session's worst gate,
// nil where nothing is wrong.
func (m *Model) ways() tea.Msg {
	if len(m.entries) == 0 {
		return nil
	}
	e := m.entry(m.cursor)
	worst, at := e.report.Worst()
	if at < 0 || worst.Verdict < gate.Ajar || e.walk != nil {
		return nil
	}
	return Mend{mend.Case{Workspace: m.ws, Route: e.route, Hop: at, Gate: worst, Failure: e.failure}}
}

// Rejudge judges every session anew, since key files changed, and says on one's
// card what was done.
func (m *Model) Rejudge(session, say string) tea.Cmd {
	m.seen = route.KeySheets{}
	for i := range m.entries {
		if m.entries[i].walk == nil {
			m.judgeAgain(&m.entries[i])
		}
	}
	m.epoch++
	m.Say(session, say)
	return m.JudgeRest(0)
}

// Changed is the changed identity that a session met, nil where none was.
func (m *Model) Changed() tea.Msg { return m.settle() }

// afterMending judges every session anew that uses the key.
func (m *Model) afterMending(msg Mended) tea.Cmd {
	delete(m.seen, msg.path)
	for i := range m.entries {
		e := &m.entries[i]
		for _, h := range e.route.Hops {
			if slices.Contains(h.Keys, msg.path) {
				m.judgeAgain(e)
				break
			}
		}
	}
	i, ok := m.byName[msg.session]
	if !ok {
		return nil
	}
	e := m.entry(i)
	e.said = fmt.Sprintf("%s now has mode %04o", filepath.Base(msg.path), msg.access.Mode.Perm())
	if msg.err != nil {
		e.said = ""
		hop := len(e.report.Hops) - 1
		m.set(e, hop, gate.Gate{Kind: gate.Key, Verdict: gate.Shut, Seen: filepath.Base(msg.path), Reason: msg.err.Error(), Remedy: gate.Remedy{Say: "mend it as the file's owner"}})
	}
	return m.JudgeRest(0)
}

// Begin says that a walk to a session starts.
func (m *Model) Begin(session string) {
	i, ok := m.byName[session]
	if !ok {
		return
	}
	e := &m.entries[i]
	m.judgeAgain(e)
	m.seen = route.KeySheets{}
	m.entry(i)
	e.said = ""
	e.walk = &walking{}
}

// Failed says how a walk that did not get through ended.
func (m *Model) Failed(session string, failure *gate.Failure) {
	i, ok := m.byName[session]
	if !ok {
		return
	}
	e := m.entry(i)
	e.walk = nil
	if failure.Cause == gate.Cancelled {
		e.said = fmt.Sprintf("stopped at %s, %s", failure.Hop, failure.Gate)
		return
	}
	e.failure = failure
	m.show(e, failure)
}

// show puts a failure's gate on the card.
func (m *Model) show(e *entry, failure *gate.Failure) {
	for n, h := range e.report.Hops {
		if h.Name == failure.Hop {
			m.set(e, n, failure.Judged())
		}
	}
}

// Arrived says that a walk got through.
func (m *Model) Arrived(session string) {
	if i, ok := m.byName[session]; ok {
		m.entries[i].walk = nil
	}
}

// Hear takes an event of the walker.
func (m *Model) Hear(event event.Event) {
	switch ev := event.(type) {
	case walk.Trying:
		if i, ok := m.byName[ev.Session]; ok && m.entries[i].walk != nil {
			*m.entries[i].walk = walking{hop: ev.Hop, gate: ev.Gate}
		}
	case walk.Passed:
		if i, ok := m.byName[ev.Session]; ok {
			m.set(m.entry(i), ev.Hop, ev.Gate)
			if w := m.entries[i].walk; w != nil && w.hop == ev.Hop && w.gate == ev.Gate.Kind {
				w.through = true
			}
		}
	case walk.Touched:
		m.touched(ev)
	case walk.Ended:
		if i, ok := m.byName[ev.Session]; ok && ev.Err == nil {
			m.entries[i].lost = nil
		}
	case walk.Finished:
		if i, ok := m.byName[ev.Session]; ok {
			m.entries[i].lost = nil
		}
	case walk.Waiting:
		if i, ok := m.byName[ev.Session]; ok && ev.Lost {
			m.entries[i].lost = &ev
		} else if i, ok := m.byName[ev.Session]; ok && m.entries[i].walk != nil {
			m.entries[i].walk.waiting = &ev
			m.show(m.entry(i), ev.Failure)
		}
	case walk.LinkUp:
		m.take(ev.Link)
	case walk.LinkDown:
		delete(m.links, ev.Link.Prefix)
		m.relink()
	case walk.Pulse:
		for _, l := range ev.Links {
			m.take(l)
		}
	}
}

// touched takes what a look at a session's machine found.
func (m *Model) touched(t walk.Touched) {
	i, ok := m.byName[t.Report.Session]
	if !ok || m.entries[i].walk != nil {
		return
	}
	e := m.entry(i)
	m.count(e, -1)
	e.report, e.failure, e.said = t.Report, t.Failure, "checked just now, as far as "+depthSays[t.Depth]
	m.count(e, 1)
}

var depthSays = [...]string{"this machine alone can know", "what answers there", "its host key"}

// take notes how a link fares.
func (m *Model) take(s walk.LinkState) {
	l := m.links[s.Prefix]
	if l == nil || l.state.ID != s.ID {
		m.links[s.Prefix] = &link{state: s, bytes: s.In + s.Out, at: time.Now()}
		m.relink()
		return
	}
	l.state = s
}

// Tick measures the links' traffic, once a second.
func (m *Model) Tick(now time.Time) {
	for _, l := range m.links {
		bytes := l.state.In + l.state.Out
		if passed := now.Sub(l.at).Seconds(); passed > 0.2 {
			l.past = append(l.past, float64(bytes-l.bytes)/passed)
			l.past = l.past[max(len(l.past)-pastSeconds, 0):]
			l.bytes, l.at = bytes, now
		}
	}
}

// Turn moves the marks of gates that are being tried.
func (m *Model) Turn() { m.spin++ }

func (m *Model) turning() string { return theme.Turning[m.spin%len(theme.Turning)] }

// relink orders the links by age.
func (m *Model) relink() {
	m.order = m.order[:0]
	m.lending = map[string]*link{}
	for prefix, l := range m.links {
		m.lending[route.Unlent(prefix)] = l
		at := len(m.order)
		for at > 0 && m.links[m.order[at-1]].state.ID > m.links[prefix].state.ID {
			at--
		}
		m.order = append(m.order[:at], append([]string{prefix}, m.order[at:]...)...)
	}
}

// linkAt is the live link at hop i of a session, or nil.
func (m *Model) linkAt(e *entry, i int) *link {
	if i < 0 || i >= len(e.prefixes) {
		return nil
	}
	if l := m.links[e.prefixes[i]]; l != nil {
		return l
	}
	return m.lending[route.Unlent(e.prefixes[i])]
}

// RoundTrip is that of the live link with a prefix, 0 where it is not known.
func (m *Model) RoundTrip(prefix string) time.Duration {
	if l := m.links[prefix]; l != nil {
		return l.state.RoundTrip
	}
	return 0
}

// Frozen says since when no byte came over the way with these prefixes, and from
// which hop; ok is false where nothing is frozen.
func (m *Model) Frozen(prefixes []string) (since time.Time, hop string, ok bool) {
	for _, p := range prefixes {
		if l := m.links[p]; l != nil && l.state.Frozen {
			return l.state.LastIn, l.state.Hop, true
		}
	}
	return time.Time{}, "", false
}

// Summary counts routes, live ones and shut ones.
func (m *Model) Summary() string {
	parts := []string{plural(len(m.entries), "route")}
	live := 0
	if len(m.links) > 0 {
		for i := range m.entries {
			if e := &m.entries[i]; e.known && m.linkAt(e, len(e.prefixes)-1) != nil {
				live++
			}
		}
	}
	if live > 0 {
		parts = append(parts, fmt.Sprintf("%d live", live))
	}
	if m.shut > 0 {
		parts = append(parts, fmt.Sprintf("%d shut", m.shut))
	}
	parts = append(parts, "check: "+m.depth.String())
	if m.every > 0 {
		parts[len(parts)-1] += " every " + fit.Ago(repeats[m.every])
	}
	if m.sorted != asWritten {
		parts = append(parts, orderWords[m.sorted])
	}
	return strings.Join(parts, " · ")
}

func plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// Problem is the first mistake of the sessions file that is no session's own.
func (m *Model) Problem() string {
	n := 0
	first := ""
	for _, p := range m.ws.Book.Problems {
		if n++; first == "" && p.Session == "" {
			first = p.Error()
		}
	}
	if first != "" && n > 1 {
		first += fmt.Sprintf(" (and %s)", plural(n-1, "more mistake"))
	}
	return first
}

// headLines are the lines of the board above its sessions.
func (m *Model) headLines() int {
	n := 0
	if m.Problem() != "" {
		n++
	}
	if m.find.on {
		n++
	}
	return n
}

// Board draws the sessions in height lines.
func (m *Model) Board(height int) []string {
	m.height = height
	var lines []string
	if p := m.Problem(); p != "" {
		lines = append(lines, " "+m.theme.Mark(gate.Shut)+" "+fit.Cut(p, m.width-4))
	}
	if m.find.on {
		lines = append(lines, m.findLine())
	}
	return append(lines, m.board(height-len(lines))...)
}

// Strip is the line of live links, "" where there are none.
func (m *Model) Strip() string {
	t := m.theme
	if len(m.order) == 0 {
		return ""
	}
	parts := make([]string, 0, len(m.order))
	for _, prefix := range m.order {
		s := m.links[prefix].state
		text := t.Live.Render("━ ") + s.Hop
		if s.Frozen {
			text = t.Verdict(gate.Ajar).Render("╍ ") + s.Hop + t.Verdict(gate.Ajar).Render(" frozen")
		}
		if rtt := fit.RoundTrip(s.RoundTrip); rtt != "" {
			text += " " + t.Faint.Render(rtt)
		}
		parts = append(parts, text+t.Faint.Render(fmt.Sprintf(" ↓%s ↑%s", fit.Bytes(float64(s.In)), fit.Bytes(float64(s.Out)))))
	}
	return fit.Cut(" "+t.Faint.Render(plural(len(parts), "link")+"  ")+strings.Join(parts, "   "), m.width)
}

var hintStop = theme.Hint{Key: "esc", Does: "stop"}

// Hints are the keys that do something for the selected session.
func (m *Model) Hints() []theme.Hint {
	if len(m.entries) == 0 {
		return nil
	}
	if m.find.typing {
		return findHints
	}
	e := m.entry(m.cursor)
	if e.walk != nil {
		return []theme.Hint{hintStop}
	}
	var hints []theme.Hint
	switch worst, _ := e.report.Worst(); worst.Remedy.Act {
	case gate.MendKey:
		hints = append(hints, theme.Hint{Key: "m", Does: "mend key"})
	case gate.Settle:
		hints = append(hints, theme.Hint{Key: "i", Does: "settle identity"})
	case gate.Choose:
		hints = append(hints, theme.Hint{Key: "m", Does: "remedies"})
	}
	if m.whole || m.cut {
		hints = append(hints, theme.Hint{Key: "d", Does: "details"})
	}
	if m.linkAt(e, len(e.prefixes)-1) != nil {
		hints = append(hints, theme.Hint{Key: "s", Does: "to its shell"})
	}
	hints = append(hints, theme.Hint{Key: "enter", Does: "open shell"})
	if e.known && e.report.Broken == "" && len(e.route.Hops) > 0 && len(e.route.Target().Tunnels) > 0 {
		hints = append(hints, theme.Hint{Key: "t", Does: "tunnels"})
	}
	if e.failure != nil && walk.MayPass(e.failure) {
		hints = append(hints, theme.Hint{Key: "w", Does: "wait until it is up"})
	}
	return hints
}
