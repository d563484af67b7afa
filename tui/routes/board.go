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
	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

const (
	longestName = 24 // columns of a session's name on the board, at most
	step        = 5  // columns from a branch's rail to that of what hangs from it
	leastStands = 30 // columns that how a session stands has, at least
)

// boardLine is one line of the board: here, a hop that has no session of its own, or a session.
type boardLine struct {
	site    string  // of the session, where it is the first of that site among its fellows
	session int     // -1 for a line without one
	depth   int     // how many rails lead to it, 0 where the board is no tree
	parent  *branch // that it hangs from
	branch  *branch // that hangs from it, nil where nothing does
}

// tree tells whether the ways are drawn as a tree: where a filter or an order tears its
// branches apart, they are told in words.
func (m *Model) tree() bool { return !m.find.on && m.sorted == asWritten }

// lay orders the sessions by the ways they share, as the file has them; while the board is
// narrowed, by how well they match.
func (m *Model) lay() {
	m.lines = slices.Grow(m.lines[:0], m.sessions()+1)
	switch {
	case m.find.on:
		for _, i := range m.find.found {
			m.lines = append(m.lines, boardLine{session: i})
		}
	case m.sorted != asWritten:
		m.laySorted()
	case m.sessions() > 0:
		m.layTree()
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
		switch m.sorted {
		case markedFirst:
			return cmp.Compare(rankOf(m.s.Board.Marked(y)), rankOf(m.s.Board.Marked(x)))
		case worstFirst:
			return cmp.Compare(m.s.Board.Verdict(y), m.s.Board.Verdict(x))
		}
		return m.s.Board.Visited(y).Compare(m.s.Board.Visited(x))
	})
	for _, i := range order {
		m.lines = append(m.lines, boardLine{session: i})
	}
}

func rankOf(marked bool) int {
	if marked {
		return 1
	}
	return 0
}

// placeLines notes where each session stands on the board, or what it is folded away in.
func (m *Model) placeLines() {
	m.lineOf = make([]int, m.sessions())
	for n, l := range m.lines {
		if m.tree() && l.branch != nil && l.branch.folded {
			for _, i := range l.branch.all {
				m.lineOf[i] = n
			}
		}
	}
	for n, l := range m.lines {
		if l.session >= 0 {
			m.lineOf[l.session] = n
		}
	}
}

func (m *Model) siteOf(i int) string { return m.ws.Book.Sessions[i].Site.V }

// shown are the lines of the board that are in view.
func (m *Model) shown() []boardLine {
	rows := m.boardRows()
	return m.lines[min(m.top, len(m.lines)):min(m.top+rows, len(m.lines))]
}

// boardLines draws the visible part of the board, and tells which of the lines in view each row is of.
// While the whole board is in view, what has no room beside a name goes on below it.
func (m *Model) boardLines(l layout) (lines []string, of []int) {
	if m.sessions() == 0 {
		return m.emptyBoard(l), nil
	}
	if len(m.lines) == 0 {
		return []string{"", "   " + m.s.Theme.Faint.Render("Nothing matches.")}, nil
	}
	shown := m.shown()
	states := make([]board.State, len(shown))
	names := 12
	for n, l := range shown {
		indent := max(l.depth*step, 0)
		if l.session >= 0 {
			states[n] = m.state(l.session)
			names = max(names, indent+min(utf8.RuneCountInString(states[n].Name), longestName))
		} else if l.branch != nil {
			names = max(names, indent+min(utf8.RuneCountInString(l.branch.name), longestName))
		}
	}
	names = min(names, max(l.width-leastStands-8, 20))
	links := m.s.Board.Links()
	live := m.liveTo()
	rows, chosen := make([]fit.Row, 0, len(shown)), -1
	for n, line := range shown {
		if line.session < 0 {
			hop := fit.Cut(m.hopLine(line, m.top+n, links, live), l.width)
			rows = append(rows, fit.Row{Line: hop, Whole: []string{hop}})
			continue
		}
		if line.session == m.cursor {
			chosen = n
		}
		e := row{State: states[n], links: links}
		head := m.rowHead(line, m.top+n, e, names, live)
		r := fit.Row{Line: m.boardRow(line, m.top+n, e, head, l.width)}
		if len(m.lines) < l.rows {
			r.Whole = m.wholeRow(line, m.top+n, e, head, l.width, live)
		}
		rows = append(rows, r)
	}
	return fit.Rows(rows, chosen, l.rows)
}

