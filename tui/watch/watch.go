// Package watch is the place that shows what is alive: the map of the links, what
// each carries, the flows through the tunnels, and the selected link over time.
package watch

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/gate"
	"meatus/core/meter"
	"meatus/core/route"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/scroll"
	"meatus/tui/theme"
)

// Left says that the place was left for Routes.
type Left struct{}

type tick struct{ n int }

// redraw is how often the place is drawn anew while it shows.
const redraw = 250 * time.Millisecond

// spans are what the chart shows, to choose from.
var spans = []time.Duration{time.Minute, 10 * time.Minute, time.Hour, 24 * time.Hour}

// orders are what the flows are sorted by.
var orders = []string{"rate", "bytes", "age"}

// Shells tells how many shells live, for what leaving would end.
type Shells func() int

// Model is the place.
type Model struct {
	theme         *theme.Theme
	walker        *walk.Walker
	set           *tunnel.Set
	shells        Shells
	width, height int
	links         []walk.LinkState
	series        map[string]*meter.Series // by prefix
	flows         []flow
	before        map[string]seen // of each flow, a second ago
	counted       time.Time
	map_, list    scroll.Cursor
	onFlows       bool // the keys are the flows', not the map's
	span, order   int
	find          string
	form          *form.Form
	ending        walk.ID // the link that is asked about
	note          string
	ticks         int
	frame         int
	events        []string
}

// flow is one flow with its tunnel and rates.
type flow struct {
	tunnel.Flow
	of       *tunnel.Tunnel
	in, out  float64 // bytes a second
	key, sum string
}

type seen struct {
	in, out uint64
	rin     float64
	rout    float64
}

