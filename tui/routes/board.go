package routes

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/board"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/tunnel"
	"meatus/tui/fit"
)

const (
	longestName = 24 // columns of a session's name on the board, at most
	stationName = 16 // columns of a hop's name on a rail, at most
	wide        = 110
)

// railLength is how long a rail is between two names, in columns.
func (m *Model) railLength() int {
	if m.width < wide {
		return 5
	}
	return 7
}

// boardLine is one line of the board: a site's name, a session, or a blank
// between sites.
type boardLine struct {
	site    string
	session int // index into entries, -1 for a line without one
}

// lay orders the sessions by site, as the file has them; while the board is
// narrowed, by how well they match.
func (m *Model) lay() {
	m.lines = m.lines[:0]
	if m.find.on {
		for _, i := range m.find.found {
			m.lines = append(m.lines, boardLine{m.siteOf(i), i})
		}
		m.placeLines()
		return
	}
	if m.sorted != asWritten {
		m.laySorted()
		m.placeLines()
		return
	}
	bySite := map[string][]int{}
	var order []string
	for i := range m.ws.Book.Sessions {
		site := m.siteOf(i)
		if _, seen := bySite[site]; !seen {
			order = append(order, site)
		}
		bySite[site] = append(bySite[site], i)
	}
	for _, site := range order {
		if len(m.lines) > 0 {
			m.lines = append(m.lines, boardLine{"", -1})
		}
		if site != "" {
			m.lines = append(m.lines, boardLine{site, -1})
		}
		for _, i := range bySite[site] {
			m.lines = append(m.lines, boardLine{site, i})
		}
	}
	m.placeLines()
}

// laySorted orders the sessions without their sites: those that come first by the
// chosen order, then the others as the file has them.
func (m *Model) laySorted() {
	order := make([]int, m.sessions())
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := m.nameOf(a), m.nameOf(b)
		if m.sorted == markedFirst {
			return cmp.Compare(rankOf(m.s.Board.Marked(y)), rankOf(m.s.Board.Marked(x)))
		}
		return m.s.Board.Visited(y).Compare(m.s.Board.Visited(x))
	})
	for _, i := range order {
		m.lines = append(m.lines, boardLine{m.siteOf(i), i})
	}
}

func rankOf(marked bool) int {
	if marked {
		return 1
	}
	return 0
}

// placeLines notes where each session stands on the board.
func (m *Model) placeLines() {
	m.lineOf = make([]int, m.sessions())
	for n, l := range m.lines {
		if l.session >= 0 {
			m.lineOf[l.session] = n
		}
	}
}

func (m *Model) siteOf(i int) string { return m.ws.Book.Sessions[i].Site.V }

// shown are the lines of the board that are in view.
func (m *Model) shown() []boardLine {
	rows := max(m.boardRows()-m.headLines(), 0)
	return m.lines[min(m.top, len(m.lines)):min(m.top+rows, len(m.lines))]
}

// boardLines draws the visible part of the board.
func (m *Model) boardLines(height int) []string {
	if m.sessions() == 0 {
		return m.emptyBoard(height)
	}
	if len(m.lines) == 0 {
		return []string{"", "   " + m.s.Theme.Faint.Render("Nothing matches.")}
	}
	shown := m.shown()
	states := make([]board.State, len(shown))
	for n, l := range shown {
		if l.session >= 0 {
			states[n] = m.state(l.session)
		}
	}
	widths := stationWidths(states)
	railWidth := len("here")
	for _, w := range widths {
		railWidth += m.railLength() + 2 + w
	}
	names := 10
	for _, s := range states {
		names = max(names, min(utf8.RuneCountInString(s.Name), longestName))
	}
	railWidth = min(railWidth, max(m.width-names-33, 20))
	links := m.s.Board.Links()
	out := make([]string, 0, height)
	for n, l := range shown {
		if l.session < 0 {
			out = append(out, "  "+m.s.Theme.Faint.Render(sanitize.Line(l.site, 40)))
			continue
		}
		row := row{State: states[n], links: links}
		out = append(out, m.boardRow(row, l.session == m.cursor, names, widths, railWidth))
	}
	return out
}

// row is one session of the board with the links as they are.
type row struct {
	board.State
	links *board.Links
}

// linkAt is the live link at hop i, or nil.
func (r row) linkAt(i int) *board.Link {
	if i < 0 || i >= len(r.Details.Prefixes) {
		return nil
	}
	return r.links.At(r.Details.Prefixes[i])
}

