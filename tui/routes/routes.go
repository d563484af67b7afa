// Package routes is the home place: each session drawn as its way, and for the
// selected one the gate card.
//
// The model owns what is shown and which session is selected. What is known of the
// sessions is the core's: it is read from the board as it stands, and drawing changes
// nothing there.
package routes

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/board"
	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/statefile"
	"meatus/core/walk"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/doors"
	"meatus/tui/fit"
	"meatus/tui/mistakes"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/sheet"
	"meatus/tui/stack"
	"meatus/tui/undo"
)

// Model is the place.
type Model struct {
	stack.Whole
	s       *place.Services
	width   int
	height  int // of the place, in rows
	ws      *workspace.Workspace
	byName  map[string]int // of the workspace's sessions
	lines   []boardLine
	lineOf  []int
	root    *branch         // of the ways, as they were laid last
	folded  map[string]bool // branches that are folded away, by the way to them
	cursor  int
	top     int
	spin    int
	onCard  bool // the card shows, where there is room for it or the board alone
	whole   bool // the card shows what is wrong alone, with all its details
	clicked time.Time
	find    find
	depth   walk.Depth // how far a check goes
	every   int        // of repeats: how often all are checked, 0 for not
	asked   int        // counts how often repeating was asked for
	sorted  int        // of orders: how the board is ordered
	looking looking
	undo    undo.Undo
	better  map[string]better // by session
	beyond  string            // the session whose listeners beyond loopback were told of
	held    *heldElsewhere    // an address that "t" takes over, or nil
	turning bool              // the marks turn
	ticking bool              // the seconds are counted
	pane    func() []string   // in place of the card, nil for the card
	shape   stack.Shape       // where that stands
	needs   needing
	divide  divide
	latest  *atomic.Int64 // where the divide was put last, for those that write it down
}

// looking is a look at many sessions' machines.
type looking struct {
	on          bool
	n           int // tells one look from the next
	done, total int
	stop        func()
}

// The messages of the place's own.
type (
	turn   struct{}
	second time.Time
	looked struct {
		n      int
		causes []gate.Shared // why several are shut
	}
	again int // the time to check all again, and for which asking
)

// repeats are how often all sessions can be checked in the background.
var repeats = []time.Duration{0, time.Minute, 5 * time.Minute, 15 * time.Minute, time.Hour}

// The orders of the board.
const (
	asWritten = iota
	recentFirst
	markedFirst
	worstFirst
)

var orderWords = [...]string{"", "most recent first", "marked first", "worst first"}

// New returns the place.
func New(s *place.Services) stack.Layer {
	m := &Model{s: s, depth: walk.Identity, better: map[string]better{}, folded: map[string]bool{}, latest: &atomic.Int64{}}
	m.find.line = newFindLine(s.Theme)
	if err := statefile.Read(layoutFile(s.Workspace()), &m.divide); err != nil {
		s.Notice(err.Error())
	}
	m.undo = undo.Undo{S: s, Of: func() string { return "" }, Tell: s.Tell, Do: m.edited}
	m.setWorkspace(s.Workspace(), true)
	return m
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.settle()
}

// Show is called when the place is gone to.
func (m *Model) Show() tea.Cmd {
	return tea.Batch(m.clocks(), m.lookForNeeds(!m.needs.read))
}

// Typing tells whether keys go into what is looked for.
func (m *Model) Typing() bool { return m.find.typing }

