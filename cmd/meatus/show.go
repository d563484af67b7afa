package main

import (
	"context"

	"meatus/core/walk"
	"meatus/core/workspace"
	"meatus/tui"
)

// show opens the full-screen program. A nil dialer is the network.
func show(ctx context.Context, w *workspace.Workspace, d walk.Dialer, o tui.Options) error {
	o.Dialer = d
	return tui.New(w, o).Run(ctx)
}
