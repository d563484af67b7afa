package watch

import (
	"fmt"
	"io"
	"net"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/meter"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/lab"
	"meatus/lab/labtest"
	"meatus/tui/theme"
)

func TestMain(m *testing.M) { labtest.Main(m) }

// watching is the place over a lab with so many flows through one door.
func watching(t testing.TB, flows int) (*Model, *lab.Lab) {
	t.Helper()
	l := labtest.Open(t)
	t.Cleanup(l.Close)
	ws, err := workspace.Open(l.Dir)
	if err != nil {
		t.Fatal(err)
	}
	walker := walk.New(walk.Config{Vouched: ws.Vouched, Asker: labtest.Yes{}, Dialer: l.Dialer()})
	t.Cleanup(walker.Close)
	set := tunnel.NewSet(walker, walker.Events.Tell)
	t.Cleanup(func() { set.CloseAll(0) })
	r, err := ws.Planner().Plan("quay")
	if err != nil {
		t.Fatal(err)
	}
	if err := set.Open(r, []book.Tunnel{{Bring: "127.0.0.1:0", Reach: "10.61.4.20:5432"}}, tunnel.Options{}, false); err != nil {
		t.Fatal(err)
	}
	for range flows {
		conn, err := net.Dial("tcp", set.All()[0].Address())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { conn.Close() })
		conn.SetDeadline(time.Now().Add(30 * time.Second))
		if _, err := io.ReadFull(conn, make([]byte, 10)); err != nil { // it announces itself
			t.Fatal(err)
		}
	}
	keeper := meter.NewKeeper(tunnel.Readings(walker, set), nil)
	m := New(Live{Walker: walker, Set: set, Keeper: keeper, Others: &tunnel.Others{}, Shells: func() []Shell { return nil }}, theme.New(true))
	m.SetSize(120, 40)
	return m, l
}

// seen is the place as text.
func (m *Model) seen() string { return ansi.Strip(strings.Join(m.View(), "\n")) }

func TestEveryWatchFitsItsWindow(t *testing.T) {
	m, _ := watching(t, 30)
	m.Read()
	m.live.Keeper.Take(time.Now().Add(-time.Second))
	m.live.Keeper.Take(time.Now())
	for _, size := range [][2]int{{80, 24}, {120, 40}, {200, 60}} {
		m.SetSize(size[0], size[1])
		lines := m.View()
		if len(lines) != size[1] {
			t.Errorf("%v: %d lines", size, len(lines))
		}
		for _, l := range lines {
			if w := ansi.StringWidth(l); w > size[0] {
				t.Errorf("%v: a line of %d columns: %q", size, w, ansi.Strip(l))
			}
		}
	}
	if see := m.seen(); !strings.Contains(see, "closing the lid now cuts 0 shells, 1 tunnel, 30 flows") || !strings.Contains(see, "more below") {
		t.Errorf("it shows\n%s", see)
	}
}

func TestFlowsAreFoundAndSorted(t *testing.T) {
	m, _ := watching(t, 3)
	m.Read()
	for _, key := range []tea.KeyPressMsg{{Code: tea.KeyTab}, {Code: 'o', Text: "o"}} {
		m.Update(key)
	}
	if see := m.seen(); !strings.Contains(see, "first by bytes") {
		t.Errorf("it shows\n%s", see)
	}
	m.find = "nothing like it"
	m.Read()
	if see := m.seen(); len(m.rows) != 1 || !strings.Contains(see, "/ nothing like it") {
		t.Errorf("%d rows:\n%s", len(m.rows), see)
	}
	m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	if m.Read(); len(m.rows) != 1+3 {
		t.Errorf("%d rows", len(m.rows))
	}
}

func TestAFrozenLinkIsPlainToSee(t *testing.T) {
	m, _ := watching(t, 1)
	m.Read()
	if len(m.ways) != 1 {
		t.Fatalf("%d ways", len(m.ways))
	}
	w := m.ways[0]
	w.links[0].Frozen, w.links[0].LastIn = true, time.Now().Add(-12*time.Second)
	if line := ansi.Strip(m.wayLine(w, false)); !strings.Contains(line, "╍") || !strings.Contains(line, "frozen: no byte from quay for 12 s") {
		t.Errorf("%q", line)
	}
}

// press presses keys one after another.
func (m *Model) press(keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k}
		if code, ok := map[string]rune{"tab": tea.KeyTab, "left": tea.KeyLeft, "right": tea.KeyRight, "down": tea.KeyDown, "esc": tea.KeyEscape, "enter": tea.KeyEnter}[k]; ok {
			msg = tea.KeyPressMsg{Code: code}
		} else {
			msg.Code = []rune(k)[0]
		}
		m.Update(msg)
	}
}

func TestTheChartIsReadOffAtTheCursor(t *testing.T) {
	m, _ := watching(t, 1)
	m.Read()
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
		m.live.Keeper.Take(now.Add(time.Duration(i-5) * time.Second))
	}
	m.press("tab", "tab")
	if m.focus != onChart || m.cursor.IsZero() {
		t.Fatal("the chart has not the keys")
	}
	was := m.cursor
	m.press("left", "left", "right")
	if m.cursor.After(was) || !strings.Contains(m.seen(), "│") {
		t.Errorf("the cursor is at %v, was at %v:\n%s", m.cursor, was, m.seen())
	}
	m.press("esc")
	if m.focus != onRows || !m.cursor.IsZero() {
		t.Error("the chart is not left")
	}
	if d, ok := m.drawing(); !ok || d.To.Sub(d.From) != spans[m.span] {
		t.Errorf("%s would be drawn as %+v", l.Hop, d)
	}
}

