// Package estates is the place of what is known of instances: networks as areas with the instances in
// them, how one gets into each from here, and for the chosen instance its facts, its sessions' gates and
// its rules as sentences.
package estates

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/board"
	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/sanitize"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/scroll"
	"meatus/tui/stack"
)

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	areas         []estate.Area
	rows          []row
	at            spot   // the chosen one
	gone          string // what was chosen and is there no more: none is until the person moves; "" for nothing
	refound       bool   // other instances are looked for, so that another one is chosen where that is not among them
	top           int    // the first row that shows
	typing        bool
	details       bool   // the card has most of the room
	pending       string // what the act would do that was asked for once, "" for none
	ending        string // the id of the instance whose name is to be typed, "" for none
	line          *line.Line
	query         estate.Query
	mistake       string
	launch        *launching // under review, nil for none
	pairs         bool       // the key pairs show in place of the networks
	uses          *list.List[pairKey, estate.Use]
	form          *form.Form // asks for something, nil for nothing
	unused        bool       // what nobody used for long shows alone
	idle          map[string]estate.Idle
	files         map[estate.KeyPair]string // here, of key pairs
	offers        []string                  // completions of what is typed
	locked        passwordLocked
	opened        []byte // the first password that is shown
	openedOf      string
	opening       int
	ways          *found   // of the chosen instance, nil where they are not asked for
	sought        string   // a session whose instance is gone to once it is known, "" for none
	seekWays      bool     // and the ways to it show then
	scratch       *scratch // of rules, nil where none is edited
	exposed       *exposed // who is let in where, nil where it does not show
	console       *console // the console of an instance, nil where it does not show
	begun         work.ID  // the last job that was begun here, 0 for none that is told of
	asked         int      // groupings asked for; answers to older ones are dropped
	grouped       bool
}

// spot is an instance by where it stands: the area, and its number there.
type spot struct{ area, n int }

// row is a line of the picture: the title of an area, or some of its instances.
type row struct {
	area     int
	from, to int // of its instances; both 0 for the title
	cell     int // columns of each
}

// grouped is what became of a grouping.
type grouped struct {
	asked int
	areas []estate.Area
	idle  map[string]estate.Idle
	files map[estate.KeyPair]string
}

// filesOf are the files here of all key pairs that are known, "" for none.
func filesOf(ws *workspace.Workspace) map[estate.KeyPair]string {
	files := map[estate.KeyPair]string{}
	for _, u := range estate.Uses(ws.Estates, ws.KeyOf) {
		files[u.KeyPair] = u.File
	}
	return files
}

// added is what became of a session that was to be made.
type added struct{ err error }

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, line: line.New(s.Theme, ""), uses: list.New(pairKeyOf)}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.lay()
}

// Show groups the instances anew.
func (m *Model) Show() tea.Cmd { return m.group() }

// Close is called when the place is left.
func (m *Model) Close() {
	m.console = nil
	m.forget()
}

// Typing tells whether keys go into the query.
func (m *Model) Typing() bool {
	return m.typing || m.ending != "" || m.launch != nil || m.form != nil || m.scratch != nil && m.scratch.typing
}

// Subject is the chosen instance.
func (m *Model) Subject() string {
	if s := m.chosen(); s != nil {
		return called(s.Instance)
	}
	return ""
}

// group groups the instances that the query chooses.
func (m *Model) group() tea.Cmd {
	m.asked++
	asked, ws, q := m.asked, m.s.Workspace(), m.query
	if !m.unused {
		return m.s.Run(func() tea.Msg { return grouped{asked, estate.Areas(ws.Estates, ws.Book, q), nil, filesOf(ws)} })
	}
	live := map[string]bool{}
	for _, i := range m.s.Board.Live() {
		if i < len(ws.Book.Sessions) {
			live[ws.Book.Sessions[i].Name] = true
		}
	}
	trail := m.s.Trail
	return m.s.Run(func() tea.Msg {
		visits := visitsOf(trail)
		g := grouped{asked: asked, idle: map[string]estate.Idle{}, files: filesOf(ws)}
		for _, i := range estate.Idles(ws.Estates, ws.Book, visits, live, time.Now().AddDate(0, 0, -idleDays)) {
			g.idle[i.Source+"\x00"+i.ID] = i
		}
		g.areas = estate.AreasOf(ws.Estates, ws.Book, func(k *estate.Kept, n *estate.Instance) bool {
			_, is := g.idle[k.Source+"\x00"+n.ID]
			return is && q.Holds(k.Source, &k.Snapshot, n)
		})
		return g
	})
}

