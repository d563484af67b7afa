package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"
	"time"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	vgdraw "gonum.org/v1/plot/vg/draw"

	"meatus/core/meter"
	"meatus/core/sanitize"
)

// Chart is what a link or flow carried over time, with its round trips where they are
// known.
type Chart struct {
	Title    string
	From, To time.Time // in the time zone to be told
	Samples  []meter.Sample
}

// The measures of a chart, in points.
const (
	chartW, panelH, tripH = 720.0, 230.0, 150.0
	axisH                 = 22.0
)

// Write draws the chart: what came in as a line over a grey ground and what went out
// as a dashed one; below it the round trips, their mean as a line in the band from
// the best of each span to its worst. Where nothing is known the lines break.
func (c Chart) Write(w io.Writer, f Format) error {
	trips := false
	for _, s := range c.Samples {
		trips = trips || s.Known && s.Worst > 0
	}
	height := titleH + panelH + axisH + margin
	if trips {
		height += tripH
	}
	sheet, err := newSheet(f, chartW, height)
	if err != nil {
		return err
	}
	sheet.text(margin, margin, sheet.cut(sanitize.Line(c.Title, 200), 16, true, chartW-2*margin), 16, true, black)
	sheet.text(margin, margin+14, fmt.Sprintf("%s to %s, %s", c.From.Format("2 January 2006, 15:04:05"), c.To.In(c.From.Location()).Format("2 January 2006, 15:04:05"), zone(c.From)), 9, false, grey)

	upper, err := c.throughput()
	if err != nil {
		return err
	}
	if !trips {
		put(sheet, titleH+4, panelH, upper)
	} else {
		lower, err := c.trips()
		if err != nil {
			return err
		}
		put(sheet, titleH+4, panelH, upper, lower)
	}
	y := height - margin
	x := margin + 8.0
	legend := func(line func(x, y float64), say string) {
		line(x, y)
		sheet.text(x+26, y+3, say, 8, false, black)
		x += 40 + sheet.width(say, 8, false)
	}
	legend(func(x, y float64) {
		sheet.box(x, y, 20, 5, pale, nil)
		sheet.line(1.2, black, nil, [2]float64{x, y}, [2]float64{x + 20, y})
	}, "from the far side")
	legend(func(x, y float64) { sheet.line(1.2, black, dashes, [2]float64{x, y}, [2]float64{x + 20, y}) }, "to the far side")
	if trips {
		legend(func(x, y float64) {
			sheet.box(x, y-4, 20, 8, pale, nil)
			sheet.line(1, black, nil, [2]float64{x, y}, [2]float64{x + 20, y})
		}, "round trip, in the band from the best to the worst")
	}
	_, err = sheet.c.WriteTo(w)
	return err
}

// zone says the time zone of a time with its offset.
func zone(at time.Time) string {
	name, offset := at.Zone()
	sign := '+'
	if offset < 0 {
		sign, offset = '-', -offset
	}
	utc := fmt.Sprintf("UTC%c%02d:%02d", sign, offset/3600, offset/60%60)
	if name == "UTC" || name == "" {
		return "UTC"
	}
	return name + ", " + utc
}

var dashes = []vg.Length{5, 3}

// panel is a plot with our fonts and the time below.
func (c Chart) panel(label string) *plot.Plot {
	p := plot.New()
	p.BackgroundColor = color.Transparent
	for _, a := range []*plot.Axis{&p.X, &p.Y} {
		a.Label.TextStyle.Font.Variant, a.Tick.Label.Font.Variant = "Sans", "Sans"
		a.Label.TextStyle.Font.Size, a.Tick.Label.Font.Size = 9, 8
		a.Tick.Label.Color, a.Label.TextStyle.Color = color.Gray{60}, color.Gray{60}
		a.LineStyle.Width, a.Tick.LineStyle.Width = 0.6, 0.6
		a.Padding = 0
	}
	p.Y.Label.Text = label
	p.X.Min, p.X.Max = 0, c.To.Sub(c.From).Seconds()
	p.X.Tick.Marker = plot.ConstantTicks(timeTicks(c.From, c.To))
	grid := plotter.NewGrid()
	grid.Vertical.Color, grid.Horizontal.Color = color.Gray{225}, color.Gray{225}
	grid.Vertical.Width, grid.Horizontal.Width = 0.4, 0.4
	p.Add(grid)
	return p
}

// valueTicks are marks from 0 to a greatest value, at steps of 1, 2 or 5 tens.
func valueTicks(most float64) plot.ConstantTicks {
	step := math.Pow(10, math.Floor(math.Log10(max(most, 1e-9))))
	for _, by := range []float64{0.1, 0.2, 0.5, 1, 2} {
		if most/(step*by) <= 5 {
			step *= by
			break
		}
	}
	var ticks plot.ConstantTicks
	for n := 0; float64(n)*step <= most*1.0001; n++ {
		ticks = append(ticks, plot.Tick{Value: float64(n) * step, Label: strconv.FormatFloat(float64(n)*step, 'g', 4, 64)})
	}
	return ticks
}

// put draws panels one below the other, from a height on, with their axes in line; the
// second is lower than the first.
func put(s *sheet, top, height float64, panels ...*plot.Plot) {
	all := vgdraw.New(s.c)
	_, whole := s.c.Size()
	left := vg.Length(0)
	for _, p := range panels {
		left = max(left, p.DataCanvas(all).Min.X)
	}
	for _, p := range panels {
		shift := left - p.DataCanvas(all).Min.X
		p.Draw(vgdraw.Crop(all, margin+shift, -margin, whole-vg.Length(top+height), -vg.Length(top)))
		top += height + 14
		height = tripH - 14
	}
}

