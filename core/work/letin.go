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

// Clock is a time as it is told: the time of day, with the day where that is another than today.
func Clock(t time.Time) string {
	if t.Local().YearDay() != time.Now().YearDay() {
		return t.Local().Format("2 Jan 15:04")
	}
	return t.Local().Format("15:04")
}
