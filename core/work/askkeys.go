package work

import (
	"context"
	"fmt"
	"slices"

	"golang.org/x/crypto/ssh"

	"meatus/core/gate"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/workspace"
)

// Taken is what a server says of a key that was asked about.
type Taken struct {
	Name   string // of its file, or as the ring calls it
	SHA256 string
	Takes  bool
	Asked  bool // false where the server's patience ended before
}

// AskKeys asks the machine at a route's end which of the ring's and the workspace's
// keys it would take for the route's login, the session's own first. Nothing is signed
// there.
type AskKeys struct {
	Tools
	Route route.Route
	Taken []Taken // once it has run
}

// Title says what the job is.
func (j *AskKeys) Title() Title {
	return Title{What: "which key opens this?", Of: j.Route.Session + ", " + j.Route.Target().User, Session: j.Route.Session, Record: "asked-keys"}
}

// Run does it.
func (j *AskKeys) Run(ctx context.Context, tell func(Step)) (err error) {
	if j.Taken, err = j.ask(ctx); err != nil {
		return err
	}
	none, left := true, 0
	for _, t := range j.Taken {
		switch {
		case t.Takes:
			none = false
			tell(Step{Verdict: gate.Open, Where: t.Name, Say: "accepted  " + t.SHA256})
		case t.Asked:
			tell(Step{Verdict: gate.Shut, Where: t.Name, Say: "not accepted"})
		default:
			left++
			tell(Step{Where: t.Name, Say: "not asked: the server limits the number of tries"})
		}
	}
	if none {
		say := fmt.Sprintf("%s accepts none of your keys for %s: ask its administrator for the key pair", j.Route.Target().Name, j.Route.Target().User)
		if left > 0 {
			say = fmt.Sprintf("%s accepts none of the keys that were asked about; the keys of the session are asked about first", j.Route.Target().Name)
		}
		tell(Step{Verdict: gate.Ajar, Where: "none", Say: say})
	}
	return nil
}

func (j *AskKeys) ask(ctx context.Context) ([]Taken, error) {
	var all []Taken
	var public []ssh.PublicKey
	add := func(name string, key ssh.PublicKey) {
		print := ssh.FingerprintSHA256(key)
		if !slices.ContainsFunc(all, func(t Taken) bool { return t.SHA256 == print }) {
			all, public = append(all, Taken{Name: name, SHA256: print}), append(public, key)
		}
	}
	keys := j.Workspace().Keys()
	own := map[string]int{}
	for _, path := range j.Route.Target().Keys {
		own[path] = 1
	}
	slices.SortStableFunc(keys, func(a, b workspace.Key) int { return own[b.Path] - own[a.Path] })
	for _, k := range keys {
		if k.Sheet.Public != nil {
			add(sanitize.Name(k.Path), k.Sheet.Public)
		}
	}
	names := map[string]string{}
	_, behind, _ := j.Keys.Ring.Front(ctx)
	for _, e := range append(j.Keys.Ring.Entries(), behind...) {
		names[e.SHA256] = e.String()
	}
	for _, s := range j.Keys.Ring.Signers(false) {
		add(names[ssh.FingerprintSHA256(s.PublicKey())]+", in the ring", s.PublicKey())
	}
	answers, err := j.Walker.WouldTake(ctx, j.Route, public)
	for _, a := range answers {
		print := ssh.FingerprintSHA256(a.Key)
		for i := range all {
			if all[i].SHA256 == print {
				all[i].Asked, all[i].Takes = true, a.Takes
			}
		}
	}
	return all, err
}