// idleDays is from when on what nobody uses is told as unused.
const idleDays = 7

// idleOf tells since when the chosen instance is unused, "" where that is not asked for.
func (m *Model) idleOf(s *estate.Spot) string {
	i, ok := m.idle[s.Source.Source+"\x00"+s.Instance.ID]
	switch {
	case !ok:
		return ""
	case i.Used.IsZero():
		return "never from here"
	}
	return fit.Ago(time.Since(i.Used)) + " ago from here"
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	switch {
	case m.launch != nil:
		return m.launchTable()
	case m.form != nil:
		return m.formTable()
	case m.pairs:
		return m.pairsTable()
	case m.scratch != nil:
		return m.scratchTable()
	case m.console != nil:
		return m.consoleTable()
	case m.exposed != nil:
		return m.exposedTable()
	}
	if m.typing {
		return action.Table{
			action.On("enter", "apply the filter", func() tea.Cmd { m.typing = false; return nil }),
			action.On("tab", "complete", m.complete).If(func() bool { return len(m.offers) > 0 }, "no completion"),
			action.On("esc ctrl+c", "show all", func() tea.Cmd { m.typing = false; m.line.Begin(""); return m.find() }),
		}
	}
	if m.ending != "" {
		return action.Table{
			action.On("enter", "terminate the instance", m.ended),
			action.On("esc ctrl+c", "cancel", func() tea.Cmd { m.ending = ""; m.line.Begin(m.query.String()); return nil }),
		}
	}
	some := func() bool { return m.chosen() != nil }
	session := func() bool { return m.session() != "" }
	return action.Table{
		action.On("up down left right", "choose", nil).Ranked(action.Movement).For(action.View),
		action.On("enter", "open shell", m.open).If(session, "no session leads to it").Suits(session).Also("connect walk ssh login").For(action.Connect),
		action.On("n", "new session for the instance", m.make).If(func() bool { return some() && (m.wayShows() || !m.bound()) }, "a session is bound to it").Suits(func() bool { return m.wayShows() || some() && !session() }).Also("add bind new connect way").For(action.Connect),
		action.On("c", "routes to another port", m.askPort).If(m.waysShow, "no ways show").Also("service check reach tunnel database").For(action.Rules),
		action.On("tab", "the next way", m.next(1)).If(func() bool { return m.waysShow() && m.ways.shown() > 1 }, "no ways show").Ranked(action.Hidden),
		action.On("shift+tab", "the way before", m.next(-1)).If(func() bool { return m.waysShow() && m.ways.shown() > 1 }, "no ways show").Ranked(action.Hidden),
		action.On("s", "go to the session", func() tea.Cmd { return m.s.Go("0", m.session()) }).If(session, "no session leads to it").Also("route card").For(action.Connect),
		action.On("f", "files", func() tea.Cmd { return m.s.Go("Q", m.session()) }).If(session, "no session leads to it").Ranked(action.InHelp).Also("cargo copy move transfer").For(action.Files),
		action.On("K", "to the key file of the key pair", func() tea.Cmd { return m.s.Go("K", m.keyFile()) }).If(func() bool { return m.keyFile() != "" }, "no file of it is here").Also("keys pem").For(action.Keys),
		action.On("T", "to the audit log of the instance", func() tea.Cmd { return m.s.Go("T", "/"+m.Subject()) }).If(some, "none is chosen").Also("log history").For(action.View),
		action.On("y", "copy the address", m.copy).If(func() bool { return m.address() != "" }, "it has no address").Also("ip clipboard").For(action.View),
		action.On("/", "find", func() tea.Cmd { m.typing = true; m.line.Begin(m.query.String()); return nil }).Whole().Also("query filter search tag state").For(action.View),
		action.On("N", "launch another", m.another).If(func() bool { _, ok := m.launchable(); return ok }, "the estates only tell").Whole().Also("create new instance machine like clone provision").For(action.Instances),
		action.On("m", "start the instance", m.act(estate.Start)).If(m.can(estate.Start), "it is not stopped, or its estate is read-only").Suits(m.can(estate.Start)).Also("power on boot run").For(action.Instances),
		action.On("D", "stop the instance", m.act(estate.Stop)).If(m.can(estate.Stop), "it does not run, or its estate is read-only").Also("shut down power off halt").For(action.Instances),
		action.On("M", "restart the instance", m.act(estate.Restart)).If(m.can(estate.Restart), "it does not run, or its estate is read-only").Also("reboot").For(action.Instances),
		action.On("Z", "terminate the instance", m.end).If(m.can(estate.End), "its estate is read-only").Also("terminate delete destroy remove").For(action.Instances),
		action.On("d", "show details", func() tea.Cmd { m.details = !m.details; m.settle(); return nil }).Whole().Also("card facts rules whole").For(action.View),
		action.On("V", "routes to and from the instance", m.findWays).If(some, "none is chosen").Also("reach route path how to get there proof rules hops").For(action.Rules),
		action.On("e", "edit firewall rules", m.beginScratch).If(func() bool { return some() && len(m.chosen().Instance.Groups) > 0 }, "it has no security group").Also("what if rule change edit security group firewall scratch open close").For(action.Rules),
		action.On("*", "open ports and who reaches them", m.showExposed).If(some, "there are no instances").Whole().Also("exposure everybody public open ports audit exposed").For(action.Rules),
		action.On("O", "decrypt the first password", m.password).If(m.passwordCan, "no file of its key pair is here, or its estate is read-only").Also("sealed unseal administrator windows initial").For(action.Keys),
		action.On("", "console output", m.showConsole).If(m.consoleCan, "its source has no consoles").Ranked(action.InHelp).Also("serial boot log messages screen").For(action.Instances),
		action.On("v", "key pairs", m.showPairs).Whole().Also("which have a file ask around who has").For(action.Keys),
		action.On("x", "draw a map", m.draw).If(some, "there are no instances").Whole().Also("picture svg pdf diagram hand on networks").For(action.View),
		action.On("|", "not used for a week", func() tea.Cmd { m.unused, m.refound = !m.unused, true; return m.group() }).Whole().Also("unused idle forgotten filter").For(action.Rules),
		action.On("a", "machines joined at gateways", m.askGateways).If(func() bool { return len(m.s.Workspace().Book.Gateways) > 0 }, "the sessions file names no gateway").Ranked(action.InHelp).Whole().Also("gateway joined relay machines").For(action.Instances),
		action.On("r", "reload", func() tea.Cmd { m.s.ReadEstates(); m.s.Tell("reading …"); return nil }).Whole().Also("refresh reload poll").For(action.View),
		action.On("esc q ctrl+c", "to Routes", m.leave).For(action.View),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case grouped:
		return m.regrouped(msg)
	case found:
		m.ways = &msg
		m.details = true
		m.settle()
	case lastApplied:
		return m.takeBack(msg)
	case effects:
		m.takeEffects(msg)
	case consoleRead:
		return m.takeConsole(msg)
	case consoleDue:
		if m.console != nil && m.console.id == msg.id {
			return m.readConsole()
		}
	case exposing:
		m.takeExposed(msg)
	case written:
		if m.s.Tell("written to " + msg.path); msg.err != nil {
			m.s.Tell(msg.err.Error())
		}
	case usesFound:
		m.uses.SetRoom(m.pairRoom())
		m.uses.Set(msg.uses)
	case pairSent:
		if msg.err != nil {
			m.s.Tell(msg.err.Error())
			return nil
		}
		m.s.Tell(msg.say)
		m.s.ReadEstates()
	case passwordLocked:
		m.locked = msg
		return m.ask("passphrase", form.Step{Prompt: "passphrase of " + sanitize.Path(msg.file) + ": ", Hidden: true})
	case gatewaysAsked:
		m.s.Tell("")
		if msg.err != nil {
			m.s.Tell(msg.err.Error())
		}
	case passwordIs:
		return m.showPassword(msg)
	case forgetPassword:
		if msg.n == m.opening {
			m.forget()
		}
	case offering:
		if msg.err != nil {
			m.s.Tell(msg.err.Error())
			return nil
		}
		m.launch = msg.launch
		m.launch.focus(0)
		m.s.Tell("")
	case booted:
		m.boot(msg)
	case added:
		if msg.err != nil {
			m.s.Tell(msg.err.Error())
			return nil
		}
		return m.group()
	case place.Heard:
		switch msg.Event.(type) {
		case engine.Changed:
			return m.changed()
		case board.Changed:
			m.want()
		}
	case tea.PasteMsg, tea.KeyPressMsg:
		return m.typed(msg)
	}
	return nil
}

