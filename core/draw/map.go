package draw

import (
	"cmp"
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"gonum.org/v1/plot/vg"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// Map is what a map of routes shows.
type Map struct {
	Title   string
	At      time.Time // when the verdicts are from, in the time zone to be told
	Routes  []Routed
	Private bool // addresses, logins and key fingerprints are left out
	// Paper is the size of the sheets of a PDF: one of [Papers] for a single sheet of that
	// size, "pages" for as many A4 pages as it takes, and "" for pages where one sheet of the
	// map's own size would be larger than A3.
	Paper string
}

// Routed is a session's route with what was found out about it.
type Routed struct {
	Site   string
	Route  route.Route
	Report gate.Report
	Prints map[string]string // of key files, by path: their SHA-256 fingerprints
}

// station is a machine on the map, reached by one way.
type station struct {
	hop    route.Hop
	gates  gate.Hop
	prints map[string]string
	site   string
	name   []string // the sessions that end here
	next   []*station
	row    float64 // its middle, in rows
	depth  int
}

// The measures of a map, in points.
const (
	margin   = 36.0
	stationW = 190.0
	stationH = 3*lineH + 8
	gap      = 120.0
	lineH    = 11.0
	rowH     = 4*lineH + 18
	titleH   = 56.0
	legendH  = 64.0
)

// Write draws the map.
func (m Map) Write(w io.Writer, f Format) error {
	l := m.lay()
	if paged, err := m.paged(f, l); paged || err != nil {
		if err != nil {
			return err
		}
		return m.writePages(w)
	}
	width, height, scale := l.width, l.height, 1.0
	if paper, ok := papers[m.Paper]; ok && f == PDF {
		if width, height = paper.short, paper.long; l.width/l.height > width/height {
			width, height = height, width
		}
		scale = min(width/l.width, height/l.height, 1)
	}
	sheet, err := newSheet(f, width, height)
	if err != nil {
		return err
	}
	sheet.scaled(scale, l.height, func() { m.drawAll(sheet, l) })
	_, err = sheet.c.WriteTo(w)
	return err
}

// layout is a map laid out: its stations, and its size in points.
type layout struct {
	roots         []*station
	rows          float64
	width, height float64
}

// lay lays the map out on one sheet of its own size.
func (m Map) lay() layout {
	l := layout{roots: m.stations()}
	depth := 0
	for _, s := range l.roots {
		l.rows, depth = s.lay(l.rows, 1, depth)
	}
	l.rows = max(l.rows, 1)
	l.width = max(2*margin+60+float64(depth)*(stationW+gap), 520)
	l.height = titleH + l.rows*rowH + legendH + margin
	return l
}

// drawAll draws the map as it is laid out.
func (m Map) drawAll(sheet *sheet, l layout) {
	sheet.text(margin, margin, sheet.cut(sanitize.Line(m.Title, 100), 16, true, l.width-2*margin), 16, true, black)
	zone, _ := m.At.Zone()
	sheet.text(margin, margin+14, fmt.Sprintf("%s, as of %s %s", words.Count(len(m.Routes), "session"), m.At.Format("2 January 2006, 15:04"), zone), 9, false, grey)
	middle := titleH + l.rows*rowH/2
	sheet.box(margin, middle-12, 44, 24, white, black)
	sheet.text(margin+10, middle+4, "here", 11, true, black)
	for _, s := range l.roots {
		m.draw(sheet, s, margin+44, middle)
	}
	m.legend(sheet, l.height-legendH)
}

// stations makes a tree of the routes: what is reached by the same way is one.
func (m Map) stations() []*station {
	top := &station{}
	at := map[string]*station{}
	routes := slices.Clone(m.Routes)
	slices.SortStableFunc(routes, func(a, b Routed) int { return cmp.Compare(a.Site, b.Site) })
	for _, r := range routes {
		before, key := top, ""
		for i, h := range r.Route.Hops {
			key += fmt.Sprintf("%s@%s %s\n", h.User, h.Address(), h.Dial)
			s := at[key]
			if s == nil {
				s = &station{hop: h, site: r.Site, prints: r.Prints, depth: i + 1}
				at[key] = s
				before.next = append(before.next, s)
			}
			if i < len(r.Report.Hops) && (len(s.gates.Gates) == 0 || i == len(r.Route.Hops)-1) {
				s.gates = r.Report.Hops[i]
			}
			if i == len(r.Route.Hops)-1 {
				s.name = append(s.name, r.Route.Session)
				s.hop.Tunnels = append(slices.Clone(s.hop.Tunnels[:0:0]), append(s.hop.Tunnels, without(h.Tunnels, s.hop.Tunnels)...)...)
				if len(s.name) == 1 {
					s.site = r.Site
				}
			}
			before = s
		}
	}
	return top.next
}

// without are those of a list that another has not.
func without[T comparable](list, other []T) []T {
	var rest []T
	for _, v := range list {
		if !slices.Contains(other, v) {
			rest = append(rest, v)
		}
	}
	return rest
}

// lay gives a station and all behind it their rows, from a row on, and returns the
// next free one and the greatest depth.
func (s *station) lay(from float64, depth, most int) (float64, int) {
	own := 1 + float64(len(s.hop.Tunnels))*lineH/rowH
	most = max(most, depth)
	start := from
	for _, n := range s.next {
		from, most = n.lay(from, depth+1, most)
	}
	if from < start+own {
		from = start + own
	}
	s.row = start + (from-start)/2
	if len(s.next) == 0 {
		s.row = start + 0.5
	}
	return from, most
}

// standing is how a hop stands: untried as long as one of its gates is and none is
// off.
func standing(h gate.Hop) gate.Verdict {
	worst := h.Worst().Verdict
	if worst >= gate.Ajar {
		return worst
	}
	for _, g := range h.Gates {
		if g.Verdict == gate.Untried {
			return gate.Untried
		}
	}
	return worst
}

// draw draws a station and those behind it; the line that leads to each says how it
// stands.
func (m Map) draw(s *sheet, st *station, x, y float64) {
	at := margin + 60 + float64(st.depth-1)*(stationW+gap) + gap*0.6
	middle := titleH + st.row*rowH
	verdict := standing(st.gates)
	ink := leadTo(s, verdict, x, y, at, middle)
	top := middle - stationH/2
	s.box(at, top, stationW, stationH, white, black)
	m.mark(s, at+9, top+10, verdict)
	m.label(s, st, at+18, top+13)
	m.beneath(s, st, at, top+stationH-2, ink)
	for _, n := range st.next {
		m.draw(s, n, at+stationW, middle)
	}
}

// leadTo draws the way to a station as its gates stand, and returns the colour of that.
func leadTo(s *sheet, verdict gate.Verdict, x, y, at, middle float64) color.Color {
	var dashes []vg.Length
	var ink color.Color = black
	switch verdict {
	case gate.Untried:
		dashes, ink = []vg.Length{2, 3}, grey
	case gate.Ajar:
		dashes, ink = []vg.Length{8, 3}, warm
	case gate.Shut:
		ink = red
	}
	turn := at - gap*0.35
	s.line(1.2, black, nil, [2]float64{x, y}, [2]float64{turn, y}, [2]float64{turn, middle})
	s.line(1.2, ink, dashes, [2]float64{turn, middle}, [2]float64{at, middle})
	if verdict == gate.Shut { // crossed out, for grey prints as well
		cx := (turn + at) / 2
		s.line(1.6, red, nil, [2]float64{cx - 4, middle - 4}, [2]float64{cx + 4, middle + 4})
		s.line(1.6, red, nil, [2]float64{cx - 4, middle + 4}, [2]float64{cx + 4, middle - 4})
	}
	return ink
}

// label writes what a station is into its box, from the baseline of its first line on.
func (m Map) label(s *sheet, st *station, x, y float64) {
	name := st.hop.Name
	if len(st.name) > 0 {
		name = strings.Join(st.name, ", ")
	}
	room := stationW - 26
	s.text(x, y, s.cut(sanitize.Line(name, 200), 10, true, room), 10, true, black)
	where := fmt.Sprintf("%s@%s", st.hop.User, st.hop.Address())
	if st.hop.Gateway != nil {
		where = "gateway at " + st.hop.Address()
	}
	key := ""
	if len(st.hop.Keys) > 0 {
		key = "key " + filepath.Base(st.hop.Keys[0])
		if print := st.prints[st.hop.Keys[0]]; print != "" && !m.Private {
			key += ", " + print
		}
	}
	if m.Private {
		where = "site " + st.site
		if st.site == "" {
			where = ""
		}
	}
	s.text(x, y+lineH, s.cut(sanitize.Line(where, 200), 8, false, room), 8, false, grey)
	s.text(x, y+2*lineH, s.cut(sanitize.Line(key, 200), 7, false, room), 7, false, grey)
}

// beneath writes what is wrong at a station and its tunnels below its box, each in a line below the one given.
func (m Map) beneath(s *sheet, st *station, at, line float64, ink color.Color) {
	if g := st.gates.Worst(); g.Verdict >= gate.Ajar {
		line += lineH
		say := fmt.Sprintf("%s: %s, %s", g.Verdict.Plain(), g.Kind, g.Reason)
		if m.Private { // a reason may name addresses and logins
			say = fmt.Sprintf("%s: %s", g.Verdict.Plain(), g.Kind)
		}
		s.text(at, line, s.cut(sanitize.Line(say, 300), 7, false, stationW+gap*0.55), 7, false, ink)
	}
	for _, t := range st.hop.Tunnels {
		line += lineH
		kind, listener := t.Kind()
		s.arrow(at+6, line-3, kind != "lend", black)
		say := kind + " " + t.Reach + " at " + listener
		switch {
		case m.Private:
			say = kind + " a service"
		case kind == "roam":
			say = "roam by " + listener
		}
		s.text(at+16, line, s.cut(sanitize.Line(say, 200), 7, false, stationW+gap*0.4), 7, false, black)
	}
}

// mark draws a verdict as a shape: a full disc, a half one, a cross, an empty disc.
func (m Map) mark(s *sheet, x, y float64, v gate.Verdict) {
	switch v {
	case gate.Open:
		s.disc(x, y, 3.5, true, black)
	case gate.Ajar:
		s.disc(x, y, 3.5, false, warm)
		s.box(x-3.5, y-0.6, 7, 1.2, warm, nil)
		s.disc(x, y, 1.6, true, warm)
	case gate.Shut:
		s.line(1.6, red, nil, [2]float64{x - 3.5, y - 3.5}, [2]float64{x + 3.5, y + 3.5})
		s.line(1.6, red, nil, [2]float64{x - 3.5, y + 3.5}, [2]float64{x + 3.5, y - 3.5})
	default:
		s.disc(x, y, 3.5, false, grey)
	}
}

// legend says what the shapes mean.
func (m Map) legend(s *sheet, y float64) {
	s.line(0.6, pale, nil, [2]float64{margin, y}, [2]float64{margin + 448, y})
	x := margin + 6
	for _, l := range []struct {
		v   gate.Verdict
		say string
	}{{gate.Open, "open: works"}, {gate.Ajar, "warning: works, but something is wrong"}, {gate.Shut, "blocked: fails, or will fail"}, {gate.Untried, "not checked"}} {
		m.mark(s, x, y+16, l.v)
		s.text(x+9, y+19, l.say, 8, false, black)
		x += 22 + s.width(l.say, 8, false)
	}
	x = margin + 6
	for _, l := range []struct {
		left bool
		say  string
	}{{true, "local forward, or SOCKS proxy"}, {false, "remote forward"}} {
		s.arrow(x, y+33, l.left, black)
		s.text(x+9, y+36, l.say, 8, false, black)
		x += 22 + s.width(l.say, 8, false)
	}
	if m.Private {
		s.text(x, y+36, "addresses, logins and fingerprints are left out", 8, false, grey)
	}
}
