package stack_test

import (
	"slices"
	"testing"

	tea "charm.land/bubbletea/v2"

	"meatus/tui/action"
	"meatus/tui/stack"
)

// sheet is a layer that notes what is done to it.
type sheet struct {
	stack.Base
	shape  stack.Shape
	typing bool
	got    []tea.Msg
	closed int
	order  *[]*sheet
}

func (s *sheet) Shape() stack.Shape  { return s.shape }
func (s *sheet) Table() action.Table { return nil }
func (s *sheet) Typing() bool        { return s.typing }
func (s *sheet) View() []string      { return nil }
func (s *sheet) Update(msg tea.Msg) tea.Cmd {
	s.got = append(s.got, msg)
	return nil
}

func (s *sheet) Close() {
	s.closed++
	if s.order != nil {
		*s.order = append(*s.order, s)
	}
}

// connection is a result that holds something.
type connection struct{ freed *int }

func (c connection) Free() { *c.freed++ }

func TestWhatIsAboveALayerIsClosedFromTheTop(t *testing.T) {
	var order []*sheet
	s := stack.New()
	home, task, place, drawer := &sheet{shape: stack.Place, order: &order}, &sheet{order: &order}, &sheet{shape: stack.Place, order: &order}, &sheet{shape: stack.Drawer, order: &order}
	for _, l := range []*sheet{home, task, place, drawer} {
		s.Push(l)
	}
	s.CutAbove(task)
	if s.Top() != task || !slices.Equal(order, []*sheet{drawer, place}) {
		t.Errorf("%v is topmost, and %v were closed", s.Top(), order)
	}
	s.Push(drawer)
	s.Remove(task)
	if s.Top() != drawer || s.Beneath(drawer) != stack.Layer(home) || task.closed != 1 {
		t.Error("removing a layer in the middle takes others along")
	}
	s.Drop(home)
	s.Remove(home)
	if !s.Has(home) || home.closed != 0 {
		t.Error("the lowest layer can be taken away")
	}
}

func TestAResultForAClosedLayerIsFreed(t *testing.T) {
	s := stack.New()
	s.Push(&sheet{shape: stack.Place})
	freed := 0
	for _, c := range []struct {
		name  string
		shape stack.Shape
		want  int // how often it was freed after its layer was closed
	}{{"a task", stack.Card, 1}, {"a place, which is kept", stack.Place, 0}} {
		l, id := &sheet{shape: c.shape}, s.NewID()
		s.Own(id, l)
		s.Push(l)
		s.Deliver(id, connection{&freed})
		if freed != 0 || len(l.got) != 1 {
			t.Fatalf("%s: freed %d times while it is open", c.name, freed)
		}
		s.Drop(l)
		s.Deliver(id, connection{&freed})
		s.Deliver(id, "a word")
		if freed != c.want {
			t.Errorf("%s: freed %d times, want %d", c.name, freed, c.want)
		}
		freed = 0
	}
}

func TestATimerIsOneAndEndsWithItsLayer(t *testing.T) {
	type tick struct{ n int }
	s := stack.New()
	s.Push(&sheet{shape: stack.Place})
	l, id := &sheet{shape: stack.Place}, s.NewID()
	s.Own(id, l)
	s.Push(l)
	first, begun := s.Time(id, tick{1})
	if !begun {
		t.Fatal("a timer does not begin")
	}
	if _, again := s.Time(id, tick{1}); again {
		t.Error("an equal timer begins a second time")
	}
	if _, other := s.Time(id, tick{2}); !other {
		t.Error("another timer does not begin")
	}
	if _, msg, wanted := s.Ended(first); !wanted || msg != (tick{1}) {
		t.Errorf("the timer brings %v, %v", msg, wanted)
	}
	late, begun := s.Time(id, tick{1})
	if !begun {
		t.Error("it does not begin again after its end")
	}
	s.Drop(l)
	if _, _, wanted := s.Ended(late); wanted {
		t.Error("a timer outlives its layer")
	}
	s.Push(l)
	fresh, begun := s.Time(id, tick{1})
	if !begun {
		t.Error("it does not begin again when the layer is back")
	}
	if _, _, wanted := s.Ended(late); wanted {
		t.Error("the timer of before counts for the one of now")
	}
	if _, _, wanted := s.Ended(fresh); !wanted {
		t.Error("the timer of now does not count")
	}
	if _, begun := s.Time(id, []int{1}); !begun { // no message that can be compared
		t.Error("a message that cannot be compared has no timer")
	}
}

func TestIdleMeansAPlaceWithNothingTyped(t *testing.T) {
	for _, c := range []struct {
		shape      stack.Shape
		typing     bool
		idle, card bool
	}{
		{stack.Place, false, true, true}, {stack.Place, true, false, false}, {stack.Card, false, false, true}, {stack.Wide, false, false, true},
		{stack.Card, true, false, false}, {stack.Drawer, false, false, false}, {stack.Page, false, false, false}, {stack.Dialog, false, false, false}, {stack.Window, false, false, false},
	} {
		s := stack.New()
		s.Push(&sheet{shape: stack.Place})
		s.Push(&sheet{shape: c.shape, typing: c.typing})
		if s.Idle() != c.idle || s.IdleForCard() != c.card {
			t.Errorf("shape %d, typing %v: idle %v, for a card %v", c.shape, c.typing, s.Idle(), s.IdleForCard())
		}
	}
}
