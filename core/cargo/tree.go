package cargo

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"meatus/core/cargo/ends"
)

// Turn says which way a name is to go.
type Turn uint8

// The ways. There is the second tree, Here the first.
const (
	Stay Turn = iota
	GoThere
	ComeHere
	PutAside // where it stands alone
)

// Node is one name of two trees that are looked at as one.
type Node struct {
	Pair
	Parent *Node
	Kids   []*Node // by name, folders first
	Turn   Turn
	Differ int    // how many names under it differ, with itself
	Read   bool   // a folder that has been read
	Err    string // why it could not be
}

// Path is the node's path in the trees.
func (n *Node) Path() string {
	if n.Parent == nil {
		return ""
	}
	return ends.Join(n.Parent.Path(), n.Name)
}

// Folder tells whether it is a folder on a side.
func (n *Node) Folder() bool { return n.From.Kind == ends.Folder || n.To.Kind == ends.Folder }

// Alone tells whether it stands on one side alone.
func (n *Node) Alone() bool { return n.Diff == OnlyFrom || n.Diff == OnlyTo }

// differs tells whether the name itself differs.
func (n *Node) differs() bool { return n.Diff != Same }

// Totals are what has been chosen.
type Totals struct {
	There, Here, Aside Tally
	Newer              int // files that are replaced by older ones
	Problems           int // chosen names that cannot go
}

// Any tells whether anything was chosen.
func (t Totals) Any() bool { return t.There.Names+t.Here.Names+t.Aside.Names > 0 }

// Tree is two trees as one, in which each name stands once, and what is to be done with it. It
// is for one goroutine.
type Tree struct {
	Root     *Node
	From, To Place
	Rules    Rules
	Totals   Totals
	Names    int // that are known so far
	Left     int // that the rules leave out
	byPath   map[string]*Node
}

// NewTree returns the tree of two places of which nothing is known yet.
func NewTree(from, to Place, rules Rules) *Tree {
	root := &Node{}
	return &Tree{Root: root, From: from, To: to, Rules: rules, byPath: map[string]*Node{"": root}}
}

// Add takes what a comparison told of a folder.
func (t *Tree) Add(l Listed) {
	if l.Path == "" && len(l.Pairs) == 1 && l.Pairs[0].Name == "" {
		t.Root.Pair = l.Pairs[0]
		return
	}
	n := t.ensure(l.Path)
	n.Read, t.Left = true, t.Left+l.Left
	if l.Err != nil {
		n.Err = cause(l.Err)
		return
	}
	before, differ := n.Differ, 0
	for _, p := range l.Pairs {
		kid := t.byPath[ends.Join(l.Path, p.Name)]
		if kid == nil || p.Diff == Refused {
			kid = t.under(n, p.Name)
		}
		kid.Pair = p
		t.Names++
		if kid.differs() {
			kid.Differ++
		}
	}
	slices.SortFunc(n.Kids, byKind)
	for _, kid := range n.Kids {
		differ += kid.Differ
	}
	if n.differs() {
		differ++
	}
	for up := n; up != nil; up = up.Parent {
		up.Differ += differ - before
	}
	if n.Turn != Stay { // it was chosen before what is in it was known
		turn := n.Turn
		for _, kid := range n.Kids {
			t.turn(kid, turn)
		}
	}
}

func byKind(a, b *Node) int {
	if a.Folder() != b.Folder() {
		if a.Folder() {
			return -1
		}
		return 1
	}
	return strings.Compare(a.Name, b.Name)
}

// ensure is the node of a path, made where it is not known yet.
func (t *Tree) ensure(path string) *Node {
	if n := t.byPath[path]; n != nil {
		return n
	}
	folder, base := ends.Split(path)
	return t.under(t.ensure(folder), base)
}

