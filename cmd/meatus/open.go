package main

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"github.com/spf13/cobra"

	"meatus/core/engine"
	"meatus/core/estate"
	"meatus/core/event"
	"meatus/core/login"
	"meatus/core/prefs"
	"meatus/core/work"
	"meatus/core/workspace"
)

// opener opens what the flags of every command say.
type opener struct {
	dir         *string
	beforeAgent *bool
}

// workspace reads the workspace, which has to be there: a folder that is none is a slip of the
// pen, and nothing is made of it.
func (o opener) workspace() (*workspace.Workspace, error) {
	w, err := o.kept()
	if err == nil {
		takeBackDue(w)
	}
	return w, err
}

// kept opens the workspace for a long-running program. It removes no expired firewall rules: such a program does so itself,
// and reports it.
func (o opener) kept() (*workspace.Workspace, error) {
	dir := workspace.Folder(*o.dir)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		return nil, &statusError{statusWorkspace, fmt.Errorf("there is no workspace %s; meatus without a command makes one there", dir)}
	}
	w, err := workspace.Open(dir)
	if err != nil {
		return nil, &statusError{statusWorkspace, err}
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

// first makes the folder of a first start. One that was named is made after a yes alone.
func (o opener) first(cmd *cobra.Command) error {
	dir := workspace.Folder(*o.dir)
	if _, err := os.Stat(dir); !errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	fmt.Fprintf(cmd.ErrOrStderr(), "There is no workspace %s yet.\n", dir)
	if *o.dir != "" || os.Getenv(workspace.Variable) != "" {
		tty, err := os.OpenFile("/dev/tty", os.O_RDWR, 0)
		if err != nil {
			return &statusError{statusWorkspace, fmt.Errorf("there is no workspace %s, and nobody to ask whether to make one", dir)}
		}
		defer tty.Close()
		if answer, err := ask(cmd.Context(), tty, "Make it? Type yes: ", true); err != nil || answer != "yes" {
			return &statusError{statusWorkspace, errors.New("nothing was made")}
		}
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return &statusError{statusWorkspace, fmt.Errorf("the workspace cannot be made: %w", err)}
	}
	return nil
}

// running is everything live that a command has.
type running struct {
	*engine.Engine
	asker *ttyAsker
	told  chan struct{} // closed when everything that happened was told
}

// engine opens everything live, which asks on the terminal and gives links up when they
// are no longer used. What happens is given to each, which may be nil; what a person is
// to be told is told on standard error.
func (o opener) engine(cmd *cobra.Command, w *workspace.Workspace, identities *identities, with engine.Options, each func(event.Event)) (*running, error) {
	asker := &ttyAsker{identities: identities}
	with.Workspace, with.Asker, with.BeforeAgent = w, asker, *o.beforeAgent
	if with.Linger == 0 {
		with.Linger = time.Millisecond
	}
	e, err := engine.Open(cmd.Context(), with)
	if errors.Is(err, engine.ErrNoAgent) {
		return nil, &statusError{statusWrongUse, err}
	}
	if err != nil {
		return nil, err
	}
	if e.NoTrail != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+e.NoTrail.Error())
	}
	e.Leases.Reason = os.Getenv("MEATUS_REASON")
	r := &running{e, asker, make(chan struct{})}
	inbox := e.Events.Subscribe()
	go func() {
		defer close(r.told)
		for events := inbox.Take(context.Background()); events != nil; events = inbox.Take(context.Background()) {
			r.tell(events, each)
		}
	}()
	return r, nil
}

func (r *running) tell(events []event.Event, each func(event.Event)) {
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
func (r *running) Close() {
	r.asker.identities.forget()
	r.Engine.Close()
	<-r.told
	if err := r.Engine.Unwritten(); err != nil {
		fmt.Fprintln(os.Stderr, "meatus: "+err.Error())
	}
}

// do does a job to its end, or until an interrupt, and tells each step.
func (r *running) do(cmd *cobra.Command, job work.Job, tell func(work.Step)) error {
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
					return interrupted(cmd.Context(), e.State.Err)
				}
			}
		}
	}
	return errors.New("the program is ending")
}
