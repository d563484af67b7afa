package engine

import (
	"fmt"
	"slices"
	"time"

	"meatus/core/estate"
)

const (
	// grantPace is how often is looked whether a rule that stands for a time is due.
	grantPace = time.Second
	// firstAgain and longestAgain are how soon and how late a rule that could not be taken back is tried again.
	firstAgain   = 5 * time.Second
	longestAgain = 5 * time.Minute
)

// retry is since when this program knows of a rule that stands for a time, and when it tries again to take it back.
type retry struct {
	seen     time.Time // since when, by a clock that nobody sets
	failures int
	next     time.Time // before which it is not tried again
}

// keepGrants takes rules back whose time is over, those that programs before left, too, until the engine ends.
// What cannot be taken back is tried again, and told.
func (e *Engine) keepGrants() {
	tick := time.NewTicker(grantPace)
	defer tick.Stop()
	known, unread := map[string]*retry{}, ""
	for {
		standing, err := estate.Granted(e.Workspace().Dir)
		if err != nil && err.Error() != unread {
			unread = err.Error()
			e.Events.Tell(Notice{Say: "a rule that stands for a time: " + unread})
		}
		before := e.Grants()
		if !slices.Equal(before, standing) {
			e.grants.Store(&standing)
			e.Events.Tell(estate.GrantsChanged{})
		}
		for _, g := range standing {
			r := known[g.Mark]
			if r == nil {
				r = &retry{seen: time.Now()}
				known[g.Mark] = r
			}
			over := g.Due(time.Now()) || time.Since(r.seen) >= g.Until.Sub(g.Began)
			if !over || time.Now().Before(r.next) {
				continue
			}
			e.takeBack(g, r)
		}
		select {
		case <-e.ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// takeBack takes a rule back.
func (e *Engine) takeBack(g estate.Grant, r *retry) {
	source, ok := e.Workspace().Source(g.Source)
	err := fmt.Errorf("estate %s is no longer in the sessions file", g.Source)
	if ok {
		err = (&estate.Source{Dir: e.Workspace().Dir, EstateSource: source}).TakeBack(e.ctx, g)
	}
	if e.ctx.Err() != nil {
		return // the next program does it
	}
	if err == nil {
		e.Events.Tell(estate.TakenBack{Grant: g})
		e.Events.Tell(Notice{Say: "the time is over: no longer " + g.Sentence()})
		e.ReadEstates()
		return
	}
	if r.failures++; r.failures == 1 {
		e.Events.Tell(estate.TakenBack{Grant: g, Why: err.Error()})
		e.Events.Tell(Notice{Say: fmt.Sprintf("a rule could not be taken back, and is tried again: %s: %v", g.Sentence(), err)})
	}
	r.next = time.Now().Add(min(firstAgain<<min(r.failures-1, 10), longestAgain))
}

// Grants are the rules that stand for a time, those that end first before the others.
func (e *Engine) Grants() []estate.Grant {
	if all := e.grants.Load(); all != nil {
		return *all
	}
	return nil
}
