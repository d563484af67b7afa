package routes

import (
	"cmp"
	"slices"
	"strings"

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
	root := &branch{session: -1}
	at := map[string]*branch{"": root}
	before := waysBefore(b)
	for _, way := range before { // the hops that something hangs from
		parent, path := root, ""
		for _, name := range way {
			path += name + "\x00"
			if at[path] == nil {
				at[path] = &branch{parent: parent, name: name, session: -1, folded: folded[path]}
			}
			parent = at[path]
		}
	}
	for i, s := range b.Sessions {
		parent := at[pathOf(before[i])]
		self := at[pathOf(before[i])+s.Name+"\x00"]
		if self != nil {
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
	for _, n := range at {
		n.sort(b)
	}
	return root
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

// sort puts what belongs to one site together, the sites in the order in which they come.
func (n *branch) sort(b *book.Book) {
	first := map[string]int{}
	site := func(k kid) string {
		if k.branch != nil {
			k.session = k.branch.session
		}
		if k.session < 0 {
			return ""
		}
		return b.Sessions[k.session].Site.V
	}
	for i, k := range n.kids {
		if _, seen := first[site(k)]; !seen {
			first[site(k)] = i
		}
	}
	slices.SortStableFunc(n.kids, func(a, b kid) int { return cmp.Compare(first[site(a)], first[site(b)]) })
}

// path names a branch among all, by the way to it.
func (n *branch) path() string {
	if n.parent == nil {
		return ""
	}
	return n.parent.path() + n.name + "\x00"
}

func pathOf(way []string) string {
	if len(way) == 0 {
		return ""
	}
	return strings.Join(way, "\x00") + "\x00"
}

// waysBefore are the hops before each session, by name; none for one that is broken. Sessions
// that inherit the same way share it.
func waysBefore(b *book.Book) [][]string {
	known := map[*book.Session][]string{}
	shared := map[string][]string{}
	var way func(s *book.Session) []string
	way = func(s *book.Session) []string {
		if s.Broken != nil || len(s.Via.V) == 0 {
			return nil
		}
		if found, ok := known[s]; ok {
			return found
		}
		known[s] = nil // a way that runs in a circle is broken anyway
		key := strings.Join(s.Via.V, "\x00")
		found, ok := shared[key]
		if !ok {
			first := b.Session(book.Either(s.Via.V[0])[0])
			if first != nil {
				found = slices.Clone(way(first))
			}
			for _, via := range s.Via.V {
				found = append(found, book.Either(via)[0])
			}
			shared[key] = found
		}
		known[s] = found
		return found
	}
	all := make([][]string, len(b.Sessions))
	for i, s := range b.Sessions {
		all[i] = way(s)
	}
	return all
}

// layTree makes lines of the tree: here, and what hangs from it.
func (m *Model) layTree() {
	m.root = grow(m.ws.Book, m.folded)
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
	if delete(m.folded, n.path()); on {
		m.folded[n.path()] = true
	}
	m.cursor = n.session
	m.lay()
	m.settle()
}

// reveal unfolds what hides a session.
func (m *Model) reveal(i int) {
	if m.root == nil || len(m.folded) == 0 {
		return
	}
	way := waysBefore(m.ws.Book)[i]
	hidden := false
	for n := range way {
		if path := pathOf(way[:n+1]); m.folded[path] {
			delete(m.folded, path)
			hidden = true
		}
	}
	if hidden {
		m.lay()
	}
}
