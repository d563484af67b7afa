package engine

import (
	"context"
	"sync"
	"time"

	"meatus/core/estate"
	"meatus/core/needs"
	"meatus/core/route"
	"meatus/core/walk"
)

// Touch checks sessions as far as depth says. What it finds is in the order of the names.
func (e *Engine) Touch(ctx context.Context, names []string, depth walk.Depth) []walk.Touched {
	found := make([]walk.Touched, len(names))
	var routes []route.Route
	var at []int
	w := e.Workspace()
	known := w.Knowledge()
	for i, name := range names {
		r, report := w.Check(name, known)
		if found[i] = (walk.Touched{Report: report, Route: r}); report.Broken == "" && depth != walk.Here {
			routes, at = append(routes, r), append(at, i)
		}
	}
	e.Walker.TouchAll(ctx, routes, walk.Look{Depth: depth}, func(i int, t walk.Touched) { found[at[i]] = t })
	return found
}

// Needs is what needs a person, the gravest first: the causes of what blocks the sessions, each once, with what key files,
// rules that stand for a time and the trail tell besides. Shut tells whether a session is blocked.
func (e *Engine) Needs(ctx context.Context, names []string, depth walk.Depth) (all []needs.Need, shut bool, err error) {
	w := e.Workspace()
	causes := e.causes(ctx, names, depth)
	seen, err := needs.ReadSeen(w)
	if err != nil {
		return nil, false, err
	}
	s := needs.Sources{Causes: causes.All(), Keys: w.Keys(), Seen: seen, Now: time.Now()}
	if s.Grants, err = estate.Granted(w.Dir); err != nil {
		return nil, false, err
	}
	if e.Trail != nil && !seen.At.IsZero() {
		if s.Recap, err = e.Trail.Recap(ctx, seen.At, s.Now, nil); err != nil {
			return nil, false, err
		}
	}
	return needs.Of(s), causes.Shut(), nil
}

// causes gathers why sessions are blocked.
func (e *Engine) causes(ctx context.Context, names []string, depth walk.Depth) *needs.Causes {
	w := e.Workspace()
	known := w.Knowledge()
	causes := &needs.Causes{}
	var routes []route.Route
	for _, name := range names {
		r, report := w.Check(name, known)
		if depth == walk.Here || report.Broken != "" {
			causes.Add(report, false)
			continue
		}
		routes = append(routes, r)
	}
	var mu sync.Mutex
	e.Walker.TouchAll(ctx, routes, walk.Look{Depth: depth}, func(_ int, t walk.Touched) {
		mu.Lock()
		defer mu.Unlock()
		causes.Add(t.Report, true)
	})
	return causes
}
