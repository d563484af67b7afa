package estate

import (
	"cmp"
	"net/netip"
	"slices"
	"strings"

	"meatus/core/book"
	"meatus/core/words"
)

// Spot is an instance where it stands, with the sessions that lead to it.
type Spot struct {
	Source   *Kept
	Instance *Instance
	Sessions []string // the first of them is the one to go by
}

// Area is a network with the instances in it, and how one gets into it from here.
type Area struct {
	Source  *Kept
	Network *Network // nil for the instances that are in no network
	Reached bool     // some session leads into it
	Through string   // the session that is the hop before, "" from here
	Parent  int      // the area that this hop stands in, -1 for none
	Depth   int      // areas on the way before it
	Last    bool     // no other area comes after it under the same parent
	Spots   []Spot
}

// Name is what an area is called.
func (a *Area) Name() string {
	switch {
	case a.Network == nil:
		return "no network"
	case a.Network.Name != "":
		return a.Network.Name
	}
	return a.Network.ID
}

// Areas are the networks that hold the instances a query chooses, each after the one that its way goes
// through: first those that are reached from here, last those that nothing leads to. An instance with
// several addresses stands where its first address inside is. Those that have ended are left out unless
// the query asks for a state.
func Areas(all []Kept, b *book.Book, q Query) []Area {
	state := slices.ContainsFunc(q.terms, func(t term) bool { return t.key == "state" })
	return AreasOf(all, b, func(k *Kept, n *Instance) bool {
		return (n.State != Ended || state) && q.Holds(k.Source, &k.Snapshot, n)
	})
}

// AreasOf are the areas of the instances that are to be kept.
func AreasOf(all []Kept, b *book.Book, keep func(*Kept, *Instance) bool) []Area {
	g := grouping{hops: map[string]int{}, book: b}
	g.index(b)
	for k := range all {
		kept := &all[k]
		at := map[string]int{}
		networks := map[string]*Network{}
		for i := range kept.Snapshot.Networks {
			networks[kept.Snapshot.Networks[i].ID] = &kept.Snapshot.Networks[i]
		}
		for i := range kept.Snapshot.Instances {
			n := &kept.Snapshot.Instances[i]
			if !keep(kept, n) {
				continue
			}
			home := n.home()
			area, ok := at[home]
			if !ok {
				area = len(g.areas)
				at[home] = area
				network := networks[home]
				if network == nil && home != "" {
					network = &Network{ID: home}
				}
				g.areas = append(g.areas, Area{Source: kept, Network: network, Parent: -1})
			}
			g.put(area, Spot{kept, n, g.sessionsOf(kept.Source, n)})
		}
	}
	return g.ordered()
}

// Through is the hop that most sessions into the network of an instance go through, "" for none, or where
// they go from here.
func Through(all []Kept, b *book.Book, source, id string) string {
	for _, a := range Areas(all, b, Query{}) {
		for _, s := range a.Spots {
			if s.Source.Source == source && s.Instance.ID == id {
				return a.Through
			}
		}
	}
	return ""
}

// Joins say what joins an area's network with others, each in words: "router harbour joins it with shore and
// outside".
func (a *Area) Joins() []string {
	if a.Network == nil {
		return nil
	}
	s := &a.Source.Snapshot
	var say []string
	others := func(all []string) []string {
		var names []string
		for _, id := range all {
			if id != a.Network.ID {
				names = append(names, s.NetworkName(id))
			}
		}
		return names
	}
	for _, r := range s.Routers {
		if !slices.Contains(r.Networks, a.Network.ID) {
			continue
		}
		to := others(r.Networks)
		if r.Outside {
			to = append(to, "outside")
		}
		if len(to) > 0 {
			say = append(say, "router "+cmp.Or(r.Name, r.ID)+" joins it with "+words.And(to))
		}
	}
	for _, p := range s.Peerings {
		if to := others(p.Networks); slices.Contains(p.Networks, a.Network.ID) && len(to) > 0 {
			say = append(say, "peered with "+words.And(to))
		}
	}
	return say
}

// Way are the hops through which a network of a source is come to from here, the first one first; not ok
// where no session leads there.
func Way(areas []Area, source, network string) (hops []string, ok bool) {
	a := areaOf(areas, source, network)
	for n := 0; a != nil && a.Through != "" && n <= len(areas); n++ {
		hops = append(hops, a.Through)
		if a.Parent < 0 {
			break
		}
		a = &areas[a.Parent]
	}
	slices.Reverse(hops)
	a = areaOf(areas, source, network)
	return hops, a != nil && a.Reached
}

// areaOf is the area of a network of a source, by its name or its id; nil for none.
func areaOf(areas []Area, source, network string) *Area {
	for i := range areas {
		if a := &areas[i]; a.Source.Source == source && a.Network != nil && (a.Network.Name == network || a.Network.ID == network) {
			return a
		}
	}
	return nil
}

