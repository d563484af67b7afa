package watch

import (
	"fmt"
	"strings"
	"time"

	"meatus/core/cargo"
	"meatus/core/gate"
	"meatus/core/tunnel"
	"meatus/core/words"
	"meatus/tui/chart"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

func (m *Model) mapRoom() int { return max((m.height-9)/3, 3) }

// mapShown is how many lines the map has.
func (m *Model) mapShown() int {
	from, to := m.stops.Window()
	return max(to-from, 1)
}

// mapMore is one where ways are left out below.
func (m *Model) mapMore() int {
	if _, to := m.stops.Window(); m.stops.Len() > to {
		return 1
	}
	return 0
}

// listRoom is how many lines the list has.
func (m *Model) listRoom() int {
	rest := m.height - 8 - m.mapShown() - m.mapMore()
	return max(min(m.rows.Len(), max(rest*2/5, 4)), 1)
}

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Accent.Render("watch"), t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	if m.stops.Len() == 0 {
		lines = append(lines, fit.Hang("   "+t.Faint.Render("Nothing is connected. On Routes, enter opens a shell and "+m.s.Press("tunnels")+" a session's tunnels."), 3, m.width-1).Whole...)
	} else {
		lines = append(lines, m.whole(), "   "+t.Accent.Render("here"))
	}
	names := m.namesWidth()
	lines = append(lines, m.stops.Lines(func(s stop, chosen bool) string { return m.stopLine(s, chosen, names) })...)
	if _, to := m.stops.Window(); m.stops.Len() > to {
		more := m.stops.Len() - to
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	lines = append(append(lines, m.cargoLines()...), "")
	lines = append(lines, m.listLines()...)
	lines = append(lines, "")
	return append(lines, m.bottom(m.height-len(lines))...)
}

// maxCargo is how many carries show at once.
const maxCargo = 4

// cargoLines draw the files that are on the move: from where, to where, and how far.
func (m *Model) cargoLines() []string {
	t := m.s.Theme
	var lines []string
	for _, c := range m.s.Jobs.Cargo() {
		if len(lines) == maxCargo {
			break
		}
		wide := max(min(m.width/3, 48), 20)
		lines = append(lines, fit.Cut("   "+t.Live.Render("▷ ")+fit.Pad(cargo.Say(c.Of), wide)+" "+chart.Bar(t, c.Progress, max(m.width/8, 8)), m.width))
	}
	return lines
}

// bottom is the chart, or what happened meanwhile, with the events beside it where
// there is room, or below it.
func (m *Model) bottom(height int) []string {
	if height < 3 {
		return nil
	}
	wide := m.width
	beside := m.width >= 110
	if beside {
		wide = m.width*2/3 - 1
	}
	over := height
	if !beside && height > 12 {
		over = height - 4
	}
	var left []string
	if m.recap != nil {
		left = m.recapLines(wide, over)
	} else {
		left = m.chart(wide, over)
	}
	if len(left) == 0 {
		return m.eventLines(m.width, height)
	}
	if !beside {
		if rest := height - len(left) - 1; rest > 2 {
			left = append(append(left, ""), m.eventLines(m.width, rest)...)
		}
		return left
	}
	return fit.Beside(left, m.eventLines(m.width-wide-2, height), wide+1)
}

func (m *Model) eventLines(width, height int) []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Strong.Render("events"), "", width, fit.Spread)}
	if len(m.events) == 0 {
		lines = append(lines, "   "+t.Faint.Render("none yet"))
	}
	for i := len(m.events) - 1; i >= 0 && len(lines) < height; i-- {
		at := m.events[i].From.Format("15:04:05")
		for n, l := range fit.Wrap(m.events[i].Line(), width-14) {
			if len(lines) == height {
				break
			}
			if n > 0 {
				at = strings.Repeat(" ", 8)
			}
			lines = append(lines, fit.Cut("   "+t.Faint.Render(at)+"  "+l, width))
		}
	}
	return lines
}

// summary answers whether the laptop may be closed: what that would cut.
func (m *Model) summary() string {
	say := "closing the lid now cuts nothing of yours"
	if m.counts != (counts{}) {
		say = "closing the lid now cuts " + strings.Join([]string{words.Count(m.counts.shells, "shell"), words.Count(m.counts.tunnels, "tunnel"), words.Count(m.counts.flows, "flow")}, ", ")
	}
	for _, o := range m.others {
		say += fmt.Sprintf("; %s has %s", o.What, words.Count(len(o.Lines), "tunnel"))
	}
	return say
}

// strokeLength is how long a link is drawn.
const strokeLength = 2

