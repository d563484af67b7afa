package draw

import (
	"bytes"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"time"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/route"
)

// bay is a map with so many sessions behind bastions.
func bay(n int) Map {
	m := Map{Title: "Lantern Bay", At: time.Date(2026, 10, 12, 9, 30, 0, 0, time.UTC)}
	for i := range n {
		bastion := route.Hop{Name: fmt.Sprintf("quay-%d", i%5), Host: fmt.Sprintf("203.0.113.%d", i%5), Port: 22, User: "warden", Keys: []string{"/k/shore.pem"}}
		target := route.Hop{Name: fmt.Sprintf("gauge-%d", i), Host: fmt.Sprintf("10.61.%d.%d", i/250, i%250), Port: 22, User: "keeper", Keys: []string{"/k/gauge.pem"}}
		if i%7 == 0 {
			target.Tunnels = []book.Tunnel{{Bring: "127.0.0.1:15432", Reach: "tide-db.internal:5432"}, {Roam: "127.0.0.1:1080"}}
		}
		verdict := gate.Verdict(i % 4)
		report := gate.Report{Hops: []gate.Hop{{Name: bastion.Name}, {Name: target.Name, Gates: []gate.Gate{{Kind: gate.Key, Verdict: verdict, Reason: "group and others can read it"}}}}}
		m.Routes = append(m.Routes, Routed{Site: "reef", Route: route.Route{Session: target.Name, Hops: []route.Hop{bastion, target}}, Report: report, Prints: map[string]string{"/k/gauge.pem": "SHA256:abcdef"}})
	}
	return m
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
	for _, want := range []string{"Lantern Bay", "14 sessions, as of 12 October 2026, 09:30 UTC", ">gauge-3<", "keeper@10.61.0.3:22", "key gauge.pem, SHA256:abcdef", "bring tide-db.internal:5432 at 127.0.0.1:15432", "shut: will fail, or failed"} {
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