func (m *Model) emptyBoard(height int) []string {
	t := m.s.Theme
	lines := []string{"", "   " + t.Strong.Render("No sessions yet."), "",
		"   " + t.Key.Render("n") + " writes one in a line, like",
		"   " + t.Accent.Render("tide-db = keeper@10.61.4.20 via quay with tide.pem"), "",
		fit.Cut("   "+t.Faint.Render("It is kept in "+m.ws.SessionsPath()), m.width),
		"   " + t.Faint.Render("meatus demo shows a made-up bay to try things in.")}
	return lines[:min(len(lines), height)]
}

// scrollTo keeps the selected session, and its site's line, in view.
func (m *Model) scrollTo(height int) {
	height -= m.headLines()
	at := m.lineOf[m.cursor]
	first := at
	if at > 0 && m.lines[at-1].session < 0 {
		first = at - 1
	}
	m.top = min(m.top, first)
	m.top = max(m.top, at-height+1)
	m.top = max(min(m.top, len(m.lines)-height), 0)
}

// stationWidths is how wide the names at each depth are among the sessions shown,
// so that their rails line up.
func stationWidths(states []board.State) []int {
	var widths []int
	for _, s := range states {
		if s.Details == nil {
			continue
		}
		for i, h := range s.Details.Route.Hops {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], min(utf8.RuneCountInString(h.Name), stationName))
		}
	}
	return widths
}

func (m *Model) boardRow(r row, selected bool, names int, widths []int, railWidth int) string {
	t := m.s.Theme
	mark, name := "  ", t.Text.Render(fit.Pad(r.Name, names))
	if selected {
		mark, name = t.Accent.Render("❯ "), t.Strong.Render(fit.Pad(r.Name, names))
	}
	if m.s.Board.Marked(r.Name) {
		mark = " " + t.Accent.Render("▪")
		if selected {
			mark = t.Accent.Render("❯▪")
		}
	}
	margin := "  "
	if s := m.ws.Book.Session(r.Name); s != nil && s.Careful.V == "on" {
		margin = " " + t.Verdict(gate.Ajar).Render("!")
	}
	stands := m.stands(r, max(m.width-names-railWidth-8, 0))
	return margin + mark + name + "  " + fit.Pad(m.rail(r, widths), railWidth) + "  " + stands
}

// rail draws a session's way.
func (m *Model) rail(e row, widths []int) string {
	t := m.s.Theme
	var b strings.Builder
	b.WriteString(t.Faint.Render("here"))
	before := 0
	for i, h := range e.Details.Route.Hops {
		stroke, style := "┈", t.Rule
		switch {
		case e.linkAt(i) != nil && e.linkAt(i).State.Frozen:
			stroke, style = "╍", t.Verdict(gate.Ajar)
		case e.linkAt(i) != nil:
			stroke, style = "━", t.Live
		case i < len(e.Details.Report.Hops) && visited(e.Details.Report.Hops[i]):
			stroke = "─"
		}
		railLength := m.railLength()
		length := railLength + before
		glyph := ""
		if i < len(e.Details.Report.Hops) {
			if v := e.Details.Report.Hops[i].Worst().Verdict; v >= gate.Ajar {
				glyph = t.Mark(v)
			}
		}
		if e.Walk != nil && e.Walk.Hop == i && e.Walk.Waiting == nil {
			glyph = t.Accent.Render(m.turningMark())
		}
		b.WriteByte(' ')
		if glyph == "" {
			b.WriteString(style.Render(strings.Repeat(stroke, length)))
		} else {
			b.WriteString(style.Render(strings.Repeat(stroke, length-railLength/2-1)) + glyph + style.Render(strings.Repeat(stroke, railLength/2)))
		}
		b.WriteByte(' ')
		name := fit.Cut(h.Name, stationName)
		b.WriteString(name)
		before = 0
		if i < len(widths) {
			before = widths[i] - ansi.StringWidth(name)
		}
	}
	return b.String()
}

// frozenOn is the first frozen link on the live way of a session, or nil.
func frozenOn(e row) *board.Link {
	if e.linkAt(len(e.Details.Prefixes)-1) == nil {
		return nil
	}
	for i := range e.Details.Prefixes {
		if l := e.linkAt(i); l != nil && l.State.Frozen {
			return l
		}
	}
	return nil
}

// visited tells whether a hop's identity is known.
func visited(h gate.Hop) bool {
	for _, g := range h.Gates {
		if g.Kind == gate.Identity {
			return g.Verdict == gate.Open
		}
	}
	return false
}

