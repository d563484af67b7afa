// Package work runs jobs that take their time: putting a key into a machine's list,
// rotating one, sweeping an account, asking a machine about keys, taking an address
// over, drawing. One file is one job; the interface and the command line begin the same.
//
// It promises that a job goes on whoever looks, several at a time, each telling its
// steps as events; that it ends when it is stopped or the list is closed; and that it
// leaves its steps in the trail. A job costs one goroutine.
package work

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"meatus/core/book"
	"meatus/core/contain"
	"meatus/core/custody"
	"meatus/core/event"
	"meatus/core/gate"
	"meatus/core/lease"
	"meatus/core/remote"
	"meatus/core/tunnel"
	"meatus/core/walk"
	"meatus/core/workspace"
)

// Tools are what jobs work with.
type Tools struct {
	Workspace func() *workspace.Workspace // as it is now
	Keys      *custody.Custody
	Walker    *walk.Walker
	Programs  *remote.Programs
	Tunnels   *tunnel.Set
	Leases    *lease.Client
	Tell      func(event.Event)
	Adopt     func(*book.Book) // has everybody use the sessions as they are after an edit
}

// Job is something that takes its time.
type Job interface {
	Title() Title
	// Run does the job and tells each step. It ends soon after ctx does.
	Run(ctx context.Context, tell func(Step)) error
}

// Follow is an edit of a session that is offered once a job has got through.
type Follow struct {
	Session string
	Say     string // what it does: "use tide.pem in tide-db"
	Done    string // what is said after
	Edit    func() (*book.Book, error)
}

// Follower is a job after which something may follow.
type Follower interface {
	// Follow is what is offered after the job; ok is false for nothing.
	Follow() (f Follow, ok bool)
}

// Title says what a job is.
type Title struct {
	What    string // "sweep", "install", "rotate"
	Of      string // which session or key
	Session string // whose card it belongs to
	Record  string // the name its steps are kept by, "" where they are not
}

// Step is one step of a job, or one thing that was found.
type Step struct {
	Verdict gate.Verdict
	Where   string // the session, or what kind of thing it is
	Session string // whose it is in the trail, where that is not the title's
	Say     string
	Err     error // why the step could not be done
}

// ID tells one job of a list from another.
type ID int

// State is how a job stands at a moment.
type State struct {
	ID    ID
	Title Title
	Steps []Step
	Began time.Time
	Ended time.Time // zero while it runs
	Err   error     // why it failed, nil where it did
	Job   Job       // which has what came of it, once it has ended
}

// Over tells whether the job has ended.
func (s State) Over() bool { return !s.Ended.IsZero() }

// Stopped tells whether somebody stopped it.
func (s State) Stopped() bool { return errors.Is(s.Err, context.Canceled) }

// Begun says that a job has begun.
type Begun struct {
	event.Note
	ID ID
}

// Stepped says that a job has come further.
type Stepped struct {
	event.Note
	ID   ID
	Step Step
	of   Title
}

// Record words the event.
func (s Stepped) Record() event.Record {
	r := event.Record{Name: s.of.Record, Session: s.of.Session, Say: s.Step.Say}
	switch {
	case s.Step.Session != "":
		r.Session = s.Step.Session
	case s.Step.Where != "":
		r.Say = s.Step.Where + ": " + s.Step.Say
	}
	if s.Step.Err != nil {
		r.Failed = s.Step.Err.Error()
	}
	return r
}

// Ended says that a job has ended.
type Ended struct {
	event.Note
	State State
}

// Record words the event where the job failed; its steps tell the rest.
func (e Ended) Record() event.Record {
	if e.State.Err == nil {
		return event.Record{}
	}
	t := e.State.Title
	return event.Record{Name: t.Record, Session: t.Session, Say: t.What + " " + t.Of, Failed: e.State.Err.Error()}
}

// maxEnded is how many jobs that have ended are kept to be looked at, and maxSteps how
// many steps of one.
const (
	maxEnded = 30
	maxSteps = 1000
)

// List is the jobs of a program. It is safe to use from many goroutines.
type List struct {
	tell func(event.Event)
	wg   sync.WaitGroup

	mu     sync.Mutex
	next   ID
	jobs   []*State
	stops  map[ID]context.CancelFunc
	closed bool
}

// NewList returns a list without jobs. tell is told of every step.
func NewList(tell func(event.Event)) *List {
	return &List{tell: tell, stops: map[ID]context.CancelFunc{}}
}

// Begin begins a job. After Close it ends at once.
func (l *List) Begin(job Job) ID {
	ctx, stop := context.WithCancel(context.Background())
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.closed {
		stop()
	}
	l.next++
	s := &State{ID: l.next, Title: job.Title(), Began: time.Now(), Job: job}
	l.jobs, l.stops[s.ID] = append(l.jobs, s), stop
	l.forgetLocked()
	l.wg.Go(func() { l.tell(Begun{ID: s.ID}); l.run(ctx, stop, s) })
	return s.ID
}

func (l *List) run(ctx context.Context, stop context.CancelFunc, s *State) {
	defer stop()
	err := contain.Do("the job "+s.Title.What+" "+s.Title.Of, func() error { return s.Job.Run(ctx, func(step Step) { l.stepped(s, step) }) })
	if err != nil && ctx.Err() != nil {
		err = errors.Join(ctx.Err(), err)
	}
	l.mu.Lock()
	s.Ended, s.Err = time.Now(), err
	delete(l.stops, s.ID)
	state := *s
	l.mu.Unlock()
	l.tell(Ended{State: state})
}

// stepped keeps a step and tells it.
func (l *List) stepped(s *State, step Step) {
	l.mu.Lock()
	if len(s.Steps) < maxSteps {
		s.Steps = append(s.Steps[:len(s.Steps):len(s.Steps)], step)
	}
	l.mu.Unlock()
	l.tell(Stepped{ID: s.ID, Step: step, of: s.Title})
}

// forgetLocked drops the oldest of the jobs that have ended, where there are many.
func (l *List) forgetLocked() {
	for over := len(l.jobs) - maxEnded; over > 0; over-- {
		i := slices.IndexFunc(l.jobs, func(s *State) bool { return s.Over() })
		if i < 0 {
			return
		}
		l.jobs = slices.Delete(l.jobs, i, i+1)
	}
}

// All are the jobs, the oldest first.
func (l *List) All() []State {
	l.mu.Lock()
	defer l.mu.Unlock()
	all := make([]State, len(l.jobs))
	for i, s := range l.jobs {
		all[i] = *s
	}
	return all
}

// Get is how a job stands, and whether it is still kept.
func (l *List) Get(id ID) (State, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, s := range l.jobs {
		if s.ID == id {
			return *s, true
		}
	}
	return State{}, false
}

// Running is how many jobs have not ended.
func (l *List) Running() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return len(l.stops)
}

// Stop stops a job. It tells whether it was running.
func (l *List) Stop(id ID) bool {
	l.mu.Lock()
	stop := l.stops[id]
	l.mu.Unlock()
	if stop != nil {
		stop()
	}
	return stop != nil
}

// Close stops every job and waits for it.
func (l *List) Close() {
	l.mu.Lock()
	l.closed = true
	for _, stop := range l.stops {
		stop()
	}
	l.mu.Unlock()
	l.wg.Wait()
}

// Told is a job whose end is told, with why it failed or nil.
type Told struct {
	Job
	Say func(error)
}

// Run does the job, and tells its end.
func (j *Told) Run(ctx context.Context, tell func(Step)) error {
	err := j.Job.Run(ctx, tell)
	j.Say(err)
	return err
}
