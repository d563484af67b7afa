package draw

import (
	"cmp"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"meatus/core/sanitize"
	"meatus/core/words"
)

// paper is a size of sheets, in points.
type paper struct{ short, long float64 }

// papers are the sizes of ISO 216 and the two of ANSI that offices have.
var papers = map[string]paper{
	"a4": {595, 842}, "a3": {842, 1191}, "a2": {1191, 1684}, "a1": {1684, 2384}, "a0": {2384, 3370},
	"letter": {612, 792}, "tabloid": {792, 1224},
}

// Papers are the sizes that a sheet of a PDF can have.
func Papers() []string { return slices.Sorted(maps.Keys(papers)) }

// printed is how much smaller than on a sheet of its own a map is on a page, at most.
const printed = 0.75

// paged tells whether the map is written on pages.
func (m Map) paged(f Format, l layout) (bool, error) {
	switch {
	case m.Paper == "pages":
		return f == PDF, nil
	case m.Paper == "":
		most := papers["a3"]
		return f == PDF && (min(l.width, l.height) > most.short || max(l.width, l.height) > most.long), nil
	case papers[m.Paper] == paper{}:
		return false, fmt.Errorf("%q is no size of paper; there are %s, and pages", sanitize.Line(m.Paper, 20), strings.Join(Papers(), ", "))
	}
	return false, nil
}

// page is a part of a map, on a sheet of its own.
type page struct {
	Map
	layout
	scale float64
}

// writePages draws the map on A4 pages behind a table of contents. Sessions of a site, and
// those that share a way, stand together as far as they fit.
func (m Map) writePages(w io.Writer) error {
	size := papers["a4"]
	pages := m.pages(size)
	sheet, err := newSheet(PDF, size.short, size.long)
	if err != nil {
		return err
	}
	c := sheet.c.(*pdfCanvas)
	contents := contentsOf(pages)
	all := len(pages) + (len(contents)+contentsRows*contentsColumns-1)/(contentsRows*contentsColumns)
	first := all - len(pages) + 1
	number := 0
	foot := func() {
		number++
		sheet.text(size.short-margin-60, size.long-18, fmt.Sprintf("page %d of %d", number, all), 8, false, grey)
	}
	links := make([]int, len(pages))
	for i := range links {
		links[i] = c.doc.AddLink()
	}
	for from := 0; from < len(contents); from += contentsRows * contentsColumns {
		if from > 0 {
			c.next()
		}
		m.contents(sheet, contents[from:min(from+contentsRows*contentsColumns, len(contents))], first, links)
		foot()
	}
	for i, p := range pages {
		c.next()
		c.doc.SetLink(links[i], 0, -1)
		c.doc.Bookmark(drawable(sheet.face(8, false), p.Title), 0, 0)
		sheet.scaled(p.scale, p.height, func() { p.drawAll(sheet, p.layout) })
		foot()
	}
	_, err = sheet.c.WriteTo(w)
	return err
}

// pages parts the map into maps that fit a page.
func (m Map) pages(size paper) []page {
	routes := slices.Clone(m.Routes)
	before := func(r Routed) string {
		var names []string
		for _, h := range r.Route.Hops[:len(r.Route.Hops)-1] {
			names = append(names, h.Name)
		}
		return strings.Join(names, " ")
	}
	slices.SortStableFunc(routes, func(a, b Routed) int {
		return cmp.Or(strings.Compare(a.Site, b.Site), compareNames(before(a), before(b)))
	})
	var pages []page
	part := m
	part.Routes = nil
	laid := func(routes []Routed) page {
		p := page{Map: part}
		p.Routes = routes
		p.layout = p.Map.lay()
		p.scale = min(size.short/p.width, printed)
		return p
	}
	var now []Routed
	for _, r := range routes {
		more := append(slices.Clip(now), r)
		p := laid(more)
		if len(now) > 0 && (p.height*p.scale > size.long-30 || now[0].Site != r.Site && p.height*p.scale > size.long/2) {
			pages = append(pages, laid(now))
			more = []Routed{r}
		}
		now = more
	}
	if len(now) > 0 || len(pages) == 0 {
		pages = append(pages, laid(now))
	}
	for i := range pages {
		var sites []string
		for _, r := range pages[i].Routes {
			if r.Site != "" && !slices.Contains(sites, r.Site) {
				sites = append(sites, r.Site)
			}
		}
		if len(sites) > 0 {
			pages[i].Title = m.Title + ": " + strings.Join(sites, ", ")
		}
	}
	return pages
}

// The table of contents: its rows and columns on a page.
const (
	contentsRows    = 60
	contentsColumns = 3
)

// entry is one line of the table of contents: a session, or a site above its sessions.
type entry struct {
	name string
	site bool
	page int // from 0, where it is first shown
}

// contentsOf are the lines of the table of contents.
func contentsOf(pages []page) []entry {
	var all []entry
	site := "\x00"
	for i, p := range pages {
		for _, r := range p.Routes {
			if r.Site != site {
				name := r.Site
				if name == "" {
					name = "of no site"
				}
				all, site = append(all, entry{name, true, i}), r.Site
			}
			all = append(all, entry{r.Route.Session, false, i})
		}
	}
	for from := 0; from < len(all); { // each site's sessions by name
		to := from + 1
		for to < len(all) && !all[to].site {
			to++
		}
		slices.SortStableFunc(all[from+1:to], func(a, b entry) int { return compareNames(a.name, b.name) })
		from = to
	}
	return all
}

// contents draws a page of the table of contents; first is the number of the first map, and
// links lead to each.
func (m Map) contents(s *sheet, lines []entry, first int, links []int) {
	s.text(margin, margin+6, s.cut(sanitize.Line(m.Title, 100), 16, true, 500), 16, true, black)
	zone, _ := m.At.Zone()
	s.text(margin, margin+20, fmt.Sprintf("%s, as of %s %s", words.Count(len(m.Routes), "session"), m.At.Format("2 January 2006, 15:04"), zone), 9, false, grey)
	wide := (papers["a4"].short - 2*margin) / contentsColumns
	for i, e := range lines {
		x, y := margin+float64(i/contentsRows)*wide, margin+44+float64(i%contentsRows)*12
		indent := 8.0
		if e.site {
			indent = 0
		}
		number := fmt.Sprint(first + e.page)
		s.text(x+indent, y, s.cut(sanitize.Line(e.name, 100), 8, e.site, wide-40), 8, e.site, black)
		s.text(x+wide-14-s.width(number, 8, false), y, number, 8, false, grey)
		s.c.(*pdfCanvas).doc.Link(x, y-9, wide-10, 12, links[e.page])
	}
}