// SeenFrom is the address by which a hop is seen in a network: that inside it, else its first inside. It is
// not ok where the hop is no instance that is known.
func SeenFrom(areas []Area, hop, network string) (at netip.Addr, ok bool) {
	for _, a := range areas {
		for _, s := range a.Spots {
			if !slices.Contains(s.Sessions, hop) {
				continue
			}
			for _, b := range s.Instance.Addresses {
				if !b.Outside && (!ok || b.Network == network || s.Source.Snapshot.NetworkName(b.Network) == network) {
					at, ok = b.IP, true
				}
			}
		}
	}
	return at, ok
}

// SpotOf is an instance with the sessions of a book that lead to it.
func SpotOf(b *book.Book, m Match) Spot {
	g := grouping{book: b}
	g.index(b)
	return Spot{m.Kept, m.Instance, g.sessionsOf(m.Kept.Source, m.Instance)}
}

// home is the network that an instance stands in, "" for none.
func (i *Instance) home() string {
	home := ""
	for _, a := range i.Addresses {
		if a.Network != "" && (home == "" || !a.Outside) {
			if home = a.Network; !a.Outside {
				return home
			}
		}
	}
	return home
}

// grouping is the making of areas.
type grouping struct {
	book      *book.Book
	areas     []Area
	byID      map[string][]string // sessions, by source and id
	byAddress map[string][]string // those that are bound to none, by host
	hops      map[string]int      // the area of a session's instance
}

func (g *grouping) index(b *book.Book) {
	g.byID, g.byAddress = map[string][]string{}, map[string][]string{}
	for _, s := range b.Sessions {
		if s.Bound != nil {
			id := s.Bound.Source + "\x00" + s.Bound.ID
			g.byID[id] = append(g.byID[id], s.Name)
		} else if s.Host.Set {
			g.byAddress[s.Host.V] = append(g.byAddress[s.Host.V], s.Name)
		}
	}
}

func (g *grouping) sessionsOf(source string, i *Instance) []string {
	found := slices.Clone(g.byID[source+"\x00"+i.ID])
	for _, a := range i.Addresses {
		found = append(found, g.byAddress[a.IP.String()]...)
	}
	return found
}

func (g *grouping) put(area int, s Spot) {
	g.areas[area].Spots = append(g.areas[area].Spots, s)
	for _, name := range s.Sessions {
		g.hops[name] = area
	}
}

// before is the hop before a session, "" where it is reached from here.
func (g *grouping) before(session string) string {
	s := g.book.Session(session)
	if s == nil || len(s.Via.V) == 0 {
		return ""
	}
	return book.Either(s.Via.V[len(s.Via.V)-1])[0]
}

// ways finds for each area the hop that most of its sessions go through.
func (g *grouping) ways() {
	for i := range g.areas {
		a := &g.areas[i]
		through := map[string]int{}
		for _, s := range a.Spots {
			for _, name := range s.Sessions {
				through[g.before(name)]++
			}
		}
		most := 0
		for hop, n := range through {
			if n > most || n == most && hop < a.Through {
				a.Through, most, a.Reached = hop, n, true
			}
		}
		if at, ok := g.hops[a.Through]; ok && a.Through != "" && at != i {
			a.Parent = at
		}
	}
}

// ordered are the areas, each after its parent. One that would be its own parent has none.
func (g *grouping) ordered() []Area {
	g.ways()
	for i := range g.areas {
		for up, n := g.areas[i].Parent, 0; up >= 0; up, n = g.areas[up].Parent, n+1 {
			if up == i || n > len(g.areas) {
				g.areas[i].Parent = -1
				break
			}
		}
	}
	rank := func(a *Area) int {
		switch {
		case a.Reached && a.Through == "":
			return 0
		case a.Reached:
			return 1
		}
		return 2
	}
	kids := map[int][]int{}
	for i := range g.areas {
		kids[g.areas[i].Parent] = append(kids[g.areas[i].Parent], i)
	}
	var out []Area
	var visit func(i, parent, depth int, last bool)
	visit = func(i, parent, depth int, last bool) {
		a := g.areas[i]
		a.Parent, a.Depth, a.Last = parent, depth, last
		at := len(out)
		out = append(out, a)
		for n, kid := range kids[i] {
			visit(kid, at, depth+1, n == len(kids[i])-1)
		}
	}
	for parent := range kids {
		slices.SortStableFunc(kids[parent], func(x, y int) int {
			a, b := &g.areas[x], &g.areas[y]
			return cmp.Or(cmp.Compare(rank(a), rank(b)), strings.Compare(a.Name(), b.Name()))
		})
	}
	for n, i := range kids[-1] {
		visit(i, -1, 0, n == len(kids[-1])-1)
	}
	return out
}
