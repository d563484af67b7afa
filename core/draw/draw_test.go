package draw

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"io"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/meter"
	"meatus/core/route"
	"meatus/core/trail"
)

// bay is a map with so many sessions behind bastions.
func bay(n int) Map {
	m := Map{Title: "Lantern Bay", At: time.Date(2026, 10, 12, 9, 30, 0, 0, time.UTC)}
	for i := range n {
		bastion := route.Hop{Name: fmt.Sprintf("quay-%d", i%5), Destination: route.Destination{Host: fmt.Sprintf("203.0.113.%d", i%5), Port: 22}, Credentials: route.Credentials{User: "warden", Keys: []string{"/k/shore.pem"}}}
		target := route.Hop{Name: fmt.Sprintf("gauge-%d", i), Destination: route.Destination{Host: fmt.Sprintf("10.61.%d.%d", i/250, i%250), Port: 22}, Credentials: route.Credentials{User: "keeper", Keys: []string{"/k/gauge.pem"}}}
		if i%7 == 0 {
			target.Tunnels = []book.Tunnel{{Bring: "127.0.0.1:15432", Reach: "tide-db.internal:5432"}, {Roam: "127.0.0.1:1080"}}
		}
		verdict := gate.Verdict(i % 4)
		report := gate.Report{Hops: []gate.Hop{{Name: bastion.Name}, {Name: target.Name, Gates: []gate.Gate{{Kind: gate.Key, Verdict: verdict, Reason: "group and others can read it at 10.61.0.9"}}}}}
		m.Routes = append(m.Routes, Routed{Site: "reef", Route: route.Route{Session: target.Name, Hops: []route.Hop{bastion, target}}, Report: report, Prints: map[string]string{"/k/gauge.pem": "SHA256:abcdef"}})
	}
	return m
}

func TestALargeMapIsLaidOnPages(t *testing.T) {
	count := func(m Map) int {
		var out bytes.Buffer
		if err := m.Write(&out, PDF); err != nil {
			t.Fatal(err)
		}
		return len(regexp.MustCompile(`/Type /Page\b[^s]`).FindAllIndex(out.Bytes(), -1))
	}
	large := bay(300)
	if n := count(large); n < 10 || n > 40 {
		t.Errorf("300 sessions are on %d pages", n)
	}
	for paper, want := range map[string]int{"a1": 1, "letter": 1} {
		large.Paper = paper
		if n := count(large); n != want {
			t.Errorf("on %s it is on %d pages", paper, n)
		}
	}
	if n := count(bay(5)); n != 1 {
		t.Errorf("5 sessions are on %d pages", n)
	}
	small := bay(5)
	small.Paper = "pages"
	if n := count(small); n != 2 {
		t.Errorf("5 sessions and a table of contents are on %d pages", n)
	}
	large.Paper = "a99"
	if err := large.Write(&bytes.Buffer{}, PDF); err == nil || !strings.Contains(err.Error(), "a0, a1, a2, a3, a4, letter, tabloid, and pages") {
		t.Errorf("a size that there is not: %v", err)
	}
	// Each session is on one page, and in the contents with it.
	pages := large.pages(papers["a4"])
	seen := map[string]bool{}
	for i, p := range pages {
		if p.height*p.scale > papers["a4"].long || p.width*p.scale > papers["a4"].short+1 {
			t.Errorf("page %d is %g by %g points", i, p.width*p.scale, p.height*p.scale)
		}
		for _, r := range p.Routes {
			if seen[r.Route.Session] {
				t.Errorf("%s is on two pages", r.Route.Session)
			}
			seen[r.Route.Session] = true
		}
	}
	entries := 0
	for _, e := range contentsOf(pages) {
		if !e.site {
			entries++
			if !slices.ContainsFunc(pages[e.page].Routes, func(r Routed) bool { return r.Route.Session == e.name }) {
				t.Errorf("%s is not on page %d", e.name, e.page)
			}
		}
	}
	if len(seen) != 300 || entries != 300 {
		t.Errorf("%d sessions on pages, %d in the contents", len(seen), entries)
	}
}

var boxes = regexp.MustCompile(`<path d="M([-0-9.]+),([-0-9.]+)L([-0-9.]+),([-0-9.]+)L([-0-9.]+),([-0-9.]+)L([-0-9.]+),([-0-9.]+)Z" style="[^"]*stroke-width`)

func TestNoTwoStationsOverlap(t *testing.T) {
	for _, n := range []int{0, 1, 14, 300} {
		var out bytes.Buffer
		if err := bay(n).Write(&out, SVG); err != nil {
			t.Fatal(err)
		}
		var all [][4]float64
		for _, f := range boxes.FindAllStringSubmatch(out.String(), -1) {
			var v [8]float64
			for i := range v {
				v[i], _ = strconv.ParseFloat(f[i+1], 64)
			}
			all = append(all, [4]float64{min(v[0], v[4]), min(v[1], v[5]), max(v[0], v[4]), max(v[1], v[5])})
		}
		if want := n + min(n, 5) + 1; len(all) != want {
			t.Errorf("%d stations of %d", len(all), want)
		}
		for i, a := range all {
			for _, b := range all[i+1:] {
				if a[0] < b[2] && b[0] < a[2] && a[1] < b[3] && b[1] < a[3] {
					t.Fatalf("of %d: %v and %v overlap", n, a, b)
				}
			}
		}
	}
}