// setWorkspace shows another reading of the workspace.
// setWorkspace shows another workspace. What is looked for stays looked for where the change was made
// by others.
func (m *Model) setWorkspace(ws *workspace.Workspace, ours bool) {
	selected := m.Selected()
	m.ws, m.root = ws, nil
	m.cursor = min(m.cursor, max(len(ws.Book.Sessions)-1, 0))
	m.find.pool = nil
	m.byName = make(map[string]int, len(ws.Book.Sessions))
	for i, s := range ws.Book.Sessions {
		m.byName[s.Name] = i
	}
	if ours || !m.find.on {
		m.forgetFind()
	} else {
		m.match()
	}
	m.lay()
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

func (m *Model) sessions() int { return len(m.ws.Book.Sessions) }

func (m *Model) nameOf(i int) string { return m.ws.Book.Sessions[i].Name }

// Select moves to the session of that name, where there is one.
func (m *Model) Select(name string) {
	if i, ok := m.byName[name]; ok {
		m.reveal(i)
		m.cursor = i
	}
	m.settle()
}

// Selected is the name of the selected session, "" where there are none.
func (m *Model) Selected() string {
	if m.ws == nil || m.sessions() == 0 {
		return ""
	}
	return m.nameOf(m.cursor)
}

// state is what is known of session i.
func (m *Model) state(i int) board.State {
	s, _ := m.s.Board.State(m.nameOf(i))
	if s.Details == nil { // it is judged in a moment
		s.Details = &board.Details{}
	}
	return s
}

// current is what is known of the selected session; ok is false where there is none.
func (m *Model) current() (s board.State, ok bool) {
	if m.Selected() == "" {
		return s, false
	}
	return m.state(m.cursor), true
}

// settle keeps the selected session in view, and has what is in view judged first.
func (m *Model) settle() {
	if m.ws == nil || m.height == 0 || len(m.lines) == 0 {
		return
	}
	rows := m.boardRows()
	m.scrollTo(rows)
	from, to := max(m.top-rows, 0), min(m.top+2*rows, len(m.lines))
	names := []string{m.Selected()}
	for _, l := range m.lines[from:to] {
		if l.session >= 0 {
			names = append(names, m.nameOf(l.session))
		}
	}
	m.s.Board.Want(names...)
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case place.Heard:
		return m.hear(msg)
	case turn:
		m.turning = false
		m.spin++
		return m.clocks()
	case second:
		m.ticking = false
		return m.clocks()
	case looked:
		if msg.n == m.looking.n {
			m.looking = looking{n: m.looking.n}
			if len(msg.causes) > 0 {
				m.s.Tell(msg.causes[0].Say())
			}
		}
	case needsRead:
		return m.takeNeeds(msg)
	case needsDue:
		return m.tellNeeds()
	case again:
		if int(msg) == m.asked {
			return tea.Batch(m.check(m.ws.Book.Names(), true), m.repeat())
		}
	case opened:
		m.opened(msg)
	case undo.Looked:
		return m.undo.Take(msg)
	case tea.KeyPressMsg:
		if m.find.typing {
			return m.findKey(msg)
		}
	case tea.PasteMsg:
		if !m.find.typing {
			return m.pasted(msg.Content)
		}
		m.find.line.Take(msg)
		m.narrow()
	}
	return nil
}

// hear takes an event of the core.
func (m *Model) hear(e place.Heard) tea.Cmd {
	switch e := e.Event.(type) {
	case engine.Changed:
		m.setWorkspace(e.Workspace, e.Ours)
		if e.Session != "" && e.Ours {
			m.Select(e.Session)
		}
		return tea.Batch(m.clocks(), m.lookForNeeds(false))
	case walk.Touched:
		m.looking.done++
	case remote.Lent:
		m.offerBetter(e)
	case board.Changed:
		m.settle()
		return tea.Batch(m.clocks(), m.tellNeeds())
	case estate.GrantsChanged:
		m.needs.last = time.Time{} // told at once
		return tea.Batch(m.clocks(), m.tellNeeds())
	}
	return m.clocks()
}

// clocks starts the clocks that are needed and do not run.
func (m *Model) clocks() tea.Cmd {
	var cmds []tea.Cmd
	if !m.turning && m.walking() {
		m.turning = true
		cmds = append(cmds, m.s.After(120*time.Millisecond, turn{}))
	}
	if !m.ticking && len(m.s.Board.Links().All()) > 0 {
		m.ticking = true
		cmds = append(cmds, m.s.After(time.Second, second{}))
	}
	return tea.Batch(cmds...)
}

