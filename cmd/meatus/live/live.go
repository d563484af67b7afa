// Package live opens what commands work with: the workspace, and the engine with its connections, events and jobs.
package live

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"runtime/debug"
	"slices"
	"time"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/prompt"
	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/event"
	"meatus/core/login"
	"meatus/core/prefs"
	"meatus/core/route"
	"meatus/core/trail"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/core/workspace"
)

// Opener opens what the flags of every command say.
type Opener struct {
	Dir         *string
	BeforeAgent *bool
}

// Workspace reads the workspace, which has to be there: a folder that is none is a slip of the
// pen, and nothing is made of it.
func (o Opener) Workspace() (*workspace.Workspace, error) {
	w, err := o.Kept()
	if err == nil {
		takeBackDue(w)
	}
	return w, err
}

// Kept opens the workspace for a long-running program. It removes no expired firewall rules: such a program does so itself,
// and reports it.
func (o Opener) Kept() (*workspace.Workspace, error) {
	dir := workspace.Folder(*o.Dir)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil, command.Fail(command.Workspace, fmt.Errorf("there is no workspace %s; meatus without a command makes one there", dir))
	}
	w, err := workspace.Open(dir)
	if err != nil {
		return nil, command.Fail(command.Workspace, err)
	}
	own, err := prefs.Read(prefs.Path())
	if err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
	}
	w.Here = own.Estate.Address()
	return w, nil
}

// How long a command waits for the removal of expired firewall rules, and after how long another command retries a failed
// removal.
const (
	backTime  = 10 * time.Second
	backAgain = 30 * time.Second
)

// takeBackDue removes expired firewall rules that a killed program left open, before a command does anything else, and
// prints an error for each failure.
func takeBackDue(w *workspace.Workspace) {
	standing, err := estate.Granted(w.Dir)
	if err != nil {
		fmt.Fprintln(os.Stderr, "meatus: a rule that stands for a limited time: "+err.Error())
	}
	ctx, cancel := context.WithTimeout(context.Background(), backTime)
	defer cancel()
	now := time.Now()
	for _, g := range standing {
		if !g.Due(now) {
			continue
		}
		why := g.Failed
		if now.Sub(g.Tried) >= backAgain {
			source, ok := w.Source(g.Source)
			err := fmt.Errorf("the sessions file has no estate %s any more", g.Source)
			if ok {
				err = (&estate.Source{Dir: w.Dir, EstateSource: source}).TakeBack(ctx, g)
			}
			if err == nil {
				fmt.Fprintf(os.Stderr, "meatus: its time was over, and it is taken back: %s\n", g.Sentence())
				continue
			}
			why = err.Error()
		}
		fmt.Fprintf(os.Stderr, "meatus: overdue since %s: %s: %s\n", g.Until.Local().Format("2 Jan 15:04:05"), g.Sentence(), why)
	}
}

// First makes the folder of a first start. One that was named is made after a yes alone.
func (o Opener) First(cmd *command.Call) error {
	dir := workspace.Folder(*o.Dir)
	if _, err := os.Stat(dir); !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "There is no workspace %s yet.\n", dir)
	if *o.Dir != "" || os.Getenv(workspace.Variable) != "" {
		answer, err := prompt.Ask(cmd.Context(), "Create it? Type yes: ", "")
		switch {
		case command.Status(err) == command.WrongUse:
			return command.Fail(command.Workspace, fmt.Errorf("there is no workspace %s, and nobody to ask whether to create one", dir))
		case err != nil || answer != "yes":
			return command.Fail(command.Workspace, errors.New("nothing was made"))
		}
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return command.Fail(command.Workspace, fmt.Errorf("the workspace cannot be made: %w", err))
	}
	return nil
}

// Engine is everything live that a command has.
type Engine struct {
	*engine.Engine
	asker *prompt.Asker
	told  chan struct{} // closed when everything that happened was told
}

// Engine opens everything live, which asks on the terminal and gives links up when they
// are no longer used. What happens is given to each, which may be nil; what a person is
// to be told is told on standard error.
func (o Opener) Engine(cmd *command.Call, w *workspace.Workspace, identities *prompt.Identities, with engine.Options, each func(event.Event)) (*Engine, error) {
	asker := &prompt.Asker{Identities: identities}
	with.Workspace, with.Asker, with.BeforeAgent = w, asker, *o.BeforeAgent
	if with.Linger == 0 {
		with.Linger = time.Millisecond
	}
	e, err := engine.Open(cmd.Context(), with)
	if errors.Is(err, engine.ErrNoAgent) {
		return nil, command.Fail(command.WrongUse, err)
	}
	if err != nil {
		return nil, err
	}
	if e.NoTrail != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+e.NoTrail.Error())
	}
	e.Leases.Reason = os.Getenv("MEATUS_REASON")
	r := &Engine{e, asker, make(chan struct{})}
	inbox := e.Events.Subscribe()
	go func() {
		defer close(r.told)
		for events := inbox.Take(context.Background()); events != nil; events = inbox.Take(context.Background()) {
			r.tell(events, each)
		}
	}()
	return r, nil
}

func (r *Engine) tell(events []event.Event, each func(event.Event)) {
	for _, e := range events {
		switch e := e.(type) {
		case engine.Notice:
			fmt.Fprintln(os.Stderr, "meatus: "+e.Say)
		case login.CameByEmergency:
			fmt.Fprintln(os.Stderr, "meatus: "+e.Say())
		case engine.KeysGone:
			fmt.Fprintln(os.Stderr, "meatus: "+e.Say())
		}
		if each != nil {
			each(e)
		}
	}
}

