package watch

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"meatus/core/draw"
	"meatus/core/meter"
	"meatus/core/words"
	"meatus/tui/chart"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// spans are what the chart shows, to choose from.
var spans = []time.Duration{2 * time.Minute, 10 * time.Minute, time.Hour, 6 * time.Hour, 24 * time.Hour, 7 * 24 * time.Hour, 28 * 24 * time.Hour}

// now is the time at the right end of the chart.
func (m *Model) now() time.Time { return time.Now().Truncate(time.Second) }

// grid is how many samples the chart has, and of what length.
func (m *Model) grid(width int) (n int, each time.Duration) {
	n = min(2*chart.Columns(width), int(spans[m.span]/time.Second))
	return n, spans[m.span] / time.Duration(n)
}

// chartKey moves the cursor.
func (m *Model) chartKey(key string) bool {
	_, each := m.grid(m.chartWidth())
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

// chart draws what the chosen link or flow carried, each way, and its round trips
// with their spread, over time; and reads it off at the cursor.
func (m *Model) chart(width, height int) []string {
	name, series := m.subject()
	if height < 6 || series == nil {
		return nil
	}
	t := m.s.Theme
	n, each := m.grid(width)
	c := chart.Chart{Theme: t, To: m.now(), Cursor: -1, Marks: m.marks(name)}
	c.From = c.To.Add(-spans[m.span])
	samples := series.Span(c.From, c.To, n)
	for _, p := range samples {
		c.Samples = append(c.Samples, chart.Sample{Up: p.In, Down: p.Out, Trip: p.RoundTrip, Best: p.Best, Worst: p.Worst, Known: p.Known})
	}
	head := t.Strong.Render(fit.Cut(name, width/2)) + t.Faint.Render(" over "+fit.Ago(spans[m.span]))
	if m.focus == onChart {
		head = t.Accent.Render(theme.Chosen+" ") + head
	}
	lines := []string{t.Title(head, "", width, fit.Spread)}
	about := m.about()
	if !m.cursor.IsZero() && len(samples) > 0 {
		c.Cursor = max(min(int(m.cursor.Sub(c.From)/each), len(samples))-1, 0)
		about = []string{t.Accent.Render(read(samples[c.Cursor], each))}
	}
	for _, l := range about[:min(len(about), max(height-7, 1))] {
		lines = append(lines, fit.Cut("   "+l, width))
	}
	return append(lines, c.Lines(width, height-len(lines))...)
}

// marks are what happened to a machine, for the chart of its link.
func (m *Model) marks(name string) []chart.Mark {
	signs := map[string]chart.Mark{
		"link-up": {Rune: '┬'}, "up": {Rune: '┬'}, "thawed": {Rune: '┬'}, "lost": {Rune: '╳', Bad: true}, "link-down": {Rune: '┴'}, "froze": {Rune: '╍', Bad: true},
	}
	var all []chart.Mark
	for _, e := range m.events {
		mark, ok := signs[e.Name]
		if !ok || e.Hop != name && e.Session != name && !slices.Contains(e.Of, name) {
			continue
		}
		if e.Failed != "" {
			mark.Rune, mark.Bad = '╳', true
		}
		mark.At = e.From
		all = append(all, mark)
	}
	return all
}

// read says a sample in words.
func read(p meter.Sample, each time.Duration) string {
	when := p.At.Local().Format("2 Jan 15:04:05")
	if !p.Known {
		return when + "  nothing is known of it"
	}
	say := fmt.Sprintf("%s  ↓ %s/s  ↑ %s/s", when, words.Bytes(p.In), words.Bytes(p.Out))
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
	bytes := func(n uint64) string { return words.Bytes(float64(n)) }
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
			lines = append(lines, t.Accent.Render(theme.Remedy+" ")+t.Faint.Render("for its administrator: ")+d.Rule)
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
