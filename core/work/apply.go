package work

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/statefile"
)

// Applied is a change of rules that was made from here. It is written down before it is made, each edit marked
// when it is done, so that it can be undone, also where it was cut short.
type Applied struct {
	Source string       `json:"source"`
	At     time.Time    `json:"at"`
	Edits  []reach.Edit `json:"edits"`
	Done   []bool       `json:"done"` // which of them stand
}

// Opposite are the edits that take back what of it stands, the last first.
func (a Applied) Opposite() []reach.Edit {
	var all []reach.Edit
	for i, e := range slices.Backward(a.Edits) {
		if a.Done[i] {
			all = append(all, e.Opposite())
		}
	}
	return all
}

// mostApplied is how many changes can be undone.
const mostApplied = 50

func appliedFile(dir string) string { return filepath.Join(dir, "state", "estate", "applied.json") }

// AppliedTo are the changes of rules that were made from here and stand, the oldest first.
func AppliedTo(dir string) ([]Applied, error) {
	var all []Applied
	err := statefile.Read(appliedFile(dir), &all)
	return all, err
}

// Apply changes the rules of an estate, or undoes the last change.
type Apply struct {
	Tools
	Source book.EstateSource
	Edits  []reach.Edit // those that are made; none where Undo is set
	Undo   bool
	Read   func() // has the estate read anew afterwards
}

// Title says what the job is.
func (j *Apply) Title() Title {
	what := "change rules"
	if j.Undo {
		what = "undo rules"
	}
	return Title{What: what, Of: j.Source.Name, Session: j.Source.Name, Record: "rule"}
}

// Run does it. It stops at the first edit that the source does not make; those before it stand, and can be undone.
func (j *Apply) Run(ctx context.Context, tell func(Step)) error {
	ws := j.Workspace()
	judge := ws.Judge(j.Source.Name)
	if judge == nil {
		return fmt.Errorf("nothing is known of estate %s", j.Source.Name)
	}
	s := &estate.Source{Dir: ws.Dir, EstateSource: j.Source}
	if !s.Acts() {
		return estate.ErrNoActs
	}
	defer j.Read()
	if j.Undo {
		return j.undo(ctx, s, judge, tell)
	}
	if _, err := judge.With(j.Edits); err != nil {
		return err
	}
	a := Applied{Source: j.Source.Name, At: time.Now(), Edits: j.Edits, Done: make([]bool, len(j.Edits))}
	if err := keepApplied(ws.Dir, a); err != nil {
		return fmt.Errorf("writing down what is changed: %w; nothing was changed", err)
	}
	for i, e := range j.Edits {
		if err := j.edit(ctx, s, judge, e, tell); err != nil {
			return err
		}
		a.Done[i] = true
		if err := keepApplied(ws.Dir, a); err != nil {
			return fmt.Errorf("writing down what was changed: %w; the rest is not changed", err)
		}
	}
	return nil
}

// edit has the source make one edit.
func (j *Apply) edit(ctx context.Context, s *estate.Source, judge *reach.Judge, e reach.Edit, tell func(Step)) error {
	line := judge.Line(e)
	if !e.Drop {
		_, err := s.AddRule(ctx, e.Group, e.Rule, "meatus")
		var standing *estate.Standing
		if err != nil && !errors.As(err, &standing) {
			return fmt.Errorf("%s: %w", line, err)
		}
		tell(Step{Verdict: gate.Open, Where: j.Source.Name, Say: line})
		return nil
	}
	id, err := s.RuleID(ctx, e.Group, e.Rule)
	if err == nil && id != "" {
		err = s.DropRule(ctx, id)
	}
	if err != nil {
		return fmt.Errorf("%s: %w", line, err)
	}
	tell(Step{Verdict: gate.Open, Where: j.Source.Name, Say: line})
	return nil
}

// undo makes the opposite of the last change of the source that stands, its last edit first.
func (j *Apply) undo(ctx context.Context, s *estate.Source, judge *reach.Judge, tell func(Step)) error {
	a, err := LastApplied(j.Workspace().Dir, j.Source.Name)
	if err != nil {
		return err
	}
	for i := len(a.Edits) - 1; i >= 0; i-- {
		if !a.Done[i] {
			continue
		}
		if err := j.edit(ctx, s, judge, a.Edits[i].Opposite(), tell); err != nil {
			return err
		}
		a.Done[i] = false
		if err := keepApplied(j.Workspace().Dir, a); err != nil {
			return fmt.Errorf("writing down what was undone: %w", err)
		}
	}
	return nil
}

// ErrNothingApplied says that no change was made from here that stands.
var ErrNothingApplied = errors.New("no change of its rules was made from here that stands")

// LastApplied is the last change of a source's rules that was made from here and stands.
func LastApplied(dir, source string) (Applied, error) {
	all, err := AppliedTo(dir)
	if err != nil {
		return Applied{}, err
	}
	for _, a := range slices.Backward(all) {
		if a.Source == source && slices.Contains(a.Done, true) {
			return a, nil
		}
	}
	return Applied{}, ErrNothingApplied
}

// keepApplied writes a change down, in place of what was written of it before.
func keepApplied(dir string, a Applied) error {
	var all []Applied
	return statefile.Change(appliedFile(dir), &all, func() {
		i := slices.IndexFunc(all, func(b Applied) bool { return b.Source == a.Source && b.At.Equal(a.At) })
		if i >= 0 {
			all[i] = a
		} else {
			all = append(all, a)
		}
		all = all[max(len(all)-mostApplied, 0):]
	})
}
