// Package chart draws what was carried over time: both directions about a common base line, as
// lines with a light fill, in dots of which a cell has two by four (the Braille patterns of
// Unicode); below them the round trips, a line in the band from the best to the worst.
//
// It promises that what it draws is never larger than the room it is given. It costs one pass
// over the samples for each row.
package chart

import (
	"math"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"meatus/core/gate"
	"meatus/core/words"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Sample is a span of time.
type Sample struct {
	Up, Down    float64       // bytes a second, drawn above and below the base line
	Trip        time.Duration // 0 where it is not known
	Best, Worst time.Duration
	Known       bool // false for a gap
}

// Mark is something that happened, on the base line.
type Mark struct {
	At   time.Time
	Rune rune
	Bad  bool
}

// Chart is what is drawn.
type Chart struct {
	Theme    *theme.Theme
	From, To time.Time
	Samples  []Sample // one after another, of equal length, from From to To
	Marks    []Mark
	Cursor   int // of the samples, -1 for none
}

// axisWidth is the room for the words at the left, in columns.
const axisWidth = 11

// The least rows a chart has, and the least that has room for round trips.
const (
	leastRows = 5
	tripRows  = 10
)

// Columns are how many columns of a width the samples have.
func Columns(width int) int { return max(width-axisWidth-1, 4) }

// dots is a field of them: for each cell, which are set.
type dots struct {
	cols, rows int
	line, fill []rune // the bits of each cell
}

func newDots(cols, rows int) *dots {
	return &dots{cols, rows, make([]rune, cols*rows), make([]rune, cols*rows)}
}

// bits are those of a cell's dots, by column and by row from above.
var bits = [2][4]rune{{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}}

// set sets a dot, counted from the upper left.
func (d *dots) set(field []rune, x, y int) {
	if x >= 0 && y >= 0 && x < 2*d.cols && y < 4*d.rows {
		field[y/4*d.cols+x/2] |= bits[x%2][y%4]
	}
}

// Lines draws the chart.
func (c Chart) Lines(width, height int) []string {
	if height < leastRows || width < axisWidth+8 || len(c.Samples) == 0 {
		return nil
	}
	cols := Columns(width)
	rows, trips := height-2, 0 // the base line and the times
	worst := time.Duration(0)
	up, down := 0.0, 0.0
	for _, s := range c.Samples {
		up, down, worst = max(up, s.Up), max(down, s.Down), max(worst, s.Worst)
	}
	if worst > 0 && rows >= tripRows {
		trips = max(rows/4, 2)
		rows -= trips
	}
	above := (rows + 1) / 2
	switch { // a direction in which nothing went takes no room
	case up == 0 && down > 0:
		above = 1
	case down == 0 && up > 0:
		above = rows - 1
	}
	below := rows - above
	lines := c.half(cols, above, up, "↓", func(s Sample) float64 { return s.Up }, false)
	lines = append(lines, c.base(cols))
	lines = append(lines, c.half(cols, below, down, "↑", func(s Sample) float64 { return s.Down }, true)...)
	if trips > 0 {
		lines = append(lines, c.trips(cols, trips, worst)...)
	}
	return append(lines, c.times(cols))
}

// sample is the index of the sample at a column of dots.
func (c Chart) sample(x, cols int) int { return min(x*len(c.Samples)/(2*cols), len(c.Samples)-1) }

// half draws one direction: away from the base line, which is below it, or above where it hangs.
func (c Chart) half(cols, rows int, most float64, arrow string, of func(Sample) float64, hangs bool) []string {
	d := newDots(cols, rows)
	top := Round(most)
	high := 4*rows - 1
	level := func(x int) int { // dots from the base line
		s := c.Samples[c.sample(x, cols)]
		if !s.Known || top == 0 {
			return -1
		}
		return int(math.Round(of(s) / top * float64(high)))
	}
	place := func(n int) int {
		if hangs {
			return n
		}
		return high - n
	}
	before := -1
	for x := range 2 * cols {
		n := level(x)
		if n < 0 {
			before = -1
			continue
		}
		from := n
		if before >= 0 { // the line goes on from where it was
			from = before
		}
		for y := min(from, n); y <= max(from, n); y++ {
			if y > 0 {
				d.set(d.line, x, place(y))
			}
		}
		for y := 1; y < n; y++ {
			if (x+y)%2 == 0 {
				d.set(d.fill, x, place(y))
			}
		}
		before = n
	}
	labels := make([]string, rows)
	end, middle := 0, rows/2
	if hangs {
		end, middle = rows-1, (rows-1)/2
	}
	if labels[end] = arrow + " " + Rate(top); rows >= 5 && top > 0 {
		labels[middle] = "  " + Rate(top/2)
	}
	if top == 0 {
		middle = -1
	}
	return c.cells(d, labels, middle, c.Theme.Live)
}

// trips draws the round trips: the line of their means in the band from the best to the worst.
func (c Chart) trips(cols, rows int, worst time.Duration) []string {
	d := newDots(cols, rows)
	top := RoundTime(worst)
	high := 4*rows - 1
	at := func(t time.Duration) int { return high - int(math.Round(float64(t)/float64(top)*float64(high))) }
	for x := range 2 * cols {
		s := c.Samples[c.sample(x, cols)]
		if s.Worst == 0 {
			continue
		}
		for y := at(s.Worst); y <= at(s.Best); y++ {
			if (x+y)%2 == 0 {
				d.set(d.fill, x, y)
			}
		}
		d.set(d.line, x, at(s.Trip))
	}
	labels := make([]string, rows)
	labels[0] = "⇄ " + fit.RoundTrip(top)
	return c.cells(d, labels, -1, c.Theme.Accent)
}

// cells makes lines of dots, with labels at their left, a grid line where nothing is drawn, and
// the cursor.
func (c Chart) cells(d *dots, labels []string, grid int, ink lipgloss.Style) []string {
	t := c.Theme
	cursor := c.cursorColumn(d.cols)
	pens := [...]pen{penOf(t.Accent), penOf(ink), penOf(t.Faint), penOf(t.Rule), penOf(t.Text)}
	var lines []string
	for row := range d.rows {
		var b strings.Builder
		b.WriteString(t.Faint.Render(fit.Pad(labels[row], axisWidth-1)) + t.Rule.Render("│"))
		kind := -1
		put := func(k int, cell rune) {
			if k != kind {
				if kind >= 0 {
					b.WriteString(pens[kind].close)
				}
				b.WriteString(pens[k].open)
				kind = k
			}
			b.WriteRune(cell)
		}
		for x := range d.cols {
			line, fill := d.line[row*d.cols+x], d.fill[row*d.cols+x]
			switch {
			case x == cursor && line|fill == 0:
				put(0, '│')
			case x == cursor:
				put(0, 0x2800|line|fill)
			case line != 0:
				put(1, 0x2800|line|fill)
			case fill != 0:
				put(2, 0x2800|fill)
			case row == grid:
				put(3, '┈')
			default:
				put(4, ' ')
			}
		}
		if kind >= 0 {
			b.WriteString(pens[kind].close)
		}
		lines = append(lines, b.String())
	}
	return lines
}

// pen is how a style begins and ends: a style that renders each run of cells by itself costs
// most of a frame.
type pen struct{ open, close string }

func penOf(s lipgloss.Style) pen {
	open, end, _ := strings.Cut(s.Render("x"), "x")
	return pen{open, end}
}

// cursorColumn is the column of the cursor, -1 where there is none.
func (c Chart) cursorColumn(cols int) int {
	if c.Cursor < 0 {
		return -1
	}
	return (2*c.Cursor + 1) * cols / max(2*len(c.Samples), 1)
}

// base draws the base line: gaps as dots, and the marks of what happened.
func (c Chart) base(cols int) string {
	t := c.Theme
	marks := map[int]Mark{}
	for _, m := range c.Marks {
		if at := c.column(m.At, cols); at >= 0 && at < cols {
			marks[at] = m
		}
	}
	var b strings.Builder
	b.WriteString(t.Faint.Render(fit.Pad("", axisWidth-1)) + t.Rule.Render("┼"))
	cursor := c.cursorColumn(cols)
	for x := range cols {
		m, marked := marks[x]
		switch {
		case x == cursor && !marked:
			b.WriteString(t.Accent.Render("┼"))
		case marked && m.Bad:
			b.WriteString(t.Verdict(gate.Shut).Render(string(m.Rune)))
		case marked:
			b.WriteString(t.Accent.Render(string(m.Rune)))
		case c.Samples[c.sample(2*x, cols)].Known:
			b.WriteString(t.Rule.Render("─"))
		default:
			b.WriteString(t.Rule.Render("·"))
		}
	}
	return b.String()
}

// column is the column of a time.
func (c Chart) column(at time.Time, cols int) int {
	return int(float64(at.Sub(c.From)) / float64(c.To.Sub(c.From)) * float64(cols))
}

// steps are the distances that times can have on the axis.
var steps = []time.Duration{
	5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour,
}

// times is the axis of time: round times, and the zone at its end.
func (c Chart) times(cols int) string {
	span := c.To.Sub(c.From)
	step := steps[len(steps)-1]
	for _, s := range steps {
		if float64(s)/float64(span)*float64(cols) >= 12 {
			step = s
			break
		}
	}
	layout := "15:04:05"
	switch {
	case step >= 24*time.Hour:
		layout = "2 Jan"
	case step >= time.Minute:
		layout = "15:04"
	}
	zone, offset := c.To.Local().Zone()
	line := []rune(strings.Repeat(" ", cols))
	room := cols - len([]rune(zone)) - 1
	shift := time.Duration(offset) * time.Second
	for at := c.From.Add(shift).Truncate(step).Add(step - shift); at.Before(c.To); at = at.Add(step) {
		text := []rune("╵" + at.Local().Format(layout))
		if x := c.column(at, cols); x >= 0 && x+len(text) <= room {
			copy(line[x:], text)
		}
	}
	copy(line[max(cols-len([]rune(zone)), 0):], []rune(zone))
	return fit.Pad("", axisWidth) + c.Theme.Faint.Render(string(line))
}

// Round is the next round number that a value is not above: 1, 2 or 5 times a power of ten.
func Round(v float64) float64 {
	if v <= 0 {
		return 0
	}
	power := math.Pow(10, math.Floor(math.Log10(v)))
	for _, n := range []float64{1, 2, 5, 10} {
		if v <= n*power*(1+1e-9) {
			return n * power
		}
	}
	return 10 * power
}

// RoundTime is [Round] of a time, in milliseconds.
func RoundTime(d time.Duration) time.Duration {
	return time.Duration(Round(float64(d)/float64(time.Millisecond)) * float64(time.Millisecond))
}

// Rate words bytes a second.
func Rate(v float64) string {
	if v == 0 {
		return "nothing"
	}
	return words.Bytes(v) + "/s"
}
