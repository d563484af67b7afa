package workspace

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"meatus/core/book"
	"meatus/core/estate"
	"meatus/core/keyfile"
	"meatus/core/reach"
	"meatus/core/route"
	"meatus/core/sanitize"
	"meatus/core/vouch"
)

// recall makes Estates what is kept of the estates of a book, where it is not in memory already.
func (w *Workspace) recall(b *book.Book) {
	before := w.Estates
	w.Estates = nil
	for _, e := range b.Estates {
		i := slices.IndexFunc(before, func(k estate.Kept) bool { return k.Source == e.Name })
		if i >= 0 {
			w.Estates = append(w.Estates, before[i])
			continue
		}
		k, err := estate.Recall(w.Dir, e.Name)
		if err != nil { // it is read anew; what was known is in the way of nothing
			k = estate.Kept{Source: e.Name, Failed: err.Error()}
		}
		w.Estates = append(w.Estates, k)
	}
	w.judges = &judges{of: map[string]*reach.Judge{}, all: w.Estates}
}

// bound is a book with its sessions bound to the instances that are known.
func (w *Workspace) bound(b *book.Book) *book.Book {
	return estate.Bind(b, w.Estates, w.KeyOf)
}

// pairs remembers which files are those of which key pairs, while no key file comes or goes.
type pairs struct {
	mu    sync.Mutex
	stamp string
	files map[estate.KeyPair]string
}

// KeyOf is the file here of a key pair, as the sessions file would write it, "" for none: the one whose
// key has its fingerprint, or where none is known the one of its name.
func (w *Workspace) KeyOf(p estate.KeyPair) string {
	w.pairs.mu.Lock()
	defer w.pairs.mu.Unlock()
	if stamp := w.KeysStamp(); w.pairs.files == nil || w.pairs.stamp != stamp {
		w.pairs.stamp, w.pairs.files = stamp, map[estate.KeyPair]string{}
	}
	file, known := w.pairs.files[p]
	if !known {
		file = w.fileOf(p)
		w.pairs.files[p] = file
	}
	return file
}

func (w *Workspace) fileOf(p estate.KeyPair) string {
	var keys []Key
	for _, name := range w.KeyNames() {
		path := filepath.Join(w.Dir, "keys", name)
		if sheet, err := keyfile.Look(path); err == nil {
			keys = append(keys, Key{Path: path, Sheet: sheet})
		}
	}
	if p.Fingerprint != "" {
		if fits := WhichKey(keys, p.Fingerprint); len(fits) > 0 {
			return w.Written(fits[0].Key.Path)
		}
		return ""
	}
	for _, k := range keys {
		if filepath.Base(k.Path) == p.Name || PairName(k.Path) == p.Name {
			return w.Written(k.Path)
		}
	}
	return ""
}

// PairName is what a key pair of a key file is called: as the file, without its ending.
func PairName(path string) string {
	name := filepath.Base(path)
	return strings.TrimSuffix(name, filepath.Ext(name))
}

// Knowing is the workspace with something else known of one of its estates.
func (w *Workspace) Knowing(k estate.Kept) *Workspace {
	again := w.Aged(k)
	again.judges = &judges{of: map[string]*reach.Judge{}, all: again.Estates}
	for source, j := range w.judges.made() { // those of other estates are the same
		if source != k.Source {
			again.judges.of[source] = j
		}
	}
	again.Book = again.bound(w.Book.Unbound())
	return again
}

// With is the workspace with another book, bound to what is known of instances, as [book.Add] returns it.
func (w *Workspace) With(b *book.Book) *Workspace {
	again := *w
	again.recall(b)
	again.Book = again.bound(b.Unbound())
	return &again
}

// Aged is the workspace with one of its estates read again, which gave nothing else.
func (w *Workspace) Aged(k estate.Kept) *Workspace {
	again := *w
	again.Estates = slices.Clone(w.Estates)
	for i := range again.Estates {
		if again.Estates[i].Source == k.Source {
			again.Estates[i] = k
		}
	}
	return &again
}

// visitOf is where what is vouched for a bound session's instance stands.
func visitOf(b *book.Binding, port int) vouch.At {
	return vouch.At{Host: b.ID, Port: port, Way: "of " + b.Source}
}

// Expects tells whether the identity of an instance is vouched for, or expected already.
func (w *Workspace) Expects(b *book.Binding, port int) bool {
	at := visitOf(b, port)
	known, err := w.Vouched.Of(at)
	expected, _ := w.Vouched.ExpectedOf(at.Host, at.Port)
	return err != nil || len(known) > 0 || len(expected) > 0
}

// ExpectConsole keeps the fingerprints that an instance's first-boot scripts printed on its console as those
// that are expected at its first visit. It returns how many there are.
func (w *Workspace) ExpectConsole(b *book.Binding, port int, console string, now time.Time) (int, error) {
	at := visitOf(b, port)
	var list []vouch.Expected
	for _, print := range estate.ConsolePrints(console) {
		list = append(list, vouch.Expected{Host: at.Host, Port: at.Port, Print: print.Print, Kind: print.Kind, Source: "the console of " + b.Name})
	}
	if len(list) == 0 {
		return 0, nil
	}
	_, err := w.Vouched.Expect(list, now)
	return len(list), err
}

