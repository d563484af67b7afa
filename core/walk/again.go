package walk

import (
	"errors"
	"io"

	"github.com/libp2p/go-yamux/v5"

	"meatus/core/gate"
)

// again does something over links of which one may be shared, and once more where it failed since that one was dead: it may
// have died without anybody noticing. do makes everything anew at each try, and tells whether a link was shared.
func again(do func(second bool) (shared bool, err error)) error {
	shared, err := do(false)
	if shared && isDead(err) {
		_, err = do(true)
	}
	return err
}

// isDead tells whether something failed because a link was gone.
func isDead(err error) bool {
	var f *gate.Failure
	if errors.As(err, &f) {
		return f.Cause == gate.ServerClosed || f.Cause == gate.LinkLost
	}
	return errors.Is(err, io.EOF) || errors.Is(err, yamux.ErrSessionShutdown)
}
