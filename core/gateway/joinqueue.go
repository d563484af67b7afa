package gateway

import (
	"context"
	"errors"
	"time"
)

// Bounds of machines that join at the same time, as after a restart: the store works for the people who connect, too.
const (
	joinsAtOnce = 32
	joinWait    = 15 * time.Second
)

// errManyJoin says that more machines join than the gateway takes at a time.
var errManyJoin = errors.New("too many machines join at once: try again in a moment")

// joinQueue bounds how many machines ask the store at the same time.
type joinQueue chan struct{}

// do calls f when there is room. It fails with [errManyJoin] where there is none within [joinWait].
func (q joinQueue) do(ctx context.Context, f func() error) error {
	waiting := time.NewTimer(joinWait)
	defer waiting.Stop()
	select {
	case q <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	case <-waiting.C:
		return errManyJoin
	}
	defer func() { <-q }()
	return f()
}
