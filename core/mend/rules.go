package mend

import (
	"fmt"
	"slices"
	"time"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/workspace"
)

// grantedFor are how long a rule can be granted from a gate, the usual first.
var grantedFor = []struct {
	say string
	d   time.Duration
}{{"an hour", time.Hour}, {"ten minutes", 10 * time.Minute}, {"eight hours", 8 * time.Hour}}

// shutFar tells whether the gate is about a service that the rules keep shut.
func (c Case) shutFar() bool {
	a, ok := c.Workspace.AskFar(c.Route, c.Gate.Remedy.Subject)
	return ok && !a.Answer.Open
}

// rules are the ways to get through the rules of an estate: by another way, by what they lack, for an hour, or
// by asking whoever owns them.
func (c Case) rules(a workspace.Asked, ok bool) []Way {
	if !ok || a.Answer.Open {
		return nil
	}
	var ways []Way
	source, known := c.Workspace.Source(a.Source)
	if l, ok := c.Workspace.Lacks(a); ok {
		l.Session = c.Route.Session
		if known && (&estate.Source{EstateSource: source}).Acts() {
			for _, g := range grantedFor {
				l.For = g.d
				ways = append(ways, Way{Say: "allow it for " + g.say + ", then connect", Why: "for this one address only", Act: gate.LetIn, LetIn: l,
					Preview: append(slices.Clone(l.Lines), "removed after "+g.say+"; if Meatus is killed, by the next start")})
			}
		}
		ways = append(ways, Way{Say: "copy the request text", Why: "for the owner of the firewall rules", Act: gate.HandOn, Preview: l.Lines})
	} else if a.Answer.Change != nil {
		ways = append(ways, Way{Say: "copy the request text", Why: "firewall rules alone do not allow it", Act: gate.HandOn, Preview: []string{a.Answer.Change.Say}})
	}
	return append(c.around(a), ways...)
}

// around are other ways to a hop's machine that the rules leave open, by sessions that there are.
func (c Case) around(a workspace.Asked) []Way {
	if a.Port != (reach.Port{Protocol: "tcp", Number: uint16(c.hop().Port)}) || c.Gate.Kind != gate.Rules {
		return nil
	}
	found, _ := c.Workspace.WaysTo(a.Source, a.To, a.Port, nil)
	var ways []Way
	for _, w := range found {
		if len(w.Hops) < 2 {
			continue
		}
		through := w.Hops[len(w.Hops)-2].Means.Session
		if through == "" || !c.Workspace.Leads(through, w.Hops[:len(w.Hops)-1]) || len(ways) == 3 {
			continue
		}
		ways = append(ways, Way{Say: "connect through " + through, Why: w.String(), Preview: []string{c.change("via", through)}, do: c.set("via", through)})
	}
	return ways
}

// Ask is what is to be asked of whoever owns the rules, as text.
func (w Way) Ask() string {
	text := ""
	for _, line := range w.Preview {
		text += fmt.Sprintln(line)
	}
	return text
}
