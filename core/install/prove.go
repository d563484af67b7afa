package install

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"path/filepath"

	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/walk"
)

// Walker passes routes. A [walk.Walker] is one.
type Walker interface {
	Walk(ctx context.Context, r route.Route) (*walk.Passage, error)
}

// With is the route with nothing but a key to log in by at its end, over a link of
// its own.
func With(r route.Route, key string) (route.Route, error) {
	path, err := filepath.Abs(key)
	if err != nil {
		return r, err
	}
	alone := rand.Text()
	return r.AtEnd(func(last *route.Hop) { last.Keys, last.Alone = []string{path}, alone }), nil
}

// Prove logs in anew at the route's end with a key alone, and returns the passage,
// which the caller closes.
func Prove(ctx context.Context, w Walker, r route.Route, file *keyfile.File) (*walk.Passage, error) {
	alone, err := With(r, file.Path)
	if err != nil {
		return nil, err
	}
	p, err := w.Walk(ctx, alone)
	if err != nil {
		var f *gate.Failure
		if errors.As(err, &f) && f.Gate != gate.Login { // it was not the server that would not have it
			return nil, fmt.Errorf("the key is in the list, and could not be proven: %w", err)
		}
		if f != nil { // the login was right a moment ago, with another key
			f.Remedy = gate.Remedy{Say: "the login itself works: check that the server reads that list, and that only its owner can write it; its log says why"}
		}
		return nil, fmt.Errorf("the key is in the list, but the server refuses it: %w", err)
	}
	return p, nil
}
