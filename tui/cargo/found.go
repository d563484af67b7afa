package cargo

import (
	"context"
	"sync"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/work"
)

// found gathers what a comparison tells until the interface takes it.
type found struct {
	mu     sync.Mutex
	listed []cargo.Listed
	alike  map[string]cargo.Likeness
	ahead  int64
	err    error
	over   bool
	wake   chan struct{}
}

// find compares two trees in the background. Files whose time alone differs are compared by their
// contents where that costs no line.
func find(ctx context.Context, trees *work.Between) *found {
	f := &found{wake: make(chan struct{}, 1)}
	go func() {
		touched := cargo.NewTree(cargo.Place{}, cargo.Place{}, cargo.Rules{})
		err := cargo.Compare(ctx, trees.From, trees.To, cargo.Rules{}, func(l cargo.Listed) {
			touched.Add(l)
			f.put(func() { f.listed = append(f.listed, l) })
		})
		var alike map[string]cargo.Likeness
		if err == nil && trees.From.Can(ends.Digests) && trees.To.Can(ends.Digests) {
			alike, err = cargo.Unlike(ctx, trees.From, trees.To, touched.Touched())
		}
		ahead := int64(0)
		if there, ok := trees.To.(*ends.There); ok && err == nil {
			ahead, _ = there.Ahead()
		}
		f.put(func() { f.err, f.alike, f.ahead, f.over = err, alike, ahead, true })
	}()
	return f
}

func (f *found) put(change func()) {
	f.mu.Lock()
	change()
	f.mu.Unlock()
	select {
	case f.wake <- struct{}{}:
	default:
	}
}

// take waits for more, and takes it.
func (f *found) take(id int) more {
	<-f.wake
	f.mu.Lock()
	defer f.mu.Unlock()
	m := more{id: id, listed: f.listed, err: f.err, over: f.over, alike: f.alike, ahead: f.ahead}
	f.listed = nil
	return m
}
