// Package watch is the place that shows what is alive: the map of the links, what
// each carries, the flows and shells through them, and the selected one over time.
package watch

import (
	"fmt"
	"net/url"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/event"
	"meatus/core/meter"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that the place was left for Routes.
type Left struct{}

// Copy asks the frame to put a text on the clipboard.
type Copy struct{ Text string }

// Draw asks the frame to draw what a link or flow carried, as a chart to hand on.
type Draw struct {
	Name     string // of the link or flow
	From, To time.Time
	Samples  []meter.Sample
}

// Recap asks the frame for what happened since a time.
type Recap struct{ Since time.Time }

type tick struct{ n int }

// redraw is how often the place is drawn anew while it shows, and probe how often
// links are asked for a sign of life meanwhile.
const (
	redraw = 250 * time.Millisecond
	probe  = 3 * time.Second
)

// Shell is a shell whose way is lost, as the frame tells it.
type Shell struct {
	Session string
	Hops    []string
	Lost    time.Time // since when its way is lost, zero while it is there
}

// Live is what the place looks at.
type Live struct {
	Walker *walk.Walker
	Set    *tunnel.Set
	Keeper *meter.Keeper
	Others *tunnel.Others
	Shells func() []Shell // those that have not ended
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
	theme         *theme.Theme
	live          Live
	width, height int

	links  map[walk.ID]link // of this program
	ways   []way
	doors  []door
	others []tunnel.Seen
	rows   []row
	counts counts

	map_, list   scroll.Cursor
	hop          int // of the selected way, from its end
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
	page   int // of the keys at the foot
	probed time.Time
	events []string
}

// New returns the place.
func New(live Live, t *theme.Theme) *Model {
	return &Model{theme: t, live: live}
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) {
	m.theme = t
	if m.form != nil {
		m.form.SetTheme(t)
	}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) { m.width, m.height = width, height }

// maxEvents is how many events are kept to be shown.
const maxEvents = 50

// Hear is told of what happens to links and tunnels, also while another place shows.
func (m *Model) Hear(e event.Event) {
	say := ""
	switch e := e.(type) {
	case walk.LinkUp:
		say = "link to " + e.Link.Hop + " is up"
	case walk.LinkDown:
		say = "link to " + e.Link.Hop + " ended"
		if e.Failure != nil {
			say += ": " + e.Failure.Why
		}
	case walk.Drew:
		say = e.Session + ": a program there draws on the display here"
		if e.Err != nil {
			say = e.Session + ": a program there was not let draw here: " + e.Err.Error()
		}
	case tunnel.Opened:
		say = e.Session + ": the door " + e.Address + " is open"
	case tunnel.Proven:
		say = e.Session + ": " + e.Proof.Say
		if e.Proof.Rule != "" {
			say += "; to hand on: " + e.Proof.Rule
		}
	case tunnel.Shut:
		say = e.Session + ": " + e.What + " is closed"
	case tunnel.Stuck:
		say = e.Session + ": " + e.Err.Error()
	case tunnel.Rested:
		say = fmt.Sprintf("%s: %s closes, nothing ran through it for %s", e.Session, e.What, fit.Ago(e.After))
	case tunnel.Widened:
		say = fmt.Sprintf("%s: %s allows no more channels on a link, there are %d now", e.Session, e.Hop, e.Links)
	case tunnel.Came:
		if e.Again > 0 {
			say = e.Session + ": the way is there again"
		}
	case tunnel.Lost:
		say = e.Session + ": the way is lost, the doors stay"
		if e.Err != nil {
			say = e.Session + ": " + e.Err.Error()
		}
	case tunnel.Ended:
		if !e.Flow.Complete {
			say = e.Session + ", " + who(e.Flow) + " to " + e.Flow.To + ": " + e.Flow.How
		}
	}
	if say != "" {
		m.events = append(m.events, time.Now().Format("15:04:05")+"  "+say)
		m.events = m.events[max(len(m.events)-maxEvents, 0):]
	}
}

// Read looks at what is alive, and goes on looking while the place shows.
func (m *Model) Read() tea.Cmd {
	m.ticks++
	m.look()
	n := m.ticks
	if now := time.Now(); now.Sub(m.probed) >= probe {
		m.probed = now
		m.live.Walker.Probe()
	}
	return tea.Tick(redraw, func(time.Time) tea.Msg { return tick{n} })
}

// ShowRecap shows what happened while nobody looked.
func (m *Model) ShowRecap(r trail.Recap) { m.recap = &r }

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case tick:
		if msg.n == m.ticks {
			return nil, m.Read()
		}
	case ended:
		m.note = string(msg)
	case tea.MouseWheelMsg:
		m.focused().Take(msg, m.count(), m.room())
	case tea.MouseClickMsg:
		m.click(msg)
	case tea.PasteMsg:
		if m.form != nil {
			return m.typed(msg)
		}
	case tea.KeyPressMsg:
		if m.form != nil {
			return m.typed(msg)
		}
		return m.key(msg)
	}
	return nil, nil
}

