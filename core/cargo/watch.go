package cargo

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"github.com/fsnotify/fsnotify"

	"meatus/core/cargo/ends"
)

// How long a folder has to be quiet before what was saved in it goes, and how long it may go on
// being written to before it goes all the same: a burst of saves goes as one.
const (
	burstQuiet = 120 * time.Millisecond
	burstMost  = 700 * time.Millisecond
)

// Mirror has a tree follow a folder of this machine.
type Mirror struct {
	From    *ends.Here
	To      ends.End
	Rules   Rules
	Options Options             // without a record
	Each    func(*Plan, Report) // told of each burst that went; may be nil
	Failed  func(error)         // told of what went wrong with one
	look    func(Listed)        // of the first comparison, may be nil
	watch   *fsnotify.Watcher
}

// Run makes the tree like the folder, and then sends what changes in it until ctx ends. It fails
// where the folder cannot be watched or the tree is lost for good.
func (m *Mirror) Run(ctx context.Context) error {
	var err error
	if m.watch, err = fsnotify.NewWatcher(); err != nil {
		return fmt.Errorf("%s cannot be watched: %w", m.From.Root(), err)
	}
	defer m.watch.Close()
	if err := m.add(m.From.Root()); err != nil { // before it is read, so that nothing falls in between
		return err
	}
	plan, err := NewPlan(ctx, m.From, m.To, m.Rules, m.look)
	if err == nil {
		err = m.carry(ctx, plan)
	}
	if err != nil {
		return err
	}
	return m.follow(ctx)
}

// add watches a folder and those in it.
func (m *Mirror) add(root string) error {
	return filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return err
		case !d.IsDir():
			return nil
		}
		name, err := filepath.Rel(m.From.Root(), path)
		if err == nil && name != "." && m.Rules.Out(name, d.Name(), true) {
			return fs.SkipDir
		}
		if err := m.watch.Add(path); err != nil {
			return fmt.Errorf("%s cannot be watched: %w; where there are too many folders, the system's limit of watches is to be raised", path, err)
		}
		return nil
	})
}

// follow gathers what changes and sends it, burst by burst.
func (m *Mirror) follow(ctx context.Context) error {
	dirty := map[string]bool{}
	quiet, most := time.NewTimer(time.Hour), time.NewTimer(time.Hour)
	quiet.Stop()
	most.Stop()
	send := func() error {
		quiet.Stop()
		most.Stop()
		folders := m.folders(dirty)
		clear(dirty)
		return m.send(ctx, folders)
	}
	for {
		var err error
		select {
		case <-ctx.Done():
			return nil
		case e, ok := <-m.watch.Events:
			if !ok {
				return nil
			}
			if !m.note(e, dirty) {
				continue
			}
			if quiet.Reset(burstQuiet); len(dirty) == 1 {
				most.Reset(burstMost)
			}
		case err := <-m.watch.Errors: // more changed than the system told: everything is looked at
			m.tell(err)
			dirty[""] = true
			quiet.Reset(burstQuiet)
		case <-quiet.C:
			err = send()
		case <-most.C:
			err = send()
		}
		if err != nil {
			return err
		}
	}
}

// note notes the folder of what changed, and watches a folder that is new. It tells whether it
// matters.
func (m *Mirror) note(e fsnotify.Event, dirty map[string]bool) bool {
	name, err := filepath.Rel(m.From.Root(), e.Name)
	if err != nil || ours(filepath.Base(name)) || e.Op == fsnotify.Chmod && name == "." {
		return false
	}
	folder, _ := ends.Split(name)
	if name == "." {
		folder = ""
	}
	if info, err := os.Lstat(e.Name); err == nil && info.IsDir() && e.Has(fsnotify.Create) {
		if err := m.add(e.Name); err != nil {
			m.tell(err)
		}
	}
	dirty[folder] = true
	return true
}

// folders are the folders to look at: those that are no more are looked for from above.
func (m *Mirror) folders(dirty map[string]bool) []string {
	all := map[string]bool{}
	for folder := range dirty {
		for folder != "" {
			if info, err := os.Lstat(filepath.Join(m.From.Root(), folder)); err == nil && info.IsDir() {
				break
			}
			folder, _ = ends.Split(folder)
		}
		all[folder] = true
	}
	out := make([]string, 0, len(all))
	for folder := range all {
		out = append(out, folder)
	}
	slices.Sort(out)
	return out
}

// send sends what differs in some folders.
func (m *Mirror) send(ctx context.Context, folders []string) error {
	var plan *Plan
	var mu sync.Mutex
	c := NewCarry(&Plan{}, m.From, m.To, Options{Tell: m.Options.Tell})
	err := c.insist(ctx, func() error {
		p := NewPlanner(m.From, m.To, m.Rules)
		var lost error
		err := compareSome(ctx, m.From, m.To, m.Rules, folders, func(l Listed) {
			mu.Lock()
			defer mu.Unlock()
			if l.Err != nil && m.To.Lost(l.Err) {
				lost = l.Err
			}
			p.Add(l)
		})
		if err = errors.Join(err, lost); err != nil {
			return err
		}
		plan, err = p.Finish(ctx)
		return err
	})
	if err != nil {
		return err
	}
	return m.carry(ctx, plan)
}

func (m *Mirror) carry(ctx context.Context, plan *Plan) error {
	if !plan.Acts() && len(plan.Batches) == 0 {
		return nil
	}
	report, err := NewCarry(plan, m.From, m.To, m.Options).Run(ctx)
	if m.Each != nil && err == nil {
		m.Each(plan, report)
	}
	return err
}

func (m *Mirror) tell(err error) {
	if m.Failed != nil {
		m.Failed(err)
	}
}