// SessionOf is the session that is bound to an instance, nil for none; one that the file says counts before
// one that a fleet makes.
func (w *Workspace) SessionOf(source, id string) *book.Session {
	var found *book.Session
	for _, s := range w.Book.Sessions {
		if s.Bound != nil && s.Bound.Source == source && s.Bound.ID == id && (found == nil || s.Fleet == nil) {
			found = s
		}
	}
	return found
}

// DraftOf is a session for an instance: bound to it, by the way that most sessions into its network go.
func (w *Workspace) DraftOf(source string, i *estate.Instance) book.Draft {
	name := estate.SessionName(i.Name)
	if name == "" || !book.ValidName(name) {
		name = "instance"
	}
	d := book.Draft{Name: name, Instance: i.ID}
	taken := func() bool { s := w.Book.Session(d.Name); return s != nil && s.Fleet == nil }
	for n := 2; taken(); n++ {
		d.Name = fmt.Sprintf("%s-%d", name, n)
	}
	if through := estate.Through(w.Estates, w.Book, source, i.ID); through != "" {
		d.Via = []string{through}
	}
	return d
}

// Source is the source of a name.
func (w *Workspace) Source(name string) (book.EstateSource, bool) {
	for _, e := range w.Book.Estates {
		if e.Name == name {
			return e, true
		}
	}
	return book.EstateSource{}, false
}

// Follow is a route with its hops that are bound to instances at the addresses that those have now. Where the
// workspace does not know better they stay.
func (w *Workspace) Follow(r route.Route) route.Route {
	if !slices.ContainsFunc(r.Hops, func(h route.Hop) bool { return h.Instance != nil }) {
		return r
	}
	now, err := w.Planner().Plan(r.Session)
	if err != nil || len(now.Hops) != len(r.Hops) {
		return r
	}
	r.Hops = slices.Clone(r.Hops)
	for i := range r.Hops {
		h, is := &r.Hops[i], &now.Hops[i]
		if h.Instance != nil && is.Instance != nil && h.Instance.Source == is.Instance.Source && h.Instance.ID == is.Instance.ID {
			h.Host, h.Instance = is.Host, is.Instance
		}
	}
	return r
}

// MeansOf tells what one could log in to the instances of a source with. visits is when each session was last
// logged in to.
func (w *Workspace) MeansOf(kept *estate.Kept, visits map[string]time.Time) func(*estate.Instance) reach.Means {
	means := map[*estate.Instance]reach.Means{}
	spots := map[string]estate.Spot{}
	for _, a := range estate.Areas([]estate.Kept{*kept}, w.Book, estate.Query{}) {
		for _, s := range a.Spots {
			spots[s.Instance.ID] = s
		}
	}
	return func(i *estate.Instance) reach.Means {
		if m, ok := means[i]; ok {
			return m
		}
		var m reach.Means
		for _, session := range spots[i.ID].Sessions {
			if m.Session == "" || visits[session].After(m.Used) {
				m.Session, m.Used = session, visits[session]
			}
		}
		if image, ok := kept.Snapshot.ImageOf(i); ok {
			m.Login = image.UsualLogin()
		}
		if i.KeyPair != "" {
			m.Key = w.KeyOf(kept.Snapshot.KeyPairOf(i))
		}
		means[i] = m
		return m
	}
}

// ErrSeveral is the error where one estate has to be chosen.
var ErrSeveral = errors.New("there are several estates")

// TheSource is the estate of a name, or the only one where that is "". It fails with [ErrSeveral] where one has to be chosen.
func (w *Workspace) TheSource(name string) (book.EstateSource, error) {
	return theOne(w.Book.Estates, name, w.SessionsPath(), func(book.EstateSource) bool { return true }, errors.New("no estate is named there"))
}

// ActingSource is the estate that instances are launched and changed at: the one of a name, or the only one that can. Kept
// is what is known of it. It fails with [ErrSeveral] where one has to be chosen.
func (w *Workspace) ActingSource(name string) (e book.EstateSource, kept *estate.Kept, err error) {
	e, err = theOne(w.Book.Estates, name, w.SessionsPath(), func(e book.EstateSource) bool {
		return e.Broken == nil && (&estate.Source{EstateSource: e}).Acts()
	}, estate.ErrNoActs)
	if err != nil {
		return e, nil, err
	}
	for k := range w.Estates {
		if w.Estates[k].Source == e.Name {
			return e, &w.Estates[k], nil
		}
	}
	return e, &estate.Kept{Source: e.Name}, nil
}

// theOne is the estate of a name that fits, or the only one that does.
func theOne(all []book.EstateSource, name, path string, fits func(book.EstateSource) bool, none error) (book.EstateSource, error) {
	var found []book.EstateSource
	for _, e := range all {
		if (name == "" || e.Name == name) && fits(e) {
			found = append(found, e)
		}
	}
	switch {
	case len(found) == 1:
		return found[0], nil
	case len(found) > 1:
		return book.EstateSource{}, fmt.Errorf("%w; choose one, as %s", ErrSeveral, found[0].Name)
	case name != "" && !slices.ContainsFunc(all, func(e book.EstateSource) bool { return e.Name == name }):
		return book.EstateSource{}, fmt.Errorf("there is no [estate.%s] in %s", sanitize.Line(name, 40), path)
	}
	return book.EstateSource{}, fmt.Errorf("%s: %w", path, none)
}