// click chooses what is clicked on: a way of the map or a line of the list.
func (m *Model) click(msg tea.MouseClickMsg) {
	y := msg.Y - 1
	if m.form != nil {
		y -= len(m.form.View(m.width))
	}
	if at := m.map_.Top + y; y >= 0 && y < m.mapShown() && at < len(m.ways) {
		m.focus, m.onList, m.hop = onMap, false, 0
		m.map_.Move(at-m.map_.At, len(m.ways), m.mapRoom())
		return
	}
	y -= m.mapShown() + m.mapMore() + 2
	if at := m.list.Top + y; y >= 0 && y < m.listRoom() && at < len(m.rows) {
		m.focus, m.onList = onRows, true
		m.list.Move(at-m.list.At, len(m.rows), m.listRoom())
	}
}

func (m *Model) focused() *scroll.Cursor {
	if m.focus == onRows {
		return &m.list
	}
	return &m.map_
}

func (m *Model) count() int {
	if m.focus == onRows {
		return len(m.rows)
	}
	return len(m.ways)
}

func (m *Model) room() int {
	if m.focus == onRows {
		return m.listRoom()
	}
	return m.mapRoom()
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	key := msg.String()
	if m.focus == onChart && m.chartKey(key) {
		return nil, nil
	}
	if m.focus != onChart && m.focused().Take(msg, m.count(), m.room()) {
		m.hop = 0
		return nil, nil
	}
	switch key {
	case "esc", "q", "ctrl+c":
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
			return Left{}, nil
		}
	case "?":
		m.page++
	case "tab":
		m.setFocus((m.focus + 1) % panels)
	case "shift+tab":
		m.setFocus((m.focus + panels - 1) % panels)
	case "left", "right":
		if m.focus == onMap && m.map_.At < len(m.ways) {
			by := map[string]int{"left": 1, "right": -1}[key]
			m.hop = max(min(m.hop+by, len(m.ways[m.map_.At].links)-1), 0)
		}
	case "o":
		m.order = (m.order + 1) % len(orders)
		m.look()
	case "G":
		m.group = (m.group + 1) % len(groups)
		m.look()
	case "+", "=":
		m.span = min(m.span+1, len(spans)-1)
	case "-":
		m.span = max(m.span-1, 0)
	case "/":
		m.form = form.New(m.theme, "find", form.Step{Prompt: "/ ", Value: m.find})
	case "e":
		m.askEnd()
	case "E":
		m.askClose()
	case "y":
		if at := m.door(); at != "" {
			m.note = at + " is on the clipboard"
			return Copy{m.withLogin(at)}, nil
		}
		m.note = "choose a tunnel or a flow with tab; its door is copied"
	case "r":
		if m.recap == nil {
			return Recap{time.Now().Add(-recapOver)}, nil
		}
		m.recap = nil
	case "x":
		if d, ok := m.drawing(); ok {
			return d, nil
		}
		m.note = "nothing is chosen that could be drawn"
	}
	return nil, nil
}

// recapOver is what "r" sums up.
const recapOver = 8 * time.Hour