// New returns the place.
func New(walker *walk.Walker, set *tunnel.Set, shells Shells, t *theme.Theme) *Model {
	return &Model{theme: t, walker: walker, set: set, shells: shells, series: map[string]*meter.Series{}, before: map[string]seen{}}
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
func (m *Model) Hear(e walk.Event) {
	say := ""
	switch e := e.(type) {
	case walk.LinkUp:
		say = "link to " + e.Link.Hop + " is up"
	case walk.LinkDown:
		say = "link to " + e.Link.Hop + " ended"
		if e.Failure != nil {
			say += ": " + e.Failure.Why
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

// Sample takes what the links have carried, once a second.
func (m *Model) Sample(now time.Time) {
	for _, l := range m.walker.Links() {
		s := m.series[l.Prefix]
		if s == nil {
			s = &meter.Series{}
			m.series[l.Prefix] = s
		}
		s.Count(now, l.In, l.Out, l.RoundTrip)
	}
}

// Read looks at what is alive, and goes on looking while the place shows.
func (m *Model) Read() tea.Cmd {
	m.ticks++
	m.look()
	n := m.ticks
	return tea.Tick(redraw, func(time.Time) tea.Msg { return tick{n} })
}

// look takes links and flows as they are.
func (m *Model) look() {
	m.frame++
	m.links = m.walker.Links()
	now := time.Now()
	measure := now.Sub(m.counted) >= time.Second
	passed := now.Sub(m.counted).Seconds()
	fresh := map[string]seen{}
	m.flows = m.flows[:0]
	for _, t := range m.set.All() {
		for _, f := range t.Flows() {
			key := fmt.Sprintf("%s %s %d", t.Session, t.What(), f.ID)
			was, known := m.before[key]
			one := flow{Flow: f, of: t, key: key, in: was.rin, out: was.rout}
			if measure {
				if known {
					one.in, one.out = float64(f.In-was.in)/passed, float64(f.Out-was.out)/passed
				}
				fresh[key] = seen{f.In, f.Out, one.in, one.out}
			}
			one.sum = strings.ToLower(strings.Join([]string{t.Session, who(f), f.From, f.To, t.Address()}, " "))
			if strings.Contains(one.sum, strings.ToLower(m.find)) {
				m.flows = append(m.flows, one)
			}
		}
	}
	if measure {
		m.before, m.counted = fresh, now
	}
	slices.SortStableFunc(m.flows, func(a, b flow) int {
		switch orders[m.order] {
		case "rate":
			return cmp.Compare(b.in+b.out, a.in+a.out)
		case "bytes":
			return cmp.Compare(b.In+b.Out, a.In+a.Out)
		}
		return a.Began.Compare(b.Began)
	})
	m.map_.Move(0, len(m.ways()), m.mapRoom())
	m.list.Move(0, len(m.flows), m.listRoom())
}

// who is the program or address that a flow comes from.
func who(f tunnel.Flow) string {
	if f.Program != "" {
		return f.Program
	}
	return f.From
}

// way is one line of the map: the links from here to a machine that is the last.
type way []walk.LinkState

// ways are the lines of the map: every link that no other goes through, with those
// it goes through.
func (m *Model) ways() []way {
	var all []way
	for _, l := range m.links {
		last := true
		for _, o := range m.links {
			if o.ID != l.ID && strings.HasPrefix(o.Prefix, route.Unlent(l.Prefix)) && len(o.Prefix) > len(l.Prefix) && strings.Count(route.Unlent(o.Prefix), "\n") > strings.Count(route.Unlent(l.Prefix), "\n") {
				last = false
			}
		}
		if !last {
			continue
		}
		var w way
		for _, o := range m.links {
			if o.ID == l.ID || route.Unlent(o.Prefix) != route.Unlent(l.Prefix) && strings.HasPrefix(l.Prefix, route.Unlent(o.Prefix)) && o.Prefix == route.Unlent(o.Prefix) {
				w = append(w, o)
			}
		}
		slices.SortFunc(w, func(a, b walk.LinkState) int { return cmp.Compare(len(a.Prefix), len(b.Prefix)) })
		all = append(all, w)
	}
	return all
}

// Update takes a message while the place has focus. It returns what is asked of
// the frame, or nil, and what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case tick:
		if msg.n == m.ticks {
			return nil, m.Read()
		}
	case closed:
		m.note = string(msg)
	case tea.MouseWheelMsg:
		m.cursor().Take(msg, m.count(), m.room())
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

func (m *Model) cursor() *scroll.Cursor {
	if m.onFlows {
		return &m.list
	}
	return &m.map_
}

func (m *Model) count() int {
	if m.onFlows {
		return len(m.flows)
	}
	return len(m.ways())
}

func (m *Model) room() int {
	if m.onFlows {
		return m.listRoom()
	}
	return m.mapRoom()
}

func (m *Model) key(msg tea.KeyPressMsg) (wish tea.Msg, cmd tea.Cmd) {
	m.note = ""
	if m.cursor().Take(msg, m.count(), m.room()) {
		return nil, nil
	}
	switch msg.String() {
	case "esc", "q", "ctrl+c":
		if m.find != "" {
			m.find = ""
			return nil, nil
		}
		return Left{}, nil
	case "tab":
		m.onFlows = !m.onFlows
	case "o":
		m.order = (m.order + 1) % len(orders)
	case "+", "=":
		m.span = min(m.span+1, len(spans)-1)
	case "-":
		m.span = max(m.span-1, 0)
	case "/":
		m.form = form.New(m.theme, "find", form.Step{Prompt: "/ ", Value: m.find})
	case "x":
		m.askEnd()
	case "X":
		if f, ok := m.selected(); m.onFlows && ok {
			m.form = form.New(m.theme, "tunnel "+f.of.Address(), form.Step{Bare: true,
				Prompt: fmt.Sprintf("close the door %s of %s? %d flows end with it. enter does, esc does not ", f.of.Address(), f.of.Session, len(f.of.Flows()))})
		}
	}
	return nil, nil
}

func (m *Model) selected() (flow, bool) {
	if m.list.At >= len(m.flows) {
		return flow{}, false
	}
	return m.flows[m.list.At], true
}

// askEnd asks before a flow is ended.
func (m *Model) askEnd() {
	if f, ok := m.selected(); m.onFlows && ok {
		m.form = form.New(m.theme, "flow "+f.key, form.Step{Bare: true, Prompt: fmt.Sprintf("end %s to %s, %s so far? enter does, esc does not ", who(f.Flow), f.To, fit.Bytes(float64(f.In+f.Out)))})
	} else if ways := m.ways(); !m.onFlows && m.map_.At < len(ways) {
		l := ways[m.map_.At][len(ways[m.map_.At])-1]
		m.ending = l.ID
		m.form = form.New(m.theme, "link", form.Step{Bare: true, Prompt: fmt.Sprintf("end the link to %s, which %d use? tunnels walk it again; shells end, or come back as they are set. enter does, esc does not ", l.Hop, l.Users)})
	}
}

type closed string

func (m *Model) typed(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	f := m.form
	over, left, cmd := f.Update(msg)
	if f.What == "find" {
		if m.find = f.Typed(); left {
			m.find = ""
		}
	}
	if over || left {
		m.form = nil
	}
	if !over {
		return nil, cmd
	}
	set := m.set
	if f.What == "link" {
		m.walker.EndLink(m.ending)
		m.note = "ended"
		return nil, nil
	}
	if address, ok := strings.CutPrefix(f.What, "tunnel "); ok {
		return nil, func() tea.Msg {
			set.CloseDoor(address)
			return closed(address + " is closed")
		}
	}
	if key, ok := strings.CutPrefix(f.What, "flow "); ok {
		for _, one := range m.flows {
			if one.key == key {
				one.of.EndFlow(one.ID)
				m.note = "ended"
			}
		}
	}
	return nil, nil
}

func (m *Model) mapRoom() int  { return max((m.height-12)/3, 3) }
func (m *Model) listRoom() int { return max((m.height-14)/3, 3) }

// View draws the place.
func (m *Model) View() []string {
	t := m.theme
	lines := []string{t.Title(t.Accent.Render("watch"), t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	ways := m.ways()
	if len(ways) == 0 {
		lines = append(lines, "", "   "+t.Faint.Render("Nothing is connected. On Routes, enter opens a shell and t a session's tunnels."))
	}
	for i := m.map_.Top; i < min(m.map_.Top+m.mapRoom(), len(ways)); i++ {
		lines = append(lines, m.wayLine(ways[i], i == m.map_.At && !m.onFlows))
	}
	if more := len(ways) - m.map_.Top - m.mapRoom(); more > 0 {
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	lines = append(lines, "")
	lines = append(lines, m.list_()...)
	rest := m.height - len(lines) - 1
	if chart := m.chart(min(max(rest-8, 7), 17)); len(chart) > 0 {
		lines = append(append(lines, ""), chart...)
	}
	rest = m.height - len(lines) - 1
	if rest > 2 {
		lines = append(lines, t.Title(t.Strong.Render("events"), "", m.width, fit.Spread))
		for i := len(m.events) - 1; i >= 0 && len(lines) < m.height-1; i-- {
			lines = append(lines, fit.Cut("   "+t.Faint.Render(m.events[i]), m.width))
		}
	}
	note := m.note
	if m.form != nil {
		note = ""
	}
	return t.Page(lines, note, m.width, m.height, m.hints()...)
}

// summary says what leaving would cut.
func (m *Model) summary() string {
	count := func(n int, word string) string {
		if n != 1 {
			word += "s"
		}
		return fmt.Sprintf("%d %s", n, word)
	}
	return "leaving now cuts " + strings.Join([]string{count(m.shells(), "shell"), count(len(m.set.All()), "tunnel"), count(len(m.flows), "flow")}, ", ")
}

// strokes are how a link is drawn by what it carries, in bytes a second: idle, some,
// much.
func (m *Model) stroke(l walk.LinkState, rate float64) string {
	t := m.theme
	const length = 9
	switch {
	case l.Frozen:
		return t.Verdict(gate.Ajar).Render(strings.Repeat("╍", length))
	case rate < 1:
		return t.Live.Render(strings.Repeat("─", length))
	}
	glyph := "━"
	if rate >= 1<<20 {
		glyph = "═"
	}
	runes := []rune(strings.Repeat(glyph, length))
	runes[m.frame%length] = '›' // something moves
	return t.Live.Render(string(runes))
}

// rates of a link over the last seconds.
func (m *Model) rates(l walk.LinkState) (in, out float64) {
	s := m.series[l.Prefix]
	if s == nil {
		return 0, 0
	}
	now := time.Now()
	for _, sample := range s.Span(now.Add(-3*time.Second), now, 3) {
		if sample.Known {
			in, out = sample.In, sample.Out
		}
	}
	return in, out
}

func (m *Model) wayLine(w way, selected bool) string {
	t := m.theme
	pointer := "  "
	if selected {
		pointer = t.Accent.Render("❯ ")
	}
	line := " " + pointer + t.Faint.Render("here")
	for _, l := range w {
		in, out := m.rates(l)
		line += " " + m.stroke(l, in+out) + " " + t.Strong.Render(l.Hop)
	}
	last := w[len(w)-1]
	in, out := m.rates(last)
	detail := fmt.Sprintf("%s  ↓%s/s ↑%s/s  up %s, %d users", fit.RoundTrip(last.RoundTrip), fit.Bytes(in), fit.Bytes(out), fit.Ago(time.Since(last.Since)), last.Users)
	if last.Frozen {
		detail = t.Verdict(gate.Ajar).Render("frozen: no byte for " + fit.Ago(time.Since(last.LastIn)))
	}
	return fit.Cut(fit.Pad(line, min(64, m.width*2/3))+"  "+t.Faint.Render(detail), m.width)
}

// list_ draws the tunnels' doors and the flows through them.
func (m *Model) list_() []string {
	t := m.theme
	title := "flows by " + orders[m.order]
	if m.find != "" {
		title += " / " + m.find
	}
	lines := []string{t.Title(t.Strong.Render(title), "", m.width, fit.Spread)}
	for _, l := range m.set.Lines() {
		mark, say := t.Mark(gate.Open), fmt.Sprintf("%s  %s so far, ↓%s ↑%s", l.Drawn(), flowsOf(l.Flows), fit.Bytes(float64(l.In)), fit.Bytes(float64(l.Out)))
		switch {
		case l.Error != "":
			mark, say = t.Mark(gate.Shut), l.Drawn()+"  "+l.Error
		case !l.Up && !l.Lost.IsZero():
			mark, say = t.Mark(gate.Ajar), l.Drawn()+"  the way is lost for "+fit.Ago(time.Since(l.Lost))+", the door stays"
		case !l.Up:
			mark = t.Mark(gate.Untried)
		}
		if l.Beyond {
			say = t.Verdict(gate.Ajar).Render("OPEN TO OTHER MACHINES ") + say
		}
		lines = append(lines, fit.Cut("   "+mark+" "+t.Strong.Render(fit.Pad(l.Session, 12))+" "+say, m.width))
	}
	if len(lines) == 1 {
		return append(lines, "   "+t.Faint.Render("no tunnel is open"))
	}
	for i := m.list.Top; i < min(m.list.Top+m.listRoom(), len(m.flows)); i++ {
		f := m.flows[i]
		pointer := "  "
		name := fit.Pad(fit.Cut(who(f.Flow), 30), 31)
		if i == m.list.At && m.onFlows {
			pointer, name = t.Accent.Render("❯ "), t.Strong.Render(name)
		}
		idle := fit.Ago(time.Since(f.Last))
		lines = append(lines, fit.Cut(fmt.Sprintf("   %s%s %s ↓%7s/s ↑%7s/s  ↓%s ↑%s  %s, idle %s", pointer, name, fit.Pad(fit.Cut(f.To, 30), 31), fit.Bytes(f.in), fit.Bytes(f.out), fit.Bytes(float64(f.In)), fit.Bytes(float64(f.Out)), fit.Ago(time.Since(f.Began)), idle), m.width))
	}
	if more := len(m.flows) - m.list.Top - m.listRoom(); more > 0 {
		lines = append(lines, "     "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	return lines
}

func flowsOf(n int64) string {
	if n == 1 {
		return "1 flow"
	}
	return fmt.Sprintf("%d flows", n)
}

// eighths fill a cell from below.
var eighths = []rune(" ▁▂▃▄▅▆▇█")

// chart draws what the selected link carried: in above, out below the line.
func (m *Model) chart(height int) []string {
	ways := m.ways()
	if height < 5 || m.map_.At >= len(ways) {
		return nil
	}
	t := m.theme
	l := ways[m.map_.At][len(ways[m.map_.At])-1]
	s := m.series[l.Prefix]
	if s == nil {
		return nil
	}
	cols := max(m.width-16, 10)
	now := time.Now().Truncate(time.Second)
	span := spans[m.span]
	n := min(cols, int(span/time.Second)) // a sample may be wider than a column
	each := cols / n
	samples := s.Span(now.Add(-span), now, n)
	most, worst := 1.0, time.Duration(0)
	for _, p := range samples {
		most = max(most, p.In, p.Out)
		worst = max(worst, p.RoundTrip)
	}
	lines := []string{t.Title(t.Strong.Render(l.Hop+" over "+fit.Ago(span)), t.Faint.Render("round trip "+fit.RoundTrip(l.RoundTrip)+", worst "+fit.RoundTrip(worst)+", "+l.Cipher), m.width, fit.Spread)}
	half := max((height-2)/2, 1)
	draw := func(of func(meter.Sample) float64, word string) {
		for row := half - 1; row >= 0; row-- {
			axis := fit.Pad("", 12)
			if row == half-1 {
				axis = fit.Pad(fmt.Sprintf("%s %s/s", word, fit.Bytes(most)), 12)
			}
			var b strings.Builder
			for _, p := range samples {
				cell := eighths[max(min(int(of(p)/most*float64(half)*8+0.5)-row*8, 8), 0)]
				if !p.Known && row == 0 {
					cell = '·'
				}
				b.WriteString(strings.Repeat(string(cell), each))
			}
			lines = append(lines, "   "+t.Faint.Render(axis)+t.Live.Render(b.String()))
		}
	}
	draw(func(p meter.Sample) float64 { return p.In }, "↓")
	draw(func(p meter.Sample) float64 { return p.Out }, "↑")
	return append(lines, "   "+fit.Pad("", 12)+t.Faint.Render(fit.Spread(now.Add(-span).Format("15:04:05"), now.Format("15:04:05"), n*each, " ")))
}

func (m *Model) hints() []theme.Hint {
	if m.form != nil {
		return form.Hints()
	}
	hints := []theme.Hint{{Key: "esc", Does: "to Routes"}, {Key: "↑↓", Does: "choose"}, {Key: "tab", Does: "map or flows"}}
	if _, ok := m.selected(); ok && m.onFlows {
		hints = append(hints, theme.Hint{Key: "x", Does: "end it"}, theme.Hint{Key: "X", Does: "close its door"})
	} else if !m.onFlows && len(m.links) > 0 {
		hints = append(hints, theme.Hint{Key: "x", Does: "end the link"})
	}
	return append(hints, theme.Hint{Key: "o", Does: "order"}, theme.Hint{Key: "/", Does: "find"}, theme.Hint{Key: "+ -", Does: "longer, shorter"})
}
