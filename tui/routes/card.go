package routes

import (
	"fmt"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/board"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// leastHop is how many columns a hop needs on the card.
const leastHop = 36

// card draws the gate card of the selected session: its hops side by side, what
// stands at each gate, and below them what is wrong and what mends it.
func (m *Model) card(l layout) []string {
	t, width := m.s.Theme, l.pane
	s, ok := m.current()
	if !ok {
		return []string{t.Rule.Render(strings.Repeat("─", width))}
	}
	e := row{State: s, links: m.s.Board.Links()}
	right := ""
	if e.Walk != nil {
		right = t.Keys(theme.Hint{Key: "esc", Does: "stop"})
	}
	title, note := t.Strong.Render(e.Name), ""
	if s := m.ws.Book.Session(e.Name); s != nil {
		if s.Careful.V == "on" {
			title += t.Rule.Render(" ─ ") + t.Verdict(gate.Ajar).Render("! careful")
		}
		note = sanitize.Line(s.Note.V, 200)
	}
	if room := width - ansi.StringWidth(title) - ansi.StringWidth(right) - 12; note != "" && fit.Width(note) <= room {
		title += t.Rule.Render(" ─ ") + note
		note = ""
	}
	lines := []string{t.Title(title, right, width, fit.Spread)}
	if note != "" {
		for _, l := range fit.Wrap(note, width-4) {
			lines = append(lines, "  "+l)
		}
	}
	if broken := e.Details.Report.Broken; broken != "" {
		lines = append(lines, "")
		for _, l := range fit.Wrap(broken, width-6) {
			lines = append(lines, "   "+t.Verdict(gate.Shut).Render(l))
		}
		lines = append(lines, "")
		return append(lines, wrapped("   "+t.Accent.Render(theme.Remedy+" "), "mend "+m.ws.SessionsPath()+", then press "+t.Key.Render(m.s.Press("read")), width)...)
	}
	if len(e.Details.Report.Hops) == 0 {
		return append(lines, "", "   "+t.Faint.Render("looking …"))
	}
	if m.whole {
		trouble, _ := m.trouble(e, width, l.height-len(lines))
		return append(lines, trouble...)
	}
	hops, listeners := m.hops(e, l, 0), m.listeners(e, width)
	rest := l.height - len(lines) - len(hops) - len(listeners)
	trouble, _ := m.trouble(e, width, rest)
	if spare := rest - len(trouble); spare > 0 {
		hops = m.hops(e, l, spare)
	}
	return slices.Concat(lines, hops, listeners, trouble)
}

// Card is the card of the chosen session with nothing cut, or what stands in its place.
func (m *Model) Card() []string {
	return m.viewPane(layout{beside: true, pane: m.width, height: m.height})
}

// hasMore tells whether the card has more to tell than fits.
func (m *Model) hasMore() bool {
	s, ok := m.current()
	if !ok || len(s.Details.Report.Hops) == 0 {
		return false
	}
	e := row{State: s, links: m.s.Board.Links()}
	l := m.layout()
	rows := l.height - 1
	if !m.whole {
		rows -= len(m.hops(e, l, 0)) + len(m.listeners(e, l.pane))
	}
	_, cut := m.trouble(e, l.pane, rows)
	return cut
}

// listeners draws the session's open tunnels with their direction.
func (m *Model) listeners(e row, width int) []string {
	t := m.s.Theme
	var lines []string
	for _, l := range m.s.Board.Tunnels(e.Name) {
		v, off := l.Standing()
		mark, say := t.Mark(v), fmt.Sprintf("%s, %d live", l.Drawn(), l.Live)
		proven := l.Proof != "" && l.Error == "" && l.Up
		switch {
		case v == gate.Open:
			mark = t.Live.Render("⇄")
		case v == gate.Untried:
			mark = t.Accent.Render(m.turningMark())
		case !proven: // else its gates tell
			say = l.Drawn() + ": " + off
		}
		if l.Beyond {
			say = t.Verdict(gate.Ajar).Render("OPEN TO OTHER MACHINES ") + say
		}
		lines = append(lines, wrapped("   "+mark+" ", say, width)...)
		if proven {
			var gates []string
			for _, g := range l.Gates() {
				one := t.Mark(g.Verdict) + " " + g.Name
				if g.Seen != "" && (g.Name != "service" || l.Heard == "" || g.Verdict != gate.Open) {
					one += t.Faint.Render(" " + g.Seen)
				}
				if g.Name == "first bytes" && g.Verdict == gate.Shut {
					continue // the service's own line has them
				}
				gates = append(gates, one)
			}
			lines = append(lines, wrapped("     ", strings.Join(gates, "   "), width)...)
		}
		if l.Rule != "" && l.Up {
			lines = append(lines, wrapped("     "+t.Accent.Render(theme.Remedy+" "), "for its administrator: "+l.Rule, width)...)
		}
	}
	return lines
}

// wrapped is a text over as many lines as it takes, indented below what it begins with.
func wrapped(begin, text string, width int) []string {
	indent := fit.Width(begin)
	var lines []string
	for i, l := range fit.Wrap(text, max(width-indent-1, 8)) {
		if i > 0 {
			begin = strings.Repeat(" ", indent)
		}
		lines = append(lines, begin+l)
	}
	return lines
}

// hops draws the hops: one below the other with nothing cut where there is room for that, else as
// many side by side as fit, among them the one that matters. What is too long for its column goes
// on below in so many spare lines.
func (m *Model) hops(e row, l layout, spare int) []string {
	n := len(e.Details.Report.Hops)
	if l.beside {
		var lines []string
		for i := range n {
			for _, r := range m.hop(e, i, l.pane) {
				lines = append(lines, r.Whole...)
			}
		}
		if len(lines) <= l.height-8 {
			return lines
		}
	}
	fits := max(min((l.pane-2)/leastHop, n), 1)
	width := min((l.pane-2)/fits, 64)
	first := 0
	if n > fits {
		first = min(max(m.focusHop(e)-fits+1, 0), n-fits)
	}
	columns, height := make([][]fit.Row, fits), 0
	for i := range columns {
		columns[i] = m.hop(e, first+i, width)
		height = max(height, len(columns[i]))
	}
	var lines []string
	for i, rows := range columns {
		column, _ := fit.Rows(rows, worstOf(e.Details.Report.Hops[first+i].Gates)+1, height+spare)
		for len(lines) < len(column) {
			lines = append(lines, strings.Repeat(" ", 1+i*width))
		}
		for row := range lines {
			text := ""
			if row < len(column) {
				text = column[row]
			}
			lines[row] += fit.Pad(text, width)
		}
	}
	return lines
}

// worstOf is which of the gates stands worst.
func worstOf(gates []gate.Gate) int {
	at := 0
	for i := range gates {
		if gates[i].Verdict > gates[at].Verdict {
			at = i
		}
	}
	return at
}

// focusHop is the hop that matters: where the walk is, where something is wrong,
// or the last one.
func (m *Model) focusHop(e row) int {
	if e.Walk != nil {
		return e.Walk.Hop
	}
	if g, at := e.Details.Report.Worst(); g.Verdict >= gate.Ajar {
		return at
	}
	return len(e.Details.Report.Hops) - 1
}

// hop is a hop's name and its gates as rows of a column.
func (m *Model) hop(e row, i, width int) []fit.Row {
	t, h := m.s.Theme, e.Details.Report.Hops[i]
	number := t.Accent.Render(fmt.Sprint(i + 1))
	name := fit.Row{Line: fmt.Sprintf("  %s %s   %s", number, t.Strong.Render(h.Name), t.Faint.Render(h.Where()))}
	if fit.Width(name.Line) < width {
		name.Whole = []string{name.Line}
	} else {
		name.Whole = wrapped("  "+number+" ", t.Strong.Render(h.Name)+" "+t.Faint.Render(h.Where()), width)
		name.Line = fit.Cut(name.Line, width-2)
	}
	rows := []fit.Row{name}
	live := e.linkAt(i) != nil
	for _, g := range h.Gates {
		if live && g.Verdict == gate.Untried && g.Kind < gate.Channel {
			g.Verdict = gate.Open // another session's walk has passed it
		}
		mark, style := t.Mark(g.Verdict), t.Text
		if g.Verdict == gate.Untried {
			style = t.Faint
		}
		if e.Walk != nil && e.Walk.Hop == i && e.Walk.Gate == g.Kind && !e.Walk.Through && e.Walk.Waiting == nil {
			mark, style = t.Accent.Render(m.turningMark()), t.Accent
			if e.Walk.Say != "" {
				g.Seen = sanitize.Line(e.Walk.Say, 200)
			}
		}
		if g.Verdict >= gate.Ajar {
			style = t.Verdict(g.Verdict)
		}
		begin := fmt.Sprintf("    %s %-9s ", mark, g.Kind)
		rows = append(rows, fit.Hang(begin+style.Render(g.Seen), fit.Width(begin), width-2))
	}
	return rows
}

// hasDetail tells whether a gate has more to tell than fits beside it.
func hasDetail(d *board.Details) bool {
	for _, h := range d.Report.Hops {
		for _, g := range h.Gates {
			if len(g.Detail) > 0 {
				return true
			}
		}
	}
	return false
}

// details lists what the gates have to tell: what was tried in which order, what
// the servers said.
func (m *Model) details(e row, width, height int) []string {
	t := m.s.Theme
	var lines []string
	for _, h := range e.Details.Report.Hops {
		for _, g := range h.Gates {
			for i, d := range g.Detail {
				word := ""
				if i == 0 {
					word = h.Name + ", " + g.Kind.String()
				}
				lines = append(lines, "   "+t.Strong.Render(fit.Pad(word, 24))+" "+t.Faint.Render(fit.Cut(d, width-30)))
			}
		}
	}
	return lines[:min(len(lines), max(height, 0))]
}

// remedy is what mends a gate, with the key that does it, as lines.
func (m *Model) remedy(r gate.Remedy, width int) (lines []string) {
	t := m.s.Theme
	if r.IsZero() {
		return nil
	}
	press, key := "", m.s.Press("mend")
	switch r.Act {
	case gate.MendKey, gate.MendFile:
		press = "press " + key + ": "
	case gate.Settle:
		press = "press " + key + " to settle it: "
	case gate.Choose:
		press = "press " + key + " for what may mend it: "
	}
	for i, l := range fit.Wrap(press+r.Say, width-8) {
		mark := "  "
		if i == 0 {
			mark = t.Accent.Render(theme.Remedy + " ")
			if press != "" && strings.HasPrefix(l, press) {
				l = strings.Replace(press, key, t.Key.Render(key), 1) + l[len(press):]
			}
		}
		lines = append(lines, "   "+mark+l)
	}
	return lines
}

// trouble says what is wrong at the worst gate, why, and what mends it; cut tells that
// there is more to tell than fits.
func (m *Model) trouble(e row, width, height int) (shown []string, cut bool) {
	t := m.s.Theme
	worst, at := e.Details.Report.Worst()
	if worst.Verdict < gate.Ajar || e.Walk != nil && e.Walk.Waiting == nil || height < 1 {
		cut = hasDetail(e.Details)
		if m.whole && cut && e.Walk == nil {
			return m.details(e, width, height), cut
		}
		if e.Said != "" && e.Walk == nil {
			return append([]string{""}, wrapped("   "+t.Accent.Render(theme.Done+" "), e.Said, width)...), cut
		}
		return nil, cut
	}
	var lines []string
	if e.Said != "" && worst.Verdict == gate.Ajar { // what was just done comes before what is off
		lines = append(wrapped("   "+t.Accent.Render(theme.Done+" "), e.Said, width), "")
	}
	head := fmt.Sprintf("%s at %s, %s: ", worst.Verdict.Plain(), e.Details.Report.Hops[at].Name, worst.Kind)
	for i, l := range fit.Wrap(head+worst.Reason, width-8) {
		mark := "  "
		if i == 0 {
			mark = t.Mark(worst.Verdict) + " "
			l = t.Verdict(worst.Verdict).Render(l[:min(len(head), len(l))]) + l[min(len(head), len(l)):]
		}
		lines = append(lines, "   "+mark+l)
	}
	remedy := m.remedy(worst.Remedy, width)
	for _, d := range worst.Detail {
		if len(lines)+len(remedy) >= height {
			cut = true
			break
		}
		for _, l := range wrapped("     ", d, width) { // as many lines of it as there is room for
			if len(lines)+len(remedy) < height {
				lines = append(lines, t.Faint.Render(l))
			} else {
				cut = true
			}
		}
	}
	if len(lines)+len(remedy)+1 <= height {
		lines = append([]string{""}, lines...)
	}
	if over := len(lines) + len(remedy) - height; over > 0 { // the remedy stays in view
		lines = lines[:max(len(lines)-over, 1)]
	}
	return append(lines, remedy...), cut
}