func TestWhatRunsIsGrouped(t *testing.T) {
	m, _ := watching(t, 4)
	m.press("tab")
	for _, want := range []string{"by host", "by program", "by nothing", "by tunnel"} {
		m.press("G")
		see := m.seen()
		if !strings.Contains(see, "what runs "+want) {
			t.Errorf("%s is not shown:\n%s", want, see)
		}
		if want == "by host" && (m.rows[0].head != "10.61.4.20" || len(m.rows) != 5) {
			t.Errorf("%+v", m.rows)
		}
	}
	m.press("down", "down")
	chosen, _ := m.selected()
	m.press("o", "o", "o")
	if again, _ := m.selected(); again.key != chosen.key {
		t.Error("another order chooses another flow")
	}
	m.press("e")
	if m.form == nil || !strings.Contains(m.seen(), "Nothing else ends with it") {
		t.Errorf("nothing is asked:\n%s", m.seen())
	}
	m.press("esc", "E")
	if !strings.Contains(m.seen(), "4 flows end with it") {
		t.Errorf("it is not said what ends:\n%s", m.seen())
	}
}

func TestWhatHappenedMeanwhileIsSummedUp(t *testing.T) {
	m, _ := watching(t, 1)
	m.Read()
	at := time.Date(2026, 10, 12, 9, 0, 0, 0, time.Local)
	m.ShowRecap(trail.Recap{From: at, To: at.Add(3 * time.Hour), Refused: 2, Drops: []trail.Drop{
		{At: at.Add(time.Hour), Name: "quay", Why: "no sign of life", Back: at.Add(time.Hour + 30*time.Second)},
		{At: at.Add(2 * time.Hour), Name: "gauge-1", Why: "closed"},
	}, Carried: []meter.Hauled{{Name: "quay", In: 5e6, Out: 1e6}, {Name: "gauge-1", In: 1e4}}})
	see := m.seen()
	for _, want := range []string{"the last 3 h", "back after 30 s", "has not come back", "2 walks did not get through", "↓ 5.0 MB  ↑ 1.0 MB"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	m.press("esc")
	if strings.Contains(m.seen(), "the last 3 h") {
		t.Error("it is not put away")
	}
}

func TestALostWayAndAnotherProgramsStandOnTheMap(t *testing.T) {
	m, _ := watching(t, 1)
	m.live.Shells = func() []Shell {
		return []Shell{{Session: "gauge-1", Hops: []string{"quay", "gauge-1"}, Lost: time.Now().Add(-20 * time.Second)}, {Session: "quay"}}
	}
	m.live.Others.Put([]tunnel.Seen{{Program: tunnel.Program{PID: 4711, What: "hold", Lines: []tunnel.Line{{Session: "db", Kind: "bring", Door: "127.0.0.1:15432", Reach: "tide-db:5432", As: "quay", Up: true}}}, Links: []walk.LinkState{{ID: 1, Hop: "quay", Prefix: "x", Since: time.Now()}}}})
	m.Read()
	see := m.seen()
	for _, want := range []string{"╌ gauge-1", "lost for 20 s, walked again", "cuts 2 shells, 1 tunnel, 1 flow; hold has 1 tunnel", "hold your 127.0.0.1:15432 ⇐ tide-db:5432"} {
		if !strings.Contains(see, want) {
			t.Errorf("%q is missing of\n%s", want, see)
		}
	}
	m.press("down", "e")
	if m.note == "" || m.form != nil {
		t.Errorf("the other program's link is ended from here: %q", m.note)
	}
}

// BenchmarkWatching looks at many flows and draws the place; it is drawn four times a
// second, and counted once.
func BenchmarkWatching(b *testing.B) {
	m, _ := watching(b, 1000)
	for b.Loop() {
		m.look()
		m.View()
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*4*100, "%-of-a-core")
}

// BenchmarkWatchingAnotherProgram is 200 links and 2,000 flows, as another program shows
// them, with what counting them costs.
func BenchmarkWatchingAnotherProgram(b *testing.B) {
	m, _ := watching(b, 1)
	var s tunnel.Seen
	s.PID, s.What = 4711, "hold"
	for i := range 200 {
		below := walk.ID(0)
		if i%2 == 1 {
			below = walk.ID(i)
		}
		s.Links = append(s.Links, walk.LinkState{ID: walk.ID(i + 1), Below: below, Hop: fmt.Sprint("gauge-", i), Prefix: fmt.Sprint("keeper@gauge-", i, ":22 ()\n"), Since: time.Now(), RoundTrip: 18 * time.Millisecond, Channels: 10})
	}
	for i := range 20 {
		s.Lines = append(s.Lines, tunnel.Line{Session: fmt.Sprint("gauge-", i), Kind: "bring", Door: fmt.Sprint("127.0.0.1:", 20000+i), Reach: "tide-db.internal:5432", As: "quay", Up: true, Live: 100})
	}
	for i := range 2000 {
		s.Flows = append(s.Flows, tunnel.SeenFlow{Flow: tunnel.Flow{ID: int64(i), From: fmt.Sprint("127.0.0.1:", 30000+i), Program: "psql (process 4712)", To: "tide-db.internal:5432", Began: time.Now(), Last: time.Now()}, Session: fmt.Sprint("gauge-", i%20), Door: fmt.Sprint("127.0.0.1:", 20000+i%20)})
	}
	others := m.live.Others
	others.Put([]tunnel.Seen{s})
	m.live.Keeper = meter.NewKeeper(others.Readings, nil)
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
		m.live.Keeper.Take(at)
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
