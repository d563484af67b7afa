package estate

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"meatus/core/book"
	"meatus/core/sanitize"
	"meatus/core/words"
)

// logins are the usual logins of families of images, where an image does not name its own.
var logins = map[string]string{
	"debian": "debian", "ubuntu": "ubuntu", "fedora": "fedora", "centos": "centos", "rocky": "rocky", "almalinux": "almalinux",
	"alpine": "alpine", "arch": "arch", "opensuse": "opensuse", "freebsd": "freebsd", "cirros": "cirros", "coreos": "core",
}

// UsualLogin is the login that an image has, by its own word or its family; "" where neither says.
func (m Image) UsualLogin() string {
	if m.Login != "" {
		return m.Login
	}
	return logins[strings.ToLower(m.Family)]
}

// Match is an instance with where it is from.
type Match struct {
	Kept     *Kept
	Instance *Instance
}

// Index finds instances in what is known of all sources. It costs one pass over them, and then a
// look at a table for a name or an id.
type Index struct {
	all    []Kept
	named  map[string][]Match // by name, and by id
	images []map[string]*Image
	pairs  []map[string]*KeyPair
	since  []map[string]time.Time
}

// NewIndex makes the index of what is known.
func NewIndex(all []Kept) *Index {
	n := 0
	for k := range all {
		n += len(all[k].Snapshot.Instances)
	}
	x := &Index{all: all, named: make(map[string][]Match, 2*n)}
	for k := range all {
		kept := &all[k]
		images, pairs, since := map[string]*Image{}, map[string]*KeyPair{}, map[string]time.Time{}
		for i := range kept.Snapshot.Instances {
			n := &kept.Snapshot.Instances[i]
			x.named[n.ID] = append(x.named[n.ID], Match{kept, n})
			if n.Name != "" && n.Name != n.ID {
				x.named[n.Name] = append(x.named[n.Name], Match{kept, n})
			}
		}
		for i := range kept.Snapshot.Images {
			images[kept.Snapshot.Images[i].ID] = &kept.Snapshot.Images[i]
		}
		for i := range kept.Snapshot.KeyPairs {
			pairs[kept.Snapshot.KeyPairs[i].Name] = &kept.Snapshot.KeyPairs[i]
		}
		for _, c := range kept.Changes {
			if c.begins() {
				since[c.ID] = c.Seen
			}
		}
		x.images, x.pairs, x.since = append(x.images, images), append(x.pairs, pairs), append(x.since, since)
	}
	return x
}

// Find are the instances that a query chooses, source by source.
func (x *Index) Find(q Query) []Match {
	if name := q.Plain(); name != "" {
		return slices.Clone(x.named[name])
	}
	var found []Match
	for k := range x.all {
		for _, i := range q.Find(x.all[k].Source, &x.all[k].Snapshot) {
			found = append(found, Match{&x.all[k], i})
		}
	}
	return found
}

// One is the one instance that a query fits, or why there is no such. Those that have ended count where
// no other fits.
func (x *Index) One(text string) (Match, string) {
	q, err := ParseQuery(text)
	if err != nil {
		return Match{}, "instance: " + err.Error()
	}
	found := x.Find(q)
	if alive := slices.DeleteFunc(slices.Clone(found), func(m Match) bool { return m.Instance.State == Ended }); len(alive) > 0 {
		found = alive
	}
	said := sanitize.Line(text, 60)
	switch len(found) {
	case 1:
		return found[0], ""
	case 0:
		if len(x.all) == 0 {
			return Match{}, fmt.Sprintf("which instance %s is cannot be said: the file names no estate; docs/estate.md says how", said)
		}
		for _, k := range x.all {
			if k.Read.IsZero() {
				why := "it was never read"
				if k.Failed != "" {
					why += ": " + k.Failed
				}
				return Match{}, fmt.Sprintf("no instance fits %s yet; of estate %s nothing is known, %s", said, k.Source, why)
			}
		}
		return Match{}, fmt.Sprintf("no instance fits %s; it may have been ended, or be called otherwise", said)
	}
	var which []string
	for _, m := range found[:min(len(found), 3)] {
		which = append(which, fmt.Sprintf("%s (%s, %s)", m.Instance.ID, m.Instance.called(), m.Instance.State))
	}
	return Match{}, fmt.Sprintf("%s fit %s: %s; name the one by its id", words.Count(len(found), "instance"), said, strings.Join(which, ", "))
}