// listenersShort names the listeners of a session's open tunnels.
func (m *Model) listenersShort(e row) string {
	var b strings.Builder
	for _, l := range m.s.Board.Tunnels(e.Name) {
		arrow := "⇐"
		if l.Kind == "lend" {
			arrow = "⇒"
		}
		b.WriteString("  " + arrow + " " + strings.TrimPrefix(l.Listener, "127.0.0.1"))
	}
	return m.s.Theme.Accent.Render(b.String())
}

// stands says in a few words how a session stands.
func (m *Model) stands(e row, width int) string {
	t := m.s.Theme
	word := func(v gate.Verdict) string { return t.Verdict(v).Render(fit.Pad(v.String(), 8)) }
	if w := e.Walk; w != nil && w.Waiting != nil {
		say := fmt.Sprintf("%s at %s, again in %d s, until %s", w.Waiting.Failure.Cause, w.Waiting.Failure.Hop,
			max(int(time.Until(w.Waiting.Next).Seconds()+0.999), 0), w.Waiting.End.Local().Format("15:04"))
		return t.Accent.Render(fit.Pad("waiting", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.Lost; w != nil && time.Now().Before(w.End) {
		say := fmt.Sprintf("%s at %s, again in %d s, until %s", w.Failure.Cause, w.Failure.Hop, max(int(time.Until(w.Next).Seconds()+0.999), 0), w.End.Local().Format("15:04"))
		return t.Verdict(gate.Ajar).Render(fit.Pad("lost", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.Walk; w != nil {
		at := ""
		if w.Hop < len(e.Details.Route.Hops) {
			at = fmt.Sprintf("%s at %s", w.Gate, e.Details.Route.Hops[w.Hop].Name)
		}
		return t.Accent.Render(fit.Pad("walking", 8)) + t.Faint.Render(fit.Cut(at, width-8))
	}
	if l := frozenOn(e); l != nil {
		say := fmt.Sprintf("%s at %s", fit.Ago(time.Since(l.State.LastIn)), l.State.Hop)
		return t.Verdict(gate.Ajar).Render(fit.Pad("frozen", 8)) + t.Text.Render(fit.Cut("no byte for "+say, width-8))
	}
	if l := e.linkAt(len(e.Details.Route.Hops) - 1); l != nil && len(e.Details.Route.Hops) > 0 {
		detail := fmt.Sprintf("%6s  %7s/s ", fit.Ago(time.Since(l.State.Since)), fit.Bytes(l.Rate()))
		return fit.Cut(t.Live.Render(fit.Pad("live", 8))+t.Faint.Render(detail)+t.Live.Render(fit.Spark(rates(l)))+m.listenersShort(e), width)
	}
	if r := e.Running; r != nil && r.Moved {
		say := "edited since: its shell goes the way it had"
		if r.Shells > 1 {
			say = fmt.Sprintf("edited since: its %d shells go the way it had", r.Shells)
		}
		return t.Live.Render(fit.Pad("live", 8)) + t.Verdict(gate.Ajar).Render(fit.Cut(say, width-8))
	}
	if slices.ContainsFunc(m.s.Board.Tunnels(e.Name), func(l tunnel.Line) bool { return l.Up }) {
		return fit.Cut(t.Live.Render(fit.Pad("live", 8))+t.Verdict(gate.Ajar).Render("edited since: its doors lead the way it had")+m.listenersShort(e), width)
	}
	if e.Details.Report.Broken != "" {
		return word(gate.Shut) + t.Faint.Render(fit.Cut(e.Details.Report.Broken, width-8))
	}
	if e.Failure != nil {
		return word(gate.Shut) + t.Text.Render(fit.Cut(fmt.Sprintf("%s at %s", e.Failure.Cause, e.Failure.Hop), width-8))
	}
	if len(e.Details.Report.Hops) == 0 {
		return "" // it is judged in a moment
	}
	v := e.Details.Report.Verdict()
	if worst, _ := e.Details.Report.Worst(); v >= gate.Ajar {
		return word(v) + t.Text.Render(fit.Cut(fmt.Sprintf("%s: %s", worst.Kind, worst.Reason), width-8))
	}
	if seen := e.Details.Report.Answers(); seen != "" { // what a look found, where nothing is wrong
		if !e.Seen.IsZero() {
			seen += ", " + fit.Ago(time.Since(e.Seen)) + " ago"
		}
		return t.Text.Render(fit.Pad(e.Details.Report.Word(), 8)) + t.Faint.Render(fit.Cut(seen, width-8))
	}
	return word(v)
}

// rates are the last few of a link's, as many as are drawn.
func rates(l *board.Link) []float64 {
	return append(make([]float64, max(4-len(l.Past), 0)), l.Past[max(len(l.Past)-4, 0):]...)
}