// stroke draws a link by what it carries, in bytes a second: thin where that is nothing, heavy with
// more, and at its end which way most of it goes.
func (m *Model) stroke(l liveLink) string {
	t := m.s.Theme
	in, out := m.rates(l)
	switch {
	case l.Frozen:
		return t.Verdict(gate.Ajar).Render(strings.Repeat("╍", strokeLength))
	case in+out < 1:
		return t.Live.Render(strings.Repeat("─", strokeLength))
	}
	glyph, end := "━", "›"
	if in+out >= 1<<20 {
		glyph = "═"
	}
	if in > out {
		end = "‹"
	}
	if !t.Still && m.frame%2 == 1 {
		return t.Live.Render(end + glyph)
	}
	return t.Live.Render(glyph + end)
}

// rates of a link, in bytes a second.
func (m *Model) rates(l liveLink) (in, out float64) {
	return m.series(l.key).Now(time.Now())
}

// whole tells of everything in a line: what comes and goes, by how many links, and the worst round
// trip among them.
func (m *Model) whole() string {
	t := m.s.Theme
	var in, out float64
	links, frozen := 0, 0
	var worst liveLink
	for _, s := range m.stops.All() {
		if s.hops != nil {
			continue
		}
		links++
		if s.Below == 0 { // what goes through others is within them
			i, o := m.rates(s.liveLink)
			in, out = in+i, out+o
		}
		if s.RoundTrip > worst.RoundTrip {
			worst = s.liveLink
		}
		if s.Frozen {
			frozen++
		}
	}
	say := fmt.Sprintf("in %s/s  out %s/s  %s", words.Bytes(in), words.Bytes(out), words.Count(links, "link"))
	if worst.RoundTrip > 0 {
		say += fmt.Sprintf("  worst round trip %s, to %s", fit.RoundTrip(worst.RoundTrip), worst.Hop)
	}
	line := "   " + t.Strong.Render(say)
	if frozen > 0 {
		line += "  " + t.Verdict(gate.Ajar).Render(fmt.Sprintf("%d frozen", frozen))
	}
	if lost := m.stops.Len() - links; lost > 0 {
		line += "  " + t.Verdict(gate.Shut).Render(fmt.Sprintf("%d lost", lost))
	}
	return fit.Cut(line, m.width)
}

// name is what a stop of the map is called.
func (s stop) name() string {
	if s.hops != nil {
		return strings.Join(s.hops, " ╌ ")
	}
	if s.Lane > 0 {
		return fmt.Sprintf("%s link %d", s.Hop, s.Lane+1)
	}
	if s.Gateway {
		return theme.Gateway + " " + s.Hop
	}
	return s.Hop
}

// railWidth is how wide a rail of the map is.
const railWidth = 4

// namesWidth is how wide the rails with the names are drawn.
func (m *Model) namesWidth() int {
	most := 0
	from, to := m.stops.Window()
	for _, s := range m.stops.Shown()[from:to] {
		most = max(most, len(s.rails)*railWidth+fit.Width(s.name()))
	}
	return min(most, m.width/2)
}

// stopLine draws a line of the map: the rails that lead to it, the link as what it carries, and the
// figures in columns.
func (m *Model) stopLine(s stop, selected bool, names int) string {
	t := m.s.Theme
	pointer, name := "  ", t.Text
	if selected {
		pointer = t.Faint.Render(theme.Chosen + " ")
		if m.focus == onMap {
			pointer, name = t.Accent.Render(theme.Chosen+" "), t.Strong
		}
	}
	rails := ""
	for _, on := range s.rails[:len(s.rails)-1] {
		rail := " "
		if on {
			rail = "│"
		}
		rails += t.Rule.Render(rail) + strings.Repeat(" ", railWidth-1)
	}
	turn := "└"
	if s.rails[len(s.rails)-1] {
		turn = "├"
	}
	left := rails + t.Live.Render(turn)
	if s.hops != nil {
		gone := t.Verdict(gate.Shut)
		left = " " + pointer + rails + gone.Render(turn+"╌╌ ") + t.Strong.Render(s.name())
		return fit.Cut(fit.Pad(left, names+4)+"  "+gone.Render("lost for "+fit.Ago(time.Since(s.lost))+", reconnected")+t.Faint.Render("  "+s.whose), m.width)
	}
	left = " " + pointer + left + m.stroke(s.liveLink) + " " + name.Render(s.name())
	in, out := m.rates(s.liveLink)
	detail := t.Faint.Render(fmt.Sprintf("%8s  ↓%8s/s  ↑%8s/s  %s, up %s", fit.RoundTrip(s.RoundTrip), words.Bytes(in), words.Bytes(out), words.Count(s.Channels, "channel"), fit.Ago(time.Since(s.Since))))
	if s.Again > 0 {
		detail += t.Faint.Render(fmt.Sprintf(", came back %d×", s.Again))
	}
	if s.Frozen {
		detail = t.Verdict(gate.Ajar).Render("frozen: no byte from " + s.Hop + " for " + fit.Ago(time.Since(s.LastIn)))
	}
	if s.whose != "" {
		detail += "  " + t.Accent.Render(s.whose)
	}
	return fit.Cut(fit.Pad(left, names+4)+"  "+detail, m.width)
}

