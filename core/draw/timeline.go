package draw

import (
	"fmt"
	"io"
	"slices"
	"time"

	"meatus/core/sanitize"
	"meatus/core/trail"
)

// Timeline is who was connected where, over a time.
type Timeline struct {
	Title    string
	From, To time.Time // in the time zone to be told
	Stays    []trail.Stay
	Private  bool // the accounts here are left out
}

// The measures of a timeline, in points.
const (
	nameW  = 130.0
	hoursW = 640.0
	barH   = 7.0
	barGap = 4.0
)

// Write draws the timeline: a row for each session, in it a bar for each shell or
// command, full, and for each link, hollow; those at the same time one below the
// other.
func (t Timeline) Write(w io.Writer, f Format) error {
	type place struct {
		name  string
		lanes [][]trail.Stay
	}
	var places []place
	stays := slices.Clone(t.Stays)
	slices.SortStableFunc(stays, func(a, b trail.Stay) int { return a.From.Compare(b.From) })
	for _, s := range stays {
		at := slices.IndexFunc(places, func(p place) bool { return p.name == s.Where })
		if at < 0 {
			at = len(places)
			places = append(places, place{name: s.Where})
		}
		p := &places[at]
		lane := slices.IndexFunc(p.lanes, func(l []trail.Stay) bool { return t.x(l[len(l)-1].To)+3 < t.x(s.From) })
		if lane < 0 {
			lane = len(p.lanes)
			p.lanes = append(p.lanes, nil)
		}
		p.lanes[lane] = append(p.lanes[lane], s)
	}
	slices.SortFunc(places, func(a, b place) int { return compareNames(a.name, b.name) })
	height := titleH + legendH + margin + 24
	for _, p := range places {
		height += float64(len(p.lanes))*(barH+barGap) + 8
	}
	sheet, err := newSheet(f, 2*margin+nameW+hoursW, max(height, 200))
	if err != nil {
		return err
	}
	sheet.text(margin, margin, sheet.cut(sanitize.Line(t.Title, 200), 16, true, nameW+hoursW), 16, true, black)
	sheet.text(margin, margin+14, fmt.Sprintf("who was connected where, %s to %s, %s", t.From.Format("2 January 2006, 15:04"), t.To.In(t.From.Location()).Format("2 January 2006, 15:04"), zone(t.From)), 9, false, grey)
	top := titleH + 20.0
	bottom := max(height, 200) - legendH - 8
	left := margin + nameW
	for _, tick := range timeTicks(t.From, t.To) {
		x := left + tick.Value/t.To.Sub(t.From).Seconds()*hoursW
		sheet.line(0.4, pale, nil, [2]float64{x, top - 4}, [2]float64{x, bottom})
		sheet.text(x-sheet.width(tick.Label, 8, false)/2, top-8, tick.Label, 8, false, grey)
	}
	if len(places) == 0 {
		sheet.text(left, top+30, "nobody was connected that is known of", 10, false, grey)
	}
	y := top + 6
	for _, p := range places {
		sheet.line(0.4, pale, nil, [2]float64{margin, y - 4}, [2]float64{left + hoursW, y - 4})
		sheet.text(margin, y+barH, sheet.cut(sanitize.Line(p.name, 100), 9, true, nameW-8), 9, true, black)
		for _, lane := range p.lanes {
			for i, s := range lane {
				room := left + hoursW
				if i+1 < len(lane) {
					room = left + t.x(lane[i+1].From) - 4
				}
				t.bar(sheet, s, left, y, room)
			}
			y += barH + barGap
		}
		y += 8
	}
	t.legend(sheet, max(height, 200)-legendH)
	_, err = sheet.c.WriteTo(w)
	return err
}

// x is where a time stands, from the left of the hours.
func (t Timeline) x(at time.Time) float64 {
	part := at.Sub(t.From).Seconds() / t.To.Sub(t.From).Seconds()
	return max(min(part, 1), 0) * hoursW
}

// bar draws one stay, and who it was where there is room up to a place.
func (t Timeline) bar(s *sheet, stay trail.Stay, left, y, room float64) {
	x := left + t.x(stay.From)
	width := max(left+t.x(stay.To)-x, 1.5)
	h := barH
	if stay.What == "link" {
		s.box(x, y+1.5, width, h-3, white, black)
	} else {
		s.box(x, y, width, h, black, nil)
	}
	end := x + width
	switch {
	case stay.Open: // goes on
		s.arrow(end+4, y+h/2, false, black)
		end += 8
	case stay.Lost:
		s.line(1.3, red, nil, [2]float64{end - 3, y}, [2]float64{end + 4, y + h})
		s.line(1.3, red, nil, [2]float64{end - 3, y + h}, [2]float64{end + 4, y})
		end += 5
	}
	if say := sanitize.Line(stay.Who, 40); !t.Private && stay.What != "link" && end+4+s.width(say, 7, false) < room {
		s.text(end+4, y+h-0.5, say, 7, false, grey)
	}
}

func (t Timeline) legend(s *sheet, y float64) {
	s.line(0.6, pale, nil, [2]float64{margin, y}, [2]float64{margin + nameW + hoursW, y})
	x := margin + 6.0
	item := func(draw func(x, y float64), say string) {
		draw(x, y+14)
		s.text(x+28, y+19, say, 8, false, black)
		x += 46 + s.width(say, 8, false)
	}
	item(func(x, y float64) { s.box(x, y-1, 22, barH, black, nil) }, "shell or command")
	item(func(x, y float64) { s.box(x, y+0.5, 22, barH-3, white, black) }, "link")
	item(func(x, y float64) {
		s.line(1.3, red, nil, [2]float64{x + 8, y - 1}, [2]float64{x + 15, y + 6})
		s.line(1.3, red, nil, [2]float64{x + 8, y + 6}, [2]float64{x + 15, y - 1})
	}, "lost")
	item(func(x, y float64) { s.arrow(x+11, y+2.5, false, black) }, "no end is known")
	if t.Private {
		s.text(x, y+19, "accounts are left out", 8, false, grey)
	}
}