// regrouped takes what was grouped, and goes to the instance that is sought.
func (m *Model) regrouped(msg grouped) tea.Cmd {
	if msg.asked != m.asked {
		return nil
	}
	m.idle, m.files = msg.idle, msg.files
	m.take(msg.areas)
	found, ways, session := m.seek(), m.seekWays, m.sought
	m.sought, m.seekWays = "", false
	switch {
	case ways && found:
		m.ways = nil
		return m.findWays()
	case ways:
		m.s.Tell("no instance is known that " + session + " leads to")
	}
	return nil
}

// changed looks anew at everything that shows, since the workspace is another.
func (m *Model) changed() tea.Cmd {
	cmds := []tea.Cmd{m.group()}
	if m.pairs {
		cmds = append(cmds, m.findUses())
	}
	if m.exposed != nil {
		cmds = append(cmds, m.findExposed())
	}
	if m.scratch != nil {
		cmds = append(cmds, m.renewScratch())
	}
	return tea.Batch(cmds...)
}

// visitsOf is when each session was logged in to last, nothing where no trail is kept.
func visitsOf(journal *trail.Trail) map[string]time.Time {
	if journal == nil {
		return map[string]time.Time{}
	}
	return journal.Visits()
}

// typed takes a key, or what was pasted.
func (m *Model) typed(msg tea.Msg) tea.Cmd {
	key, pressed := msg.(tea.KeyPressMsg)
	switch {
	case m.launch != nil:
		m.launch.typed(msg)
	case m.form != nil:
		m.form.Take(msg)
	case m.ending != "" && pressed:
		m.line.Take(msg)
	case m.typing:
		m.line.Take(msg)
		return m.find()
	case m.scratch != nil && m.scratch.typing:
		m.line.Take(msg)
		return m.tryTyped()
	case m.console != nil && pressed:
		m.moveConsole(msg)
	case m.exposed != nil && pressed:
		m.exposed.arrows.SetRoom(m.exposedRoom())
		m.exposed.arrows.Take(msg)
	case m.pairs && pressed:
		m.uses.SetRoom(m.pairRoom())
		m.uses.Take(msg)
	case pressed:
		m.told()
		m.move(key.String())
	}
	return nil
}