// listLines draws the listeners, and the flows and shells.
func (m *Model) listLines() []string {
	t := m.s.Theme
	title := t.Strong.Render("what runs") + t.Faint.Render(" by "+groups[m.group]+", first by "+orders[m.order])
	if m.find != "" {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.find)
	}
	lines := []string{t.Title(title, "", m.width, fit.Spread)}
	if m.rows.Len() == 0 {
		return append(lines, "   "+t.Faint.Render("no tunnel is open, no shell runs"))
	}
	lines = append(lines, m.rows.Lines(func(r row, chosen bool) string { return fit.Cut(m.rowLine(r, chosen), m.width) })...)
	if _, to := m.rows.Window(); m.rows.Len() > to {
		more := m.rows.Len() - to
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	return lines
}

func (m *Model) rowLine(r row, selected bool) string {
	t := m.s.Theme
	pointer := "   "
	if selected && m.onList {
		pointer = t.Faint.Render(" " + theme.Chosen + " ")
		if m.focus == onRows {
			pointer = t.Accent.Render(" " + theme.Chosen + " ")
		}
	}
	strong := func(s string) string {
		if selected && m.onList {
			return t.Strong.Render(s)
		}
		return s
	}
	switch {
	case r.listener != nil:
		whose := ""
		if r.other != nil {
			whose = t.Accent.Render(r.other.What) + " "
		}
		return pointer + m.listenerLine(*r.listener, whose)
	case r.head != "":
		return pointer + t.Strong.Render(r.head) + t.Faint.Render(fmt.Sprintf("  ↓%s/s ↑%s/s", words.Bytes(r.in), words.Bytes(r.out)))
	}
	var name, to string
	var in, out uint64
	if f := r.flow; f != nil {
		name, to, in, out = f.Who(), f.To, f.In, f.Out
	} else {
		name, to, in, out = r.program.What+" of "+r.program.Session, r.program.Hop, r.program.In, r.program.Out
	}
	narrow := m.width < 110
	wide := max(min((m.width-70)/2, 34), 18)
	if narrow {
		wide = max((m.width-34)/2, 18)
	}
	idle := r.began()
	if last := r.last(); last.After(idle) {
		idle = last
	}
	if r.program != nil && r.program.Windows > 0 {
		to += ", " + words.Count(r.program.Windows, "window program")
	}
	rates := fmt.Sprintf(" ↓%7s/s ↑%7s/s", words.Bytes(r.in), words.Bytes(r.out))
	if narrow {
		return pointer + "  " + strong(fit.Pad(name, wide)) + " " + fit.Pad(to, wide) + t.Faint.Render(rates)
	}
	return pointer + "  " + strong(fit.Pad(name, wide)) + " " + fit.Pad(to, wide) + t.Faint.Render(rates+fmt.Sprintf("  %7s down %7s up  %s, idle %s", words.Bytes(float64(in)), words.Bytes(float64(out)), fit.Ago(time.Since(r.began())), fit.Ago(time.Since(idle))))
}

// listenerLine draws a tunnel with how it stands.
func (m *Model) listenerLine(l tunnel.Line, whose string) string {
	t := m.s.Theme
	v, off := l.Standing()
	mark, say := t.Mark(v), l.Drawn()+"  "
	switch v {
	case gate.Open:
		say += fmt.Sprintf("%s, %s so far", words.Count(l.Live, "flow"), words.Bytes(float64(l.In+l.Out)))
	case gate.Untried:
		say += "connects at the first use"
	default:
		say += t.Verdict(v).Render(off)
	}
	if l.Beyond {
		say = t.Verdict(gate.Ajar).Render("OPEN TO OTHER MACHINES ") + say
	}
	if m.width < 110 {
		return mark + " " + t.Strong.Render(l.Session) + " " + whose + say
	}
	return mark + " " + t.Strong.Render(fit.Pad(l.Session, 12)) + " " + whose + say
}
