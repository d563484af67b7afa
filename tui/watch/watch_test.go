package watch

import (
	"io"
	"net"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"meatus/core/book"
	"meatus/core/meter"
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
	set := tunnel.NewSet(walker, walker.Tell)
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

// BenchmarkWatching draws the place with many flows; it is drawn four times a second.
func BenchmarkWatching(b *testing.B) {
	m, _ := watching(b, 1000)
	for b.Loop() {
		m.look()
		m.View()
	}
	b.ReportMetric(b.Elapsed().Seconds()/float64(b.N)*4*100, "%-of-a-core")
}
