package routes

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/gate"
	"meatus/core/sanitize"
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
			m.lines = append(m.lines, boardLine{m.entries[i].site, i})
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
	for i := range m.entries {
		site := m.entries[i].site
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
	order := make([]int, len(m.entries))
	for i := range order {
		order[i] = i
	}
	slices.SortStableFunc(order, func(a, b int) int {
		x, y := m.entries[a].name, m.entries[b].name
		if m.sorted == markedFirst {
			return cmp.Compare(rankOf(m.marks[y]), rankOf(m.marks[x]))
		}
		return m.visits[y].Compare(m.visits[x])
	})
	for _, i := range order {
		m.lines = append(m.lines, boardLine{m.entries[i].site, i})
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
	m.lineOf = make([]int, len(m.entries))
	for n, l := range m.lines {
		if l.session >= 0 {
			m.lineOf[l.session] = n
		}
	}
}

// board draws the visible part of the board.
func (m *Model) board(height int) []string {
	if len(m.entries) == 0 {
		return m.emptyBoard(height)
	}
	if len(m.lines) == 0 {
		return []string{"", "   " + m.theme.Faint.Render("Nothing matches.")}
	}
	m.scrollTo(height)
	shown := m.lines[m.top:min(m.top+height, len(m.lines))]
	widths := m.stationWidths(shown)
	railWidth := len("here")
	for _, w := range widths {
		railWidth += m.railLength() + 2 + w
	}
	names := 10
	for _, l := range shown {
		if l.session >= 0 {
			names = max(names, min(utf8.RuneCountInString(m.entries[l.session].name), longestName))
		}
	}
	railWidth = min(railWidth, max(m.width-names-33, 20))
	out := make([]string, 0, height)
	for _, l := range shown {
		if l.session < 0 {
			out = append(out, "  "+m.theme.Faint.Render(sanitize.Line(l.site, 40)))
			continue
		}
		out = append(out, m.boardRow(l.session, names, widths, railWidth))
	}
	return out
}

func (m *Model) emptyBoard(height int) []string {
	t := m.theme
	lines := []string{"", "   " + t.Strong.Render("No sessions yet."), "",
		"   " + t.Key.Render("n") + " writes one in a line, like",
		"   " + t.Accent.Render("tide-db = keeper@10.61.4.20 via quay with tide.pem"), "",
		"   " + t.Faint.Render("It is kept in "+m.ws.SessionsPath()),
		"   " + t.Faint.Render("meatus demo shows a made-up bay to try things in.")}
	return lines[:min(len(lines), height)]
}

// scrollTo keeps the selected session, and its site's line, in view.
func (m *Model) scrollTo(height int) {
	at := m.lineOf[m.cursor]
	first := at
	if at > 0 && m.lines[at-1].session < 0 {
		first = at - 1
	}
	m.top = min(m.top, first)
	m.top = max(m.top, at-height+1)
	m.top = max(min(m.top, len(m.lines)-height), 0)
}

// stationWidths is how wide the names at each depth are among the lines shown,
// so that their rails line up.
func (m *Model) stationWidths(shown []boardLine) []int {
	var widths []int
	for _, l := range shown {
		if l.session < 0 {
			continue
		}
		for i, h := range m.entry(l.session).route.Hops {
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], min(utf8.RuneCountInString(h.Name), stationName))
		}
	}
	return widths
}

func (m *Model) boardRow(i, names int, widths []int, railWidth int) string {
	t, e := m.theme, m.entry(i)
	selected := i == m.cursor
	mark, name := "  ", t.Text.Render(fit.Pad(e.name, names))
	if selected {
		mark, name = t.Accent.Render("❯ "), t.Strong.Render(fit.Pad(e.name, names))
	}
	if m.marks[e.name] {
		mark = " " + t.Accent.Render("▪")
		if selected {
			mark = t.Accent.Render("❯▪")
		}
	}
	state := m.state(e, max(m.width-names-railWidth-8, 0))
	return "  " + mark + name + "  " + fit.Pad(m.rail(e, widths), railWidth) + "  " + state
}

