package draw

import (
	"fmt"
	"image/color"
	"io"
	"slices"
	"strings"
	"time"

	"meatus/core/estate"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// Estate is what a drawing of an estate shows: its networks as areas with their instances, and at the left who is
// let in, with an arrow for each rule to the instances that it lets them in at.
type Estate struct {
	Title    string
	At       time.Time // when the estate was read, in the time zone to be told
	Snapshot *estate.Snapshot
	Arrows   []reach.Arrow
	Ways     []reach.Way // that are highlighted
	Private  bool        // addresses are left out
}

// The measures of a drawn estate, in points. Whoever is let in stands on even lines of a grid, and what an arrow
// leads to on odd ones, so that no two lines lie on each other.
const (
	grid     = 12.0
	whoW     = 190.0
	laneW    = 7.0
	portW    = 64.0
	cellW    = 112.0
	cellH    = 2 * grid
	perRow   = 5
	areaPad  = grid
	areaHead = 2 * grid
)

// rect is a box of the drawing, in points.
type rect struct{ x, y, w, h float64 }

// drawnBlock is the instances of an area that are in the same groups, with the arrows that lead to them.
type drawnBlock struct {
	rect
	all     []*estate.Instance
	entries []int // of Arrows
	groups  string
}

// drawnArea is a network.
type drawnArea struct {
	rect
	name   string
	blocks []drawnBlock
}

// drawnWho is who is let in, with a lane of their own.
type drawnWho struct {
	rect
	arrow int // the first of theirs
	lane  float64
}

// drawnEstate is the drawing laid out.
type drawnEstate struct {
	areas         []drawnArea
	whos          []drawnWho
	of            map[string]int // which of whos an arrow is of, by what they are called
	width, height float64
}

// Write draws the estate on one sheet.
func (e Estate) Write(w io.Writer, f Format) error {
	l := e.lay()
	s, err := newSheet(f, l.width, l.height)
	if err != nil {
		return err
	}
	s.text(margin, margin, s.cut(sanitize.Line(e.Title, 100), 16, true, l.width-2*margin), 16, true, black)
	zone, _ := e.At.Zone()
	s.text(margin, margin+14, fmt.Sprintf("%s, as of %s %s", words.Count(len(e.Snapshot.Instances), "instance"), e.At.Format("2 January 2006, 15:04"), zone), 9, false, grey)
	for _, a := range l.areas {
		e.area(s, a)
	}
	for i, who := range l.whos {
		e.who(s, l, i, who)
	}
	e.legend(s, l.height-legendH+grid)
	_, err = s.c.WriteTo(w)
	return err
}

// lay lays the estate out: who is let in at the left, a lane for each, and the areas below each other at the right.
func (e Estate) lay() drawnEstate {
	l := drawnEstate{of: map[string]int{}}
	y := titleH + grid
	for i, a := range e.Arrows {
		if _, known := l.of[a.Who]; known {
			continue
		}
		l.of[a.Who] = len(l.whos)
		l.whos = append(l.whos, drawnWho{rect: rect{margin, y, whoW, cellH}, arrow: i})
		y += cellH + grid*2
	}
	low := y
	for i := range l.whos {
		l.whos[i].lane = margin + whoW + laneW*float64(i+1)
	}
	left := margin + whoW + laneW*float64(len(l.whos)+2)
	y = titleH + grid
	for _, a := range e.grouped() {
		a.rect = rect{left + portW, y, perRow*cellW + 2*areaPad, areaHead}
		for n := range a.blocks {
			b := &a.blocks[n]
			for i, arrow := range e.Arrows {
				if slices.Contains(arrow.To, b.all[0]) {
					b.entries = append(b.entries, i)
				}
			}
			rows := float64((len(b.all)+perRow-1)/perRow)*cellH + grid
			b.rect = rect{a.x + areaPad, a.y + a.h, perRow * cellW, max(rows, float64(len(b.entries))*2*grid+grid)}
			a.h += b.h + grid
		}
		y += a.h + 2*grid
		l.areas = append(l.areas, a)
	}
	l.width = left + portW + perRow*cellW + 2*areaPad + margin
	l.height = max(y, low) + legendH
	return l
}

// grouped are the networks with their instances, those in the same groups together.
func (e Estate) grouped() []drawnArea {
	var areas []drawnArea
	at := map[string]int{}
	for _, n := range e.Snapshot.Networks {
		at[n.ID] = len(areas)
		name := e.Snapshot.NetworkName(n.ID)
		if len(n.CIDRs) > 0 && !e.Private {
			name += "  " + n.CIDRs[0].String()
		}
		areas = append(areas, drawnArea{name: name})
	}
	sorted := make([]*estate.Instance, 0, len(e.Snapshot.Instances))
	for i := range e.Snapshot.Instances {
		if n := &e.Snapshot.Instances[i]; n.State != estate.Ended {
			sorted = append(sorted, n)
		}
	}
	slices.SortStableFunc(sorted, func(a, b *estate.Instance) int { return compareNames(titled(a), titled(b)) })
	for _, n := range sorted {
		network := ""
		for _, a := range n.Addresses {
			if !a.Outside && a.Network != "" {
				network = a.Network
				break
			}
		}
		i, known := at[network]
		if !known {
			i = len(areas)
			at[network] = i
			name := network
			if network == "" {
				name = "no network"
			}
			areas = append(areas, drawnArea{name: name})
		}
		groups := make([]string, len(n.Groups))
		for k, id := range n.Groups {
			groups[k] = e.groupName(id)
		}
		same := strings.Join(groups, ", ")
		if n.State != estate.Running { // no arrow leads there
			same = "not running"
		}
		a := &areas[i]
		b := slices.IndexFunc(a.blocks, func(b drawnBlock) bool { return b.groups == same })
		if b < 0 {
			b = len(a.blocks)
			a.blocks = append(a.blocks, drawnBlock{groups: same})
		}
		a.blocks[b].all = append(a.blocks[b].all, n)
	}
	return slices.DeleteFunc(areas, func(a drawnArea) bool { return len(a.blocks) == 0 })
}

func titled(i *estate.Instance) string {
	if i.Name == "" {
		return i.ID
	}
	return i.Name
}

func (e Estate) groupName(id string) string {
	if g, err := e.Snapshot.GroupNamed(id); err == nil && g.Name != "" {
		return g.Name
	}
	return id
}

// area draws a network.
func (e Estate) area(s *sheet, a drawnArea) {
	s.box(a.x, a.y, a.w, a.h, nil, pale)
	s.text(a.x+areaPad, a.y+grid+3, s.cut(sanitize.Line(a.name, 100), 10, true, a.w-2*areaPad), 10, true, black)
	for _, b := range a.blocks {
		s.box(b.x, b.y, b.w, b.h-grid/2, color.Gray{248}, nil)
		s.text(b.x+4, b.y+8, s.cut(sanitize.Line(b.groups, 200), 7, false, b.w-8), 7, false, grey)
		for n, i := range b.all {
			e.instance(s, i, b.x+float64(n%perRow)*cellW, b.y+grid+float64(n/perRow)*cellH)
		}
	}
}

// instance draws an instance in its cell; those that everybody gets to from outside are marked, and those on a
// highlighted way numbered.
func (e Estate) instance(s *sheet, i *estate.Instance, x, y float64) {
	edge, ink, name := color.Color(grey), color.Color(black), sanitize.Line(titled(i), 60)
	exposed := slices.ContainsFunc(e.Arrows, func(a reach.Arrow) bool { return a.Rank == reach.FromOutside && slices.Contains(a.To, i) })
	switch {
	case exposed:
		edge = red
		name = "! " + name
	case i.State != estate.Running:
		ink = grey
		name += ", " + string(i.State)
	}
	s.box(x+2, y, cellW-6, cellH-6, white, edge)
	room := cellW - 14
	if at := e.onWay(i); at != "" {
		s.box(x+cellW-20, y+3, 13, cellH-12, warm, nil)
		s.text(x+cellW-17, y+12, at, 8, true, white)
		room -= 16
	}
	s.text(x+7, y+12, s.cut(name, 8, exposed, room), 8, exposed, ink)
}

// onWay is where on a highlighted way an instance is, "" for on none.
func (e Estate) onWay(i *estate.Instance) string {
	for _, w := range e.Ways {
		for n, h := range w.Hops {
			if h.ID == i.ID {
				return fmt.Sprint(n + 1)
			}
		}
	}
	return ""
}

// taken tells whether a highlighted way goes by an arrow to some instances.
func (e Estate) taken(a reach.Arrow, to []*estate.Instance) bool {
	for _, w := range e.Ways {
		for _, h := range w.Hops {
			if slices.ContainsFunc(to, func(i *estate.Instance) bool { return i.ID == h.ID }) && a.Rule.About(h.Port.Protocol, h.Port.Number) &&
				a.Rule.CIDR.IsValid() && (a.Rule.CIDR.Bits() == 0 || h.Answer.Seen.IsValid() && a.Rule.CIDR.Contains(h.Answer.Seen)) {
				return true
			}
		}
	}
	return false
}

// who draws who is let in, their lane, and the arrows that leave it.
func (e Estate) who(s *sheet, l drawnEstate, at int, who drawnWho) {
	first := e.Arrows[who.arrow]
	ink := color.Color(grey)
	switch first.Rank {
	case reach.FromOutside:
		ink = red
	case reach.Everybody:
		ink = warm
	}
	s.box(who.x, who.y, who.w, who.h, white, ink)
	s.text(who.x+8, who.y+grid+4, s.cut(sanitize.Line(e.called(first), 100), 9, true, who.w-16), 9, true, black)
	middle := who.y + grid // an even line
	from, to := middle, middle
	for _, a := range l.areas {
		for _, b := range a.blocks {
			for n, i := range b.entries {
				if l.of[e.Arrows[i].Who] != at {
					continue
				}
				y := b.y + grid + float64(n)*2*grid + grid/2 // an odd one
				from, to = min(from, y), max(to, y)
				width, stroke := 0.8, ink
				if e.taken(e.Arrows[i], b.all) {
					width, stroke = 2.2, warm
				}
				s.line(width, stroke, nil, [2]float64{who.lane, y}, [2]float64{a.x - 4, y}, [2]float64{b.x - 6, y})
				s.arrow(b.x-5, y, false, stroke)
				s.text(a.x-portW+4, y-3, s.cut(e.Arrows[i].Ports, 8, false, portW-8), 8, false, black)
			}
		}
	}
	s.line(0.8, ink, nil, [2]float64{who.x + who.w, middle}, [2]float64{who.lane, middle})
	s.line(0.8, ink, nil, [2]float64{who.lane, from}, [2]float64{who.lane, to})
}

// called is who is let in, without their address where that is left out.
func (e Estate) called(a reach.Arrow) string {
	if !e.Private {
		return a.Who
	}
	switch {
	case a.Rank == reach.Range:
		return "a range of addresses"
	case a.Rank == reach.Machine && a.Of != nil:
		return titled(a.Of)
	case a.Rank == reach.Machine:
		return "an address that no instance has"
	}
	return a.Who
}

// legend says what the marks mean.
func (e Estate) legend(s *sheet, y float64) {
	s.line(0.6, pale, nil, [2]float64{margin, y}, [2]float64{margin + 448, y})
	x := margin
	s.line(0.8, grey, nil, [2]float64{x, y + 16}, [2]float64{x + 22, y + 16})
	s.arrow(x+22, y+16, false, grey)
	say := "is let in at these ports, at all instances of the block"
	s.text(x+32, y+19, say, 8, false, black)
	x += 52 + s.width(say, 8, false)
	s.box(x, y+9, 14, 14, white, red)
	s.text(x+5, y+19, "!", 8, true, black)
	s.text(x+20, y+19, "everybody is, from outside", 8, false, black)
	x = margin
	if len(e.Ways) > 0 {
		s.line(2.2, warm, nil, [2]float64{x, y + 34}, [2]float64{x + 22, y + 34})
		say := "the way that is highlighted, its machines numbered"
		s.text(x+32, y+37, say, 8, false, black)
		x += 52 + s.width(say, 8, false)
	}
	if e.Private {
		s.text(x, y+37, "addresses are left out", 8, false, grey)
	}
}
