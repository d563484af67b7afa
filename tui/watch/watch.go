// Package watch is the place that shows what is alive: the map of the links, what
// each carries, the flows and shells through them, and the selected one over time.
package watch

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/draw"
	"meatus/core/event"
	"meatus/core/link"
	"meatus/core/remote"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/form"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// The messages of the place's own: that it is time to look, what is alive, what became of
// ending something, and what happened while nobody looked.
type (
	tick  struct{ n int }
	alive struct {
		own    tunnel.Seen
		others []tunnel.Seen
		shells []shellState
	}
	ended    string
	recapped struct {
		recap trail.Recap
		err   error
		asked bool
	}
)

// redraw is how often the place is drawn anew while it shows, and probe how often
// links are asked for a sign of life meanwhile.
const (
	redraw = 250 * time.Millisecond
	probe  = 3 * time.Second
)

// shellState is a shell, and since when its way is lost, zero while it is there.
type shellState struct {
	session string
	hops    []string
	lost    time.Time
}

// panel is one of the parts that the keys can be of.
type panel int

const (
	onMap panel = iota
	onRows
	onChart
	panels
)

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	shows         bool
	alive         alive // as it was last looked at

	links     map[link.ID]liveLink // of this program
	listeners []listener
	others    []tunnel.Seen
	counts    counts

	stops        *list.List[string, stop] // of the map, by the way that each is
	rows         *list.List[string, row]
	focus        panel
	onList       bool // the list was the last of map and list to have the keys
	order, group int
	find         string

	span   int
	cursor time.Time // where the chart is read off, zero for nowhere

	form   *form.Form
	ending func() string // what enter does while something is asked about
	recap  *trail.Recap  // shown instead of the chart, or nil
	note   string
	ticks  int
	frame  int
	probed time.Time
	events []event.Same
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, stops: list.New(stop.id), rows: list.New(row.id)}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.fit()
}

// fit gives the map and the list their room.
func (m *Model) fit() {
	m.stops.SetRoom(m.mapRoom())
	m.rows.SetRoom(m.listRoom())
}

// Close is called when the place is left: what was typed into a form is wiped.
func (m *Model) Close() {
	m.form.Wipe()
	m.shows, m.form = false, nil
}

// Typing tells whether keys go into a form.
func (m *Model) Typing() bool { return m.form != nil }

// Note is what is to be said at the foot.
func (m *Model) Note() string {
	if m.form != nil {
		return ""
	}
	return m.note
}

// maxEvents is how many events are kept to be shown.
const maxEvents = 50

// hear is told of what happens to links and tunnels, also while another place shows.
func (m *Model) hear(e event.Event) {
	switch ended := e.(type) {
	case link.Up, link.Down, link.Froze, link.Thawed, remote.Drew, tunnel.Opened, tunnel.Proven, tunnel.Shut, tunnel.Stuck, tunnel.Rested, tunnel.Widened, tunnel.Lost:
	case tunnel.Came:
		if ended.Again == 0 {
			return
		}
	case tunnel.Ended:
		if ended.Flow.Complete {
			return
		}
	default:
		return
	}
	m.events = event.Take(m.events, e.(event.Recorded).Record(), time.Now())
	m.events = m.events[max(len(m.events)-maxEvents, 0):]
}

// Show looks at what is alive, and goes on looking while the place shows.
func (m *Model) Show() tea.Cmd {
	m.shows = true
	m.ticks++
	if now := time.Now(); now.Sub(m.probed) >= probe {
		m.probed = now
		m.s.Walker.Probe()
	}
	return tea.Batch(m.askAlive(), m.s.After(redraw, tick{m.ticks}))
}

// askAlive asks the core what is alive, off the interface's goroutine.
func (m *Model) askAlive() tea.Cmd {
	set, others, shells := m.s.Tunnels, m.s.Others, m.s.Shells
	return m.s.Run(func() tea.Msg {
		a := alive{own: set.Seen(""), others: others.Seen()}
		for _, s := range shells() {
			one := shellState{session: s.Route().Session}
			one.lost, _ = s.Lost()
			for _, h := range s.Route().Hops {
				one.hops = append(one.hops, h.Name)
			}
			a.shells = append(a.shells, one)
		}
		return a
	})
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case tick:
		if msg.n == m.ticks && m.shows {
			return m.Show()
		}
	case alive:
		m.alive = msg
		m.look()
	case ended:
		m.note = string(msg)
		return m.askAlive()
	case recapped:
		return m.takeRecap(msg)
	case place.Heard:
		m.hear(msg.Event)
	case place.CameBack:
		return m.sumUp(msg.Since, false)
	case tea.KeyPressMsg, tea.PasteMsg:
		m.typed(msg)
	}
	return nil
}

// typed takes a key that is no action.
func (m *Model) typed(msg tea.Msg) {
	m.note = ""
	if m.form != nil {
		m.form.Take(msg)
		if m.form.What == "find" {
			m.find = m.form.Typed()
			m.look()
		}
		return
	}
	if m.focus != onChart {
		m.move(msg)
	}
}

