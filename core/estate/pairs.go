package estate

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"meatus/core/book"
	"meatus/core/words"
)

// Use is a key pair with what it is for: the instances that were made with it, and its file here.
type Use struct {
	Source    string   `json:"source"`
	KeyPair            // with its name alone where its source does not list it
	Instances []string `json:"instances"` // by name
	File      string   `json:"file"`      // "" where none is here
}

// Uses are the key pairs of all sources, first those that instances are made with and that have no file
// here. fileOf finds the file of one, "" for none.
func Uses(all []Kept, fileOf func(KeyPair) string) []Use {
	var uses []Use
	for k := range all {
		s := &all[k].Snapshot
		at := map[string]int{}
		add := func(p KeyPair) int {
			if i, ok := at[p.Name]; ok {
				return i
			}
			at[p.Name] = len(uses)
			uses = append(uses, Use{Source: all[k].Source, KeyPair: p, Instances: []string{}, File: fileOf(p)})
			return at[p.Name]
		}
		for _, p := range s.KeyPairs {
			add(p)
		}
		for i := range s.Instances {
			if n := &s.Instances[i]; n.KeyPair != "" && n.State != Ended {
				u := add(KeyPair{Name: n.KeyPair})
				uses[u].Instances = append(uses[u].Instances, n.called())
			}
		}
	}
	rank := func(u Use) int {
		switch {
		case u.Missing():
			return 0
		case len(u.Instances) > 0:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(uses, func(a, b Use) int {
		return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a.Name, b.Name))
	})
	return uses
}

// Missing tells whether instances are made with the pair and no file of it is here.
func (u Use) Missing() bool { return u.File == "" && len(u.Instances) > 0 }

// Ask is the request for the file of a pair: what it is, what it is for, and who had it by what is
// known here; known are such names, and may be none.
func (u Use) Ask(known []string) string {
	say := "Who has the private half of key pair " + u.Name
	if u.Fingerprint != "" {
		say += " (" + strings.TrimSpace(u.Kind+" "+u.Fingerprint) + ")"
	}
	say += "? "
	if n := len(u.Instances); n > 0 {
		say += fmt.Sprintf("%s made with it: %s. ", words.Plural(n, "instance is", "instances are"), strings.Join(u.Instances[:min(n, 8)], ", "))
	}
	if len(known) > 0 {
		say += "It was used by " + strings.Join(known[:min(len(known), 8)], ", ") + ". "
	}
	return say + "Please do not send it: let me in with a key of mine instead, or bring it by hand."
}

// Idle is a running instance that nobody has been at for long.
type Idle struct {
	Source  string    `json:"source"`
	ID      string    `json:"id"`
	Name    string    `json:"name"`
	Session string    `json:"session"`       // the first that leads to it, "" for none
	Used    time.Time `json:"used,omitzero"` // when somebody here was there last, zero for never
	Runs    time.Time `json:"runs,omitzero"` // since when, zero where that is not known
}

// Idles are the running instances that nobody here has used since a time, and that ran before it, the
// longest unused first. visits is when each session was last logged in to, and live the sessions with
// something live.
func Idles(all []Kept, b *book.Book, visits map[string]time.Time, live map[string]bool, since time.Time) []Idle {
	g := grouping{book: b}
	g.index(b)
	var found []Idle
	for k := range all {
		kept := &all[k]
		for i := range kept.Snapshot.Instances {
			n := &kept.Snapshot.Instances[i]
			if n.State != Running || n.Launched.After(since) {
				continue
			}
			idle := Idle{Source: kept.Source, ID: n.ID, Name: n.called(), Runs: kept.Since(n)}
			lives := false
			for _, session := range g.sessionsOf(kept.Source, n) {
				idle.Session = cmp.Or(idle.Session, session)
				lives = lives || live[session]
				if at := visits[session]; at.After(idle.Used) {
					idle.Used = at
				}
			}
			if !lives && !idle.Used.After(since) {
				found = append(found, idle)
			}
		}
	}
	slices.SortStableFunc(found, func(a, b Idle) int { return a.Used.Compare(b.Used) })
	return found
}
