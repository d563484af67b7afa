package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"sync"
	"time"

	"meatus/core/followed"
	"meatus/core/perm"
	"meatus/core/policy"
)

// PolicyFile is the policy in a file, which is read again when it changes. Where it cannot be read any more, or
// is wrong, the last good one is kept, and why is said.
type PolicyFile struct {
	of      policy.Service
	path    string
	known   func(name string) (policy.Machine, bool)
	changed chan struct{}

	mu    sync.Mutex
	good  *policy.Policy
	wrong error
	files *followed.Files // the file, and what is expected of it
}

// OpenPolicy reads the policy in a file, and holds it against what is expected of it where a file of that stands beside
// it, for a service. It fails where that cannot be used, or does not hold. Known, which may be nil, knows machines' tags and the like.
func OpenPolicy(of policy.Service, path string, known func(name string) (policy.Machine, bool)) (*PolicyFile, error) {
	f := &PolicyFile{of: of, path: path, known: known, changed: make(chan struct{}, 1), files: followed.Texts(path, path+".expect")}
	f.read()
	return f, f.wrong
}

// read reads the file where it is another than before, and tells whether it was.
func (f *PolicyFile) read() bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if !f.files.Changed() {
		return false
	}
	var p *policy.Policy
	err := perm.Judge(f.path)
	if err == nil {
		p, err = policy.Read(f.path)
	}
	if err == nil {
		if unfit := p.Unfit(f.of); len(unfit) > 0 {
			err = unfit
		}
	}
	if err == nil {
		err = f.expected(p)
	}
	if !f.files.Take() {
		if f.good != nil || f.wrong != nil {
			return false // it is being written
		}
		err = cmp.Or(err, errors.New("it was changed while it was read; try again"))
	}
	if err != nil {
		news := f.wrong == nil || f.wrong.Error() != err.Error()
		f.wrong = fmt.Errorf("the policy cannot be used: %w", err)
		return news
	}
	f.good, f.wrong = p, nil
	return true
}

// expected holds a policy against what is expected of it.
func (f *PolicyFile) expected(p *policy.Policy) error {
	e, err := policy.ReadExpectations(f.path)
	if err == nil && e.Len() > 0 {
		if err = perm.Judge(f.path + ".expect"); err == nil {
			err = e.Judge(p, f.known)
		}
	}
	return err
}

// Get is the policy that holds.
func (f *PolicyFile) Get() *policy.Policy {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.good
}

// Wrong is why the file is not what holds, nil where it is.
func (f *PolicyFile) Wrong() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.wrong
}

// Changed is signalled when another policy holds.
func (f *PolicyFile) Changed() <-chan struct{} { return f.changed }

// Follow reads the file when it changes, until the context ends.
func (f *PolicyFile) Follow(ctx context.Context, log *slog.Logger) {
	tick := time.NewTicker(followed.LookEvery)
	defer tick.Stop()
	before := f.Wrong()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		if !f.read() {
			continue
		}
		wrong := f.Wrong()
		switch {
		case wrong != nil && (before == nil || wrong.Error() != before.Error()):
			log.Error("the last policy that was right goes on to hold", "error", wrong)
		case wrong == nil:
			log.Info("another policy holds", "file", f.path)
			select {
			case f.changed <- struct{}{}:
			default:
			}
		}
		before = wrong
	}
}
