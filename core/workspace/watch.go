package workspace

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/fsnotify/fsnotify"

	"meatus/core/book"
)

// settleTime is how long a file has to be left alone before it is read again: an
// editor writes in several steps.
const settleTime = 150 * time.Millisecond

// Watch tells when the sessions file was written, by whomever, until ctx ends and
// the channel is closed. It watches the folder, since many programs write a new
// file and put it in the place of the old one.
func (w *Workspace) Watch(ctx context.Context) (<-chan struct{}, error) {
	if err := os.MkdirAll(w.Dir, 0o700); err != nil {
		return nil, err
	}
	watcher, err := fsnotify.NewWatcher()
	if err != nil {
		return nil, fmt.Errorf("watching %s: %w", w.Dir, err)
	}
	if err := watcher.Add(w.Dir); err != nil {
		watcher.Close()
		return nil, fmt.Errorf("watching %s: %w", w.Dir, err)
	}
	written := make(chan struct{}, 1)
	go func() {
		defer close(written)
		defer watcher.Close()
		settled := time.NewTimer(time.Hour)
		settled.Stop()
		for {
			select {
			case e, ok := <-watcher.Events:
				if !ok {
					return
				}
				if filepath.Base(e.Name) == book.FileName {
					settled.Reset(settleTime)
				}
			case <-watcher.Errors:
				settled.Reset(settleTime) // what was missed is read all the same
			case <-settled.C:
				select {
				case written <- struct{}{}:
				default:
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	return written, nil
}