func (t *Tree) under(parent *Node, name string) *Node {
	n := &Node{Pair: Pair{Name: name}, Parent: parent}
	parent.Kids = append(parent.Kids, n)
	t.byPath[ends.Join(parent.Path(), name)] = n
	return n
}

// At is the node of a path, nil where there is none.
func (t *Tree) At(path string) *Node { return t.byPath[path] }

// Touched are the paths of files of one size that differ in their time alone: their content
// says whether they differ.
func (t *Tree) Touched() []string {
	var all []string
	for path, n := range t.byPath {
		if n.Diff == Touched {
			all = append(all, path)
		}
	}
	slices.Sort(all)
	return all
}

// Alike are the paths of files of one size, whose content alone says whether they differ, and their
// bytes.
func (t *Tree) Alike() (all []string, bytes int64) {
	for path, n := range t.byPath {
		if n.From.Kind == ends.File && n.To.Kind == ends.File && n.From.Size == n.To.Size && n.Diff != Refused {
			all, bytes = append(all, path), bytes+n.From.Size
		}
	}
	slices.Sort(all)
	return all, bytes
}

// Settle takes what a comparison of contents has found.
func (t *Tree) Settle(found map[string]Likeness) {
	for path, l := range found {
		n := t.byPath[path]
		if n == nil || l.Err != nil {
			continue
		}
		switch {
		case n.Diff == Same && l.Differs || n.Diff == Mode && l.Differs:
			if n.Diff == Same {
				for up := n; up != nil; up = up.Parent {
					up.Differ++
				}
			}
			n.Diff = Differs
		case n.Diff != Touched:
		case l.Differs && n.From.Time > n.To.Time:
			n.Diff = FromNewer
		case l.Differs:
			n.Diff = ToNewer
		default:
			n.Diff = Mode // the content is the same
		}
	}
}

// Choose has a name, and all under it, go a way. It tells how many names of those go, and why
// none does.
func (t *Tree) Choose(n *Node, turn Turn) (chosen int, why string) {
	if turn == PutAside && !n.Alone() {
		return 0, "it stands on both sides: only what stands on one alone is put aside"
	}
	if turn == GoThere && n.Diff == OnlyTo || turn == ComeHere && n.Diff == OnlyFrom {
		return 0, "there is nothing on that side to go this way"
	}
	if n.Diff == Refused {
		return 0, n.Why
	}
	if n.fixed() && turn != Stay {
		return 0, "the one is a folder and the other not: move the one that is not wanted away first"
	}
	chosen = t.turn(n, turn)
	if chosen == 0 && turn != Stay {
		why = "nothing differs there"
	}
	return chosen, why
}

// turn turns a node and all under it, and counts those that now go a way.
func (t *Tree) turn(n *Node, turn Turn) (chosen int) {
	own := turn
	if !n.fits(turn) {
		own = Stay
	}
	if n.Turn != own {
		t.count(n, -1)
		n.Turn = own
		t.count(n, 1)
	}
	if own != Stay {
		chosen++
	}
	for _, kid := range n.Kids {
		chosen += t.turn(kid, turn)
	}
	return chosen
}

// fits tells whether a name can go a way by itself.
func (n *Node) fits(turn Turn) bool {
	switch {
	case turn == Stay:
		return true
	case n.Diff == Refused || n.Diff == Same || n.fixed():
		return false
	case turn == GoThere:
		return n.From.Kind != ends.None
	case turn == ComeHere:
		return n.To.Kind != ends.None && n.To.Kind != ends.Other && !(n.To.Kind == ends.Link && !ends.Within(n.folder(), n.To.Link))
	}
	return n.Alone()
}

func (n *Node) folder() string {
	if n.Parent == nil {
		return ""
	}
	return n.Parent.Path()
}

