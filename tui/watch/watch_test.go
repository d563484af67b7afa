package watch

import (
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/link"
	"meatus/core/meter"
	"meatus/core/route"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/lab/labtest"
	"meatus/tui/place"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// watching is the place over a lab with so many flows through one tunnel.
func watching(t testing.TB, flows int) (*placetest.Driver, *Model) {
	t.Helper()
	d, _ := placetest.Lab(t)
	e := d.Engine
	r, err := e.Workspace().Planner().Plan("quay")
	if err != nil {
		t.Fatal(err)
	}
	if err := e.Tunnels.Open(r, []book.Tunnel{{Bring: "127.0.0.1:0", Reach: "10.61.4.20:5432"}}, tunnel.Options{}, false); err != nil {
		t.Fatal(err)
	}
	for range flows {
		conn, err := net.Dial("tcp", e.Tunnels.All()[0].Address())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		if _, err := io.ReadFull(conn, make([]byte, 10)); err != nil { // it announces itself
			t.Fatal(err)
		}
	}
	var m *Model
	d.Place(func(s *place.Services) stack.Layer { m = New(s).(*Model); return m })
	d.Until("the flows to be seen", func() bool { return len(m.alive.own.Flows) == flows && m.stops.Len() > 0 })
	return d, m
}

func TestEveryWatchFitsItsWindow(t *testing.T) {
	d, _ := watching(t, 30)
	if see := d.See(); !strings.Contains(see, "closing the lid now cuts 0 shells, 1 tunnel, 30 flows") || !strings.Contains(see, "more below") {
		t.Errorf("it shows\n%s", see)
	}
	d.Fits()
}

func TestFlowsAreFoundAndSorted(t *testing.T) {
	d, m := watching(t, 3)
	d.Press("tab", "o")
	d.UntilSees("first by bytes")
	d.Press("/")
	d.Type("nothing like it")
	if see := d.See(); m.rows.Len() != 1 || !strings.Contains(see, "/ nothing like it") {
		t.Errorf("%d rows:\n%s", m.rows.Len(), see)
	}
	if d.Press("esc"); m.rows.Len() != 1+3 {
		t.Errorf("%d rows", m.rows.Len())
	}
}

func TestFlowsAreWrittenToFiles(t *testing.T) {
	d, m := watching(t, 3)
	d.Press("X")
	d.Until("the files", func() bool { return strings.Contains(m.note, "the flows are written") })
	files, err := filepath.Glob(filepath.Join(d.Engine.Workspace().Dir, "drawings", "flows-*"))
	if err != nil || len(files) != 2 {
		t.Fatalf("%v, %v", files, err)
	}
	text, err := os.ReadFile(files[0])
	if err != nil || strings.Count(string(text), "10.61.4.20:5432") != 3 || !strings.HasPrefix(string(text), "pid,session,door,") {
		t.Errorf("%v, %s", err, text)
	}
}

func TestAFrozenLinkIsPlainToSee(t *testing.T) {
	_, m := watching(t, 1)
	if m.stops.Len() != 1 {
		t.Fatalf("%d stops", m.stops.Len())
	}
	w := m.stops.All()[0]
	w.Frozen, w.LastIn = true, time.Now().Add(-12*time.Second)
	if line := ansi.Strip(m.stopLine(w, false, 20)); !strings.Contains(line, "╍") || !strings.Contains(line, "frozen: no byte from quay for 12 s") {
		t.Errorf("%q", line)
	}
}

func TestTheChartIsReadOffAtTheCursor(t *testing.T) {
	d, m := watching(t, 1)
	l, ok := m.link()
	if !ok {
		t.Fatal("no link is chosen")
	}
	now := time.Now().Truncate(time.Second)
	var in uint64
	s := &meter.Series{}
	for i := range 60 {
		in += uint64(1000 * (i % 10))
		s.Count(now.Add(time.Duration(i-60)*time.Second), 1, in, in/2, time.Duration(10+i)*time.Millisecond)
	}
	sample := s.Span(now.Add(-30*time.Second), now.Add(-29*time.Second), 1)[0]
	if say := read(sample, time.Second); !strings.Contains(say, "/s  ⇄ ") || strings.Contains(say, "mean") {
		t.Errorf("read as %q", say)
	}
	if say := read(meter.Sample{At: now}, time.Second); !strings.Contains(say, "nothing is known of it") {
		t.Errorf("read as %q", say)
	}
	for i := range 5 {
		m.s.Keeper.Take(now.Add(time.Duration(i-5) * time.Second))
	}
	d.Press("tab", "tab")
	if m.focus != onChart || m.cursor.IsZero() {
		t.Fatal("the chart has not the keys")
	}
	was := m.cursor
	d.Press("left", "left", "right")
	if m.cursor.After(was) || !strings.Contains(d.See(), "│") {
		t.Errorf("the cursor is at %v, was at %v:\n%s", m.cursor, was, d.See())
	}
	d.Press("esc")
	if m.focus != onRows || !m.cursor.IsZero() {
		t.Error("the chart is not left")
	}
	name, series := m.subject()
	if c := m.drawing(name, series); series == nil || c.To.Sub(c.From) != spans[m.span] {
		t.Errorf("%s would be drawn as %+v", l.Hop, c)
	}
}

func TestWhatRunsIsGrouped(t *testing.T) {
	d, m := watching(t, 4)
	d.Press("tab")
	for _, want := range []string{"by host", "by program", "by nothing", "by tunnel"} {
		d.Press("g")
		see := d.See()
		if !strings.Contains(see, "what runs "+want) {
			t.Errorf("%s is not shown:\n%s", want, see)
		}
		if want == "by host" && (m.rows.All()[0].head != "10.61.4.20" || m.rows.Len() != 5) {
			t.Errorf("%+v", m.rows)
		}
	}
	d.Press("down", "down")
	chosen, _ := m.selected()
	d.Press("o", "o", "o")
	if again, _ := m.selected(); again.key != chosen.key {
		t.Error("another order chooses another flow")
	}
	d.Press("D")
	if m.form == nil || !strings.Contains(d.See(), "Nothing else ends with it") {
		t.Errorf("nothing is asked:\n%s", d.See())
	}
	d.Press("esc", "Z")
	if !strings.Contains(d.See(), "This also ends 4 flows") {
		t.Errorf("it is not said what ends:\n%s", d.See())
	}
}

func TestWhatHappenedMeanwhileIsSummedUp(t *testing.T) {
	d, m := watching(t, 1)
	at := time.Date(2026, 10, 12, 9, 0, 0, 0, time.Local)
	m.Update(recapped{asked: true, recap: trail.Recap{From: at, To: at.Add(3 * time.Hour), Refused: 2, Drops: []trail.Drop{
		{At: at.Add(time.Hour), Name: "quay", Why: "no sign of life", Back: at.Add(time.Hour + 30*time.Second)},
		{At: at.Add(2 * time.Hour), Name: "gauge-1", Why: "closed"},
	}, Carried: []meter.Hauled{{Name: "quay", In: 5e6, Out: 1e6}, {Name: "gauge-1", In: 1e4}}}})
	see := d.See()
	for _, want := range []string{"the last 3 h", "back after 30 s", "has not come back", "2 connection attempts failed", "↓ 5.0 MB  ↑ 1.0 MB"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	d.Press("esc")
	if strings.Contains(d.See(), "the last 3 h") {
		t.Error("it is not put away")
	}
}

func TestALostWayAndAnotherProgramsStandOnTheMap(t *testing.T) {
	d, m := watching(t, 1)
	now := m.alive
	now.shells = []shellState{{session: "gauge-1", hops: []string{"quay", "gauge-1"}, lost: time.Now().Add(-20 * time.Second)}, {session: "quay"}}
	now.others = []tunnel.Seen{{Program: tunnel.Program{PID: 4711, What: "hold", Lines: []tunnel.Line{{Session: "db", Kind: "bring", Listener: "127.0.0.1:15432", Reach: "tide-db:5432", As: "quay", Up: true}}}, Links: []link.State{{ID: 1, Hop: "quay", Key: keyOf("quay"), Since: time.Now()}}}}
	m.Update(now)
	see := d.See()
	for _, want := range []string{"here", "├── quay", "└╌╌ quay ╌ gauge-1", "lost for 20 s, reconnected", "2 links", "1 lost", "cuts 2 shells, 1 tunnel, 1 flow; hold has 1 tunnel", "hold your 127.0.0.1:15432 ⇐ tide-db:5432"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	d.Press("down", "D")
	if m.note == "" || m.form != nil {
		t.Errorf("the other program's link is ended from here: %q", m.note)
	}
}

// keyOf is the key of a link straight to a host.
func keyOf(host string) route.LinkKey {
	return route.Route{Hops: []route.Hop{{Destination: route.Destination{Host: host}}}}.End()
}

// Links are drawn as the tree of ways they are: what goes through another hangs from it.
func TestTheMapIsATree(t *testing.T) {
	d, m := watching(t, 1)
	now := m.alive
	l := func(id, below link.ID, hop string) link.State {
		return link.State{ID: id, Below: below, Hop: hop, Key: keyOf(hop), Since: time.Now(), RoundTrip: time.Duration(id) * time.Millisecond}
	}
	now.own.Links = []link.State{l(1, 0, "quay"), l(2, 1, "gauge-1"), l(3, 2, "deep"), l(4, 1, "gauge-2"), l(5, 0, "mole")}
	m.Update(now)
	see := d.See()
	for _, want := range []string{"├── quay", "│   ├── gauge-1", "│   │   └── deep", "│   └── gauge-2", "└── mole", "5 links  worst round trip 5.0 ms, to mole"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	d.Press("down", "down")
	if at, ok := m.link(); !ok || at.Hop != "deep" {
		t.Errorf("%s is chosen", at.Hop)
	}
}

// What is chosen stays chosen where others come and go; where it has ended, nothing is ended in its place.
func TestWhatHasEndedIsNotEndedAgain(t *testing.T) {
	d, m := watching(t, 1)
	now := m.alive
	l := func(id link.ID, hop string) link.State {
		return link.State{ID: id, Hop: hop, Key: keyOf(hop), Since: time.Now()}
	}
	now.own.Links = []link.State{l(1, "quay"), l(2, "mole"), l(3, "deep")}
	m.Update(now)
	d.Press("down")
	chosen := func() string {
		at, ok := m.link()
		if !ok {
			return ""
		}
		return at.Hop
	}
	now.own.Links = []link.State{l(4, "archive"), l(2, "mole"), l(3, "deep")}
	m.Update(now)
	if chosen() != "mole" {
		t.Fatalf("%q is chosen after others came and went", chosen())
	}
	now.own.Links = []link.State{l(4, "archive"), l(3, "deep")}
	m.Update(now)
	if d.Press("D"); chosen() != "" || m.form != nil {
		t.Fatalf("%q is chosen in place of what has ended, asked %v", chosen(), m.form != nil)
	}
	if d.Press("down", "D"); m.form == nil || !strings.Contains(d.See(), "close the connection to "+chosen()) {
		t.Errorf("after a move %q is chosen, and\n%s", chosen(), d.See())
	}
	d.Press("esc")
	// The flow that is asked about is held by its name, whatever comes above it meanwhile.
	now.own.Flows = append([]tunnel.SeenFlow{}, now.own.Flows...)
	f := now.own.Flows[0]
	d.Press("tab", "down", "D")
	if m.form == nil {
		t.Fatalf("no flow is asked about:\n%s", d.See())
	}
	f.ID, f.Out = 99, 1<<30
	now.own.Flows = append(now.own.Flows, f)
	m.Update(now)
	if r, ok := m.selected(); !ok || r.flow.ID == 99 {
		t.Errorf("flow %+v is chosen, %v", r.flow, ok)
	}
	d.Press("esc")
	now.own.Flows = nil
	m.Update(now)
	if _, ok := m.selected(); ok {
		t.Error("something is chosen in place of a flow that has ended")
	}
	if d.Press("D"); m.form != nil {
		t.Error("something is ended in place of a flow that has ended")
	}
}

// BenchmarkWatching looks at many flows and draws the place; it is drawn four times a
// second, and counted once.
func BenchmarkWatching(b *testing.B) {
	_, m := watching(b, 1000)
	for b.Loop() {
		m.look()
		m.View()
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*4*100, "%-of-a-core")
}

// BenchmarkWatchingAnotherProgram is 200 links and 2,000 flows, as another program shows
// them, with what counting them costs.
func BenchmarkWatchingAnotherProgram(b *testing.B) {
	_, m := watching(b, 1)
	var s tunnel.Seen
	s.PID, s.What = 4711, "hold"
	for i := range 200 {
		below := link.ID(0)
		if i%2 == 1 {
			below = link.ID(i)
		}
		s.Links = append(s.Links, link.State{ID: link.ID(i + 1), Below: below, Hop: fmt.Sprint("gauge-", i), Key: keyOf(fmt.Sprint("gauge-", i)), Since: time.Now(), RoundTrip: 18 * time.Millisecond, Channels: 10})
	}
	for i := range 20 {
		s.Lines = append(s.Lines, tunnel.Line{Session: fmt.Sprint("gauge-", i), Kind: "bring", Listener: fmt.Sprint("127.0.0.1:", 20000+i), Reach: "tide-db.internal:5432", As: "quay", Up: true, Live: 100})
	}
	for i := range 2000 {
		s.Flows = append(s.Flows, tunnel.SeenFlow{Flow: tunnel.Flow{ID: int64(i), From: fmt.Sprint("127.0.0.1:", 30000+i), Program: "psql (process 4712)", To: "tide-db.internal:5432", Began: time.Now(), Last: time.Now()}, Session: fmt.Sprint("gauge-", i%20), Listener: fmt.Sprint("127.0.0.1:", 20000+i%20)})
	}
	others := m.s.Others
	others.Put([]tunnel.Seen{s})
	m.alive.others = others.Seen()
	m.s.Keeper = meter.NewKeeper(others.Readings, nil)
	at := time.Now()
	move := func() {
		at = at.Add(time.Second)
		for i := range s.Flows {
			s.Flows[i].In += uint64(i * 100)
		}
		for i := range s.Links {
			s.Links[i].In += uint64(i * 1000)
		}
		others.Put([]tunnel.Seen{s})
		m.s.Keeper.Take(at)
	}
	b.Run("counted", func(b *testing.B) {
		for b.Loop() {
			move()
		}
		b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*100, "%-of-a-core")
	})
	b.Run("drawn", func(b *testing.B) {
		for b.Loop() {
			m.look()
			m.View()
		}
		b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*4*100, "%-of-a-core")
	})
}
