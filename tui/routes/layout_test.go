package routes

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"

	"meatus/core/board"
	"meatus/lab/await"
	"meatus/tui/placetest"
)

// behindQuay is a workspace of n sessions behind one bastion.
func behindQuay(t testing.TB, n int) *placetest.Driver {
	var b strings.Builder
	b.WriteString("[session.quay]\nhost = \"203.0.113.10\"\nuser = \"warden\"\n\n[defaults]\nuser = \"keeper\"\n")
	for i := range n {
		fmt.Fprintf(&b, "\n[session.gauge-%d]\nhost = \"10.61.%d.%d\"\nvia = \"quay\"\n", i, i/250, i%250+1)
	}
	return placetest.Workspace(t, b.String())
}

// At 200 columns and 60 rows a hundred routes and a whole card are seen at once; the divide is
// moved by a key, and is where it was at the next start.
func TestAHundredRoutesBesideAWholeCard(t *testing.T) {
	d := behindQuay(t, 105)
	m := d.Place(New).On().(*Model)
	m.SetSize(200, 58)
	m.Select("gauge-7")
	d.Until("the card", func() bool {
		return strings.Contains(ansi.Strip(strings.Join(m.View(), "\n")), "10.61.0.8, seen from quay")
	})
	see := ansi.Strip(strings.Join(m.View(), "\n"))
	seen := 0
	for i := range 105 {
		if strings.Contains(see, fmt.Sprintf("gauge-%d ", i)) {
			seen++
		}
	}
	if seen < 100 {
		t.Errorf("%d routes are seen at once:\n%s", seen, see)
	}
	if strings.Contains(strings.Join(cardOf(m), "\n"), "…") {
		t.Errorf("a fact is cut:\n%s", strings.Join(cardOf(m), "\n"))
	}
	before := m.layout()
	d.Press("[", "[")
	if now := m.layout(); now.pane <= before.pane {
		t.Errorf("the card has %d columns, had %d", now.pane, before.pane)
	}
	await.Until(t, "the next start to have the divide where it is", func() bool {
		again := New(d.Services).(*Model)
		again.SetSize(200, 58)
		return again.layout().pane == m.layout().pane
	})
	for _, width := range []int{80, 100, 119, 120, 121, 140, 160, 200, 300} {
		m.SetSize(width, 40)
		for _, line := range m.View() {
			if n := ansi.StringWidth(line); n > width {
				t.Errorf("at %d columns a line has %d: %q", width, n, ansi.Strip(line))
			}
		}
	}
}

// At 80x24 a way of several hops is drawn side by side; what is too long for its column goes on
// below while there are lines to spare, what is wrong first.
func TestAFactOfAHopGoesOnBelow(t *testing.T) {
	d, m := open(t)
	m.SetSize(80, 26) // with lines to spare whether or not the gate of rules is known by then
	m.Select("gauge-1")
	d.Until("its card", func() bool { return strings.Contains(strings.Join(cardOf(m), "\n"), "seen from") })
	see := strings.Join(cardOf(m), "\n")
	if strings.Contains(see, "…") || !strings.Contains(see, "quay") {
		t.Errorf("a fact is cut:\n%s", see)
	}
	m.Select("tide-db")
	d.Until("its card", func() bool { return strings.Contains(strings.Join(cardOf(m), "\n"), "tide.pem 0644") })
	d.Press("/")
	d.Type("tide-db")
	see = strings.Join(cardOf(m), "\n")
	if strings.Contains(see, "…") {
		t.Errorf("a fact is cut though the board is short:\n%s", see)
	}
}

// cardOf is the card as it is drawn.
func cardOf(m *Model) []string {
	var lines []string
	for _, l := range m.viewPane(m.layout()) {
		lines = append(lines, ansi.Strip(l))
	}
	return lines
}

func TestWhatASessionHasBesideIsShownAtItsStop(t *testing.T) {
	_, m := open(t)
	say := ansi.Strip(m.tags(row{State: board.State{Running: &board.Running{Shells: 2, Lent: []string{"gauge.pem"}, Windows: 1}}}))
	if say != "  2 shells, lends gauge.pem, 1 window" {
		t.Errorf("%q", say)
	}
	if say := m.tags(row{State: board.State{Running: &board.Running{Shells: 1}}}); say != "" {
		t.Errorf("%q", say)
	}
}

// What needs the person stands above the board, is gone to by its number, and is folded by a key.
func TestWhatNeedsThePersonIsGoneTo(t *testing.T) {
	d, m := open(t)
	told := func(what string, holds func(see string) bool) {
		t.Helper()
		d.Until(what, func() bool {
			m.needs.last = time.Time{} // a test waits for no clock
			m.tellNeeds()
			return holds(d.See())
		})
	}
	told("what needs somebody", func(see string) bool {
		return strings.Contains(see, "1 ╳ tide.pem") && strings.Contains(see, "→ set mode 0600")
	})
	m.Select("quay")
	d.Press("1")
	if m.Selected() != "tide-db" {
		t.Errorf("%s is selected", m.Selected())
	}
	d.Press("z")
	if see := d.See(); strings.Contains(see, "1 ╳ tide.pem") || !strings.Contains(see, "z unfolds it") {
		t.Errorf("it is not folded:\n%s", see)
	}
	d.Press("z")
	d.UntilSees("press m: set mode 0600")
	d.Press("m") // mended, it needs nobody any more
	told("it to be gone", func(see string) bool { return !strings.Contains(see, "╳ tide.pem") })
	if err := m.Remember(); err != nil {
		t.Error(err)
	}
}