// count adds a node to what was chosen, or takes it out.
func (t *Tree) count(n *Node, sign int) {
	comes, stands := n.From, n.To
	into := &t.Totals.There
	switch n.Turn {
	case Stay:
		return
	case ComeHere:
		comes, stands, into = n.To, n.From, &t.Totals.Here
	case PutAside:
		size := max(n.From.Size, n.To.Size)
		t.Totals.Aside.add(sign, int64(sign)*size)
		return
	}
	size := comes.Size
	if n.Diff == Mode {
		size = 0
	}
	into.add(sign, int64(sign)*size)
	if stands.Kind == ends.File && n.Diff != Mode && stands.Time > comes.Time {
		t.Totals.Newer += sign
	}
}

// Plan is the plan of what was chosen.
func (t *Tree) Plan() *Plan {
	rules := t.Rules
	rules.Over = OverAll // each was chosen by itself
	p := &Plan{ID: NewID(), Made: time.Now().UTC().Truncate(time.Second), From: t.From, To: t.To, Rules: rules}
	t.collect(p, t.Root, "")
	slices.SortFunc(p.Batches, func(a, b Batch) int { return strings.Compare(a.Path, b.Path) })
	return p
}

// collect adds the items of a folder's names, and of the folders under it. It tells whether
// anything under it goes to a side on which the folder itself is not there.
func (t *Tree) collect(p *Plan, n *Node, path string) (makes sides) {
	var items []Item
	for _, kid := range n.Kids {
		var needed sides
		if kid.Folder() && !(kid.Turn == PutAside && kid.wholly()) {
			needed = t.collect(p, kid, ends.Join(path, kid.Name))
		}
		item, goes := kid.item(needed)
		if goes {
			items = append(items, item)
		}
		if goes && item.Act != Remove {
			makes.from, makes.to = makes.from || item.Back, makes.to || !item.Back
		}
	}
	if n.Parent == nil { // the tree's own folder may not be there yet
		if item, goes := n.item(makes); goes && item.Act == Make {
			items = append(items, item)
		}
	}
	if len(items) > 0 {
		slices.SortFunc(items, func(a, b Item) int { return cmp.Compare(a.Name, b.Name) })
		p.Batches = append(p.Batches, NewBatch(path, items))
	}
	return makes
}

// wholly tells whether everything under a folder is put aside with it.
func (n *Node) wholly() bool {
	for _, kid := range n.Kids {
		if kid.Turn != PutAside || !kid.wholly() {
			return false
		}
	}
	return n.Err == "" && (n.Read || !n.Folder())
}

// item is what the plan has for a node. needed are the sides on which something in it is made.
func (n *Node) item(needed sides) (i Item, goes bool) {
	i.Name = n.Name
	turn := n.Turn
	if turn == Stay && n.Folder() && n.Alone() { // what is in it goes without it being chosen
		switch {
		case needed.to && n.Diff == OnlyFrom:
			turn = GoThere
		case needed.from && n.Diff == OnlyTo:
			turn = ComeHere
		}
	}
	var stands ends.Entry
	switch turn {
	case Stay:
		return i, false
	case GoThere:
		i.New, stands = n.From, n.To
	case ComeHere:
		i.New, stands, i.Back = n.To, n.From, true
	case PutAside:
		if i.Act, i.Back, stands = Remove, n.Diff == OnlyFrom, n.To; i.Back {
			stands = n.From
		}
		if stands.Kind == ends.Folder {
			if !n.wholly() {
				return i, false
			}
			i.Under = n.under()
		}
		i.Old = &stands
		return i, true
	}
	switch {
	case stands.Kind == ends.None:
		i.Act = Make
	case n.Diff == Mode:
		i.Act = Settle
	default:
		i.Act = Replace
	}
	if stands.Kind != ends.None {
		i.Old = &stands
	}
	return i, true
}

// under is what a folder holds.
func (n *Node) under() (t Tally) {
	for _, kid := range n.Kids {
		t.add(1, max(kid.From.Size, kid.To.Size))
		u := kid.under()
		t.add(u.Names, u.Bytes)
	}
	return t
}
