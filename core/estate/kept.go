package estate

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"reflect"
	"slices"
	"time"

	"meatus/core/sanitize"
	"meatus/core/statefile"
)

// maxChanges is how many changes are kept of a source.
const maxChanges = 500

// Kept is what is known of a source: as it was read last, with what has changed since it is.
type Kept struct {
	Source   string    `json:"source"`
	Read     time.Time `json:"read"`     // when it was read last, zero for never
	Tried    time.Time `json:"tried"`    // when that was tried last
	Failed   string    `json:"failed"`   // why that failed, "" where it did not
	Later    time.Time `json:"later"`    // before which it asked not to be read again, zero for none
	Requests int       `json:"requests"` // how many the last reading took
	Tag      string    `json:"tag,omitempty"`
	Snapshot Snapshot  `json:"snapshot"`
	Changes  []Change  `json:"changes"` // the oldest first
	Problems []Problem `json:"-"`       // of this reading
	Fresh    int       `json:"-"`       // how many of the changes, the last of them, this reading found
	Differs  bool      `json:"-"`       // this reading gave something else than the one before, in whatever
}

func keptFile(dir, source string) string {
	return filepath.Join(dir, "state", "estate", source+".json")
}

// begins tells whether an instance is as it is since the change.
func (c Change) begins() bool {
	return c.Kind == StateChanged || c.Kind == Restarted || c.Kind == Launched
}

// Since is when an instance was noticed to be as it is: by the last change of its state that is kept, or
// when it was launched where it runs; zero where that is not known.
func (k *Kept) Since(i *Instance) time.Time {
	for _, c := range slices.Backward(k.Changes) {
		if c.ID == i.ID && c.begins() {
			return c.Seen
		}
	}
	if i.State == Running {
		return i.Launched
	}
	return time.Time{}
}

// Recall is what is kept of a source in a workspace's folder, nothing where it was never read.
func Recall(dir, source string) (Kept, error) {
	k := Kept{Source: source}
	err := statefile.Read(keptFile(dir, source), &k)
	k.Source = source
	return k, err
}

// Renew reads a source and keeps what it gave. Where that fails what was known stays, with the
// reason in Failed; the error tells of what is kept alone.
func (s *Source) Renew(ctx context.Context, now time.Time) (Kept, error) {
	dir, e := s.Dir, s.EstateSource
	before, err := Recall(dir, e.Name)
	if err != nil {
		return before, err
	}
	r, failed := s.Read(ctx, before.Tag)
	k := before
	k.Fresh, k.Differs = 0, false
	k.Tried, k.Failed, k.Later, k.Problems, k.Requests = now, "", time.Time{}, nil, r.Requests
	switch {
	case failed != nil:
		k.Failed = sanitize.Line(failed.Error(), 300)
		if busy := (*Busy)(nil); errors.As(failed, &busy) && busy.After > 0 {
			k.Later = now.Add(busy.After)
		}
	case r.Same:
		k.Read = now
	default:
		if !before.Read.IsZero() {
			for _, c := range Changes(&before.Snapshot, &r.Snapshot) {
				c.Seen, c.Source = now, e.Name
				k.Changes = append(k.Changes, c)
				k.Fresh++
			}
		}
		k.Differs = !reflect.DeepEqual(before.Snapshot, r.Snapshot)
		k.Read, k.Tag, k.Snapshot, k.Problems = now, r.Tag, r.Snapshot, r.Problems
		k.Changes = k.Changes[max(len(k.Changes)-maxChanges, 0):]
	}
	var file Kept
	if err := statefile.Change(keptFile(dir, e.Name), &file, func() { file = k }); err != nil {
		return k, fmt.Errorf("keeping estate %s: %w", e.Name, err)
	}
	return k, nil
}
