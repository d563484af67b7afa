// Package needs tells what is worth a person's act now, the gravest first: what a board, the key
// files, links, doors and the trail know, each once, with its one remedy.
//
// It reads values and opens no file but the one it remembers in what was seen ([Seen]).
package needs

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/link"
	"meatus/core/sanitize"
	"meatus/core/statefile"
	"meatus/core/trail"
	"meatus/core/tunnel"
	"meatus/core/words"
	"meatus/core/workspace"
)

// Kind is what a need is about. Its order is that of how grave it is.
type Kind uint8

// The kinds, the gravest first.
const (
	Identity    Kind = iota // a machine shows another key than the one that is vouched for
	Exposed                 // others can read a key, or change what decides where walks go
	Lost                    // a link is frozen or lost
	Open                    // a door listens beyond this machine
	Standing                // a rule lets somebody in for a time
	Asked                   // somebody asks to use a lent key
	Arrived                 // a key file came into the download folder
	Certificate             // a certificate ends within a week, or has ended
	Failed                  // what was walked to or checked is shut
	Barred                  // it can be seen from here that a walk will fail
	Meanwhile               // what happened since one last looked
	Before                  // shells that were open when the program was left
)

var kindNames = [...]string{"identity", "exposed", "lost", "open", "standing", "asked", "arrived", "certificate", "failed", "barred", "meanwhile", "before"}

// MarshalText gives the kind's word.
func (k Kind) MarshalText() ([]byte, error) { return []byte(kindNames[k]), nil }

// Need is one thing.
type Need struct {
	Kind     Kind   `json:"kind"`
	Of       string `json:"of"`                // "gauge-2", "tide.pem", "127.0.0.1:15432"
	Session  string `json:"session,omitempty"` // to look at, the first of them
	Key      string `json:"key,omitempty"`     // the path of the key file it is about
	Sessions int    `json:"sessions"`          // that it concerns, 0 for none
	Mark     string `json:"mark,omitempty"`    // of the rule that stands for a time
	Say      string `json:"say"`
	Remedy   string `json:"remedy,omitempty"`
	New      bool   `json:"new"` // it was not there when one last looked
}

// id tells needs apart, from one look to the next.
func (n Need) id() string { return kindNames[n.Kind] + " " + n.Of }

// Cause is why sessions do not stand open, with how many of them.
type Cause struct {
	gate.Shared
	Found bool // by walking or looking, not from here alone

	broken bool // the sessions are none that can be used
}

// ofCause is what a cause needs; ok is false where that is nothing worth a person's act.
func ofCause(c Cause) (n Need, ok bool) {
	g := c.Gate
	n = Need{Session: c.First, Sessions: c.Sessions, Of: c.First, Say: fmt.Sprintf("%s: %s", g.Kind, g.Reason), Remedy: g.Remedy.Say}
	if c.Hop != "" && c.Hop != c.First {
		n.Say = c.Hop + ", " + n.Say
	}
	switch {
	case g.Remedy.Act == gate.Settle:
		n.Kind = Identity
	case g.Remedy.Act == gate.MendKey, g.Remedy.Act == gate.MendFile:
		n.Kind = Exposed
		n.Of, n.Key = sanitize.Name(g.Remedy.Subject), g.Remedy.Subject
	case g.Verdict != gate.Shut:
		return n, false
	case c.Found:
		n.Kind = Failed
	default:
		n.Kind = Barred
	}
	return n, true
}

// soon is how long before its end a certificate is told of.
const soon = 7 * 24 * time.Hour

// ofKey is what a key file needs that no session's cause tells.
func ofKey(k workspace.Key, now time.Time) (n Need, ok bool) {
	n = Need{Of: sanitize.Name(k.Path), Key: k.Path, Sessions: len(k.Uses)}
	switch {
	case k.Source == workspace.Downloaded:
		n.Kind, n.Say, n.Remedy = Arrived, "a key file arrived in "+sanitize.Line(filepath.Dir(k.Path), 60), "adopt it, with mode 0600"
	case k.Loose() && len(k.Uses) == 0:
		n.Kind, n.Say, n.Remedy = Exposed, "other users can read or replace the file", "fix the permissions"
	case k.Cert != nil && ends(k.Cert).Before(now.Add(soon)):
		n.Kind, n.Remedy = Certificate, "have a new certificate signed"
		n.Say = "the certificate expires on " + ends(k.Cert).Local().Format("2 Jan 15:04")
		if ends(k.Cert).Before(now) {
			n.Say = "the certificate expired on " + ends(k.Cert).Local().Format("2 Jan 15:04")
		}
	default:
		return n, false
	}
	return n, true
}

// ends is when a certificate's time is over.
func ends(c *keyfile.Certificate) time.Time {
	if c.Cert.ValidBefore > 1<<62 { // it has no end
		return time.Unix(1<<40, 0)
	}
	return time.Unix(int64(c.Cert.ValidBefore), 0)
}