// walking tells whether a session in view is walked to.
func (m *Model) walking() bool {
	for _, l := range m.shown() {
		if l.session >= 0 && m.state(l.session).Walk != nil {
			return true
		}
	}
	return false
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.find.typing {
		return m.findTable()
	}
	s, ok := m.current()
	d := s.Details
	walks := ok && s.Walk != nil
	chosen := func() bool { return ok }
	free := func() bool { return ok && !walks }
	busy := "no session is chosen"
	if walks {
		busy = "it is connecting; esc stops that"
	}
	worst := gate.Gate{}
	if free() && d.Report.Broken == "" {
		worst, _ = d.Report.Worst()
	}
	on := func(f func(session string) tea.Cmd) func() tea.Cmd {
		return func() tea.Cmd {
			if name := m.Selected(); name != "" {
				return f(name)
			}
			return nil
		}
	}
	task := func(new func(*place.Services, string) stack.Layer) func() tea.Cmd {
		return on(func(name string) tea.Cmd {
			return m.s.Task(func(s *place.Services) stack.Layer { return new(s, name) })
		})
	}
	live := m.live
	tunnels := func() bool { return free() && len(d.Route.Hops) > 0 && len(d.Route.Target().Tunnels) > 0 }
	step := func(by func() int) func() tea.Cmd { return func() tea.Cmd { m.step(by()); return nil } }
	enter := action.On("enter", "open shell", m.open).If(free, busy)
	if live() {
		enter = action.On("enter", "to its shell", m.enter)
	}
	enter = enter.Also("ssh connect login walk terminal start attach switch reconnect").For(action.Connect)
	return action.Table{
		action.On("esc ctrl+c", "stop", m.stop).If(func() bool { return walks || m.looking.on }, "nothing is connecting or being checked").Also("cancel abort end").For(action.Connect),
		action.On("m", mendWords(worst), m.mendWorst).Suits(func() bool {
			return worst.Remedy.Act == gate.MendKey || worst.Remedy.Act == gate.MendFile || worst.Remedy.Act == gate.Settle || worst.Remedy.Act == gate.Choose
		}).If(func() bool { return free() && worst.Verdict >= gate.Ajar }, "no problem is known").Also("fix repair chmod 600 permissions settle identity host key changed remedy").For(action.Fix),
		action.On("d", m.detailsWord(), m.toggleDetails).Suits(func() bool { return m.whole || ok && m.hasMore() || m.alone() }).If(chosen, "no session is chosen").Also("why verbose debug more log explain").For(action.View),
		action.On("s", "another shell", m.open).If(func() bool { return live() && free() }, "it has no live shell; enter opens one").Suits(live).Also("second new terminal").For(action.Connect),
		enter,
		action.On("t", "port forwards", on(m.toggleTunnels)).Suits(tunnels).If(free, busy).Also("port forward forwarding open close bring lend roam socks").For(action.Forward),
		action.On("w", "wait and retry", m.wait).Suits(func() bool { return free() && s.Failure != nil && walk.MayPass(s.Failure) }).If(free, busy).Also("retry reboot boot starting reconnect").For(action.Connect),
		action.On("n", "new session", m.write).Whole().Also("add create host machine server paste command save").For(action.Sessions),
		action.On("e", "edit", on(m.edit)).If(free, busy).Also("change set user username login name host port key via settings values note hostname jump bastion proxyjump").For(action.Sessions),
		action.On("c", "check", m.checkOne).If(free, busy).Also("test probe reach ping gates health diagnose").For(action.Fix),
		action.On("/", "find", m.startFind).Whole().Also("search filter narrow").For(action.View),

		action.Pressed("1 2 3 4 5 6 7 8", "go to a problem", m.jump).As("1-8").If(func() bool { return m.needsRows() > 0 }, "there are no problems").Whole().Ranked(action.InHelp).Also("problems todo summary attention wrong").For(action.Fix),
		action.On("", "open the shells of last time", func() tea.Cmd { return m.needs.reopen() }).If(func() bool { return len(m.needs.before) > 0 }, "none was open when Meatus was quit").Whole().Ranked(action.InHelp).Also("restore tabs layout again before restart").For(action.Connect),
		action.On("z", "fold the problems", m.foldNeeds).If(func() bool { return len(m.needs.all) > 0 }, "there are no problems").Whole().Ranked(action.InHelp).Also("hide summary").For(action.View),
		action.On("[", "a narrower board", func() tea.Cmd { return m.moveDivide(-4) }).If(m.beside, "the window is too narrow for a divide").Whole().Ranked(action.InHelp).Also("divide split layout wider card").For(action.View),
		action.On("]", "a wider board", func() tea.Cmd { return m.moveDivide(4) }).If(m.beside, "the window is too narrow for a divide").Whole().Ranked(action.InHelp).Also("divide split layout narrower card").For(action.View),
		action.On("up k", "choose a session", step(func() int { return -1 })).As("↑↓").Ranked(action.Movement).For(action.View),
		action.On("down j", "", step(func() int { return 1 })).Ranked(action.Hidden),
		action.On("pgup", "", step(func() int { return -max(m.boardRows()-1, 1) })).Ranked(action.Hidden),
		action.On("pgdown", "", step(func() int { return max(m.boardRows()-1, 1) })).Ranked(action.Hidden),
		action.On("left", "fold a branch away", func() tea.Cmd { m.fold(true); return nil }).As("←→").If(m.tree, "the board is narrowed or ordered").Ranked(action.Movement).For(action.View),
		action.On("right", "", func() tea.Cmd { m.fold(false); return nil }).If(m.tree, "").Ranked(action.Hidden),
		action.On("home", "", step(func() int { return -len(m.lines) })).Ranked(action.Hidden),
		action.On("end", "", step(func() int { return len(m.lines) })).Ranked(action.Hidden),
		action.On("p", "port forwards, one by one", task(doors.New)).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("tunnels forward listener close open each save door").For(action.Forward),
		action.On("P", "new port forward", on(m.compose)).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("tunnel forwarding database web socks proxy dynamic local remote desktop rdp vnc browser x11 display graphical windows bring lend roam door mysql postgres redis page").For(action.Forward),
		action.On("R", "rename", task(sheet.Rename)).If(free, busy).Ranked(action.InHelp).Also("name").For(action.Sessions),
		action.On("N", "copy the session", task(sheet.Another)).If(free, busy).Ranked(action.InHelp).Also("copy duplicate clone session").For(action.Sessions),
		action.On("D", "remove", task(sheet.Remove)).If(free, busy).Ranked(action.InHelp).Also("delete session forget").For(action.Sessions),
		action.On("C", "check all", func() tea.Cmd { return m.check(m.ws.Book.Names(), false) }).Whole().Ranked(action.InHelp).Also("test probe every").For(action.Fix),
		action.On("v", "depth of checks", func() tea.Cmd { m.depth = (m.depth + 1) % walk.Depth(len(walk.DepthWords)); return nil }).Whole().Ranked(action.InHelp).Also("depth knock identity login").For(action.Fix),
		action.On("F", "repeat checks", m.repeatMore).Whole().Ranked(action.InHelp).Also("repeat interval background monitor").For(action.Fix),
		action.On("space", "mark", m.mark).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("select favourite tag").For(action.Several),
		action.On("E", "edit marked sessions", m.changeMarked).Whole().Ranked(action.InHelp).Also("edit many several bulk").For(action.Several),
		action.On("A", "run a command on marked sessions", m.runMarked).Whole().Ranked(action.InHelp).Also("command many several all execute").For(action.Several),
		action.On("f", "files", on(func(name string) tea.Cmd { return m.s.Go("Q", name) })).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("cargo copy move transfer upload download scp sftp browse sync put get resume checksum edit remote hidden file manager").For(action.Files),
		action.On("@", "the instance and routes to it", on(func(name string) tea.Cmd { return m.s.Go("Y", "@"+name) })).If(func() bool { return len(m.ws.Book.Estates) > 0 }, "the file names no estate").Suits(func() bool { return worst.Kind == gate.Rules || worst.Kind == gate.Port }).Also("estate reach rules security group where").For(action.Connect),
		action.On("V", "sessions through this bastion", on(m.through)).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("bastion behind through jump depends host proxyjump").For(action.Sessions),
		action.On("o", "sort", m.order).Whole().Ranked(action.InHelp).Also("sort recent marked worst wrong blocked").For(action.View),
		action.On("M", "all remedies", m.ways).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("fix remedies user wrong login key timeout refused connection unreachable diagnose").For(action.Fix),
		action.On("a", "find the accepted key", on(m.which)).If(free, busy).Ranked(action.InHelp).Also("find key try keys permission denied publickey which").For(action.Fix),
		action.On("l", "agent forwarding for one shell", on(m.lend)).If(free, busy).Ranked(action.InHelp).Also("agent forwarding forward key").For(action.Keys),
		action.On("B", "a better route", on(m.takeBetter)).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("bastion instead of agent via").For(action.Connect),
		action.On("S", "search the account for stray keys", on(m.sweep)).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("audit clean left keys authorized").For(action.Fix),
		action.On("x", "draw a map of all", func() tea.Cmd { return m.draw(m.listed()) }).Whole().Ranked(action.InHelp).Also("map picture svg pdf diagram topology network").For(action.View),
		action.On("X", "draw a map of this one", on(func(name string) tea.Cmd { return m.draw([]string{name}) })).If(chosen, "no session is chosen").Ranked(action.InHelp).Also("map picture svg pdf diagram").For(action.View),
		action.On("!", "mistakes in the sessions file", func() tea.Cmd { return m.s.Task(mistakes.New) }).If(func() bool { return len(m.ws.Book.Problems) > 0 }, "the file has none").Whole().Ranked(action.InHelp).Also("errors problems toml syntax").For(action.Fix),
		action.On("u", "undo an edit", m.undo.Back).Whole().Ranked(action.InHelp).Also("take back revert").For(action.Sessions),
		action.On("U", "redo an edit", m.undo.Again).Whole().Ranked(action.InHelp).Also("redo").For(action.Sessions),
		action.On("r", "reload the sessions file", m.reread).Whole().Ranked(action.InHelp).Also("reload refresh file").For(action.Sessions),
		action.On("esc ctrl+c", "", func() tea.Cmd { m.endFind(); return nil }).If(func() bool { return m.find.on }, "").Ranked(action.Hidden),
	}
}