// wholeRow is a session of the board with all that is said of how it stands, nil where its row has room
// for that.
func (m *Model) wholeRow(l boardLine, at int, r row, head string, columns int, live map[*branch]int) []string {
	const much = 1000
	column, stands, end := fit.Width(head), m.stands(r, much), m.rowEnd(l, r)
	taken := column + fit.Width(stands)
	if end != "" {
		taken += fit.Width(end) + 3
	}
	if taken <= columns || columns-column < leastStands {
		return nil
	}
	rails := "  "
	if l.parent != nil {
		rails += m.rails(l, at, live) + m.rail(l.parent, at, live) + "    "
	}
	if l.branch != nil && m.tree() && !l.branch.folded {
		rails += m.rail(l.branch, at, live)
	}
	var lines []string
	for n, part := range fit.Wrap(stands, columns-column) {
		if n > 0 {
			head = fit.Pad(rails, column)
		}
		lines = append(lines, head+part)
	}
	switch last := len(lines) - 1; {
	case end == "":
	case last > 0 && fit.Width(lines[last])+fit.Width(end)+3 <= columns:
		lines[last] = fit.Spread(lines[last], end+" ", columns, " ")
	default:
		lines = append(lines, fit.Spread(fit.Pad(rails, column), fit.Cut(end, columns-column-1)+" ", columns, " "))
	}
	return lines
}

// rail is the rail that a branch passes on to what stands below a line, blank where nothing does.
func (m *Model) rail(n *branch, at int, live map[*branch]int) string {
	switch to, ok := live[n]; {
	case n.last <= at:
		return " "
	case ok && to > at:
		return m.s.Theme.Live.Render("┃")
	}
	return m.s.Theme.Rule.Render("│")
}

// liveTo is for each branch the last line at which something live hangs from it.
func (m *Model) liveTo() map[*branch]int {
	to := map[*branch]int{}
	if !m.tree() {
		return to
	}
	for _, i := range m.s.Board.Live() {
		if i >= len(m.lineOf) {
			continue
		}
		at := m.lineOf[i]
		for n := m.lines[at].parent; n != nil; n = n.parent {
			if was, ok := to[n]; !ok || was < at {
				to[n] = at
			}
			at = n.line
		}
	}
	return to
}

// hopLine draws here, or a hop that no session of the file is by that way.
func (m *Model) hopLine(l boardLine, at int, links *board.Links, live map[*branch]int) string {
	t := m.s.Theme
	if l.parent == nil {
		return "  " + t.Accent.Render("here")
	}
	_, carries := live[l.branch]
	name := t.Faint.Render(sanitize.Line(l.branch.name, longestName))
	if m.ws.Book.Gateway(l.branch.name) != nil {
		name = t.Accent.Render(theme.Gateway) + " " + name + t.Faint.Render("   gateway")
	}
	return "  " + m.rails(l, at, live) + m.joint(l, at, live, carries, known, "") + "  " + name
}

// The strokes of a way: how it stands as far as a machine.
const (
	unknown = "┈"
	known   = "─"
	alive   = "━"
	still   = "╍" // frozen
)

// rails are the rails of the ways that pass a line on to what stands below it.
func (m *Model) rails(l boardLine, at int, live map[*branch]int) string {
	text := ""
	for n := l.parent; n.parent != nil; n = n.parent {
		text = m.rail(n.parent, at, live) + "    " + text
	}
	return text
}

// joint is where a line hangs from its rail: the rail's end or a turn off it, and the stroke to
// the name, with a mark in it where there is one.
func (m *Model) joint(l boardLine, at int, live map[*branch]int, lives bool, stroke, mark string) string {
	t := m.s.Theme
	to, ok := live[l.parent]
	up, down := ok && to >= at, ok && to > at
	turn := map[[3]bool]string{
		{false, false, false}: "├", {true, false, false}: "┞", {true, true, false}: "┠", {true, true, true}: "┣", {true, false, true}: "┡", {false, false, true}: "┝",
	}
	if l.parent.last <= at {
		turn = map[[3]bool]string{{false, false, false}: "└", {true, false, false}: "┖", {true, false, true}: "┗", {false, false, true}: "┕"}
	}
	style, joint := t.Rule, t.Rule
	if up || lives {
		joint = t.Live
	}
	switch stroke {
	case alive:
		style = t.Live
	case still:
		style = t.Verdict(gate.Ajar)
	}
	if mark == "" {
		mark = style.Render(stroke)
	}
	return joint.Render(turn[[3]bool{up, down, lives}]) + style.Render(stroke) + mark
}

