package watch

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"meatus/core/draw"
	"meatus/core/meter"
	"meatus/core/words"
	"meatus/tui/fit"
)

// spans are what the chart shows, to choose from.
var spans = []time.Duration{2 * time.Minute, 10 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 28 * 24 * time.Hour}

// axisWidth is the room for the words at the left of the chart.
const axisWidth = 12

// now is the time at the right end of the chart.
func (m *Model) now() time.Time { return time.Now().Truncate(time.Second) }

// grid is the chart's columns: how many samples, of what length, how many columns
// each takes.
func (m *Model) grid(width int) (n int, each time.Duration, columns int) {
	room := max(width-axisWidth-5, 10)
	n = min(room, int(spans[m.span]/time.Second))
	return n, spans[m.span] / time.Duration(n), room / n
}

// chartKey moves the cursor.
func (m *Model) chartKey(key string) bool {
	_, each, _ := m.grid(m.chartWidth())
	steps := map[string]int{"left": -1, "right": 1, "shift+left": -10, "shift+right": 10, "home": -100000, "end": 100000, "h": -1, "l": 1}
	by, ok := steps[key]
	if !ok {
		return false
	}
	end := m.now()
	first := end.Add(-spans[m.span])
	at := m.cursor.Add(time.Duration(by) * each)
	if at.Before(first) {
		at = first.Add(each)
	}
	if at.After(end) {
		at = end
	}
	m.cursor = at
	return true
}

func (m *Model) chartWidth() int {
	if m.width >= 110 {
		return m.width*2/3 - 1
	}
	return m.width
}

// eighths fill a cell from below.
var eighths = []rune(" ▁▂▃▄▅▆▇█")

// chart draws what the chosen link or flow carried, each way, and its round trips
// with their spread, over time; and reads it off at the cursor.
func (m *Model) chart(width, height int) []string {
	name, series := m.subject()
	if height < 6 || series == nil {
		return nil
	}
	t := m.s.Theme
	now := m.now()
	n, each, columns := m.grid(width)
	from := now.Add(-spans[m.span])
	samples := series.Span(from, now, n)
	mostIn, mostOut, worst := 1.0, 1.0, time.Duration(0)
	for _, p := range samples {
		mostIn, mostOut, worst = max(mostIn, p.In), max(mostOut, p.Out), max(worst, p.Worst)
	}
	at := -1
	if !m.cursor.IsZero() {
		at = max(min(int(m.cursor.Sub(from)/each), n)-1, 0)
	}
	head := t.Strong.Render(fit.Cut(name, width/2)) + t.Faint.Render(" over "+fit.Ago(spans[m.span]))
	if m.focus == onChart {
		head = t.Accent.Render("❯ ") + head
	}
	lines := []string{t.Title(head, "", width, fit.Spread)}
	about := m.about()
	if at >= 0 {
		about = []string{t.Accent.Render(read(samples[at], each))}
	}
	for _, l := range about[:min(len(about), max(height-6, 1))] {
		lines = append(lines, fit.Cut("   "+l, width))
	}
	rows := height - len(lines) - 1
	trip := 0
	if worst > 0 && rows >= 6 {
		trip = max(rows/5, 2)
	}
	half := max((rows-trip)/2, 1)
	// A full cell has the ground of its ink, too: not every font's block fills its cell.
	solid := t.Live.Background(t.Live.GetForeground())
	cells := func(glyphs string, cursor bool) string {
		switch {
		case cursor && strings.TrimSpace(glyphs) == "":
			return t.Accent.Render(strings.Repeat("│", len([]rune(glyphs))))
		case cursor:
			return t.Accent.Render(glyphs)
		case strings.HasPrefix(glyphs, "█"):
			return solid.Render(glyphs)
		}
		return t.Live.Render(glyphs)
	}
	draw := func(rows int, axis string, cell func(p meter.Sample, row int) rune) {
		for row := rows - 1; row >= 0; row-- {
			label := ""
			if row == rows-1 {
				label = axis
			}
			var b strings.Builder
			b.WriteString("   " + t.Faint.Render(fit.Pad(label, axisWidth)))
			run := ""
			for i, p := range samples {
				glyph := strings.Repeat(string(cell(p, row)), columns)
				full := strings.HasPrefix(glyph, "█")
				if i == at || i-1 == at || strings.HasPrefix(run, "█") != full {
					b.WriteString(cells(run, i-1 == at && at >= 0))
					run = ""
				}
				run += glyph
			}
			lines = append(lines, b.String()+cells(run, at == len(samples)-1))
		}
	}
	bars := func(rows int, most float64, of func(meter.Sample) float64) func(meter.Sample, int) rune {
		return func(p meter.Sample, row int) rune {
			if !p.Known && row == 0 {
				return '·'
			}
			return eighths[max(min(int(of(p)/most*float64(rows)*8+0.5)-row*8, 8), 0)]
		}
	}
	top := func(most float64) string {
		if most == 1 {
			return "nothing"
		}
		return fit.Bytes(most) + "/s"
	}
	draw(half, "↓ "+top(mostIn), bars(half, mostIn, func(p meter.Sample) float64 { return p.In }))
	draw(half, "↑ "+top(mostOut), bars(half, mostOut, func(p meter.Sample) float64 { return p.Out }))
	if trip > 0 {
		draw(trip, "⇄ "+fit.RoundTrip(worst), func(p meter.Sample, row int) rune { return spreadCell(p, row, trip, worst) })
	}
	layout := "15:04:05"
	if spans[m.span] > 12*time.Hour {
		layout = "2 Jan 15:04"
	}
	return append(lines, "   "+fit.Pad("", axisWidth)+t.Faint.Render(fit.Spread(from.Local().Format(layout), now.Local().Format(layout), n*columns, " ")))
}

