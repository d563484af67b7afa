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
	consoleTime = 3 * time.Minute
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
	type one struct{ name, id string }
	var made []one
	var unwritten error
	failed := s.Launch(ctx, j.Launch, j.Offer, down.Mark, func(name, id string) {
		made = append(made, one{name, id})
		unwritten = errors.Join(unwritten, down.Add(id))
		tell(Step{Verdict: gate.Open, Where: name, Say: "estate " + j.Source.Name + " builds it, as " + id})
	})
	if failed != nil && len(made) > 0 {
		failed = fmt.Errorf("%w; %s launched before that", failed, words.Plural(len(made), "instance was", "instances were"))
	}
	errs := []error{failed, unwritten}
	for _, i := range made {
		if err := j.settle(ctx, &s, i.name, i.id, tell); err != nil {
			tell(Step{Verdict: gate.Shut, Where: i.name, Say: "it is not what it should be", Err: err})
			errs = append(errs, fmt.Errorf("%s: %w", i.name, err))
		}
	}
	return errors.Join(errs...)
}

// settle waits for one instance until it can be walked to.
func (j *Launch) settle(ctx context.Context, s *estate.Source, name, id string, tell func(Step)) error {
	say := func(text string) { tell(Step{Verdict: gate.Open, Where: name, Say: text}) }
	if err := s.Await(ctx, id, estate.Running, func(now estate.State) { say("it is " + string(now)) }); err != nil {
		return err
	}
	j.Read()
	session, err := j.session(ctx, id)
	if err != nil {
		return err
	}
	j.Made = append(j.Made, session.Name)
	way := ""
	if len(session.Via.V) > 0 {
		way = ", via " + session.Via.V[len(session.Via.V)-1]
	}
	say("session " + session.Name + " leads to it" + way)
	for until := time.Now().Add(consoleTime); ; {
		if console, err := s.Console(ctx, id); err == nil {
			n, err := j.Workspace().ExpectConsole(session.Bound, session.Port.V, console, time.Now())
			if err != nil {
				return err
			}
			if n > 0 {
				say("its console has " + words.Count(n, "fingerprint") + ": the first visit is compared with them")
				return nil
			}
		}
		if time.Now().After(until) {
			tell(Step{Verdict: gate.Ajar, Where: name, Say: "its console has no fingerprints: ask somebody before its first visit"})
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(consolePace):
		}
	}
}

// session is the session of an instance: the one that a fleet makes of it, else one that is written now.
func (j *Launch) session(ctx context.Context, id string) (*book.Session, error) {
	for until := time.Now().Add(knownTime); ; {
		ws := j.Workspace()
		if found := ws.SessionOf(j.Source.Name, id); found != nil {
			return found, nil
		}
		for k := range ws.Estates {
			i := ws.Estates[k].Snapshot.Instance(id)
			if ws.Estates[k].Source != j.Source.Name || i == nil || len(i.Addresses) == 0 {
				continue
			}
			d := ws.DraftOf(j.Source.Name, i)
			b, err := book.Add(ws.SessionsPath(), d)
			if err != nil {
				return nil, fmt.Errorf("writing a session %s: %w", d.Name, err)
			}
			j.Adopt(b)
			if s := j.Workspace().Book.Session(d.Name); s != nil && s.Bound != nil {
				return s, nil
			}
			return nil, fmt.Errorf("session %s is written, and bound to nothing", d.Name)
		}
		if time.Now().After(until) {
			return nil, errors.New("it runs, and the estate does not tell of it")
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}