// mouse moves with the wheel, and chooses what is clicked.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	if by, ok := scroll.Wheel(msg); ok {
		m.move(map[int]string{-1: "up", 1: "down"}[by])
		return nil
	}
	click, ok := msg.(tea.MouseClickMsg)
	at := m.top + click.Y - 1 - m.headLines()
	if !ok || click.Button != tea.MouseLeft || at < m.top || at >= min(m.top+m.room(), len(m.rows)) || m.rows[at].to == 0 {
		return nil
	}
	r := m.rows[at]
	if n := r.from + max(click.X-m.indent(r.area), 0)/r.cell; n < r.to {
		m.at, m.gone = spot{r.area, n}, ""
		m.settle()
	}
	return nil
}

// take shows what was grouped, and stays at the instance that was chosen.
func (m *Model) take(areas []estate.Area) {
	was := m.gone
	if s := m.chosen(); s != nil {
		was = idOf(s)
	}
	m.areas, m.grouped, m.at, m.gone = areas, true, spot{}, was
	for a := range areas {
		for n := range areas[a].Spots {
			if idOf(&areas[a].Spots[n]) == was {
				m.at, m.gone = spot{a, n}, ""
			}
		}
	}
	if m.refound {
		m.refound, m.gone = false, ""
	}
	if m.gone != "" && m.scratch != nil {
		m.scratch = nil
		m.s.Tell("the instance whose rules were tried is there no more")
	}
	m.lay()
}

// idOf tells an instance from those of all sources.
func idOf(s *estate.Spot) string { return s.Source.Source + "\x00" + s.Instance.ID }

