package work

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"meatus/core/gate"
	"meatus/core/remote"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// Each runs one command at the machines of several sessions, some at a time.
type Each struct {
	Tools
	Routes  []route.Route
	Command string
	AtOnce  int           // how many at a time; 8 where 0
	Within  time.Duration // how long it may take at one machine, the walk there included; a minute where 0
	Limit   int64         // how much of each output is kept, in bytes; a MiB where 0

	Results []Result // once it has run, in the order of the routes
}

// Result is what came of the command at one machine.
type Result struct {
	Session string
	remote.Outcome
	Took   time.Duration
	Failed error // why it could not be run, or did not end
}

// Title says what the job is.
func (j *Each) Title() Title {
	return Title{What: "each", Of: words.Count(len(j.Routes), "session") + ": " + sanitize.Line(j.Command, 60), Record: "each"}
}

// Run does it. It fails where the context ends; what one machine does ends no other.
func (j *Each) Run(ctx context.Context, tell func(Step)) error {
	atOnce, within, limit := j.AtOnce, j.Within, j.Limit
	if atOnce <= 0 {
		atOnce = 8
	}
	if within <= 0 {
		within = time.Minute
	}
	if limit <= 0 {
		limit = 1 << 20
	}
	results := make([]Result, len(j.Routes))
	var telling sync.Mutex
	var group errgroup.Group
	group.SetLimit(atOnce)
	for i, r := range j.Routes {
		group.Go(func() error {
			if ctx.Err() != nil {
				results[i] = Result{Session: r.Session, Failed: ctx.Err()}
				return nil
			}
			began := time.Now()
			one, cancel := context.WithTimeoutCause(ctx, within, fmt.Errorf("it did not end within %s", within))
			defer cancel()
			res := j.at(one, r, limit)
			if res.Failed != nil && one.Err() != nil && ctx.Err() == nil {
				res.Failed = context.Cause(one)
			}
			res.Took = time.Since(began)
			results[i] = res
			telling.Lock()
			defer telling.Unlock()
			tell(res.step())
			return nil
		})
	}
	group.Wait()
	j.Results = results
	return ctx.Err()
}

func (j *Each) at(ctx context.Context, r route.Route, limit int64) Result {
	res := Result{Session: r.Session}
	p, err := j.Walker.Walk(ctx, r)
	if err != nil {
		res.Failed = err
		return res
	}
	defer p.Close()
	res.Outcome, res.Failed = remote.Run(ctx, p, j.Command, nil, limit)
	if res.Failed == nil {
		res.Failed = res.Outcome.Ending.Err
	}
	return res
}

// step is the result as a step of the job.
func (r Result) step() Step {
	s := Step{Verdict: gate.Open, Where: r.Session, Session: r.Session, Say: r.Ended()}
	switch {
	case r.Failed != nil:
		s.Verdict, s.Err = gate.Shut, r.Failed
	case r.Status != 0 || r.Signal != "":
		s.Verdict = gate.Ajar
	}
	return s
}

// Ended says how it ended, in a few words.
func (r Result) Ended() string {
	var f *gate.Failure
	switch {
	case errors.As(r.Failed, &f):
		return fmt.Sprintf("could not be run: %s: %s: %s", f.Hop, f.Gate, f.Why)
	case r.Failed != nil:
		return "could not be run: " + r.Failed.Error()
	case r.Signal != "":
		return "ended by signal " + sanitize.Line(r.Signal, 20)
	}
	return fmt.Sprintf("status %d", r.Status)
}

// Alike are machines at which the very same came of a command.
type Alike struct {
	Sessions []string
	Result          // of the first of them
	Lines    []Line // what was printed, marked where it differs from what most printed
}

// Line is one line of output.
type Line struct {
	Mark byte // ' ', '+' for a line that most did not print, '-' for one that only they did, '!' for standard error
	Text string
}

// Gather puts results that are the same together, those of the most machines first. The others
// are compared with these line by line.
func Gather(results []Result) []Alike {
	var all []Alike
	at := map[string]int{}
	for _, r := range results {
		key := fmt.Sprintf("%s\x00%t\x00%s\x00%s", r.Ended(), r.Cut, r.Out, r.Err)
		if i, ok := at[key]; ok {
			all[i].Sessions = append(all[i].Sessions, r.Session)
			continue
		}
		at[key] = len(all)
		all = append(all, Alike{Sessions: []string{r.Session}, Result: r})
	}
	slices.SortStableFunc(all, func(a, b Alike) int {
		if (a.Failed == nil) != (b.Failed == nil) { // what could not be run is nothing to compare with
			return map[bool]int{true: -1, false: 1}[a.Failed == nil]
		}
		return len(b.Sessions) - len(a.Sessions)
	})
	for i := range all {
		if i > 0 && all[0].Failed == nil && all[i].Failed == nil {
			all[i].Lines = compared(linesOf(all[0].Out), linesOf(all[i].Out))
		} else {
			for _, text := range linesOf(all[i].Out) {
				all[i].Lines = append(all[i].Lines, Line{' ', text})
			}
		}
		for _, text := range linesOf(all[i].Err) {
			all[i].Lines = append(all[i].Lines, Line{'!', text})
		}
	}
	return all
}

// linesOf are the lines of an output, cleaned: it is the far side's.
func linesOf(out []byte) []string {
	text := strings.TrimRight(sanitize.Text(string(out), len(out)+1), "\n")
	if text == "" {
		return nil
	}
	return strings.Split(text, "\n")
}

// maxCompared is how many lines are compared with how many; of longer outputs each line is
// shown as one that others do not have.
const maxCompared = 2000

// compared marks the lines of b that are not in a, in order, and those of a that b leaves out:
// by their longest common subsequence.
func compared(a, b []string) []Line {
	var lines []Line
	if len(a) > maxCompared || len(b) > maxCompared {
		for _, text := range b {
			lines = append(lines, Line{'+', text})
		}
		return lines
	}
	longest := make([][]int, len(a)+1)
	for i := range longest {
		longest[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for k := len(b) - 1; k >= 0; k-- {
			if a[i] == b[k] {
				longest[i][k] = longest[i+1][k+1] + 1
			} else {
				longest[i][k] = max(longest[i+1][k], longest[i][k+1])
			}
		}
	}
	i, k := 0, 0
	for i < len(a) || k < len(b) {
		switch {
		case i < len(a) && k < len(b) && a[i] == b[k]:
			lines = append(lines, Line{' ', b[k]})
			i, k = i+1, k+1
		case k == len(b) || i < len(a) && longest[i+1][k] >= longest[i][k+1]:
			lines = append(lines, Line{'-', a[i]})
			i++
		default:
			lines = append(lines, Line{'+', b[k]})
			k++
		}
	}
	return lines
}
