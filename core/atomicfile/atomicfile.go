// Package atomicfile writes files atomically, one program of ours at a time.
//
// It promises that after [Write] a file holds either the old text or the new,
// whatever happens in between, and that a symbolic link stays one. A write costs
// a temporary file beside the real one and a sync.
package atomicfile

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/gofrs/flock"
	"github.com/google/renameio/v2"
)

// lockTime is how long [Lock] waits for another program.
const lockTime = 20 * time.Second

// ours has a lock for each path, which the writers of this program queue for.
var ours sync.Map

// Lock keeps others from writing the file at path until the returned function is called:
// writers of this program wait for each other, and for another program of ours up to
// twenty seconds.
func Lock(path string) (unlock func(), err error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, err
	}
	name := path
	if abs, err := filepath.Abs(path); err == nil {
		name = abs
	}
	queue, _ := ours.LoadOrStore(name, &sync.Mutex{})
	queue.(*sync.Mutex).Lock()
	release, err := lock(path)
	if err != nil {
		queue.(*sync.Mutex).Unlock()
		return nil, err
	}
	return func() {
		release()
		queue.(*sync.Mutex).Unlock()
	}, nil
}

// lock keeps other programs of ours out.
func lock(path string) (unlock func(), err error) {
	lock := flock.New(filepath.Join(filepath.Dir(path), "."+filepath.Base(path)+".lock"), flock.SetPermissions(0o600))
	ctx, cancel := context.WithTimeout(context.Background(), lockTime)
	defer cancel()
	switch held, err := lock.TryLockContext(ctx, 20*time.Millisecond); {
	case held:
		return func() { lock.Close() }, nil
	case errors.Is(err, context.DeadlineExceeded):
		return nil, fmt.Errorf("%s is being written by another program; try again when it is done", path)
	default:
		return nil, fmt.Errorf("locking %s: %w", path, err)
	}
}

// Write replaces the text of the file at path, or of the file a symbolic link
// there leads to. The mode of a file that is there is kept; a new one has mode
// 0600.
func Write(path string, text []byte) error {
	real := path
	if r, err := filepath.EvalSymlinks(path); err == nil {
		real = r
	}
	if err := renameio.WriteFile(real, text, 0o600, renameio.WithExistingPermissions()); err != nil {
		return fmt.Errorf("writing %s: %w; the file is as it was", path, err)
	}
	return nil
}

// Put has the file at path hold a text alone, with mode 0600. A symbolic link there, which
// somebody else may have made, is replaced and not followed.
func Put(path string, text []byte) error {
	if err := renameio.WriteFile(path, text, 0o600); err != nil {
		return fmt.Errorf("writing %s: %w", path, err)
	}
	return nil
}