func (m *Model) setFocus(p panel) {
	m.page = 0
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
	case m.onList && ok && r.other != nil && r.door == nil:
		m.note = fmt.Sprintf("it runs in another Meatus (process %d, %s) and ends there; E closes its door", r.other.PID, r.other.What)
	case m.onList && ok && r.flow != nil:
		f, of := *r.flow, r.of
		m.ask(fmt.Sprintf("end %s to %s, %s so far? Nothing else ends with it.", who(f), f.To, fit.Bytes(float64(f.In+f.Out))), func() string {
			of.EndFlow(f.ID)
			return "ended"
		})
	case m.onList && ok && r.door != nil:
		m.askClose()
	case m.onList && ok && r.program != nil:
		p := *r.program
		m.ask(fmt.Sprintf("end the %s of %s? What runs in it ends.", p.What, p.Session), func() string {
			m.live.Walker.EndProgram(p.ID)
			return "ended"
		})
	case !m.onList:
		l, ok := m.link()
		if ok && l.other != nil {
			m.note = fmt.Sprintf("the link is of another Meatus (process %d, %s), and ends there", l.other.PID, l.other.What)
		} else if ok {
			walker := m.live.Walker
			m.ask(fmt.Sprintf("end the link to %s? With it go %s; tunnels walk it again, shells as they are set.", l.Hop, m.takes(l)), func() string {
				walker.EndLink(l.ID)
				return "ended"
			})
		}
	}
}

// askClose asks before a door is closed.
func (m *Model) askClose() {
	at := m.door()
	if at == "" || !m.onList {
		m.note = "choose a tunnel or a flow with tab"
		return
	}
	if r, _ := m.selected(); r.other != nil {
		o := r.other.Program
		m.ask(fmt.Sprintf("have the other Meatus (process %d, %s) close its door %s?", o.PID, o.What, at), func() string {
			if err := tunnel.TakeOver(o, at); err != nil {
				return err.Error()
			}
			return at + " is closed"
		})
		return
	}
	flows := 0
	for _, t := range m.live.Set.All() {
		if t.Address() == at {
			flows = len(t.Flows())
		}
	}
	set := m.live.Set
	m.ask(fmt.Sprintf("close the door %s? %s with it.", at, plural(flows, "flow ends", "flows end")), func() string {
		set.CloseDoor(at)
		return at + " is closed"
	})
}

// withLogin is a door as programs are told it: with the login that it asks for, as a
// URI, where it does.
func (m *Model) withLogin(at string) string {
	for _, t := range m.live.Set.All() {
		if user, password := t.Login(); t.Address() == at && user != "" {
			m.note = "the door is on the clipboard with its login and password"
			return (&url.URL{Scheme: "socks5h", User: url.UserPassword(user, password), Host: at}).String()
		}
	}
	return at
}

func (m *Model) ask(what string, do func() string) {
	m.ending = do
	m.form = form.New(m.theme, "end", form.Step{Bare: true, Prompt: what + " enter does, esc does not "})
}

type ended string

func (m *Model) typed(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	f := m.form
	over, left, cmd := f.Update(msg)
	if f.What == "find" {
		if m.find = f.Typed(); left {
			m.find = ""
		}
		m.look()
	}
	if over || left {
		m.form = nil
	}
	if over && f.What == "end" {
		do := m.ending
		return nil, func() tea.Msg { return ended(do()) }
	}
	return nil, cmd
}

func plural(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, more)
}

func (m *Model) hints() []theme.Hint {
	if m.form != nil {
		return form.Hints()
	}
	hints := []theme.Hint{{Key: "esc", Does: "to Routes"}, {Key: "tab", Does: "map, list, chart"}}
	switch {
	case m.recap != nil:
		return []theme.Hint{{Key: "esc", Does: "put it away"}, {Key: "tab", Does: "map, list, chart"}}
	case m.focus == onChart:
		return []theme.Hint{{Key: "esc", Does: "leave the chart"}, {Key: "←→", Does: "read off"}, {Key: "shift ←→", Does: "by ten"}, {Key: "+ -", Does: "longer, shorter"}, {Key: "x", Does: "draw it"}, {Key: "tab", Does: "to the map"}}
	case m.focus == onRows:
		hints = append(hints, theme.Hint{Key: "e", Does: "end it"}, theme.Hint{Key: "E", Does: "close its door"}, theme.Hint{Key: "y", Does: "copy its door"}, theme.Hint{Key: "G", Does: "group"}, theme.Hint{Key: "o", Does: "order"}, theme.Hint{Key: "/", Does: "find"})
	default:
		hints = append(hints, theme.Hint{Key: "←→", Does: "hop"}, theme.Hint{Key: "e", Does: "end the link"}, theme.Hint{Key: "+ -", Does: "longer, shorter"})
	}
	return append(hints, theme.Hint{Key: "x", Does: "draw it"}, theme.Hint{Key: "r", Does: "last hours"})
}