// row is one session of the board with the links as they are.
type row struct {
	board.State
	links *board.Links
}

// linkAt is the live link at hop i, or nil.
func (r row) linkAt(i int) *board.Link {
	if i < 0 || i >= len(r.Details.Links) {
		return nil
	}
	return r.links.At(r.Details.Links[i])
}

func (m *Model) emptyBoard(l layout) []string {
	t := m.s.Theme
	lines := []string{"", "   " + t.Strong.Render("No sessions yet."), "",
		"   " + t.Key.Render("n") + " writes one in a line, like",
		"   " + t.Accent.Render("tide-db = keeper@10.61.4.20 via quay with tide.pem"), "",
		fit.Cut("   "+t.Faint.Render("It is kept in "+m.ws.SessionsPath()), l.width),
		"   " + t.Faint.Render("meatus demo shows a made-up bay to try things in.")}
	return lines[:min(len(lines), l.rows)]
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

// rowHead is the rails that lead to a session, and its name.
func (m *Model) rowHead(l boardLine, at int, r row, names int, live map[*branch]int) string {
	t := m.s.Theme
	selected := l.session == m.cursor
	lead := ""
	if l.parent != nil {
		stroke, mark := m.stroke(r)
		lead = m.rails(l, at, live) + m.joint(l, at, live, stroke == alive || stroke == still, stroke, mark)
	}
	room := max(names-l.depth*step, 8)
	slot, name := "  ", t.Text.Render(fit.Pad(fit.Cut(r.Name, room), room))
	if selected {
		slot, name = t.Accent.Render(theme.Chosen+" "), t.Strong.Render(fit.Pad(fit.Cut(r.Name, room), room))
	}
	if m.s.Board.Marked(r.Name) {
		slot = " " + t.Accent.Render(theme.Marked)
		if selected {
			slot = t.Accent.Render(theme.Chosen + theme.Marked)
		}
	}
	margin := "  "
	if s := m.ws.Book.Session(r.Name); s != nil && s.Careful.V == "on" {
		margin = " " + t.Verdict(gate.Ajar).Render("!")
	}
	return margin + lead + slot + name + "  "
}

// boardRow draws one session: the rails that lead to it, its name, and how it stands.
func (m *Model) boardRow(l boardLine, at int, r row, left string, columns int) string {
	width := max(columns-ansi.StringWidth(left), 0)
	right := m.rowEnd(l, r)
	if l.site != "" && m.tree() && (l.branch == nil || !l.branch.folded) { // a site gives way to what is the matter
		if whole := m.stands(r, width); ansi.StringWidth(whole)+ansi.StringWidth(right)+2 > width {
			return left + whole
		}
	}
	stands := m.stands(r, max(width-ansi.StringWidth(right)-2, leastStands-2))
	if l.branch != nil && l.branch.folded { // what is folded away is told before how the bastion stands
		stands = fit.Cut(stands, max(width-ansi.StringWidth(right)-2, 0))
	}
	if right == "" || ansi.StringWidth(stands)+ansi.StringWidth(right)+2 > width {
		return fit.Cut(left+m.stands(r, width), columns)
	}
	return left + fit.Spread(stands, right+" ", width, " ")
}

// rowEnd is what stands at the right end of a row: what is folded away, the way in words, or the site.
func (m *Model) rowEnd(l boardLine, r row) string {
	t := m.s.Theme
	switch {
	case l.branch != nil && l.branch.folded:
		return t.Accent.Render("▸ ") + t.Faint.Render(m.hides(l.branch))
	case !m.tree():
		return t.Faint.Render(via(r))
	case l.site != "":
		return t.Faint.Render(sanitize.Line(l.site, 24))
	}
	return ""
}

// via tells the way to a session in words, "" for one that is reached from here.
func via(r row) string {
	hops := r.Details.Route.Hops
	if len(hops) < 2 {
		return ""
	}
	var names []string
	for _, h := range hops[:len(hops)-1] {
		names = append(names, h.Name)
	}
	return "via " + strings.Join(names, " ▸ ")
}

// hides says what is folded away in a branch.
func (m *Model) hides(n *branch) string {
	c := m.s.Board.Tally(n.all)
	say := words.Count(c.Sessions, "machine")
	if c.Live > 0 {
		say += fmt.Sprintf(", %d live", c.Live)
	}
	if c.Shut > 0 {
		say += fmt.Sprintf(", %d blocked", c.Shut)
	}
	return say
}

// stroke is how the way to a session's machine is drawn, and the mark in it where something is
// wrong there or it is walked to.
func (m *Model) stroke(e row) (stroke, mark string) {
	t, last := m.s.Theme, len(e.Details.Route.Hops)-1
	stroke = unknown
	switch link := e.linkAt(last); {
	case link != nil && link.State.Frozen:
		stroke = still
	case link != nil, e.Running != nil:
		stroke = alive
	case last >= 0 && last < len(e.Details.Report.Hops) && visited(e.Details.Report.Hops[last]):
		stroke = known
	}
	if n := len(e.Details.Report.Hops); n > 0 {
		if v := e.Details.Report.Hops[n-1].Worst().Verdict; v >= gate.Ajar {
			mark = t.Mark(v)
		}
	} else if e.Details.Report.Broken != "" {
		mark = t.Mark(gate.Shut)
	}
	if e.Walk != nil && e.Walk.Waiting == nil {
		mark = t.Accent.Render(m.turningMark())
	}
	return stroke, mark
}

// frozenOn is the first frozen link on the live way of a session, or nil.
func frozenOn(e row) *board.Link {
	if e.linkAt(len(e.Details.Links)-1) == nil {
		return nil
	}
	for i := range e.Details.Links {
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

// tags tell what a session has besides its shells: keys that are lent, windows, and how many shells
// where there are several.
func (m *Model) tags(e row) string {
	r := e.Running
	if r == nil {
		return ""
	}
	var tags []string
	if r.Shells > 1 {
		tags = append(tags, fmt.Sprintf("%d shells", r.Shells))
	}
	if len(r.Lent) > 0 {
		tags = append(tags, "lends "+strings.Join(r.Lent, " "))
	}
	if r.Windows > 0 {
		tags = append(tags, words.Count(r.Windows, "window"))
	}
	if len(tags) == 0 {
		return ""
	}
	return m.s.Theme.Accent.Render("  " + strings.Join(tags, ", "))
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
	word := func(v gate.Verdict) string {
		if v == gate.Untried { // nothing stands behind it
			return t.Verdict(v).Render(fit.Cut(v.Plain(), width))
		}
		return t.Verdict(v).Render(fit.Pad(v.Plain(), 8))
	}
	if w := e.Walk; w != nil && w.Waiting != nil {
		say := fmt.Sprintf("again in %d s, until %s: %s at %s", max(int(time.Until(w.Waiting.Next).Seconds()+0.999), 0), w.Waiting.End.Local().Format("15:04"),
			w.Waiting.Failure.Cause, w.Waiting.Failure.Hop)
		return t.Accent.Render(fit.Pad("waiting", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.Lost; w != nil && time.Now().Before(w.End) {
		say := fmt.Sprintf("again in %d s, until %s: %s at %s", max(int(time.Until(w.Next).Seconds()+0.999), 0), w.End.Local().Format("15:04"), w.Failure.Cause, w.Failure.Hop)
		return t.Verdict(gate.Ajar).Render(fit.Pad("lost", 8)) + t.Faint.Render(fit.Cut(say, width-8))
	}
	if w := e.Walk; w != nil {
		at := ""
		if w.Hop < len(e.Details.Route.Hops) {
			at = fmt.Sprintf("%s at %s", w.Gate, e.Details.Route.Hops[w.Hop].Name)
		}
		return t.Accent.Render(fit.Pad("connecting", 11)) + t.Faint.Render(fit.Cut(at, width-11))
	}
	if l := frozenOn(e); l != nil {
		say := fmt.Sprintf("%s at %s", fit.Ago(time.Since(l.State.LastIn)), l.State.Hop)
		return t.Verdict(gate.Ajar).Render(fit.Pad("frozen", 8)) + t.Text.Render(fit.Cut("no byte for "+say, width-8))
	}
	if l := e.linkAt(len(e.Details.Route.Hops) - 1); l != nil && len(e.Details.Route.Hops) > 0 {
		detail := fmt.Sprintf("%6s  %7s/s ", fit.Ago(time.Since(l.State.Since)), words.Bytes(l.Rate()))
		return fit.Cut(t.Live.Render(fit.Pad("live", 8))+t.Faint.Render(detail)+t.Live.Render(fit.Spark(rates(l)))+m.listenersShort(e)+m.tags(e), width)
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
