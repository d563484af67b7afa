package main

import (
	"context"
	"errors"

	"meatus/core/walk"
	"meatus/core/workspace"
)

// show opens the full-screen program. A nil dialer is the network.
func show(_ context.Context, _ *workspace.Workspace, _ walk.Dialer, _ string) error {
	return errors.New("not built yet")
}
