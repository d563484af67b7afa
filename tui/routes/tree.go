package routes

import (
	"cmp"
	"slices"

	"meatus/core/book"
)

// branch is a hop that sessions hang from, by the one way to it: here, at the root, or a
// bastion.
type branch struct {
	parent  *branch
	name    string // of the hop's session
	session int    // the session that is this hop itself, -1 where none is reached that way
	kids    []kid
	all     []int // every session behind it
	folded  bool
	placed  bool
	line    int // of the board, where it stands
	last    int // line of its last kid that is shown, -1 where none is
}

// kid is what hangs from a branch: a session, or another branch with its own.
type kid struct {
	session int // -1 for a branch without a session of its own
	branch  *branch
}

// grow makes the tree of the ways of all sessions. Of several ways to a session it is the
// one that is named first; what is folded stays folded, by the way to it.
func grow(b *book.Book, folded map[string]bool) *branch {
	g := grower{book: b, folded: folded, root: &branch{session: -1}, behind: map[*book.Access]*branch{}, under: map[*branch]map[string]*branch{}, walking: map[*book.Session]bool{}}
	parents := make([]*branch, len(b.Sessions))
	for i, s := range b.Sessions { // every hop that something hangs from is there before it is placed
		parents[i] = g.parent(s)
	}
	for i, s := range b.Sessions {
		parent := parents[i]
		if self := g.under[parent][s.Name]; self != nil {
			self.session = i
			self.place()
		} else {
			parent.place()
			parent.kids = append(parent.kids, kid{i, nil})
		}
		for up := parent; up != nil; up = up.parent {
			up.all = append(up.all, i)
		}
	}
	g.root.sort(b)
	return g.root
}

// grower is the making of a tree.
type grower struct {
	book    *book.Book
	folded  map[string]bool
	root    *branch
	behind  map[*book.Access]*branch       // that sessions hang from which inherit the same
	under   map[*branch]map[string]*branch // the branches that hang from one, by name
	walking map[*book.Session]bool
}

// parent is the branch that a session hangs from, here for one that is broken.
func (g *grower) parent(s *book.Session) *branch {
	if s.Broken != nil || len(s.Via.V) == 0 || g.walking[s] { // a way that runs in a circle is broken anyway
		return g.root
	}
	if found := g.behind[s.Access]; found != nil {
		return found
	}
	g.walking[s] = true
	at := g.root
	for i, via := range s.Via.V {
		name := book.Either(via)[0]
		if hop := g.book.Session(name); i == 0 && hop != nil { // the first brings its own way along
			at = g.parent(hop)
		}
		at = g.hop(at, name)
	}
	delete(g.walking, s)
	g.behind[s.Access] = at
	return at
}

// hop is the branch of that name that hangs from another.
func (g *grower) hop(from *branch, name string) *branch {
	if g.under[from] == nil {
		g.under[from] = map[string]*branch{}
	}
	if g.under[from][name] == nil {
		n := &branch{parent: from, name: name, session: -1}
		n.folded = g.folded[n.path()]
		g.under[from][name] = n
	}
	return g.under[from][name]
}

// place puts a branch among the kids of the one before it, once.
func (n *branch) place() {
	if n.placed || n.parent == nil {
		return
	}
	n.placed = true
	n.parent.place()
	n.parent.kids = append(n.parent.kids, kid{n.session, n})
}

// sort puts what belongs to one site together, the sites in the order in which they come, in
// this branch and all behind it.
func (n *branch) sort(b *book.Book) {
	site := func(k kid) string {
		if k.branch != nil {
			k.session = k.branch.session
		}
		if k.session < 0 {
			return ""
		}
		return b.Sessions[k.session].Site.V
	}
	first := map[string]int{}
	sorted, last := true, -1
	for i, k := range n.kids {
		at, seen := first[site(k)]
		if !seen {
			at = i
			first[site(k)] = i
		}
		sorted, last = sorted && at >= last, at
		if k.branch != nil {
			k.branch.sort(b)
		}
	}
	if !sorted {
		slices.SortStableFunc(n.kids, func(a, b kid) int { return cmp.Compare(first[site(a)], first[site(b)]) })
	}
}

// path names a branch among all, by the way to it.
func (n *branch) path() string {
	if n.parent == nil {
		return ""
	}
	return n.parent.path() + n.name + "\x00"
}

// layTree makes lines of the tree: here, and what hangs from it.
func (m *Model) layTree() {
	if m.root == nil {
		m.root = grow(m.ws.Book, m.folded)
	}
	m.lines = append(m.lines, boardLine{session: -1, branch: m.root})
	m.root.line = 0
	m.layBranch(m.root, 1)
}

func (m *Model) layBranch(n *branch, depth int) {
	n.last = -1
	if n.folded {
		return
	}
	site := ""
	for i, k := range n.kids {
		line := boardLine{session: k.session, depth: depth, parent: n, branch: k.branch}
		if k.branch != nil {
			line.session = k.branch.session
		}
		if line.session >= 0 {
			if s := m.siteOf(line.session); i == 0 || s != site {
				line.site, site = s, s
			}
		}
		n.last = len(m.lines)
		m.lines = append(m.lines, line)
		if k.branch != nil {
			k.branch.line = n.last
			m.layBranch(k.branch, depth+1)
		}
	}
}

// fold folds the branch of the selected session away, or the one it is a stop on, or unfolds it.
func (m *Model) fold(on bool) {
	if m.root == nil || m.lineOf == nil || len(m.lines) == 0 {
		return
	}
	l := m.lines[m.lineOf[m.cursor]]
	n := l.branch
	if on && (n == nil || n.folded) {
		n = l.parent
	}
	if n == nil || n.parent == nil || n.session < 0 || n.folded == on {
		return
	}
	if n.folded = on; on {
		m.folded[n.path()] = true
	} else {
		delete(m.folded, n.path())
	}
	m.cursor = n.session
	m.lay()
	m.settle()
}

// reveal unfolds what hides a session.
func (m *Model) reveal(i int) {
	if m.root == nil || len(m.folded) == 0 || !m.tree() || i >= len(m.lineOf) {
		return
	}
	hidden := false
	for l := m.lines[m.lineOf[i]]; l.branch != nil && l.branch.folded && l.session != i; l = m.lines[m.lineOf[i]] {
		l.branch.folded, hidden = false, true
		delete(m.folded, l.branch.path())
		m.lay()
	}
	if hidden {
		m.settle()
	}
}