// spreadCell is a cell of the round trips: dots from the best of a span to its worst,
// four to a cell (the Braille patterns of Unicode).
func spreadCell(p meter.Sample, row, rows int, most time.Duration) rune {
	if p.Worst == 0 {
		return ' '
	}
	dot := func(d time.Duration) int { return min(int(float64(d)/float64(most)*float64(rows*4)), rows*4-1) }
	low, high := dot(p.Best), dot(p.Worst)
	bits := [4]rune{0xc0, 0x24, 0x12, 0x09} // from below, both columns of dots
	cell := rune(0x2800)
	for i := range 4 {
		if d := row*4 + i; d >= low && d <= high {
			cell |= bits[i]
		}
	}
	if cell == 0x2800 {
		return ' '
	}
	return cell
}

// read says a sample in words.
func read(p meter.Sample, each time.Duration) string {
	when := p.At.Local().Format("2 Jan 15:04:05")
	if !p.Known {
		return when + "  nothing is known of it"
	}
	say := fmt.Sprintf("%s  ↓ %s/s  ↑ %s/s", when, fit.Bytes(p.In), fit.Bytes(p.Out))
	if each >= 2*time.Second {
		say += " in the mean of " + fit.Ago(each)
	}
	if p.RoundTrip > 0 {
		say += "  ⇄ " + fit.RoundTrip(p.RoundTrip)
		if p.Best != p.Worst {
			say += fmt.Sprintf(", %s to %s", fit.RoundTrip(p.Best), fit.RoundTrip(p.Worst))
		}
	}
	return say
}

// about says what is known of the chosen link or flow now.
func (m *Model) about() []string {
	t := m.s.Theme
	bytes := func(n uint64) string { return fit.Bytes(float64(n)) }
	if r, ok := m.selected(); ok && m.onList && r.flow != nil {
		f := r.flow
		return []string{t.Faint.Render(fmt.Sprintf("by %s of %s, from %s; %s down, %s up; %s old", r.at, r.session, cmp.Or(f.From, "a socket"), bytes(f.In), bytes(f.Out), fit.Ago(time.Since(f.Began))))}
	}
	if r, ok := m.selected(); ok && m.onList && r.listener != nil {
		d := r.listener
		sum := fmt.Sprintf("%s now, %d in all; %s down, %s up", words.Count(d.Live, "flow"), d.Flows, bytes(d.In), bytes(d.Out))
		if d.Again > 0 {
			sum += fmt.Sprintf("; its way came back %d×", d.Again)
		}
		lines := []string{t.Faint.Render(sum)}
		if d.Proof != "" {
			lines = append(lines, t.Faint.Render("tried from "+d.As+": ")+d.Proof)
		}
		if d.Rule != "" {
			lines = append(lines, t.Accent.Render("→ ")+t.Faint.Render("to hand to whoever owns it: ")+d.Rule)
		}
		return lines
	}
	l, ok := m.link()
	if !ok {
		return nil
	}
	trips := "no answer yet"
	if l.RoundTrip > 0 {
		trips = fmt.Sprintf("now %s, smoothed %s ± %s, best %s, worst %s", fit.RoundTrip(l.RoundTrip), fit.RoundTrip(l.Smoothed), fit.RoundTrip(l.Spread), fit.RoundTrip(l.Best), fit.RoundTrip(l.Worst))
	}
	idle := "never used"
	if !l.LastUse.IsZero() {
		idle = "idle " + fit.Ago(time.Since(l.LastUse))
	}
	wire := fmt.Sprintf("wire %s down, %s up; payload %s, %s", bytes(l.In), bytes(l.Out), bytes(l.PayIn), bytes(l.PayOut))
	if p := l.Packets; p.In > 0 {
		wire += fmt.Sprintf("; packets %d, %d", p.In, p.Out)
		if p.Resent > 0 {
			wire += fmt.Sprintf(", %d sent again", p.Resent)
		}
	}
	return []string{
		t.Faint.Render(wire),
		t.Faint.Render("round trip " + trips),
		t.Faint.Render(fmt.Sprintf("%s; up %s, %s; %s, %s", l.Cipher, fit.Ago(time.Since(l.Since)), idle, words.Count(l.Channels, "channel"), words.Count(l.Users, "user"))),
	}
}

// drawing is the chart as it can be drawn to hand on.
func (m *Model) drawing(name string, series *meter.Series) draw.Chart {
	now := m.now()
	c := draw.Chart{Title: name, From: now.Add(-spans[m.span]), To: now}
	c.Samples = series.Span(c.From, c.To, min(600, int(spans[m.span]/time.Second)))
	return c
}