// mouse chooses what is clicked on; the wheel moves.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	if click, ok := msg.(tea.MouseClickMsg); ok {
		m.click(click)
	} else {
		m.move(msg)
	}
	return nil
}

// click chooses what is clicked on: a way of the map or a line of the list.
func (m *Model) click(msg tea.MouseClickMsg) {
	y := msg.Y - 3 // below the title, the whole, and here
	if m.form != nil {
		y -= len(m.form.View(m.width))
	}
	if m.stops.Click(y) {
		m.focus, m.onList = onMap, false
		return
	}
	y -= m.mapShown() + m.mapMore() + 2
	if m.rows.Click(y) {
		m.focus, m.onList = onRows, true
	}
}

// move moves in the map, or in the list where that has the keys.
func (m *Model) move(msg tea.Msg) {
	if m.focus == onRows {
		m.rows.Take(msg)
		return
	}
	m.stops.Take(msg)
	m.fit()
}

// Subject is what is chosen on the map, in the list or in the chart.
func (m *Model) Subject() string {
	name, _ := m.subject()
	return name
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	if m.form != nil {
		return m.form.Table(m.answered, m.left)
	}
	do := func(f func()) func() tea.Cmd { return func() tea.Cmd { f(); return nil } }
	panel := func(by panel) func() tea.Cmd {
		return do(func() { m.setFocus((m.focus + by + panels) % panels) })
	}
	onlyRows := func() bool { return m.focus == onRows && m.recap == nil }
	onlyChart := func() bool { return m.focus == onChart && m.recap == nil }
	notChart := func() bool { return m.focus != onChart && m.recap == nil }
	notRows := func() bool { return !onlyRows() && m.recap == nil }
	noRecap := func() bool { return m.recap == nil }
	ends := "end it"
	if m.focus == onMap {
		ends = "end the link"
	}
	leaves := "to Routes"
	switch {
	case m.recap != nil:
		leaves = "close the recap"
	case m.focus == onChart:
		leaves = "leave the chart"
	}
	return action.Table{
		action.On("esc q ctrl+c", leaves, m.leave),
		action.On("tab", "map, list, chart", panel(1)).Whole(),
		action.On("shift+tab", "", panel(-1)).Ranked(action.Hidden),
		action.On("D", ends, do(m.askEnd)).Suits(notChart).Also("stop kill close flow shell link disconnect"),
		action.On("Z", "close the port forward", do(m.askClose)).Suits(onlyRows).Also("listener tunnel stop"),
		action.On("y", "copy the local port", m.copy).Suits(onlyRows).Also("clipboard address listener"),
		action.On("g", "group", do(func() { m.group = (m.group + 1) % len(groups); m.look() })).Suits(onlyRows).Whole().Also("by destination session"),
		action.On("o", "order", do(func() { m.order = (m.order + 1) % len(orders); m.look() })).Suits(onlyRows).Whole().Also("sort busiest"),
		action.On("/", "find", do(func() { m.form = form.New(m.s.Theme, "find", form.Step{Prompt: "/ ", Value: m.find}) })).Suits(onlyRows).Whole().Also("search narrow filter"),
		action.Pressed("left right", "read values", m.readOff).As("←→").If(onlyChart, "").Ranked(action.Movement),
		action.Pressed("shift+left shift+right home end", "by ten", m.readOff).As("shift ←→").If(onlyChart, "").Ranked(action.Movement),
		action.On("+ =", "longer period", do(func() { m.span = min(m.span+1, len(spans)-1) })).Suits(notRows).Also("span time zoom out chart"),
		action.On("-", "shorter period", do(func() { m.span = max(m.span-1, 0) })).Suits(notRows).Also("span time zoom in chart"),
		action.On("x", "draw the chart", m.draw).If(noRecap, "the last hours show").Also("chart picture svg pdf"),
		action.On("X", "write the flows", m.export).Whole().Ranked(action.InHelp).Also("export csv json connections"),
		action.On("w", "last hours", m.sumUpLast).Suits(notChart).Whole().Also("recap what happened while away lost"),
	}
}

func (m *Model) readOff(msg tea.KeyPressMsg) tea.Cmd {
	m.chartKey(msg.String())
	return nil
}

// leave puts away what was put over the map and the list, or the place.
func (m *Model) leave() tea.Cmd {
	switch {
	case m.recap != nil:
		m.recap = nil
	case m.find != "":
		m.find = ""
		m.look()
	case m.focus == onChart:
		if m.focus, m.cursor = onMap, (time.Time{}); m.onList {
			m.focus = onRows
		}
	default:
		return m.s.Go("0", "")
	}
	return nil
}

// copy puts the chosen listener on the clipboard, with the login that it asks for.
func (m *Model) copy() tea.Cmd {
	at := m.listener()
	if at == "" {
		m.note = "choose a port forward or a flow with tab; its local port is copied"
		return nil
	}
	m.note = at + " is on the clipboard"
	return m.s.Copy(m.withLogin(at))
}

