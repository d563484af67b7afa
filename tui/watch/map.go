package watch

import (
	"fmt"
	"strings"
	"time"

	"meatus/core/gate"
	"meatus/core/tunnel"
	"meatus/core/words"
	"meatus/tui/fit"
)

func (m *Model) mapRoom() int { return max((m.height-7)/4, 3) }

// mapShown is how many lines the map has.
func (m *Model) mapShown() int { return max(min(len(m.ways)-m.map_.Top, m.mapRoom()), 1) }

// mapMore is one where ways are left out below.
func (m *Model) mapMore() int {
	if len(m.ways)-m.map_.Top > m.mapRoom() {
		return 1
	}
	return 0
}

// listRoom is how many lines the list has.
func (m *Model) listRoom() int {
	rest := m.height - 6 - m.mapShown() - m.mapMore()
	return max(min(len(m.rows), max(rest*2/5, 4)), 1)
}

// View draws the place.
func (m *Model) View() []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Accent.Render("watch"), t.Faint.Render(m.summary()), m.width, fit.Spread)}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	if len(m.ways) == 0 {
		lines = append(lines, "   "+t.Faint.Render("Nothing is connected. On Routes, enter opens a shell and t a session's tunnels."))
	}
	for i := m.map_.Top; i < min(m.map_.Top+m.mapRoom(), len(m.ways)); i++ {
		lines = append(lines, m.wayLine(m.ways[i], i == m.map_.At))
	}
	if more := len(m.ways) - m.map_.Top - m.mapRoom(); more > 0 {
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	lines = append(append(lines, ""), m.listLines()...)
	lines = append(lines, "")
	return append(lines, m.bottom(m.height-len(lines))...)
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
const strokeLength = 9

// stroke draws a link by what it carries, in bytes a second: thin where that is
// nothing, heavier with more, and something moving along it the way most of it goes.
func (m *Model) stroke(l link) string {
	t := m.s.Theme
	in, out := m.rates(l)
	switch {
	case l.Frozen:
		return t.Verdict(gate.Ajar).Render(strings.Repeat("╍", strokeLength))
	case in+out < 1:
		return t.Live.Render(strings.Repeat("─", strokeLength))
	}
	glyph := "━"
	if in+out >= 1<<20 {
		glyph = "═"
	}
	runes := []rune(strings.Repeat(glyph, strokeLength))
	at := m.frame % strokeLength
	if t.Still {
		at = strokeLength / 2
	}
	if in > out {
		runes[strokeLength-1-at] = '‹'
	} else {
		runes[at] = '›'
	}
	return t.Live.Render(string(runes))
}

// rates of a link, in bytes a second.
func (m *Model) rates(l link) (in, out float64) {
	return m.series(l.key).Now(time.Now())
}

func (m *Model) wayLine(w way, selected bool) string {
	t := m.s.Theme
	pointer := "  "
	if selected {
		pointer = t.Faint.Render("❯ ")
		if m.focus == onMap {
			pointer = t.Accent.Render("❯ ")
		}
	}
	line := " " + pointer + t.Faint.Render("here")
	if w.hops != nil {
		gone := t.Verdict(gate.Shut)
		for _, hop := range w.hops {
			line += " " + gone.Render(strings.Repeat("╌", strokeLength)) + " " + t.Strong.Render(hop)
		}
		return fit.Cut(fit.Pad(line, m.wayWidth())+"  "+gone.Render("lost for "+fit.Ago(time.Since(w.lost))+", walked again")+t.Faint.Render("  "+w.whose), m.width)
	}
	chosen := len(w.links) - 1 - m.hop
	for i, l := range w.links {
		name := t.Strong.Render(l.Hop)
		if selected && !m.onList && len(w.links) > 1 && i == chosen {
			name = t.Accent.Underline(true).Render(l.Hop)
		}
		line += " " + m.stroke(l) + " " + name
		if l.Lane > 0 {
			line += t.Faint.Render(fmt.Sprintf(" link %d", l.Lane+1))
		}
	}
	last := w.links[len(w.links)-1]
	if selected && chosen >= 0 {
		last = w.links[chosen]
	}
	in, out := m.rates(last)
	detail := t.Faint.Render(fmt.Sprintf("%7s  ↓%7s/s ↑%7s/s  %s, up %s", fit.RoundTrip(last.RoundTrip), fit.Bytes(in), fit.Bytes(out), words.Count(last.Channels, "channel"), fit.Ago(time.Since(last.Since))))
	if last.Again > 0 {
		detail += t.Faint.Render(fmt.Sprintf(", came back %d×", last.Again))
	}
	for _, l := range w.links {
		if l.Frozen {
			detail = t.Verdict(gate.Ajar).Render("frozen: no byte from " + l.Hop + " for " + fit.Ago(time.Since(l.LastIn)))
		}
	}
	if w.whose != "" {
		detail = t.Accent.Render(w.whose) + " " + detail
	}
	return fit.Cut(fit.Pad(line, m.wayWidth())+"  "+detail, m.width)
}

// wayWidth is how wide the ways are drawn.
func (m *Model) wayWidth() int {
	most := 0
	for i := m.map_.Top; i < min(m.map_.Top+m.mapRoom(), len(m.ways)); i++ {
		width := 7
		for _, l := range m.ways[i].links {
			if width += strokeLength + 2 + len(l.Hop); l.Lane > 0 {
				width += 7
			}
		}
		for _, hop := range m.ways[i].hops {
			width += strokeLength + 2 + len(hop)
		}
		most = max(most, width)
	}
	return min(most, m.width*2/3)
}

// listLines draws the listeners, and the flows and shells.
func (m *Model) listLines() []string {
	t := m.s.Theme
	title := t.Strong.Render("what runs") + t.Faint.Render(" by "+groups[m.group]+", first by "+orders[m.order])
	if m.find != "" {
		title += t.Accent.Render(" / ") + t.Strong.Render(m.find)
	}
	lines := []string{t.Title(title, "", m.width, fit.Spread)}
	if len(m.rows) == 0 {
		return append(lines, "   "+t.Faint.Render("no tunnel is open, no shell runs"))
	}
	for i := m.list.Top; i < min(m.list.Top+m.listRoom(), len(m.rows)); i++ {
		lines = append(lines, fit.Cut(m.rowLine(m.rows[i], i == m.list.At), m.width))
	}
	if more := len(m.rows) - m.list.Top - m.listRoom(); more > 0 {
		lines = append(lines, "   "+t.Faint.Render(fmt.Sprintf("%d more below", more)))
	}
	return lines
}

func (m *Model) rowLine(r row, selected bool) string {
	t := m.s.Theme
	pointer := "   "
	if selected && m.onList {
		pointer = t.Faint.Render(" ❯ ")
		if m.focus == onRows {
			pointer = t.Accent.Render(" ❯ ")
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
		return pointer + t.Strong.Render(r.head) + t.Faint.Render(fmt.Sprintf("  ↓%s/s ↑%s/s", fit.Bytes(r.in), fit.Bytes(r.out)))
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
	rates := fmt.Sprintf(" ↓%7s/s ↑%7s/s", fit.Bytes(r.in), fit.Bytes(r.out))
	if narrow {
		return pointer + "  " + strong(fit.Pad(name, wide)) + " " + fit.Pad(to, wide) + t.Faint.Render(rates)
	}
	return pointer + "  " + strong(fit.Pad(name, wide)) + " " + fit.Pad(to, wide) + t.Faint.Render(rates+fmt.Sprintf("  %7s down %7s up  %s, idle %s", fit.Bytes(float64(in)), fit.Bytes(float64(out)), fit.Ago(time.Since(r.began())), fit.Ago(time.Since(idle))))
}

// listenerLine draws a tunnel with how it stands.
func (m *Model) listenerLine(l tunnel.Line, whose string) string {
	t := m.s.Theme
	v, off := l.Standing()
	mark, say := t.Mark(v), l.Drawn()+"  "
	switch v {
	case gate.Open:
		say += fmt.Sprintf("%s, %s so far", words.Count(l.Live, "flow"), fit.Bytes(float64(l.In+l.Out)))
	case gate.Untried:
		say += "walked at the first knock"
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
