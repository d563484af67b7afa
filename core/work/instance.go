package work

import (
	"context"
	"fmt"
	"strings"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/words"
	"meatus/core/workspace"
)

// Instance does something to an instance, and waits until that is done.
type Instance struct {
	Tools
	Source book.EstateSource
	Act    estate.Act
	ID     string
	Name   string
	Read   func() // has the estate read anew afterwards
}

// Title says what the job is.
func (j *Instance) Title() Title {
	return Title{What: string(j.Act), Of: j.Name, Session: j.Name, Record: "acted"}
}

// Run does it.
func (j *Instance) Run(ctx context.Context, tell func(Step)) error {
	s := estate.Source{Dir: j.Workspace().Dir, EstateSource: j.Source}
	if err := s.Do(ctx, j.Act, j.ID); err != nil {
		return err
	}
	defer j.Read()
	tell(Step{Verdict: gate.Open, Where: j.Name, Say: "estate " + j.Source.Name + " was asked to " + string(j.Act) + " it"})
	return s.Await(ctx, j.ID, j.Act.Reaches(), func(now estate.State) {
		tell(Step{Verdict: gate.Open, Where: j.Name, Say: "it is " + string(now)})
	})
}

// Consequences say what an act does besides: to addresses, to what is live, to what goes through the
// instance. live are the names of sessions with something live.
func Consequences(ws *workspace.Workspace, a estate.Act, s estate.Spot, live func(session string) bool) []string {
	var say []string
	var ends, through []string
	for _, name := range s.Sessions {
		if live(name) {
			ends = append(ends, name)
		}
	}
	for _, other := range ws.Book.Sessions {
		for _, via := range other.Via.V {
			for _, hop := range book.Either(via) {
				for _, name := range s.Sessions {
					if hop == name {
						through = append(through, other.Name)
					}
				}
			}
		}
	}
	if a != estate.Start {
		if len(ends) > 0 {
			say = append(say, "what is live there ends: "+strings.Join(ends, ", "))
		}
		if len(through) > 0 {
			say = append(say, fmt.Sprintf("%s can not be reached through it meanwhile", words.Count(len(through), "session")))
		}
	}
	switch a {
	case estate.Stop, estate.Start:
		say = append(say, "its address may be another once it runs again; sessions that are bound to it follow")
	case estate.End:
		say = append(say, "it does not come back, and what is on it is lost")
	}
	return say
}
