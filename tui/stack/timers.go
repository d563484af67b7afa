package stack

import (
	"reflect"

	tea "charm.land/bubbletea/v2"
)

// timer is what a layer waits for.
type timer struct {
	id  int     // the address of the layer
	msg tea.Msg // that comes when it ends
}

// Timed is the end of a timer.
type Timed struct {
	timer
	n int
}

// Time begins a timer of the layer with an address. It reports false where the layer waits for an equal message already; a
// timer ends with its layer.
func (s *Stack) Time(id int, msg tea.Msg) (t Timed, begun bool) {
	key := timer{id, msg}
	if !reflect.TypeOf(msg).Comparable() {
		key.msg = reflect.TypeOf(msg)
	}
	if _, waits := s.timers[key]; waits {
		return Timed{}, false
	}
	s.lastTimer++
	s.timers[key] = s.lastTimer
	return Timed{timer{id, msg}, s.lastTimer}, true
}

// Ended gives the layer what its timer brings, unless the timer has ended with it.
func (s *Stack) Ended(t Timed) (id int, msg tea.Msg, wanted bool) {
	key := t.timer
	if !reflect.TypeOf(key.msg).Comparable() {
		key.msg = reflect.TypeOf(key.msg)
	}
	if s.timers[key] != t.n {
		return 0, nil, false
	}
	delete(s.timers, key)
	return t.id, t.msg, true
}

// endTimers ends the timers of a layer.
func (s *Stack) endTimers(l Layer) {
	for t := range s.timers {
		if s.owners[t.id] == l {
			delete(s.timers, t)
		}
	}
}