// Subject is the session that is chosen.
func (m *Model) Subject() string { return m.Selected() }

// listed are the sessions on the board, as it is narrowed.
func (m *Model) listed() []string {
	var names []string
	for _, l := range m.lines {
		if l.session >= 0 {
			names = append(names, m.nameOf(l.session))
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
	m.cursor, m.whole = m.lines[at].session, false
	m.settle()
}

// mouse selects a session; a second click soon after opens it. The wheel moves.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	if by, ok := scroll.Wheel(msg); ok {
		m.step(by)
		return nil
	}
	click, ok := msg.(tea.MouseClickMsg)
	l, row := m.layout(), click.Y-1-m.headLines()
	column := min(click.X/(l.width+1), l.columns)
	at := m.top + column*l.rows + row
	if _, of := m.boardLines(l); l.columns == 1 && row >= 0 && row < len(of) {
		at = m.top + of[row]
	}
	if !ok || click.Button != tea.MouseLeft || row < 0 || row >= l.rows || column >= l.columns || at < 0 || at >= len(m.lines) || m.lines[at].session < 0 {
		return nil
	}
	twice := m.cursor == m.lines[at].session && time.Since(m.clicked) < 400*time.Millisecond
	m.cursor, m.clicked = m.lines[at].session, time.Now()
	m.settle()
	if twice {
		return m.open()
	}
	return nil
}

