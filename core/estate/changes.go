package estate

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// ChangeKind is what has changed.
type ChangeKind string

// The kinds of changes.
const (
	Launched     ChangeKind = "launched"
	Gone         ChangeKind = "gone"
	Restarted    ChangeKind = "restarted" // stopped and started: its state is running again and an address is another
	StateChanged ChangeKind = "state"
	ChecksSaid   ChangeKind = "checks"
	Moved        ChangeKind = "moved" // an address is another
	Renamed      ChangeKind = "renamed"
	Regrouped    ChangeKind = "regrouped"
)

// Change is one thing that changed between two snapshots.
type Change struct {
	Kind   ChangeKind `json:"kind"`
	ID     string     `json:"id"`   // of the instance
	Name   string     `json:"name"` // as it is now, or was last
	Say    string     `json:"say"`
	Seen   time.Time  `json:"seen"`   // when it was noticed
	Source string     `json:"source"` // whose instance it is
}

// Changes are what became another from before to after, instance by instance in their order, then
// those that are gone. It costs one pass over both.
func Changes(before, after *Snapshot) []Change {
	was := make(map[string]*Instance, len(before.Instances))
	for i := range before.Instances {
		was[before.Instances[i].ID] = &before.Instances[i]
	}
	var all []Change
	for i := range after.Instances {
		now := &after.Instances[i]
		old := was[now.ID]
		add := func(kind ChangeKind, format string, args ...any) {
			all = append(all, Change{Kind: kind, ID: now.ID, Name: now.called(), Say: now.called() + " " + fmt.Sprintf(format, args...)})
		}
		if old == nil {
			add(Launched, "is new: %s", now.State)
			continue
		}
		delete(was, now.ID)
		moved := movedWords(after, old, now)
		restarted := old.State != Running && old.State != Starting && now.State == Running
		switch {
		case restarted && moved != "":
			add(Restarted, "was stopped and started: %s", moved)
		case moved != "":
			add(Moved, "has another address: %s", moved)
		}
		if old.State != now.State && !(restarted && moved != "") {
			add(StateChanged, "is %s, was %s", now.State, old.State)
		}
		if old.Checks != now.Checks {
			add(ChecksSaid, "has checks that say %s, said %s", now.Checks, old.Checks)
		}
		if old.Name != now.Name {
			add(Renamed, "was called %s", old.called())
		}
		if !slices.Equal(old.Groups, now.Groups) {
			add(Regrouped, "is in %s, was in %s", listed(now.Groups), listed(old.Groups))
		}
	}
	for i := range before.Instances {
		if old := &before.Instances[i]; was[old.ID] != nil {
			all = append(all, Change{Kind: Gone, ID: old.ID, Name: old.called(), Say: old.called() + " is gone"})
		}
	}
	return all
}

func listed(groups []string) string {
	if len(groups) == 0 {
		return "no group"
	}
	return strings.Join(groups, ", ")
}

// movedWords say which addresses became which, "" where none did.
func movedWords(s *Snapshot, old, now *Instance) string {
	key := func(a Address) string { return fmt.Sprintf("%s %v", a.Network, a.Outside) }
	gone, come := map[string][]Address{}, map[string][]Address{}
	for _, a := range old.Addresses {
		if !slices.Contains(now.Addresses, a) {
			gone[key(a)] = append(gone[key(a)], a)
		}
	}
	for _, a := range now.Addresses {
		if !slices.Contains(old.Addresses, a) {
			come[key(a)] = append(come[key(a)], a)
		}
	}
	var say []string
	for _, a := range now.Addresses {
		k := key(a)
		if len(come[k]) == 0 || come[k][0] != a {
			continue
		}
		come[k] = come[k][1:]
		if len(gone[k]) > 0 {
			say = append(say, fmt.Sprintf("%s became %s", gone[k][0].IP, a.IP))
			gone[k] = gone[k][1:]
			continue
		}
		say = append(say, fmt.Sprintf("%s came, in %s", a.IP, s.NetworkName(a.Network)))
	}
	for _, a := range old.Addresses {
		if k := key(a); len(gone[k]) > 0 && gone[k][0] == a {
			gone[k] = gone[k][1:]
			say = append(say, fmt.Sprintf("%s is gone", a.IP))
		}
	}
	return strings.Join(say, ", ")
}
