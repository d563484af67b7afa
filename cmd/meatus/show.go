package main

import (
	"context"
	"errors"
	"os"
	"runtime/debug"

	"meatus/core/engine"
	"meatus/core/prefs"
	"meatus/core/workspace"
	"meatus/tui"
)

// garbagePercent is how much the heap grows before it is collected, in percent of what is
// in use. The full screen stays open for days with a workspace in memory and makes little
// garbage, and a plan of a million files is kept while they go: memory is worth more there
// than the time of a collection.
const garbagePercent = 50

// collectEarly has little garbage kept, unless the person has said how much.
func collectEarly() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(garbagePercent)
	}
}

// ownSettings gives the full screen the person's own settings.
func ownSettings(o tui.Options) tui.Options {
	o.Prefs, o.NoPrefs = prefs.Read(prefs.Path())
	return o
}

// show opens the full-screen program, or the same as lines of text, as on a terminal that cannot be drawn on.
func show(ctx context.Context, w *workspace.Workspace, o tui.Options, plain bool) error {
	collectEarly()
	w.Here = o.Prefs.Estate.Address()
	a, err := tui.New(w, o)
	if errors.Is(err, engine.ErrNoAgent) {
		return &statusError{statusWrongUse, err}
	}
	if err != nil {
		return err
	}
	if plain || os.Getenv("TERM") == "dumb" { // which cannot place its cursor
		return a.RunPlain(ctx, os.Stdin, os.Stdout)
	}
	return a.Run(ctx)
}