// Checking tells whether a look at machines goes on that was asked for.
func (m *Model) Checking() bool { return m.looking.on }

// Summary counts routes, live ones and shut ones.
func (m *Model) Summary() string {
	n := m.s.Board.Counts()
	parts := []string{words.Count(n.Sessions, "route")}
	if n.Live > 0 {
		parts = append(parts, fmt.Sprintf("%d live", n.Live))
	}
	if n.Shut > 0 {
		parts = append(parts, fmt.Sprintf("%d blocked", n.Shut))
	}
	if running := m.s.Jobs.Running(); running > 0 {
		parts = append(parts, words.Count(running, "job"))
	}
	parts = append(parts, "check: "+m.depth.String())
	if m.every > 0 {
		parts[len(parts)-1] += " every " + fit.Ago(repeats[m.every])
	}
	if m.sorted != asWritten {
		parts = append(parts, orderWords[m.sorted])
	}
	summary := strings.Join(parts, " · ")
	if m.looking.on {
		summary = m.s.Theme.Accent.Render(fmt.Sprintf("checking %d of %d", m.looking.done, m.looking.total)) + " · " + summary
	}
	return summary
}

// problem is the first mistake of the sessions file, one that is no session's own where there
// is such a one, and how to read all of them.
func (m *Model) problem() string {
	all := m.ws.Book.Problems
	if len(all) == 0 {
		return ""
	}
	first := all[max(slices.IndexFunc(all, func(p book.Problem) bool { return p.Session == "" }), 0)].Error()
	if len(all) > 1 {
		first = fmt.Sprintf("%s, %s lists them: %s", words.Count(len(all), "mistake"), m.s.Press("mistakes"), first)
	}
	return first
}