// draw draws what a link or flow carried, as a chart to hand on.
func (m *Model) draw() tea.Cmd {
	name, series := m.subject()
	if series == nil {
		m.note = "nothing is chosen that could be drawn"
		return nil
	}
	c := m.drawing(name, series)
	title := m.s.Title()
	return m.s.Draw(place.Drawing{Kind: "chart", Of: "what " + name + " carried", Private: "what it is called", Make: func(private bool) work.Draw {
		c.Title = name + ", " + title
		if private {
			c.Title = title
		}
		return work.Draw{Of: name, Make: func(context.Context) (draw.Drawing, error) { return c, nil }}
	}})
}

// export writes the live flows of this program and the others into files.
func (m *Model) export() tea.Cmd {
	set, others, dir := m.s.Tunnels, m.s.Others, m.s.Workspace().Dir
	return m.s.Run(func() tea.Msg {
		own := set.Seen("the full screen")
		own.PID = os.Getpid()
		stem, err := work.WriteFlows(dir, append([]tunnel.Seen{own}, others.Seen()...), time.Now())
		if err != nil {
			return ended("the flows were not written: " + err.Error())
		}
		return ended("the flows are written, as .csv and .json: " + workspace.Short(stem))
	})
}

func (m *Model) setFocus(p panel) {
	m.focus = p
	switch p {
	case onMap:
		m.onList = false
	case onRows:
		m.onList = true
	}
	m.cursor = time.Time{}
	if p == onChart {
		m.recap = nil
		m.cursor = m.now()
	}
}

// askEnd asks before a flow, a shell or a link is ended, and says what that takes
// down.
func (m *Model) askEnd() {
	r, ok := m.selected()
	switch {
	case m.onList && !ok && m.rows.Len() > 0:
		m.note = "what was chosen has ended: choose another"
	case m.onList && ok && r.other != nil && r.listener == nil:
		m.note = fmt.Sprintf("it belongs to another Meatus (process %d, %s) and ends there; %s closes its port", r.other.PID, r.other.What, m.s.Press("remove-all"))
	case m.onList && ok && r.flow != nil:
		f, at, set := *r.flow, r.at, m.s.Tunnels
		m.ask(fmt.Sprintf("end %s to %s, %s so far? Nothing else ends with it.", f.Who(), f.To, words.Bytes(float64(f.In+f.Out))), func() string {
			set.EndFlow(at, f.ID)
			return "ended"
		})
	case m.onList && ok && r.listener != nil:
		m.askClose()
	case m.onList && ok && r.program != nil:
		p, programs := *r.program, m.s.Programs
		m.ask(fmt.Sprintf("end the %s of %s? What runs in it ends.", p.What, p.Session), func() string {
			programs.End(p.ID)
			return "ended"
		})
	case !m.onList:
		l, ok := m.link()
		if _, still := m.stops.Selected(); !still && m.stops.Len() > 0 {
			m.note = "what was chosen has ended: choose another"
		} else if ok && l.other != nil {
			m.note = fmt.Sprintf("the link is of another Meatus (process %d, %s), and ends there", l.other.PID, l.other.What)
		} else if ok {
			walker := m.s.Walker
			m.ask(fmt.Sprintf("close the connection to %s? This also ends %s. Port forwards reconnect, shells if configured.", l.Hop, m.takes(l)), func() string {
				walker.EndLink(l.ID)
				return "ended"
			})
		}
	}
}

// askClose asks before a listener is closed.
func (m *Model) askClose() {
	at := m.listener()
	if at == "" || !m.onList {
		m.note = "choose a tunnel or a flow with tab"
		return
	}
	if r, _ := m.selected(); r.other != nil {
		o := r.other.Program
		m.ask(fmt.Sprintf("have the other Meatus (process %d, %s) close its port %s?", o.PID, o.What, at), func() string {
			if err := tunnel.TakeOver(o, at); err != nil {
				return err.Error()
			}
			return at + " is closed"
		})
		return
	}
	flows := 0
	for _, f := range m.alive.own.Flows {
		if f.Listener == at {
			flows++
		}
	}
	set := m.s.Tunnels
	m.ask(fmt.Sprintf("close %s? This also ends %s.", at, words.Count(flows, "flow")), func() string {
		set.CloseListener(at)
		return at + " is closed"
	})
}

// withLogin is a listener as programs are told it: with the login that it asks for, as a
// URI, where it does.
func (m *Model) withLogin(at string) string {
	user, password := m.s.Tunnels.LoginOf(at)
	if user == "" {
		return at
	}
	m.note = "the address is on the clipboard, with user name and password"
	return (&url.URL{Scheme: "socks5h", User: url.UserPassword(user, password), Host: at}).String()
}

func (m *Model) ask(what string, do func() string) {
	m.ending = do
	m.form = form.New(m.s.Theme, "end", form.Step{Bare: true, Prompt: what + " enter does, esc does not "})
}

// answered does what was asked about.
func (m *Model) answered(what string, _ []string) tea.Cmd {
	m.form = nil
	if what != "end" {
		return nil
	}
	do := m.ending
	return m.s.Run(func() tea.Msg { return ended(do()) })
}

// left gives up what was asked for.
func (m *Model) left() {
	if m.form.What == "find" {
		m.find = ""
		m.look()
	}
	m.form = nil
}
