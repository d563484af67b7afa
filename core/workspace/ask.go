package workspace

import (
	"context"
	"path/filepath"
	"slices"

	"golang.org/x/crypto/ssh"

	"meatus/core/route"
	"meatus/core/walk"
)

// Taken is what a server says of a key that was asked about.
type Taken struct {
	Name   string // of its file, or as the ring calls it
	SHA256 string
	Takes  bool
	Asked  bool // false where the server's patience ended before
}

// AskServer asks the machine at a route's end which of the ring's and the
// workspace's keys it would take for the route's login, the session's own first.
// Nothing is signed there.
func (w *Workspace) AskServer(ctx context.Context, walker *walk.Walker, r route.Route) ([]Taken, error) {
	var all []Taken
	var public []ssh.PublicKey
	add := func(name string, key ssh.PublicKey) {
		print := ssh.FingerprintSHA256(key)
		if !slices.ContainsFunc(all, func(t Taken) bool { return t.SHA256 == print }) {
			all, public = append(all, Taken{Name: name, SHA256: print}), append(public, key)
		}
	}
	keys := w.Keys()
	own := r.Target().Keys
	slices.SortStableFunc(keys, func(a, b Key) int { return rankOf(b.Path, own) - rankOf(a.Path, own) })
	for _, k := range keys {
		if k.Sheet.Public != nil {
			add(filepath.Base(k.Path), k.Sheet.Public)
		}
	}
	names := map[string]string{}
	_, behind, _ := walker.Ring.Front(ctx)
	for _, e := range append(walker.Ring.Entries(), behind...) {
		names[e.SHA256] = e.String()
	}
	for _, s := range walker.Ring.Signers() {
		add(names[ssh.FingerprintSHA256(s.PublicKey())]+", in the ring", s.PublicKey())
	}
	answers, err := walker.WouldTake(ctx, r, public)
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

func rankOf(path string, own []string) int {
	if slices.Contains(own, path) {
		return 1
	}
	return 0
}