// headLines are the lines of the board above its sessions.
func (m *Model) headLines() int {
	n := m.needsLines()
	if m.problem() != "" {
		n++
	}
	if m.find.on {
		n++
	}
	return n
}

// strip is the line of live links, "" where there are none.
func (m *Model) strip() string {
	t, links := m.s.Theme, m.s.Board.Links().All()
	if len(links) == 0 {
		return ""
	}
	parts := make([]string, 0, len(links))
	for _, l := range links {
		s := l.State
		text := t.Live.Render("━ ") + s.Hop
		if s.Frozen {
			text = t.Verdict(gate.Ajar).Render("╍ ") + s.Hop + t.Verdict(gate.Ajar).Render(" frozen")
		}
		if rtt := fit.RoundTrip(s.RoundTrip); rtt != "" {
			text += " " + t.Faint.Render(rtt)
		}
		parts = append(parts, text+t.Faint.Render(fmt.Sprintf(" ↓%s ↑%s", words.Bytes(float64(s.In)), words.Bytes(float64(s.Out)))))
	}
	return fit.Cut(" "+t.Faint.Render(words.Count(len(parts), "link")+"  ")+strings.Join(parts, "   "), m.width)
}

// turningMark is the mark of a gate that is being tried.
func (m *Model) turningMark() string { return m.s.Theme.Turn(m.spin) }

// detailsWord is what the key for details does now.
func (m *Model) detailsWord() string {
	switch {
	case m.alone() && m.onCard:
		return "the board"
	case m.alone():
		return "the card"
	}
	return "details"
}

// toggleDetails shows the details of the card, or not; where one of both has room, the card in place of the board.
func (m *Model) toggleDetails() tea.Cmd {
	if m.alone() {
		m.onCard = !m.onCard
		return nil
	}
	m.whole = !m.whole
	return nil
}
