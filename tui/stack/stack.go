package stack

import (
	"slices"

	tea "charm.land/bubbletea/v2"
)

// Stack is the layers that show, the lowest first, and the owners of results. It is for one goroutine at a time.
type Stack struct {
	layers []Layer
	owners map[int]Layer // by what results are addressed to
	lastID int

	timers    map[timer]int // each with its number
	lastTimer int
}

// New returns an empty stack. The first layer that is pushed stays.
func New() *Stack { return &Stack{owners: map[int]Layer{}, timers: map[timer]int{}} }

// NewID returns an address for the results of a layer.
func (s *Stack) NewID() int {
	s.lastID++
	return s.lastID
}

// Own has the results for an address go to a layer. A layer that is kept while it does not show stays their owner.
func (s *Stack) Own(id int, l Layer) { s.owners[id] = l }

// Disown has the results for an address freed from now on.
func (s *Stack) Disown(id int) { delete(s.owners, id) }

// Owner is the layer that results for an address go to, nil where it was closed.
func (s *Stack) Owner(id int) Layer { return s.owners[id] }

// Deliver gives a result to the layer with an address. Where that was closed, what the result holds is freed.
func (s *Stack) Deliver(id int, msg tea.Msg) tea.Cmd {
	if l := s.owners[id]; l != nil {
		return l.Update(msg)
	}
	if held, ok := msg.(Held); ok {
		held.Free()
	}
	return nil
}

// Top is the layer that has the input.
func (s *Stack) Top() Layer { return s.layers[len(s.layers)-1] }

// Layers are all layers, the lowest first. They are not to be changed.
func (s *Stack) Layers() []Layer { return s.layers }

// Has reports whether a layer is in the stack.
func (s *Stack) Has(l Layer) bool { return slices.Contains(s.layers, l) }

// Beneath is the layer under another, nil under the lowest.
func (s *Stack) Beneath(l Layer) Layer {
	if i := slices.Index(s.layers, l); i > 0 {
		return s.layers[i-1]
	}
	return nil
}

// Push puts a layer on top.
func (s *Stack) Push(l Layer) tea.Cmd {
	s.layers = append(s.layers, l)
	return l.Show()
}

// Drop closes a layer and everything above it. The lowest layer stays.
func (s *Stack) Drop(l Layer) {
	if i := slices.Index(s.layers, l); i > 0 {
		s.cut(i)
	}
}

// CutAbove closes everything above a layer.
func (s *Stack) CutAbove(l Layer) {
	if i := slices.Index(s.layers, l); i >= 0 {
		s.cut(i + 1)
	}
}

// Remove closes one layer, wherever it is; those above it stay. The lowest layer stays.
func (s *Stack) Remove(l Layer) {
	i := slices.Index(s.layers, l)
	if i <= 0 {
		return
	}
	s.layers = slices.Delete(s.layers, i, i+1)
	s.close(l)
}

// cut closes the layers from an index on, the topmost first.
func (s *Stack) cut(from int) {
	gone := slices.Clone(s.layers[from:])
	clear(s.layers[from:])
	s.layers = s.layers[:from]
	for _, l := range slices.Backward(gone) {
		s.close(l)
	}
}

// close closes a layer that has left the stack. A place stays the owner of its results.
func (s *Stack) close(l Layer) {
	s.endTimers(l)
	if l.Shape() != Place {
		for id, owner := range s.owners {
			if owner == l {
				delete(s.owners, id)
			}
		}
	}
	l.Close()
}

// Idle reports whether something that comes by itself may be shown: a place is topmost and nothing is typed.
func (s *Stack) Idle() bool {
	top := s.Top()
	return top.Shape() == Place && !top.Typing()
}

// IdleForCard is [Stack.Idle] for what stands in place of the gate card: a task that shows and takes no text may be covered,
// too.
func (s *Stack) IdleForCard() bool {
	top := s.Top()
	return (top.Shape() == Place || top.Shape().OnRoutes()) && !top.Typing()
}