// find narrows to what is typed.
func (m *Model) find() tea.Cmd {
	q, err := estate.ParseQuery(m.line.Text())
	m.offers = nil
	if m.typing && m.line.Text() != "" {
		m.offers = estate.Complete(m.line.Text(), m.s.Workspace().Estates)
	}
	if m.mistake = ""; err != nil {
		m.mistake = err.Error()
		return nil
	}
	m.query, m.refound = q, true
	return m.group()
}

// complete has the query go on as it can.
func (m *Model) complete() tea.Cmd {
	m.line.Begin(estate.Completed(m.line.Text(), m.offers))
	return m.find()
}

// Select goes to the instance of a session; with "@" before its name the ways to it show.
func (m *Model) Select(session string) {
	m.sought, m.seekWays = strings.CutPrefix(session, "@")
	if m.seekWays { // whatever was looked for before
		m.query, m.unused, m.exposed, m.pairs, m.scratch = estate.Query{}, false, nil, false, nil
		m.line.Begin("")
	}
	m.seek()
}

// seek goes to the instance of the session that is sought, and tells whether it is known.
func (m *Model) seek() bool {
	for a := range m.areas {
		for n := range m.areas[a].Spots {
			if m.sought != "" && slices.Contains(m.areas[a].Spots[n].Sessions, m.sought) {
				m.at, m.gone = spot{a, n}, ""
				m.settle()
				return true
			}
		}
	}
	return false
}

func (m *Model) leave() tea.Cmd {
	if m.waysShow() {
		m.ways, m.details = nil, false
		m.settle()
		return nil
	}
	if m.unused {
		m.unused = false
		return m.group()
	}
	if m.query.String() != "" {
		m.line.Begin("")
		return m.find()
	}
	return m.s.Go("0", m.session())
}

// chosen is the chosen instance, nil where there is none.
func (m *Model) chosen() *estate.Spot {
	if m.gone != "" || m.at.area >= len(m.areas) || m.at.n >= len(m.areas[m.at.area].Spots) {
		return nil
	}
	return &m.areas[m.at.area].Spots[m.at.n]
}

// session is the first session that leads to the chosen instance, "" for none.
func (m *Model) session() string {
	if s := m.chosen(); s != nil && len(s.Sessions) > 0 {
		return s.Sessions[0]
	}
	return ""
}

// bound tells whether a session is bound to the chosen instance.
func (m *Model) bound() bool {
	s := m.chosen()
	return s != nil && slices.ContainsFunc(s.Sessions, func(name string) bool {
		session := m.s.Workspace().Book.Session(name)
		return session != nil && session.Bound != nil
	})
}

// address is the address of the chosen instance that its session goes by, else its first.
func (m *Model) address() string {
	if r, ok := m.s.Plan(m.session()); ok {
		return r.Target().Host
	}
	if s := m.chosen(); s != nil && len(s.Instance.Addresses) > 0 {
		return s.Instance.Addresses[0].IP.String()
	}
	return ""
}

// keyFile is the path of the file here of the chosen instance's key pair, "" for none.
func (m *Model) keyFile() string {
	s := m.chosen()
	if s == nil || s.Instance.KeyPair == "" {
		return ""
	}
	file := m.files[s.Source.Snapshot.KeyPairOf(s.Instance)]
	if file == "" {
		return ""
	}
	return m.s.Workspace().Planner().KeyPath(file)
}

func (m *Model) copy() tea.Cmd {
	if len(m.opened) > 0 {
		return m.copyPassword()
	}
	m.s.Tell(m.address() + " is copied")
	return m.s.Copy(m.address())
}

func (m *Model) open() tea.Cmd {
	r, ok := m.s.Plan(m.session())
	if !ok {
		m.s.Tell(m.session() + " has a problem: see its card on Routes")
		return nil
	}
	return m.s.Open(r, false)
}

// make makes a session of the way that shows, or of the chosen instance.
func (m *Model) make() tea.Cmd {
	if m.wayShows() {
		return m.makeWay()
	}
	return m.add()
}