func TestTextIsTextAndPrivatePartsStayOut(t *testing.T) {
	var open, private bytes.Buffer
	m := bay(14)
	if err := m.Write(&open, SVG); err != nil {
		t.Fatal(err)
	}
	m.Private = true
	if err := m.Write(&private, SVG); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"Lantern Bay", "14 sessions, as of 12 October 2026, 09:30 UTC", ">gauge-3<", "keeper@10.61.0.3:22", "key gauge.pem, SHA256:abcdef", "bring tide-db.internal:5432 at 127.0.0.1:15432", "blocked: fails, or will fail"} {
		if !strings.Contains(open.String(), want) {
			t.Errorf("%q is missing", want)
		}
	}
	for _, not := range []string{"10.61.", "203.0.113", "keeper", "warden", "SHA256", "tide-db"} {
		if strings.Contains(private.String(), not) {
			t.Errorf("%q is not left out", not)
		}
	}
	if !strings.Contains(private.String(), ">gauge-3<") {
		t.Error("names are left out, too")
	}
}

func TestAHostileNameBreaksNoDrawing(t *testing.T) {
	m := bay(1)
	m.Title = "a<script>\x1b[2J&\"'"
	m.Routes[0].Route.Session = strings.Repeat("</svg>", 50)
	for _, f := range []Format{SVG, PDF} {
		var out bytes.Buffer
		if err := m.Write(&out, f); err != nil {
			t.Fatal(err)
		}
		if f == SVG && (strings.Contains(out.String(), "<script>") || strings.Count(out.String(), "</svg>") != 1) {
			t.Errorf("%s", out.String())
		}
		if f == PDF && !bytes.HasPrefix(out.Bytes(), []byte("%PDF-")) {
			t.Error("no PDF")
		}
	}
	if err := m.Write(&bytes.Buffer{}, "gif"); err == nil {
		t.Error("another format is written")
	}
}

func BenchmarkMap500(b *testing.B) {
	m := bay(500)
	for b.Loop() {
		if err := m.Write(&bytes.Buffer{}, SVG); err != nil {
			b.Fatal(err)
		}
	}
}

// tide is a chart of so many samples, with a gap.
func tide(n int) Chart {
	c := Chart{Title: "quay, Lantern Bay", From: time.Date(2026, 10, 12, 8, 0, 0, 0, time.FixedZone("CEST", 7200))}
	c.To = c.From.Add(time.Hour)
	for i := range n {
		s := meter.Sample{At: c.From.Add(time.Hour * time.Duration(i+1) / time.Duration(n))}
		if i < n/2 || i > n/2+n/20 {
			s.Known, s.In, s.Out = true, 1e5*(1+math.Sin(float64(i)/9)), 4e4*(1+math.Cos(float64(i)/5))
			s.RoundTrip = time.Duration(18+i%7) * time.Millisecond
			s.Best, s.Worst = s.RoundTrip-3*time.Millisecond, s.RoundTrip+time.Duration(i%11)*time.Millisecond
		}
		c.Samples = append(c.Samples, s)
	}
	return c
}

func TestAChartHasUnitsTimesAndBreaks(t *testing.T) {
	var out bytes.Buffer
	if err := tide(300).Write(&out, SVG); err != nil {
		t.Fatal(err)
	}
	text := out.String()
	for _, want := range []string{">quay, Lantern Bay<", ">kB/s<", ">round trip, ms<", ">08:30<", "CEST, UTC+02:00", ">from the far side<", ">to the far side<"} {
		if !strings.Contains(text, want) {
			t.Errorf("%q is missing", want)
		}
	}
	for _, c := range []Chart{tide(0), tide(1), {Title: "\x1b[2J</svg>", From: time.Unix(0, 0), To: time.Unix(1, 0)}} {
		for _, f := range []Format{SVG, PDF} {
			var out bytes.Buffer
			if err := c.Write(&out, f); err != nil || f == SVG && strings.Count(out.String(), "</svg>") != 1 {
				t.Errorf("%d samples as %s: %v", len(c.Samples), f, err)
			}
		}
	}
}

