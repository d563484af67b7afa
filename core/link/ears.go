package link

import (
	"slices"
	"sync"

	"meatus/core/gate"
)

// Ear is a walk that waits for a link, and hears of the gates on its way.
type Ear interface {
	// Hear is told of a gate: delta is -1 for that of the hop below, which the link found out about, else 0; trying says
	// that the gate is come to, and not yet judged.
	Hear(delta int, g gate.Gate, trying bool)
	// Quiet tells whether nobody is to be asked for the walk alone.
	Quiet() bool
}

// ears are the walks that wait for a link. What was told is kept for those that come later.
type ears struct {
	mu   sync.Mutex
	told []telling
	all  []Ear
}

type telling struct {
	delta  int
	gate   gate.Gate
	trying bool
}

// join has an ear told everything, also what was told before.
func (e *ears) join(ear Ear) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.all = append(e.all, ear)
	for _, t := range e.told {
		ear.Hear(t.delta, t.gate, t.trying)
	}
}

func (e *ears) leave(ear Ear) {
	e.mu.Lock()
	defer e.mu.Unlock()
	if i := slices.Index(e.all, ear); i >= 0 {
		e.all = slices.Delete(slices.Clone(e.all), i, i+1)
	}
}

// Hear tells of a gate to every walk that waits for the link.
func (l *Link) Hear(delta int, g gate.Gate, trying bool) {
	e := &l.ears
	e.mu.Lock()
	defer e.mu.Unlock()
	e.told = append(e.told, telling{delta, g, trying})
	for _, ear := range e.all {
		ear.Hear(delta, g, trying)
	}
}

// Quiet tells whether the link is made for nobody who may be asked.
func (l *Link) Quiet() bool {
	e := &l.ears
	e.mu.Lock()
	defer e.mu.Unlock()
	return len(e.all) > 0 && !slices.ContainsFunc(e.all, func(ear Ear) bool { return !ear.Quiet() })
}