// Close ends everything, and waits until what happened was told.
func (r *Engine) Close() {
	r.asker.Identities.Forget()
	r.Engine.Close()
	<-r.told
	if err := r.Engine.Unwritten(); err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
	}
}

// Do does a job to its end, or until an interrupt, and tells each step.
func (r *Engine) Do(cmd *command.Call, job work.Job, tell func(work.Step)) error {
	inbox := r.Events.Subscribe()
	id := r.Jobs.Begin(job)
	defer context.AfterFunc(cmd.Context(), func() { r.Jobs.Stop(id) })()
	for events := inbox.Take(context.Background()); events != nil; events = inbox.Take(context.Background()) {
		for _, e := range events {
			switch e := e.(type) {
			case work.Stepped:
				if e.ID == id {
					tell(e.Step)
				}
			case work.Ended:
				if e.State.ID == id {
					return Interrupted(cmd.Context(), e.State.Err)
				}
			}
		}
	}
	return errors.New("the program is ending")
}

// Linger is how long a bastion's link waits for the next machine behind it.
const Linger = time.Minute

// With opens the workspace and the engine, and does something with them.
func (o Opener) With(cmd *command.Call, identities *prompt.Identities, do func(*Engine, *workspace.Workspace) error) error {
	w, err := o.Workspace()
	if err != nil {
		return err
	}
	e, err := o.Engine(cmd, w, identities, engine.Options{Linger: Linger}, nil)
	if err != nil {
		return err
	}
	defer e.Close()
	return do(e, w)
}

// GiveTerminal has the terminal be the far side's until it is taken back: no question is asked on it.
func (r *Engine) GiveTerminal() (takeBack func()) {
	r.asker.Taken.Store(true)
	return func() { r.asker.Taken.Store(false) }
}

// Interrupted gives what a person stopped the status of an interrupt.
func Interrupted(ctx context.Context, err error) error {
	if err != nil && ctx.Err() != nil {
		return command.Fail(command.Interrupted, errors.New("stopped"))
	}
	return err
}

// Step prints one step of a job, as a line of JSON where --json was given.
func Step(cmd *command.Call, s work.Step) {
	out := cmd.OutOrStdout()
	if cmd.JSON {
		line := map[string]string{"session": s.Session, "step": s.Say}
		if s.Err != nil {
			line["error"] = s.Err.Error()
		}
		command.Line(out, line)
		return
	}
	if s.Err != nil {
		s.Say += ": " + s.Err.Error()
	}
	if s.Session != "" {
		s.Say = s.Session + ": " + s.Say
	}
	fmt.Fprintln(out, s.Say)
}

// NamedItself fails where something is to be done at a session that is marked careful and was not named by itself.
func NamedItself(w *workspace.Workspace, sessions, named []string) error {
	for _, name := range w.Book.Careful(sessions...) {
		if !slices.Contains(named, name) {
			return command.Fail(command.WrongUse, fmt.Errorf("%s is marked careful: name it itself to include it", name))
		}
	}
	return nil
}

// Record adds an entry to the audit log of a workspace. Where that fails it is told on standard error: what the entry is about
// is done.
func Record(cmd *command.Call, w *workspace.Workspace, e trail.Entry) {
	t, err := trail.Open(w.Dir)
	if err == nil {
		err = t.Add(e)
		t.Close()
	}
	if err != nil {
		fmt.Fprintln(cmd.ErrOrStderr(), "meatus: "+err.Error())
	}
}

// Visits is when each session was logged in to last. It is empty where the trail cannot be read.
func Visits(w *workspace.Workspace) map[string]time.Time {
	t, err := trail.Open(w.Dir)
	if err != nil {
		return nil
	}
	defer t.Close()
	return t.Visits()
}

// IssuerOf is the way to an issuer of the sessions file: the named one, or the only one.
func IssuerOf(w *workspace.Workspace, name string) (route.Route, string, error) {
	if name == "" && len(w.Book.Issuers) == 1 {
		name = w.Book.Issuers[0].Name
	}
	if name == "" {
		return route.Route{}, "", command.Fail(command.WrongUse, fmt.Errorf("the sessions file names %s; choose one with --issuer", words.Count(len(w.Book.Issuers), "issuer")))
	}
	r, err := w.Planner().Issuer(name)
	if err != nil {
		err = command.Fail(command.WrongUse, err)
	}
	return r, name, err
}

// garbagePercent is how much the heap grows before it is collected, in percent of what is in use. The full screen stays
// open for days with a workspace in memory and makes little garbage, and a plan of a million files is kept while they go:
// memory is worth more there than the time of a collection.
const garbagePercent = 50

// CollectEarly has little garbage kept, unless the person has said how much.
func CollectEarly() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbagePercent)
	}
}

// Renewed reads all estates anew, tells what goes wrong with one, and opens the workspace as it is then.
func (o Opener) Renewed(cmd *command.Call) (*workspace.Workspace, error) {
	w, err := o.Workspace()
	if err != nil {
		return nil, err
	}
	for _, e := range w.Book.Estates {
		k, err := (&estate.Source{Dir: w.Dir, EstateSource: e}).Renew(cmd.Context(), time.Now())
		if err != nil {
			return nil, err
		}
		if k.Failed != "" {
			fmt.Fprintf(cmd.ErrOrStderr(), "meatus: estate %s: %s\n", e.Name, k.Failed)
		}
	}
	return o.Workspace()
}
