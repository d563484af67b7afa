package list

import (
	"math/rand/v2"
	"slices"
	"testing"

	tea "charm.land/bubbletea/v2"
)

// row is a key file with when it came.
type row struct {
	name string
	n    int
}

func named(names ...string) (rows []row) {
	for i, n := range names {
		rows = append(rows, row{n, i})
	}
	return rows
}

func newList(names ...string) *List[string, row] {
	l := New(func(r row) string { return r.name })
	l.SetRoom(3)
	l.Set(named(names...))
	return l
}

func selected(l *List[string, row]) string {
	r, ok := l.Selected()
	if !ok {
		return ""
	}
	return r.name
}

var down, up = tea.KeyPressMsg{Code: tea.KeyDown}, tea.KeyPressMsg{Code: tea.KeyUp}

func TestTheChoiceStaysWithWhatItIsOf(t *testing.T) {
	l := newList("bay", "gauge", "shore", "tide")
	if selected(l) != "bay" {
		t.Errorf("at first %q is chosen", selected(l))
	}
	l.Take(down)
	l.Take(down)
	for _, now := range [][]string{{"arrived", "bay", "gauge", "shore", "tide"}, {"tide", "shore", "gauge"}, {"shore"}, {"a", "b", "c", "d", "e", "shore"}} {
		l.Set(named(now...))
		if selected(l) != "shore" {
			t.Errorf("of %v %q is chosen", now, selected(l))
		}
		if from, to := l.Window(); from > slices.Index(now, "shore") || to <= slices.Index(now, "shore") {
			t.Errorf("of %v the rows %d to %d show", now, from, to)
		}
	}
	l.Set(named("a", "b", "c", "d", "e", "f"))
	if s := selected(l); s != "" {
		t.Errorf("what was chosen has gone, and %q is taken for it", s)
	}
	if lines := l.Lines(func(r row, chosen bool) string { return map[bool]string{true: ">"}[chosen] + r.name }); slices.ContainsFunc(lines, func(s string) bool { return s[0] == '>' }) {
		t.Errorf("a row is drawn as chosen: %q", lines)
	}
	l.Set(named("a", "shore"))
	if selected(l) != "shore" {
		t.Errorf("it is back, and %q is chosen", selected(l))
	}
	l.Set(nil)
	l.Set(named("a", "b"))
	if s := selected(l); s != "" {
		t.Errorf("after an empty list %q is chosen", s)
	}
	l.Take(up)
	if selected(l) == "" {
		t.Error("nothing is chosen after a move")
	}
}

func TestWhatIsNarrowedKeepsTheChoice(t *testing.T) {
	l := newList("bay", "gauge-1", "gauge-2", "tide")
	l.Select("gauge-2")
	l.Filter(func(r row) bool { return r.name > "g" })
	if selected(l) != "gauge-2" || l.Len() != 3 || len(l.All()) != 4 {
		t.Errorf("%q is chosen of %v", selected(l), l.Shown())
	}
	l.Filter(func(r row) bool { return r.name == "tide" })
	if selected(l) != "tide" {
		t.Errorf("%q is chosen of the one that shows", selected(l))
	}
	l.Filter(nil)
	if selected(l) != "tide" {
		t.Errorf("%q is chosen then", selected(l))
	}
	if _, ok := l.Find("tide"); !ok || l.Select("nothing") {
		t.Error("what is there is not found, or what is not is chosen")
	}
	if !l.Click(0) || selected(l) != "gauge-1" || l.Click(3) || l.Click(-1) {
		t.Errorf("a click chooses %q", selected(l))
	}
}

// Whatever happens to the rows, what is chosen is what was chosen, or nothing.
func TestNothingIsTakenForWhatWasChosen(t *testing.T) {
	names := []string{"a", "b", "c", "d", "e", "f"}
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 1))
		l := newList(names...)
		l.Take(down)
		want := selected(l)
		for range 40 {
			rows := slices.Clone(names)
			r.Shuffle(len(rows), func(i, j int) { rows[i], rows[j] = rows[j], rows[i] })
			l.Set(named(rows[:1+r.IntN(len(rows))]...))
			if r.IntN(3) == 0 {
				l.SetRoom(1 + r.IntN(5))
			}
			if got := selected(l); got != want && got != "" {
				t.Fatalf("seed %d: %q was chosen, and %q is", seed, want, got)
			}
			if r.IntN(4) == 0 {
				l.Take([]tea.Msg{down, up}[r.IntN(2)])
				want = selected(l)
			}
		}
	}
}