// add writes a session that is bound to the chosen instance, by the way that its neighbours have.
func (m *Model) add() tea.Cmd {
	s := m.chosen()
	ws := m.s.Workspace()
	d := ws.DraftOf(s.Source.Source, s.Instance)
	if as := m.s.JoinedAs(s.Instance.ID); len(d.Via) == 0 && len(as) > 0 {
		d.Via = []string{as[0].Gateway}
	}
	way := ""
	if len(d.Via) > 0 {
		way = ", via " + d.Via[0]
	}
	do := func() tea.Cmd {
		adopt := m.s.Adopt
		return m.s.Run(func() tea.Msg {
			b, err := book.Add(ws.SessionsPath(), d)
			if err == nil {
				adopt(b, d.Name, "session "+d.Name+" is bound to instance "+d.Instance)
			}
			return added{err}
		})
	}
	return m.s.Confirm(place.Confirm{Subject: d.Instance, Say: fmt.Sprintf("%s again to write a session %s, bound to instance %s%s", m.s.Press("new"), d.Name, d.Instance, way), Do: do})
}

type gatewaysAsked struct{ err error }

// askGateways asks every gateway of the workspace what has joined it.
func (m *Model) askGateways() tea.Cmd {
	m.s.Tell("asking …")
	list := m.s.ListGateways
	return m.s.Run(func() tea.Msg { return gatewaysAsked{list()} })
}

// called is what an instance is called on the screen.
func called(i *estate.Instance) string {
	if i.Name == "" {
		return sanitize.Line(i.ID, 60)
	}
	return sanitize.Line(i.Name, 60)
}

// state is how an instance stands where that is to be seen at a glance, "" where it runs and its checks
// say nothing else.
func state(i *estate.Instance) string {
	switch {
	case i.State == estate.Running && i.Checks == estate.Initializing:
		return "checks go on"
	case i.State == estate.Running && i.Checks == estate.Failing:
		return "checks fail"
	case i.State == estate.Running:
		return ""
	}
	return string(i.State)
}

// Summary counts what there is, for the title.
func (m *Model) summary() string {
	total, not := 0, 0
	for _, a := range m.areas {
		for _, s := range a.Spots {
			total++
			if s.Instance.State != estate.Running {
				not++
			}
		}
	}
	say := words.Count(total, "instance")
	if not > 0 {
		say += fmt.Sprintf(", %d not running", not)
	}
	return say
}

// lay lays the areas out in rows.
func (m *Model) lay() {
	list, _, _ := place.Halves(m.width)
	m.rows = nil
	for a := range m.areas {
		area := &m.areas[a]
		m.rows = append(m.rows, row{area: a})
		cell := 12
		for i := range area.Spots {
			n := area.Spots[i].Instance
			wide := fit.Width(called(n)) + 6
			if s := state(n); s != "" {
				wide += fit.Width(s) + 1
			}
			cell = max(cell, wide)
		}
		room := max(list-m.indent(a)-1, 12)
		cell = min(cell, room)
		for from, in := 0, room/cell; from < len(area.Spots); from += in {
			m.rows = append(m.rows, row{a, from, min(from+in, len(area.Spots)), cell})
		}
	}
	m.settle()
}

// indent is the column that an area's instances begin at.
func (m *Model) indent(area int) int { return 7 + 3*m.areas[area].Depth }

// rowOf is the row of the chosen instance.
func (m *Model) rowOf() int {
	return max(slices.IndexFunc(m.rows, func(r row) bool { return r.area == m.at.area && r.from <= m.at.n && m.at.n < r.to }), 0)
}

// settle keeps the chosen instance in view, with the title of its area where that is just above.
func (m *Model) settle() {
	at := m.rowOf()
	first := at
	if at > 0 && m.rows[at-1].to == 0 {
		first--
	}
	m.top = max(min(m.top, first), at-m.room()+1)
	m.top = max(min(m.top, len(m.rows)-m.room()), 0)
	m.want()
}

// want has the sessions in view judged first.
func (m *Model) want() {
	var names []string
	for _, r := range m.rows[min(m.top, len(m.rows)):min(m.top+m.room(), len(m.rows))] {
		for _, s := range m.areas[r.area].Spots[r.from:r.to] {
			names = append(names, s.Sessions...)
		}
	}
	if len(names) > 0 {
		m.s.Board.Want(names...)
	}
}

