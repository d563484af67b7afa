package work

import (
	"context"

	"meatus/core/gate"
	"meatus/core/sweep"
)

// Sweep looks through the account of a session for what was left there.
type Sweep struct {
	Tools
	Session string
	Report  sweep.Report // what was found, once it has run
}

// Title says what the job is.
func (j *Sweep) Title() Title {
	t := Title{What: "sweep", Of: j.Session, Session: j.Session, Record: "swept"}
	if r, err := j.Workspace().Planner().Plan(j.Session); err == nil {
		t.Of += ", " + r.Target().User
	}
	return t
}

// Run does it.
func (j *Sweep) Run(ctx context.Context, tell func(Step)) error {
	r, err := j.Workspace().Planner().Plan(j.Session)
	if err != nil {
		return err
	}
	p, err := j.Walker.Walk(ctx, r)
	if err != nil {
		return err
	}
	defer p.Close()
	if j.Report, err = sweep.Look(ctx, p, j.Workspace().PublicKeys()); err != nil {
		return err
	}
	verdict := gate.Open
	if j.Report.Found() > 0 {
		verdict = gate.Ajar
	}
	tell(Step{Verdict: verdict, Where: "found", Say: j.Report.Sum() + "; nothing was changed"})
	for _, f := range j.Report.Findings() {
		tell(Step{Verdict: gate.Ajar, Where: f.Kind, Say: f.Say})
	}
	return nil
}