// steps are how far apart marks of time may stand.
var steps = []time.Duration{
	time.Second, 5 * time.Second, 15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute,
	15 * time.Minute, 30 * time.Minute, time.Hour, 2 * time.Hour, 3 * time.Hour, 6 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour,
	7 * 24 * time.Hour, 14 * 24 * time.Hour, 28 * 24 * time.Hour, 91 * 24 * time.Hour, 365 * 24 * time.Hour,
}

// timeTicks are at most a dozen marks between two times, at round times of day in the
// zone of the first, in seconds from it.
func timeTicks(from, to time.Time) []plot.Tick {
	step := steps[len(steps)-1]
	for _, s := range steps {
		if to.Sub(from) <= 10*s {
			step = s
			break
		}
	}
	layout := "15:04"
	switch {
	case step < time.Minute:
		layout = "15:04:05"
	case step >= 24*time.Hour:
		layout = "2 Jan"
	case to.Sub(from) > 24*time.Hour:
		layout = "2 Jan 15:04"
	}
	_, offset := from.Zone()
	local := time.Duration(offset) * time.Second
	at := from.Add(local).Truncate(step).Add(-local)
	var ticks []plot.Tick
	for n := 0; !at.After(to) && n < 1000; n++ {
		if !at.Before(from) {
			ticks = append(ticks, plot.Tick{Value: at.Sub(from).Seconds(), Label: at.In(from.Location()).Format(layout)})
		}
		at = at.Add(step)
	}
	return ticks
}

// runs are the stretches of samples that something is known of.
func (c Chart) runs(known func(meter.Sample) bool) [][]meter.Sample {
	var all [][]meter.Sample
	var run []meter.Sample
	for _, s := range c.Samples {
		if known(s) {
			run = append(run, s)
			continue
		}
		if len(run) > 0 {
			all = append(all, run)
		}
		run = nil
	}
	if len(run) > 0 {
		all = append(all, run)
	}
	return all
}

func (c Chart) points(run []meter.Sample, of func(meter.Sample) float64) plotter.XYs {
	xys := make(plotter.XYs, 0, len(run)+1)
	if len(run) == 1 { // seen as a short stroke
		xys = append(xys, plotter.XY{X: run[0].At.Sub(c.From).Seconds() - c.To.Sub(c.From).Seconds()/300, Y: of(run[0])})
	}
	for _, s := range run {
		xys = append(xys, plotter.XY{X: s.At.Sub(c.From).Seconds(), Y: of(s)})
	}
	return xys
}

// ground fills what is between two lines.
func (c Chart) ground(p *plot.Plot, low, high plotter.XYs) error {
	ring := append(plotter.XYs{}, high...)
	for i := len(low) - 1; i >= 0; i-- {
		ring = append(ring, low[i])
	}
	fill, err := plotter.NewPolygon(ring)
	if err != nil {
		return err
	}
	fill.Color, fill.LineStyle.Width = color.Gray{214}, 0
	p.Add(fill)
	return nil
}

func addLine(p *plot.Plot, xys plotter.XYs, dashes []vg.Length) error {
	line, err := plotter.NewLine(xys)
	if err != nil {
		return err
	}
	line.Color, line.Width, line.Dashes = black, 1, dashes
	p.Add(line)
	return nil
}

// unit is what a greatest value is best told in.
func unit(most float64, units ...string) (name string, size float64) {
	size = 1
	for i, u := range units {
		if name = u; most < 1000*size || i == len(units)-1 {
			return name, size
		}
		size *= 1000
	}
	return name, size
}

func (c Chart) throughput() (*plot.Plot, error) {
	most := 1.0
	for _, p := range c.Samples {
		most = max(most, p.In, p.Out)
	}
	name, size := unit(most, "B/s", "kB/s", "MB/s", "GB/s")
	p := c.panel(name)
	for _, run := range c.runs(func(s meter.Sample) bool { return s.Known }) {
		in := c.points(run, func(s meter.Sample) float64 { return s.In / size })
		if err := c.ground(p, c.points(run, func(meter.Sample) float64 { return 0 }), in); err != nil {
			return nil, err
		}
		if err := addLine(p, in, nil); err != nil {
			return nil, err
		}
		if err := addLine(p, c.points(run, func(s meter.Sample) float64 { return s.Out / size }), dashes); err != nil {
			return nil, err
		}
	}
	p.Y.Min, p.Y.Max = 0, most/size*1.05
	p.Y.Tick.Marker = valueTicks(p.Y.Max)
	return p, nil
}

func (c Chart) trips() (*plot.Plot, error) {
	most := time.Duration(1)
	for _, p := range c.Samples {
		most = max(most, p.Worst)
	}
	name, size := "ms", float64(time.Millisecond)
	if most >= 2*time.Second {
		name, size = "s", float64(time.Second)
	}
	p := c.panel("round trip, " + name)
	of := func(d func(meter.Sample) time.Duration) func(meter.Sample) float64 {
		return func(s meter.Sample) float64 { return float64(d(s)) / size }
	}
	for _, run := range c.runs(func(s meter.Sample) bool { return s.Known && s.Worst > 0 }) {
		worst := c.points(run, of(func(s meter.Sample) time.Duration { return s.Worst }))
		if err := c.ground(p, c.points(run, of(func(s meter.Sample) time.Duration { return s.Best })), worst); err != nil {
			return nil, err
		}
		if err := addLine(p, c.points(run, of(func(s meter.Sample) time.Duration { return s.RoundTrip })), nil); err != nil {
			return nil, err
		}
	}
	p.Y.Min, p.Y.Max = 0, math.Max(float64(most)/size*1.1, 1e-6)
	p.Y.Tick.Marker = valueTicks(p.Y.Max)
	return p, nil
}
