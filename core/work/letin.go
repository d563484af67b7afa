package work

import (
	"context"
	"fmt"
	"slices"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/retry"
)

// LetIn adds the rules that something lacks, for a time. The engine takes them back at its end.
type LetIn struct {
	Tools
	Source  book.EstateSource
	Edits   []reach.Edit
	For     time.Duration
	Session string // for which it is
	Of      string // what is let in, in words: "sluice at tcp 22"
	Read    func() // has the estate read anew afterwards

	Grants []estate.Grant // that stand, once it has ended
}

// Title says what the job is.
func (j *LetIn) Title() Title {
	return Title{What: "open", Of: j.Of, Session: j.Session, Record: "rule"}
}

// Run does it. Where one of several rules cannot be had, those before it are due at once.
func (j *LetIn) Run(ctx context.Context, tell func(Step)) error {
	ws := j.Workspace()
	s := estate.Source{Dir: ws.Dir, EstateSource: j.Source}
	judge := ws.Judge(j.Source.Name)
	if judge == nil {
		return fmt.Errorf("nothing is known of estate %s", j.Source.Name)
	}
	defer j.Read()
	for _, e := range j.Edits {
		standing, err := estate.Granted(ws.Dir)
		if err != nil {
			return err
		}
		now := time.Now()
		if i := slices.IndexFunc(standing, func(g estate.Grant) bool {
			return g.Source == j.Source.Name && g.Group == e.Group && g.Rule.Same(e.Rule) && !g.Due(now)
		}); i >= 0 {
			tell(Step{Verdict: gate.Open, Where: j.Session, Say: fmt.Sprintf("it is open already, until %s: %s", Clock(standing[i].Until), standing[i].Sentence())})
			j.Grants = append(j.Grants, standing[i])
			continue
		}
		g, err := s.Grant(ctx, estate.Grant{Group: e.Group, Called: judge.GroupName(e.Group), Rule: e.Rule, Session: j.Session, Began: now, Until: now.Add(j.For)})
		if err != nil {
			return err
		}
		j.Grants = append(j.Grants, g)
		tell(Step{Verdict: gate.Open, Where: j.Session, Say: fmt.Sprintf("until %s %s", Clock(g.Until), g.Sentence())})
	}
	return nil
}

// TakeBack takes rules back that stand for a time.
type TakeBack struct {
	Tools
	Grants []estate.Grant
	Read   func()
}

// Title says what the job is.
func (j *TakeBack) Title() Title {
	t := Title{What: "close", Record: "rule"}
	if len(j.Grants) > 0 {
		t.Of, t.Session = j.Grants[0].Session, j.Grants[0].Session
	}
	return t
}

// Run does it.
func (j *TakeBack) Run(ctx context.Context, tell func(Step)) error {
	ws := j.Workspace()
	defer j.Read()
	for _, g := range j.Grants {
		source, ok := ws.Source(g.Source)
		if !ok {
			return fmt.Errorf("estate %s is no longer in the sessions file: take the rule back there: %s", g.Source, g.Sentence())
		}
		if err := (&estate.Source{Dir: ws.Dir, EstateSource: source}).TakeBack(ctx, g); err != nil {
			return fmt.Errorf("it still %s: %w", g.Sentence(), err)
		}
		tell(Step{Verdict: gate.Open, Where: g.Session, Say: "no longer " + g.Sentence()})
	}
	return nil
}

// Standing is rules that stand for a time, and that a command stays for.
type Standing struct {
	Tools
	Grants []estate.Grant
	Failed func(err error, again time.Duration) // told of a failed removal and of the pause until the next try
}

// Run waits until the time of the rules is over or the context ends, and removes them. What fails is tried again with
// growing pauses; when the context has ended it is tried once, and the next Meatus that runs tries again.
func (j *Standing) Run(ctx context.Context, tell func(Step)) error {
	began := time.Now()
	for failures := 0; ; {
		left, err := j.left()
		if err != nil || len(left) == 0 {
			return err
		}
		now := time.Now()
		over := ctx.Err() != nil || slices.ContainsFunc(left, func(g estate.Grant) bool { return g.Due(now) || time.Since(began) >= g.Until.Sub(g.Began) })
		if !over {
			pause(ctx, time.Second)
			continue
		}
		err = (&TakeBack{Tools: j.Tools, Grants: left, Read: func() {}}).Run(context.WithoutCancel(ctx), tell)
		if err == nil {
			continue
		}
		if ctx.Err() != nil {
			return fmt.Errorf("%w; it is written down, and the next Meatus that runs tries again", err)
		}
		failures++
		again := retry.After(failures, time.Second, time.Minute)
		j.Failed(err, again)
		pause(ctx, again)
	}
}

// left are the rules that still stand.
func (j *Standing) left() ([]estate.Grant, error) {
	standing, err := estate.Granted(j.Workspace().Dir)
	return slices.DeleteFunc(standing, func(g estate.Grant) bool {
		return !slices.ContainsFunc(j.Grants, func(is estate.Grant) bool { return is.Mark == g.Mark })
	}), err
}

// pause waits, or until the context ends.
func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// Clock is a time as it is told: the time of day, with the day where that is another than today.
func Clock(t time.Time) string {
	if t.Local().YearDay() != time.Now().YearDay() {
		return t.Local().Format("2 Jan 15:04")
	}
	return t.Local().Format("15:04")
}
