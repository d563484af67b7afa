package workspace

import (
	"runtime"

	"meatus/core/contain"
	"meatus/core/gate"
)

// atOnce is how many sessions one goroutine judges in a row.
const atOnce = 256

// CheckAll judges what this machine alone can know of sessions, and gives each report to put, in the order of the names.
// Several goroutines judge and call prepare, some batches ahead of what is put. The error is put's.
func CheckAll[T any](w *Workspace, names []string, prepare func(gate.Report) T, put func(T) error) error {
	workers := runtime.GOMAXPROCS(0)
	type batch struct {
		names []string
		done  chan []T
	}
	todo, ready := make(chan batch), make(chan batch, 2*workers)
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		defer close(todo)
		defer close(ready)
		for len(names) > 0 {
			n := min(atOnce, len(names))
			b := batch{names[:n], make(chan []T, 1)}
			names = names[n:]
			for _, to := range []chan batch{ready, todo} {
				select {
				case to <- b:
				case <-ended:
					return
				}
			}
		}
	}()
	for range workers {
		go func() {
			known := w.Knowledge() // what it has read of key files is of one goroutine
			for b := range todo {
				list := make([]T, len(b.names))
				for i, name := range b.names {
					var report gate.Report
					if err := contain.Do("judging "+name, func() error { _, report = w.Check(name, known); return nil }); err != nil {
						report = gate.Report{Session: name, Broken: err.Error()}
					}
					list[i] = prepare(report)
				}
				b.done <- list
			}
		}()
	}
	for b := range ready {
		for _, one := range <-b.done {
			if err := put(one); err != nil {
				return err
			}
		}
	}
	return nil
}