func TestMarksOfTimeStandAtRoundTimesOfTheZone(t *testing.T) {
	from := time.Date(2026, 10, 12, 8, 7, 0, 0, time.FixedZone("IST", 5*3600+1800))
	for span, want := range map[time.Duration]string{30 * time.Second: "08:07:15", time.Hour: "08:10", 24 * time.Hour: "09:00", 20 * 24 * time.Hour: "14 Oct"} {
		ticks := timeTicks(from, from.Add(span))
		labels := ""
		for _, tick := range ticks {
			labels += tick.Label + " "
		}
		if len(ticks) == 0 || len(ticks) > 11 || !strings.Contains(labels, want) {
			t.Errorf("over %s: %s", span, labels)
		}
	}
}

func TestValuesAreMarkedAtRoundSteps(t *testing.T) {
	for most, want := range map[float64]string{1: "0 0.2 0.4 0.6 0.8 1 ", 13: "0 5 10 ", 27: "0 10 20 ", 950: "0 200 400 600 800 ", 0.0004: "0 0.0001 0.0002 0.0003 0.0004 "} {
		labels := ""
		for _, tick := range valueTicks(most) {
			labels += tick.Label + " "
		}
		if labels != want {
			t.Errorf("to %g: %q", most, labels)
		}
	}
}

// watched is a timeline of a day.
func watched() Timeline {
	day := time.Date(2026, 10, 12, 0, 0, 0, 0, time.UTC)
	at := func(h float64) time.Time { return day.Add(time.Duration(h * float64(time.Hour))) }
	return Timeline{Title: "Lantern Bay", From: day, To: day.Add(24 * time.Hour), Stays: []trail.Stay{
		{Who: "odette", Where: "gauge-10", What: "shell", From: at(8), To: at(11)},
		{Who: "odette", Where: "gauge-2", What: "shell", From: at(9), To: at(9.5), Lost: true},
		{Who: "ferris", Where: "gauge-2", What: "command", From: at(9.2), To: at(9.3)},
		{Who: "ferris", Where: "quay", What: "link", From: at(7), To: at(24), Open: true},
	}}
}

func TestATimelineTellsWhoWasWhere(t *testing.T) {
	var out, private bytes.Buffer
	line := watched()
	if err := line.Write(&out, SVG); err != nil {
		t.Fatal(err)
	}
	line.Private = true
	if err := line.Write(&private, SVG); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{">gauge-2<", ">odette<", ">ferris<", ">12:00<", ">no end is known<", "UTC"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("%q is missing", want)
		}
	}
	if strings.Index(out.String(), ">gauge-2<") > strings.Index(out.String(), ">gauge-10<") {
		t.Error("gauge-10 stands before gauge-2")
	}
	if strings.Contains(private.String(), "odette") || !strings.Contains(private.String(), ">gauge-2<") {
		t.Error("accounts are not left out, or sessions are")
	}
	if err := (Timeline{From: line.From, To: line.To}).Write(&out, PDF); err != nil {
		t.Error(err)
	}
}

// streams are the contents of a PDF's streams.
func streams(t *testing.T, pdf []byte) string {
	t.Helper()
	var all strings.Builder
	for _, part := range bytes.Split(pdf, []byte("stream\n"))[1:] {
		r, err := zlib.NewReader(bytes.NewReader(part))
		if err != nil {
			continue // a font, or what stands between two streams
		}
		text, _ := io.ReadAll(r)
		all.Write(text)
	}
	return all.String()
}

func TestEveryCharacterComesOutRightInPDF(t *testing.T) {
	m := bay(1)
	name := "größe-Ωμ-δοκ-прилив-" + strings.Repeat("x", 60) // is cut, with an ellipsis
	m.Routes[0].Route.Session, m.Routes[0].Route.Hops[1].Name = name, name
	m.Title = "Latarnia → zatoka łodzi"
	var out bytes.Buffer
	if err := m.Write(&out, PDF); err != nil {
		t.Fatal(err)
	}
	contents := streams(t, out.Bytes())
	for _, want := range []string{"größe-Ωμ-δοκ-прилив-", "…", "→ zatoka łodzi"} {
		wide := ""
		for _, r := range utf16.Encode([]rune(want)) {
			wide += string([]byte{byte(r >> 8), byte(r)})
		}
		if !strings.Contains(contents, wide) && !strings.Contains(contents, strings.NewReplacer("\\", "\\\\", "(", "\\(", ")", "\\)").Replace(wide)) {
			t.Errorf("%q is not in it", want)
		}
	}
	m.Title = "no glyph: \U0001F6F3"
	for _, f := range []Format{SVG, PDF} {
		if err := m.Write(io.Discard, f); err != nil {
			t.Errorf("%s: %v", f, err)
		}
	}
}

func TestAnSVGSaysHowWideItsTextsAre(t *testing.T) {
	var out bytes.Buffer
	if err := bay(14).Write(&out, SVG); err != nil {
		t.Fatal(err)
	}
	texts, said := strings.Count(out.String(), "<text "), strings.Count(out.String(), `<text textLength="`)
	if texts == 0 || said != texts || strings.Count(out.String(), "Arial, Helvetica, sans-serif") != texts {
		t.Errorf("%d of %d texts", said, texts)
	}
}