// Sources are what needs are told from. What is nil or empty tells of none.
type Sources struct {
	Causes  []Cause
	Keys    []workspace.Key
	Links   []link.State
	Lost    map[string]string // sessions whose way is lost, with why
	Tunnels []tunnel.Line
	Grants  []estate.Grant // rules that stand for a time
	Asked   string         // who asks to use a forwarded key, and for what
	Recap   trail.Recap
	Before  []string // sessions whose shells were open when the program was left
	Seen    Seen
	Now     time.Time
}

// Of is what needs a person, the gravest first; new ones before others of their kind, those that
// concern more sessions before those that concern fewer.
func Of(s Sources) []Need {
	var all []Need
	exposed := map[string]bool{}
	for _, c := range s.Causes {
		if n, ok := ofCause(c); ok {
			if exposed[n.Key] = true; n.Kind == Exposed && slices.ContainsFunc(all, func(o Need) bool { return o.Kind == Exposed && o.Key == n.Key }) {
				continue
			}
			all = append(all, n)
		}
	}
	for _, k := range s.Keys {
		if n, ok := ofKey(k, s.Now); ok && !(n.Kind == Exposed && exposed[n.Key]) {
			all = append(all, n)
		}
	}
	for _, l := range s.Links {
		if l.Frozen {
			all = append(all, Need{Kind: Lost, Of: l.Hop, Session: l.Hop, Say: "the connection is frozen: no data since " + l.LastIn.Local().Format("15:04:05"), Remedy: "wait, or end the link in Watch"})
		}
	}
	for session, why := range s.Lost {
		all = append(all, Need{Kind: Lost, Of: session, Session: session, Sessions: 1, Say: "the connection is lost: " + why, Remedy: "reconnecting automatically"})
	}
	for _, l := range s.Tunnels {
		if l.Beyond {
			all = append(all, Need{Kind: Open, Of: l.Listener, Session: l.Session, Sessions: 1, Say: "a port forward of " + l.Session + " listens for other machines", Remedy: "close it, or use 127.0.0.1"})
		}
	}
	for _, g := range s.Grants {
		n := Need{Kind: Standing, Mark: g.Mark, Of: g.Session, Session: g.Session, Sessions: 1, Say: "until " + g.Until.Local().Format("15:04") + " " + g.Sentence(), Remedy: "it is taken back then; close it where it is not needed"}
		if g.Failed != "" && g.Due(s.Now) {
			n.Say, n.Remedy = "could not be removed ("+g.Failed+"): "+g.Sentence(), "it is tried again; take it back at estate "+g.Source+" where that does not help"
		}
		all = append(all, n)
	}
	if s.Asked != "" {
		all = append(all, Need{Kind: Asked, Of: s.Asked, Say: "asks to use a forwarded key", Remedy: "answer it"})
	}
	var meanwhile []string
	if n := len(s.Recap.Drops); n > 0 {
		meanwhile = append(meanwhile, words.Plural(n, "link was lost", "links were lost"))
	}
	if n := s.Recap.Refused; n > 0 {
		meanwhile = append(meanwhile, words.Plural(n, "connection attempt failed", "connection attempts failed"))
	}
	if len(meanwhile) > 0 {
		all = append(all, Need{Kind: Meanwhile, Of: "since " + s.Recap.From.Local().Format("2 Jan 15:04"), Say: strings.Join(meanwhile, ", "), Remedy: "the trail has them", New: true})
	}
	if n := len(s.Before); n > 0 {
		all = append(all, Need{Kind: Before, Of: "last time", Sessions: n, Say: words.Plural(n, "shell was open", "shells were open") + ": " + sanitize.Line(strings.Join(s.Before, ", "), 120), Remedy: "each is walked to again, by its gates"})
	}
	for i := range all {
		all[i].New = all[i].New || all[i].Kind != Before && !s.Seen.At.IsZero() && !slices.Contains(s.Seen.IDs, all[i].id())
	}
	slices.SortStableFunc(all, func(a, b Need) int {
		switch {
		case a.Kind != b.Kind:
			return int(a.Kind) - int(b.Kind)
		case a.New != b.New:
			if a.New {
				return -1
			}
			return 1
		case a.Sessions != b.Sessions:
			return b.Sessions - a.Sessions
		}
		return strings.Compare(a.Of, b.Of)
	})
	return all
}

// Seen is what was there when one last looked.
type Seen struct {
	At  time.Time `json:"at"`
	IDs []string  `json:"ids"`
}

// maxSeen is how many needs are remembered.
const maxSeen = 1000

func seenFile(w *workspace.Workspace) string {
	return filepath.Join(w.Dir, workspace.StateDir, "needs.json")
}

// ReadSeen is what was there when one last looked, nothing where nobody did.
func ReadSeen(w *workspace.Workspace) (Seen, error) {
	var s Seen
	err := statefile.Read(seenFile(w), &s)
	return s, err
}

// Remember remembers what there is now.
func Remember(w *workspace.Workspace, all []Need, now time.Time) error {
	var s Seen
	err := statefile.Change(seenFile(w), &s, func() {
		s = Seen{At: now}
		for _, n := range all[:min(len(all), maxSeen)] {
			s.IDs = append(s.IDs, n.id())
		}
	})
	if err != nil {
		return fmt.Errorf("remembering what was seen: %w", err)
	}
	return nil
}
