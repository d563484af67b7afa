package main

import (
	"context"
	"errors"

	"meatus/core/engine"
	"meatus/core/workspace"
	"meatus/tui"
)

// show opens the full-screen program.
func show(ctx context.Context, w *workspace.Workspace, o tui.Options) error {
	a, err := tui.New(w, o)
	if errors.Is(err, engine.ErrNoAgent) {
		return &statusError{statusWrongUse, err}
	}
	if err != nil {
		return err
	}
	return a.Run(ctx)
}
