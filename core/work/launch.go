package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/words"
)

const (
	// consoleTime is how long a console is looked at for fingerprints, and consolePace how often.
	consoleTime = 2 * time.Minute
	consolePace = 3 * time.Second
	// knownTime is how long is waited for an instance that runs to be known of by everybody.
	knownTime = time.Minute
)

// Launch launches instances, waits until they run, reads the fingerprints that their consoles print, and has
// a session for each.
type Launch struct {
	Tools
	Source book.EstateSource
	Launch estate.Launch
	Offer  *estate.Offer
	Read   func()   // has the estate read anew
	Made   []string // sessions, once it has ended
}

// launched is an instance that was asked for.
type launched struct{ name, id string }

// Title says what the job is.
func (j *Launch) Title() Title {
	return Title{What: "launch", Of: j.Launch.Name, Record: "launched"}
}

// Run does it. What is launched before something fails stays, and is told.
func (j *Launch) Run(ctx context.Context, tell func(Step)) error {
	s := estate.Source{Dir: j.Workspace().Dir, EstateSource: j.Source}
	down, err := estate.BeginLaunch(s.Dir, j.Source.Name, j.Launch, time.Now())
	if err != nil {
		return err
	}
	defer down.End()
	defer j.Read()
	var made []launched
	var unwritten error
	failed := s.Launch(ctx, j.Launch, j.Offer, down.Mark, func(name, id string) {
		made = append(made, launched{name, id})
		unwritten = errors.Join(unwritten, down.Add(id))
		tell(Step{Verdict: gate.Open, Where: name, Say: "estate " + j.Source.Name + " builds " + name + ", as " + id})
	})
	if failed != nil && len(made) > 0 {
		failed = fmt.Errorf("%w; %s launched before that", failed, words.Plural(len(made), "instance was", "instances were"))
	}
	errs := []error{failed, unwritten}
	fail := func(i launched, err error) {
		tell(Step{Verdict: gate.Shut, Where: i.name, Say: i.name + " is not what it should be", Err: err})
		errs = append(errs, fmt.Errorf("%s: %w", i.name, err))
	}
	sessions := map[launched]*book.Session{}
	for _, i := range made {
		say := func(now estate.State) {
			tell(Step{Verdict: gate.Open, Where: i.name, Say: i.name + " is " + string(now)})
		}
		if err := s.Await(ctx, i.id, estate.Running, say); err != nil {
			fail(i, err)
			continue
		}
		j.Read()
		session, err := j.session(ctx, i.id)
		if err != nil {
			fail(i, err)
			continue
		}
		sessions[i], j.Made = session, append(j.Made, session.Name)
		way := ""
		if len(session.Via.V) > 0 {
			way = ", via " + session.Via.V[len(session.Via.V)-1]
		}
		tell(Step{Verdict: gate.Open, Where: i.name, Say: "session " + session.Name + " leads to " + i.name + way})
	}
	j.readConsoles(ctx, &s, made, sessions, tell, fail)
	return errors.Join(append(errs, ctx.Err())...)
}

// readConsoles looks at the consoles of instances in turn, until each has said what it has to say.
func (j *Launch) readConsoles(ctx context.Context, s *estate.Source, made []launched, sessions map[launched]*book.Session, tell func(Step), fail func(launched, error)) {
	for until := time.Now().Add(consoleTime); ; {
		for _, i := range made {
			session := sessions[i]
			if session == nil {
				continue
			}
			n, err := j.prints(ctx, s, session, i.id)
			switch {
			case err != nil:
				fail(i, err)
			case n > 0:
				tell(Step{Verdict: gate.Open, Where: i.name, Say: "the console of " + i.name + " has " + words.Count(n, "fingerprint") + ": the first visit is compared with it"})
			case time.Now().After(until):
				tell(Step{Verdict: gate.Ajar, Where: i.name, Say: "the console of " + i.name + " has no fingerprints: ask somebody before its first visit"})
			default:
				continue
			}
			delete(sessions, i)
		}
		if len(sessions) == 0 {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(consolePace):
		}
	}
}

// prints has what the console of an instance tells expected at the first visit, and tells how much that is.
func (j *Launch) prints(ctx context.Context, s *estate.Source, session *book.Session, id string) (int, error) {
	console, err := s.Console(ctx, id)
	if err != nil {
		return 0, ctx.Err() // it has none yet
	}
	return j.Workspace().ExpectConsole(session.Bound, session.Port.V, console, time.Now())
}

// session is the session of an instance: the one that a fleet makes of it, else one that is written now.
func (j *Launch) session(ctx context.Context, id string) (*book.Session, error) {
	written := ""
	for until := time.Now().Add(knownTime); ; {
		ws := j.Workspace()
		if found := ws.SessionOf(j.Source.Name, id); found != nil {
			return found, nil
		}
		for k := range ws.Estates {
			i := ws.Estates[k].Snapshot.Instance(id)
			if ws.Estates[k].Source != j.Source.Name || i == nil || len(i.Addresses) == 0 || written != "" {
				continue
			}
			d := ws.DraftOf(j.Source.Name, i)
			b, err := book.Add(ws.SessionsPath(), d)
			if err != nil {
				return nil, fmt.Errorf("writing a session %s: %w", d.Name, err)
			}
			j.Adopt(b)
			written = d.Name
		}
		if time.Now().After(until) {
			if written != "" {
				return nil, fmt.Errorf("session %s is written, and not bound to it", written)
			}
			return nil, errors.New("it runs, and the estate does not tell of it")
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
