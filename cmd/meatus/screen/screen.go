// Package screen opens the full-screen program.
package screen

import (
	"context"
	"errors"
	"os"

	"meatus/cmd/meatus/command"
	"meatus/cmd/meatus/live"
	"meatus/core/engine"
	"meatus/core/prefs"
	"meatus/core/workspace"
	"meatus/tui"
)

// Own gives the full screen the person's own settings.
func Own(o tui.Options) tui.Options {
	o.Prefs, o.NoPrefs = prefs.Read(prefs.Path())
	return o
}

// Show opens the full screen, or the same as lines of text where that is wanted or the terminal cannot be drawn on.
func Show(ctx context.Context, w *workspace.Workspace, o tui.Options, plain bool) error {
	live.CollectEarly()
	w.Here = o.Prefs.Estate.Address()
	a, err := tui.New(w, o)
	if errors.Is(err, engine.ErrNoAgent) {
		return command.Fail(command.WrongUse, err)
	}
	if err != nil {
		return err
	}
	if plain || os.Getenv("TERM") == "dumb" { // which cannot place its cursor
		return a.RunPlain(ctx, os.Stdin, os.Stdout)
	}
	return a.Run(ctx)
}