// rail draws a session's way.
func (m *Model) rail(e *entry, widths []int) string {
	t := m.theme
	var b strings.Builder
	b.WriteString(t.Faint.Render("here"))
	before := 0
	for i, h := range e.route.Hops {
		stroke, style := "┈", t.Rule
		switch {
		case m.linkAt(e, i) != nil && m.linkAt(e, i).state.Frozen:
			stroke, style = "╍", t.Verdict(gate.Ajar)
		case m.linkAt(e, i) != nil:
			stroke, style = "━", t.Live
		case i < len(e.report.Hops) && visited(e.report.Hops[i]):
			stroke = "─"
		}
		railLength := m.railLength()
		length := railLength + before
		glyph := ""
		if i < len(e.report.Hops) {
			if v := e.report.Hops[i].Worst().Verdict; v >= gate.Ajar {
				glyph = t.Mark(v)
			}
		}
		if e.walk != nil && e.walk.hop == i && e.walk.waiting == nil {
			glyph = t.Accent.Render(m.turning())
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
func (m *Model) frozenOn(e *entry) *link {
	if m.linkAt(e, len(e.prefixes)-1) == nil {
		return nil
	}
	for i := range e.prefixes {
		if l := m.linkAt(e, i); l != nil && l.state.Frozen {
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

// doorsShort names the doors of a session's open tunnels.
func (m *Model) doorsShort(e *entry) string {
	var b strings.Builder
	for _, l := range m.openTunnels(e.name) {
		arrow := "⇐"
		if l.Kind == "lend" {
			arrow = "⇒"
		}
		b.WriteString("  " + arrow + " " + strings.TrimPrefix(l.Door, "127.0.0.1"))
	}
	return m.theme.Accent.Render(b.String())
}

// state says in a few words how a session stands.
func (m *Model) state(e *entry, width int) string {
	t := m.theme
	word := func(v gate.Verdict) string { return t.Verdict(v).Render(fit.Pad(v.String(), 8)) }
	if w := e.walk; w != nil && w.waiting != nil {
		say := fmt.Sprintf("%s at %s, again in %d s, until %s", w.waiting.Failure.Cause, w.waiting.Failure.Hop,
			max(int(time.Until(w.waiting.Next).Seconds()+0.999), 0), w.waiting.End.Local().Format("15:04"))
		return t.Accent.Render(fit.Pad("waiting", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.lost; w != nil && time.Now().Before(w.End) {
		say := fmt.Sprintf("%s at %s, again in %d s, until %s", w.Failure.Cause, w.Failure.Hop, max(int(time.Until(w.Next).Seconds()+0.999), 0), w.End.Local().Format("15:04"))
		return t.Verdict(gate.Ajar).Render(fit.Pad("lost", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.walk; w != nil {
		at := ""
		if w.hop < len(e.route.Hops) {
			at = fmt.Sprintf("%s at %s", w.gate, e.route.Hops[w.hop].Name)
		}
		return t.Accent.Render(fit.Pad("walking", 8)) + t.Faint.Render(fit.Cut(at, width-8))
	}
	if l := m.frozenOn(e); l != nil {
		say := fmt.Sprintf("%s at %s", fit.Ago(time.Since(l.state.LastIn)), l.state.Hop)
		return t.Verdict(gate.Ajar).Render(fit.Pad("frozen", 8)) + t.Text.Render(fit.Cut("no byte for "+say, width-8))
	}
	if l := m.linkAt(e, len(e.route.Hops)-1); l != nil && len(e.route.Hops) > 0 {
		detail := fmt.Sprintf("%6s  %7s/s ", fit.Ago(time.Since(l.state.Since)), fit.Bytes(l.rate()))
		return fit.Cut(t.Live.Render(fit.Pad("live", 8))+t.Faint.Render(detail)+t.Live.Render(fit.Spark(l.rates()))+m.doorsShort(e), width)
	}
	if e.report.Broken != "" {
		return word(gate.Shut) + t.Faint.Render(fit.Cut(e.report.Broken, width-8))
	}
	if e.failure != nil {
		return word(gate.Shut) + t.Text.Render(fit.Cut(fmt.Sprintf("%s at %s", e.failure.Cause, e.failure.Hop), width-8))
	}
	v := e.report.Verdict()
	if worst, _ := e.report.Worst(); v >= gate.Ajar {
		return word(v) + t.Text.Render(fit.Cut(fmt.Sprintf("%s: %s", worst.Kind, worst.Reason), width-8))
	}
	if at := len(e.report.Hops) - 1; at >= 0 { // what a check found, where it is not wrong
		for _, g := range e.report.Hops[at].Gates {
			if g.Kind == gate.Port && g.Verdict == gate.Open {
				return word(v) + t.Faint.Render(fit.Cut(g.Seen, width-8))
			}
		}
	}
	return word(v)
}