// address is the address of an instance that is meant: "inside", "outside", or a network's id or name. Of
// several it is the first of IPv4. Where nothing is said, it is that inside for what is reached through
// another machine, and else that outside, where there is one.
func (s *Snapshot) address(i *Instance, which string, through bool) (a Address, why string) {
	fits := func(a Address) bool { return a.Network == which || s.NetworkName(a.Network) == which }
	switch which {
	case "inside":
		fits = func(a Address) bool { return !a.Outside }
	case "outside":
		fits = func(a Address) bool { return a.Outside }
	case "":
		first := "outside"
		if through {
			first = "inside"
		}
		if a, why = s.address(i, first, through); why != "" && len(i.Addresses) > 0 {
			return i.Addresses[0], ""
		}
		return a, why
	}
	found := false
	for _, b := range i.Addresses {
		if fits(b) && (!found || b.IP.Is4() && !a.IP.Is4()) {
			a, found = b, true
		}
	}
	switch {
	case found:
		return a, ""
	case len(i.Addresses) == 0:
		return a, fmt.Sprintf("%s has no address: it is %s", i.called(), i.State)
	case which == "inside" || which == "outside":
		return a, fmt.Sprintf("%s has no address %s", i.called(), which)
	}
	return a, fmt.Sprintf("%s has no address in a network %s", i.called(), sanitize.Line(which, 40))
}

// Binder binds sessions to the instances of an index. Key finds the file here of a key pair, "" for none.
type Binder struct {
	*Index
	Key func(p KeyPair) string
}

// binding is what an instance gives to a session that wants one of its addresses.
func (x Binder) binding(m Match, which string, through bool) (*book.Binding, string) {
	k := slices.IndexFunc(x.all, func(k Kept) bool { return k.Source == m.Kept.Source })
	i, source := m.Instance, m.Kept.Source
	b := &book.Binding{
		Source: source, ID: i.ID, Name: i.called(), State: string(i.State), Checks: string(i.Checks), Wrong: i.Wrong,
		Since: x.since[k][i.ID], Read: m.Kept.Read, Stale: m.Kept.Failed,
	}
	if b.Since.IsZero() && i.State == Running {
		b.Since = i.Launched
	}
	a, why := m.Kept.Snapshot.address(i, which, through)
	if why != "" {
		return b, why
	}
	where := m.Kept.Snapshot.NetworkName(a.Network)
	if a.Outside {
		where = "outside"
	}
	b.Host, b.HostFrom = a.IP.String(), source
	if where != "" {
		b.HostFrom += ", " + where
	}
	if image := x.images[k][i.Image]; image != nil {
		b.User, b.UserFrom = image.UsualLogin(), source+", image "+image.Name
		if !plainLogin(b.User) {
			b.User = ""
		}
	}
	if pair := x.pairs[k][i.KeyPair]; i.KeyPair != "" && x.Key != nil {
		p := KeyPair{Name: i.KeyPair}
		if pair != nil {
			p = *pair
		}
		b.Key, b.KeyFrom = x.Key(p), source+", key pair "+i.KeyPair
	}
	return b, ""
}

// plainLogin tells whether a source's word can be a login, and no option or command.
func plainLogin(s string) bool {
	return s != "" && len(s) <= 32 && s[0] != '-' && !strings.ContainsFunc(s, func(c rune) bool {
		return !(c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_' || c == '.')
	})
}

// Bind is a book with its sessions bound to what is known of instances, and with the sessions of its
// fleets. Key finds the file here of a key pair.
func Bind(b *book.Book, all []Kept, key func(p KeyPair) string) *book.Book {
	if len(b.Fleets) == 0 && !slices.ContainsFunc(b.Sessions, func(s *book.Session) bool { return s.Instance.Set }) {
		return b
	}
	files := map[string]string{}
	x := Binder{NewIndex(all), func(p KeyPair) string {
		id := p.Name + "\x00" + p.Fingerprint
		if _, ok := files[id]; !ok {
			files[id] = key(p)
		}
		return files[id]
	}}
	return b.Bind(x)
}

// Named is the instance that a session names.
func (x Binder) Named(s *book.Session) (*book.Binding, string) {
	m, why := x.One(s.Instance.V)
	if why != "" {
		return nil, why
	}
	return x.binding(m, s.Address.V, len(s.Via.V) > 0)
}

// Members are the instances that a fleet makes sessions of, in their order. Of several of one name the
// further ones are called by their ids.
func (x Binder) Members(f *book.Fleet) ([]book.Member, error) {
	q, err := ParseQuery(f.Query.V)
	if err != nil {
		return nil, err
	}
	var all []book.Member
	taken := map[string]bool{}
	for _, m := range x.Find(q) {
		if m.Instance.State == Ended {
			continue
		}
		name := f.Named(SessionName(m.Instance.called()))
		if taken[name] {
			name = f.Named(SessionName(m.Instance.ID))
		}
		if taken[name] {
			continue
		}
		taken[name] = true
		all = append(all, book.Member{Name: name, Bind: func(s *book.Session) (*book.Binding, string) {
			return x.binding(m, s.Address.V, len(s.Via.V) > 0)
		}})
	}
	return all, nil
}

// SessionName makes an instance's name one that a session can have: what cannot be in it becomes "-".
func SessionName(name string) string {
	return strings.Trim(strings.Map(func(c rune) rune {
		if book.ValidName(string(c)) || c == '-' || c == '.' {
			return c
		}
		return '-'
	}, name), "-.")
}
