package mend

import (
	"fmt"
	"slices"

	"meatus/core/gate"
	"meatus/core/posix"
	"meatus/core/route"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// Problem is a gate that is blocked or has a warning, with the remedies for it, the likeliest first.
type Problem struct {
	Session string // the session that was checked
	Hop     string // the session of the hop whose gate it is
	Gate    gate.Gate
	Ways    []Way

	instance string        // the id of the hop's instance, or ""
	failure  *gate.Failure // how the check ended at the gate, or nil
	end      route.LinkKey // the end of the route that was checked
}

// Problems are the problems that a check of a session found, blocked gates before those with a warning.
func Problems(w *workspace.Workspace, found walk.Touched) []Problem {
	var all []Problem
	for i, h := range found.Report.Hops {
		for _, g := range h.Gates {
			if g.Verdict < gate.Ajar || i >= len(found.Route.Hops) {
				continue
			}
			p := Problem{Session: found.Report.Session, Hop: h.Name, Gate: g, end: found.Route.End()}
			if at := found.Route.Hops[i].Instance; at != nil {
				p.instance = at.ID
			}
			c := Case{Workspace: w, Route: found.Route, Hop: i, Gate: g}
			if f := found.Failure; f != nil && f.Hop == h.Name && f.Judged().Kind == g.Kind {
				c.Failure = f
			}
			p.failure = c.Failure
			p.Ways = Ways(c)
			all = append(all, p)
		}
	}
	slices.SortStableFunc(all, func(a, b Problem) int { return int(b.Gate.Verdict) - int(a.Gate.Verdict) })
	return all
}

// Again is a way as it is in another reading of the workspace. ok is false where the session, its key files or its rules have
// changed so that it is not proposed any more, or would change something else than its preview says.
func (p Problem) Again(w *workspace.Workspace, way Way) (now Way, ok bool) {
	r, _ := w.CheckWay(p.Session, p.end, w.Knowledge())
	hop := slices.IndexFunc(r.Hops, func(h route.Hop) bool { return h.Name == p.Hop })
	if hop < 0 {
		return Way{}, false
	}
	ways := Ways(Case{Workspace: w, Route: r, Hop: hop, Gate: p.Gate, Failure: p.failure})
	i := slices.IndexFunc(ways, func(w Way) bool { return w.Say == way.Say && slices.Equal(w.Preview, way.Preview) })
	if i < 0 {
		return Way{}, false
	}
	return ways[i], true
}

// Done tells whether the program does the remedy itself by [Way.Do].
func (w Way) Done() bool { return w.do != nil }

// Command is the command line that does a remedy which takes time or asks a cloud, or "" where there is none.
func (p Problem) Command(w Way) string {
	switch w.Act {
	case gate.LetIn:
		return posix.Command([]string{"meatus", "estate", "allow", w.LetIn.Session, "--for", w.LetIn.For.String()})
	case gate.Start:
		return posix.Command([]string{"meatus", "estate", "start", "id=" + p.instance})
	case gate.AskKeys:
		return posix.Command([]string{"meatus", "key", "find", "--at", p.Hop})
	}
	return ""
}

// restrict sets the mode of a file of the workspace.
func (c Case) restrict() Way {
	r := c.Gate.Remedy
	return Way{
		Say:     r.Say,
		Preview: []string{fmt.Sprintf("%s  → mode 0600", workspace.Short(r.Subject))},
		do: func() (Done, error) {
			say, err := Mode(r)
			return Done{Say: say}, err
		},
	}
}