// move moves by a key, and takes back what was asked for once: to the side within a row and on into the next, up and down by rows.
func (m *Model) move(key string) {
	m.pending = ""
	gone := m.gone
	m.gone = ""
	at := m.rowOf()
	step := func(by int) {
		for n := at + by; n >= 0 && n < len(m.rows); n += by {
			if r := m.rows[n]; r.to > 0 {
				m.at = spot{r.area, min(r.from+m.at.n-m.rows[at].from, r.to-1)}
				return
			}
		}
	}
	switch key {
	case "down", "j":
		step(1)
	case "up", "k":
		step(-1)
	case "right":
		if m.at.n++; m.chosen() == nil {
			if m.at.n--; m.at.area+1 < len(m.areas) {
				m.at = spot{m.at.area + 1, 0}
			}
		}
	case "left":
		if m.at.n--; m.at.n < 0 {
			if m.at.n = 0; m.at.area > 0 {
				m.at = spot{m.at.area - 1, len(m.areas[m.at.area-1].Spots) - 1}
			}
		}
	case "pgdown", "pgup":
		by := map[string]int{"pgdown": 1, "pgup": -1}[key]
		for range m.room() {
			at = m.rowOf()
			step(by)
		}
	case "home":
		m.at = spot{}
	case "end":
		if last := len(m.areas) - 1; last >= 0 {
			m.at = spot{last, len(m.areas[last].Spots) - 1}
		}
	default:
		m.gone = gone
		return
	}
	m.settle()
}

// source is where the chosen instance is known from.
func (m *Model) source() (book.EstateSource, bool) {
	if s := m.chosen(); s != nil {
		for _, e := range m.s.Workspace().Book.Estates {
			if e.Name == s.Source.Source {
				return e, true
			}
		}
	}
	return book.EstateSource{}, false
}

// can tells whether an act can be done to the chosen instance.
func (m *Model) can(a estate.Act) func() bool {
	return func() bool {
		e, ok := m.source()
		return ok && (&estate.Source{EstateSource: e}).Acts() && a.Applies(m.chosen().Instance) == ""
	}
}

// consequences are what an act does besides, in a line.
func (m *Model) consequences(a estate.Act) string {
	links := m.s.Board.Links()
	live := func(session string) bool {
		s, ok := m.s.Board.State(session)
		return ok && s.Details != nil && len(s.Details.Links) > 0 && links.At(s.Details.Links[len(s.Details.Links)-1]) != nil
	}
	return strings.Join(work.Consequences(m.s.Workspace(), a, *m.chosen(), live), "; ")
}

// act does something to the chosen instance, once it is asked for twice where it ends something.
func (m *Model) act(a estate.Act) func() tea.Cmd {
	return func() tea.Cmd {
		key := map[estate.Act]string{estate.Stop: "remove", estate.Restart: "mend-more", estate.Start: "mend"}[a]
		id, name := m.chosen().Instance.ID, m.Subject()
		return m.s.Confirm(place.Confirm{Subject: id, Say: fmt.Sprintf("%s again to %s %s", m.s.Press(key), a, name), Tell: func(say string) {
			m.s.Tell(say)
			m.pending = fmt.Sprintf("To %s %s: %s.", a, name, m.consequences(a))
			m.settle()
		}, Do: func() tea.Cmd {
			m.pending = ""
			return m.begin(a)
		}})
	}
}

func (m *Model) begin(a estate.Act) tea.Cmd {
	e, ok := m.source()
	if !ok {
		return nil
	}
	m.begun = m.s.Jobs.Begin(&work.Instance{Tools: m.s.Tools(), Source: e, Act: a, ID: m.chosen().Instance.ID, Name: m.Subject(), Read: m.s.ReadEstates})
	return nil
}

// job is the job that was begun here last, where it is told of.
func (m *Model) job() (work.State, bool) {
	for _, s := range m.s.Jobs.All() {
		if s.ID == m.begun {
			return s, true
		}
	}
	return work.State{}, false
}

// told has a job that has ended be told of no more.
func (m *Model) told() {
	if s, ok := m.job(); ok && s.Over() {
		m.begun = 0
	}
}

// end asks for the name of the instance that is to be ended.
func (m *Model) end() tea.Cmd {
	m.ending = m.chosen().Instance.ID
	m.line.Begin("")
	return nil
}

// ended ends the instance where its name was typed.
func (m *Model) ended() tea.Cmd {
	id, typed := m.ending, m.line.Text()
	m.ending = ""
	m.line.Begin(m.query.String())
	if s := m.chosen(); s == nil || s.Instance.ID != id || typed != m.Subject() {
		m.s.Tell("nothing was done: that is not its name")
		return nil
	}
	return m.begin(estate.End)
}
