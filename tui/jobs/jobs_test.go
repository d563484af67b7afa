package jobs

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"meatus/core/gate"
	"meatus/core/work"
	"meatus/tui/placetest"
	"meatus/tui/stack"
)

// slow is a job that tells what it is given and ends when it is let.
type slow struct {
	what  string
	steps chan work.Step
	end   chan error
}

func (j *slow) Title() work.Title { return work.Title{What: j.what, Of: "quay", Session: "quay"} }

func (j *slow) Run(ctx context.Context, tell func(work.Step)) error {
	for {
		select {
		case s := <-j.steps:
			tell(s)
		case err := <-j.end:
			return err
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

func begin(d *placetest.Driver, what string) (*slow, work.ID) {
	j := &slow{what, make(chan work.Step), make(chan error, 1)}
	return j, d.Engine.Jobs.Begin(j)
}

func open(t *testing.T) *placetest.Driver {
	t.Helper()
	return placetest.Workspace(t, "[session.quay]\nhost = \"203.0.113.10\"\n")
}

func TestJobsAreShownWhileTheyGoOnAndAfter(t *testing.T) {
	d := open(t)
	d.Place(New)
	d.UntilSees("Nothing is under way")
	first, _ := begin(d, "sweep")
	d.UntilSees("1 under way", "sweep")
	second, _ := begin(d, "install")
	d.UntilSees("2 under way", "sweep", "install")
	first.steps <- work.Step{Verdict: gate.Open, Where: "quay", Say: "is in"}
	first.steps <- work.Step{Verdict: gate.Ajar, Where: "private key", Say: "lies about"}
	first.end <- nil
	d.UntilSees("1 under way", "2 steps, 1 to look at")
	d.Fits()
	// The one that was chosen when the other came is chosen still.
	d.Press("right", "D")
	d.UntilSees("lies about")
	if d.Engine.Jobs.Running() != 1 {
		t.Error("the job that landed above the chosen one was stopped for it")
	}
	d.Press("up", "D")
	d.UntilSees("0 under way")
	d.Press("esc")
	if len(d.Went) != 1 {
		t.Errorf("went to %v", d.Went)
	}
	close(second.steps)
}

func TestAJobIsWatchedLeftAndFailed(t *testing.T) {
	d := open(t)
	j, id := begin(d, "rotate")
	d.Task(NewTask(d.Services, id))
	for i := range 30 {
		j.steps <- work.Step{Verdict: gate.Open, Where: fmt.Sprint("gauge-", i), Say: strings.Repeat("is proven ", 30)}
	}
	d.UntilSees("gauge-29")
	d.Fits()
	d.Press("b")
	if !d.Closed {
		t.Error("it is not left to go on")
	}
	j.end <- errors.New("the old key still stands in every list")
	d.UntilSees("the old key still stands")
	d.Press("up", "down")
	d.Fits()
}

func TestAJobIsStopped(t *testing.T) {
	d := open(t)
	_, id := begin(d, "rotate")
	d.Task(NewTask(d.Services, id))
	d.UntilSees("rotate")
	d.Press("esc")
	d.Until("its end", func() bool { return d.Engine.Jobs.Running() == 0 })
	d.UntilSees("stopped")
	d.Press("enter")
	if !d.Closed {
		t.Error("it still stands there")
	}
}

// After a key was installed and proven, one enter has the session use it; the job of another kind offers nothing.
func TestAKeyThatWasInstalledIsUsedByOneEnter(t *testing.T) {
	d, l := placetest.Lab(t)
	text, err := os.ReadFile(filepath.Join(l.Dir, "keys", "shore.pem"))
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(l.Dir, "keys", "pier.pem")
	if err := os.WriteFile(path, text, 0o600); err != nil {
		t.Fatal(err)
	}
	id := d.Engine.Jobs.Begin(&work.Install{Tools: d.Services.Tools(), Path: path, Session: "gauge-1"})
	d.Task(NewTask(d.Services, id))
	d.UntilSees("proven: a login with that key alone got in")
	d.Until("the offer", func() bool {
		foot := d.On().(stack.Layer).Table().Foot()
		return len(foot) > 0 && foot[0].Does == "use pier.pem in gauge-1"
	})
	d.Press("enter")
	d.Until("the session to use it", func() bool {
		s := d.Engine.Workspace().Book.Session("gauge-1")
		return d.Closed && s != nil && len(s.Keys.V) == 2 && s.Keys.V[0] == "keys/pier.pem"
	})
}
