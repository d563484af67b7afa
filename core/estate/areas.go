package estate

import (
	"cmp"
	"slices"
	"strings"

	"meatus/core/book"
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
	g := grouping{hops: map[string]int{}, book: b}
	g.index(b)
	state := slices.ContainsFunc(q.terms, func(t term) bool { return t.key == "state" })
	for k := range all {
		kept := &all[k]
		at := map[string]int{}
		networks := map[string]*Network{}
		for i := range kept.Snapshot.Networks {
			networks[kept.Snapshot.Networks[i].ID] = &kept.Snapshot.Networks[i]
		}
		for i := range kept.Snapshot.Instances {
			n := &kept.Snapshot.Instances[i]
			if n.State == Ended && !state || !q.Holds(kept.Source, &kept.Snapshot, n) {
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
