package cargo

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"meatus/core/cargo/ends"

	"golang.org/x/sync/errgroup"
)

// Act is what is done about one name.
type Act uint8

// The acts.
const (
	Leave   Act = iota // nothing, and Why says why
	Make               // it is not there yet
	Replace            // another takes its place
	Settle             // its permissions or its time are set
	Remove             // it is put aside
)

var actNames = [...]string{"leave", "make", "replace", "settle", "remove"}

// String names the act.
func (a Act) String() string { return actNames[a] }

// Item is what the plan has for one name.
type Item struct {
	Name string
	Act  Act
	// Back says that it goes from the second tree to the first.
	Back bool
	// Source is its name where it comes from, where that is another one.
	Source string
	New    ends.Entry  // what comes; of what is removed, nothing
	Old    *ends.Entry // what stands at the target, nil for nothing
	Why    string      // of what is left, or what is worth knowing
	// Under is what a folder that is removed holds.
	Under Tally
}

// Tally is a number of names, and the bytes of the files among them.
type Tally struct {
	Names int   `json:"names"`
	Bytes int64 `json:"bytes"`
}

func (t *Tally) add(n int, bytes int64) { t.Names, t.Bytes = t.Names+n, t.Bytes+bytes }

// Place is where a tree is.
type Place struct {
	Session string `json:"session,omitempty"` // "" for this machine
	Path    string `json:"path"`
	Super   bool   `json:"super,omitempty"` // with the superuser's right
}

// String says the place as the command line takes it.
func (p Place) String() string {
	if p.Session == "" {
		return p.Path
	}
	return p.Session + ":" + p.Path
}

// Plan is what is to be done about the differences of two trees. It is a value: nothing
// changes it but the one who makes it.
type Plan struct {
	ID       string
	Made     time.Time
	From, To Place
	Rules    Rules
	Batches  []Batch // by path
	Same     int     // names that are the same on both sides
	LeftOut  int     // names that the rules leave out
}

// Sum is what a plan comes to.
type Sum struct {
	By       [len(actNames)]Tally // by act
	Newer    Tally                // of what is replaced: what is newer than what comes
	Moves    int64                // the bytes that are moved
	Need     [2]int64             // the bytes that have to have room at the second tree, and at the first
	Problems int                  // of what is left: what somebody may have wanted to move
}

// Sum adds a plan up.
func (p *Plan) Sum() Sum {
	var s Sum
	for item := range p.Items() {
		n, size := 1, item.New.Size
		switch {
		case item.Act == Remove && item.Old.Kind == ends.Folder:
			n, size = item.Under.Names+1, item.Under.Bytes
		case item.Act == Remove:
			size = item.Old.Size
		}
		s.By[item.Act].add(n, size)
		switch item.Act {
		case Leave:
			if item.Why == linksLeft { // as was wished
				continue
			}
			s.Problems++
		case Make, Replace:
			s.Moves += item.New.Size
			side := 0
			if item.Back {
				side = 1
			}
			s.Need[side] += item.New.Size
			if item.Old != nil && item.Old.Kind == ends.File && item.Old.Time > item.New.Time {
				s.Newer.add(1, item.Old.Size)
			}
		}
	}
	return s
}

// linksLeft is the reason to skip a link under the rule that leaves links.
const linksLeft = "a link, and links are left"

// Items goes through all items, with their paths.
func (p *Plan) Items() func(yield func(*Item) bool) {
	return func(yield func(*Item) bool) {
		for _, items := range p.Folders() {
			for i := range items {
				if !yield(&items[i]) {
					return
				}
			}
		}
	}
}

// Acts tells whether there is anything to do.
func (p *Plan) Acts() bool {
	for item := range p.Items() {
		if item.Act != Leave {
			return true
		}
	}
	return false
}

// NewID is a name for a plan.
func NewID() string { return strings.ToLower(rand.Text()[:12]) }

// Planner makes a plan of what a comparison tells.
type Planner struct {
	plan     *Plan
	from, to ends.End
	doubts   []doubt         // files whose content decides
	kept     map[string]bool // folders that cannot be removed as a whole
}

// doubt is a file whose content decides what is done about it.
type doubt struct {
	folder string
	pair   Pair
}

// NewPlanner returns a planner of a plan between two trees.
func NewPlanner(from, to ends.End, rules Rules) *Planner {
	return &Planner{from: from, to: to, kept: map[string]bool{}, plan: &Plan{
		ID: NewID(), Made: time.Now().UTC().Truncate(time.Second), Rules: rules, From: placeOf(from), To: placeOf(to),
	}}
}

func placeOf(e ends.End) Place {
	p := Place{Path: e.Root()}
	if t, ok := e.(*ends.There); ok {
		p.Session, p.Super = t.Session, t.Super
	}
	return p
}

// NewPlan compares two trees and makes the plan. each is told of every folder, and may be nil.
func NewPlan(ctx context.Context, from, to ends.End, rules Rules, each func(Listed)) (*Plan, error) {
	p := NewPlanner(from, to, rules)
	err := Compare(ctx, from, to, rules, func(l Listed) {
		p.Add(l)
		if each != nil {
			each(l)
		}
	})
	if err != nil {
		return nil, err
	}
	return p.Finish(ctx)
}

// Add takes what a comparison told of a folder.
func (p *Planner) Add(l Listed) {
	p.plan.LeftOut += l.Left
	if l.Left > 0 {
		p.keep(l.Path)
	}
	path := l.Path
	var items []Item
	if l.Err != nil {
		p.keep(l.Path)
		var base string
		path, base = ends.Split(l.Path)
		items = []Item{{Name: base, Why: "cannot be read: " + cause(l.Err)}}
	}
	folded := map[string]string{}
	for _, pair := range l.Pairs {
		item, undecided := decide(pair, p.plan.Rules, p.byContent(pair))
		if undecided {
			p.doubts = append(p.doubts, doubt{l.Path, pair})
			continue
		}
		items = p.take(items, path, pair, item)
		if item.Act == Make {
			low := strings.ToLower(pair.Name)
			if other, there := folded[low]; there {
				items[len(items)-1].Why = "it differs from " + Say(other) + " in capitals alone: some machines have room for one of them"
			}
			folded[low] = pair.Name
		}
	}
	p.add(path, items)
}

// take takes one item of a folder to its others.
func (p *Planner) take(items []Item, folder string, pair Pair, item Item) []Item {
	if item.Act == Leave && item.Why == "" {
		p.plan.Same++
		return items
	}
	if item.Act == Leave && pair.To.Kind != ends.None {
		p.keep(folder)
	}
	return append(items, item)
}

// keep notes that a folder cannot be removed as a whole, nor those above it.
func (p *Planner) keep(folder string) {
	for !p.kept[folder] {
		p.kept[folder] = true
		folder, _ = ends.Split(folder)
	}
}

func (p *Planner) add(folder string, items []Item) {
	if len(items) > 0 {
		p.plan.Batches = append(p.plan.Batches, NewBatch(folder, items))
	}
}

// byContent tells whether a pair's content is to be looked at: where that is wished, and where
// the time alone differs and looking costs no line.
func (p *Planner) byContent(pair Pair) bool {
	if pair.From.Kind != ends.File || pair.To.Kind != ends.File || pair.From.Size != pair.To.Size {
		return false
	}
	return p.plan.Rules.Content || pair.Diff == Touched && p.from.Can(ends.Digests) && p.to.Can(ends.Digests)
}

// decide says what the rules have for a pair. Where byContent is set and the content decides,
// undecided is true.
func decide(pair Pair, rules Rules, byContent bool) (item Item, undecided bool) {
	item = Item{Name: pair.Name, New: pair.From}
	if pair.To.Kind != ends.None {
		old := pair.To
		item.Old = &old
	}
	switch pair.Diff {
	case Refused:
		item.Why = pair.Why
	case Same:
		return item, byContent
	case OnlyFrom:
		item.Act = Make
	case OnlyTo:
		if item.New = (ends.Entry{}); rules.Delete {
			item.Act = Remove
		}
	case Mode:
		if item.Act = Settle; byContent {
			return item, true
		}
	case Touched:
		if byContent {
			return item, true
		}
		return over(item, rules, pair.From.Time > pair.To.Time, "what is there is newer"), false
	case FromNewer:
		return over(item, rules, true, ""), false
	case ToNewer:
		return over(item, rules, false, "what is there is newer"), false
	case Differs:
		return over(item, rules, pair.From.Kind == ends.Link || pair.From.Time >= pair.To.Time, "what is there is newer"), false
	case OtherKind:
		if pair.fixed() {
			item.Why = fmt.Sprintf("what is there is a %v, and this a %v: move the one that is not wanted away first", pair.To.Kind, pair.From.Kind)
			return item, false
		}
		return over(item, rules, false, fmt.Sprintf("what is there is a %v, and this a %v", pair.To.Kind, pair.From.Kind)), false
	}
	return item, false
}

// fixed tells whether neither can take the place of the other: one is a folder, and the other not.
func (p Pair) fixed() bool {
	return p.Diff == OtherKind && (p.From.Kind == ends.Folder || p.To.Kind == ends.Folder)
}

// over is an item with what is there replaced, where the rules let that be.
func over(item Item, rules Rules, older bool, why string) Item {
	switch {
	case rules.Over == OverAll || older && cmp.Or(rules.Over, OverOlder) == OverOlder:
		item.Act = Replace
	case rules.Over == OverNone:
		item.Why = "it differs, and nothing that is there is to be replaced"
	default:
		item.Why = why
	}
	return item
}

// Finish looks at the contents that decide, and returns the plan.
func (p *Planner) Finish(ctx context.Context) (*Plan, error) {
	if err := p.settleDoubts(ctx); err != nil {
		return nil, err
	}
	byPath := func(a, b Batch) int { return strings.Compare(a.Path, b.Path) }
	slices.SortStableFunc(p.plan.Batches, byPath)
	p.plan.Batches = merged(p.plan.Batches)
	p.fold()
	return p.plan, ctx.Err()
}

// merged are batches, those of one folder as one.
func merged(all []Batch) []Batch {
	var out []Batch
	for _, b := range all {
		if n := len(out); n > 0 && out[n-1].Path == b.Path {
			items := append(out[n-1].Items(), b.Items()...)
			slices.SortStableFunc(items, func(a, b Item) int { return strings.Compare(a.Name, b.Name) })
			out[n-1] = NewBatch(b.Path, items)
			continue
		}
		out = append(out, b)
	}
	return out
}

// NewFilePlan makes the plan to move one file or link, under another name.
func NewFilePlan(ctx context.Context, from, to ends.End, source, target string, rules Rules) (*Plan, error) {
	pair, err := filePair(ctx, from, to, source, target, rules)
	if err != nil {
		return nil, err
	}
	p := NewPlanner(from, to, rules)
	p.add("", p.take(nil, "", pair, fileItem(pair, source, rules)))
	return p.plan, nil
}

// NewFilesPlan plans the transfer of several files or links from one folder into another, under the same names.
func NewFilesPlan(ctx context.Context, from, to ends.End, names []string, rules Rules) (*Plan, error) {
	names = slices.Compact(slices.Sorted(slices.Values(names)))
	pairs := make([]Pair, len(names))
	g, within := errgroup.WithContext(ctx)
	g.SetLimit(filesAtOnce)
	for i, name := range names {
		g.Go(func() (err error) {
			pairs[i], err = filePair(within, from, to, name, name, rules)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	p := NewPlanner(from, to, rules)
	var items []Item
	for i, pair := range pairs {
		items = p.take(items, "", pair, fileItem(pair, names[i], rules))
	}
	p.add("", items)
	return p.plan, nil
}

// fileItem plans the transfer of one file.
func fileItem(pair Pair, source string, rules Rules) Item {
	item, _ := decide(pair, rules, false)
	if source != pair.Name {
		item.Source = source
	}
	return item
}

// filePair reads one file's state on both sides.
func filePair(ctx context.Context, from, to ends.End, source, target string, rules Rules) (pair Pair, err error) {
	pair.Name = target
	if pair.From, err = from.Lstat(ctx, source); err != nil {
		return pair, fmt.Errorf("%s: %w", ends.Join(from.Root(), source), err)
	}
	if pair.From.Kind == ends.Link && rules.Links == FollowLinks {
		if pair.From, err = from.Stat(ctx, source); err != nil {
			return pair, fmt.Errorf("what %s leads to: %w", ends.Join(from.Root(), source), err)
		}
	}
	if pair.To, err = to.Lstat(ctx, target); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return pair, fmt.Errorf("%s: %w", ends.Join(to.Root(), target), err)
	}
	if pair.Diff = differ(pair.From, pair.To, rules); pair.Diff == Touched || pair.Diff == Same && rules.Content {
		pair.Diff = Touched // one file is moved anew rather than two compared
		if pair.From.Time == pair.To.Time {
			pair.Diff = FromNewer
		}
	}
	pair.refuse()
	return pair, nil
}

// settleDoubts compares contents.
func (p *Planner) settleDoubts(ctx context.Context) error {
	if len(p.doubts) == 0 {
		return nil
	}
	names := make([]string, len(p.doubts))
	for i, d := range p.doubts {
		names[i] = ends.Join(d.folder, d.pair.Name)
	}
	differ, err := Unlike(ctx, p.from, p.to, names)
	if err != nil {
		return err
	}
	for i, d := range p.doubts {
		p.add(d.folder, p.take(nil, d.folder, d.pair, p.settled(d.pair, differ[names[i]])))
	}
	p.doubts = nil
	return nil
}

// settled is what is done about a pair whose contents were compared.
func (p *Planner) settled(pair Pair, content Likeness) Item {
	old := pair.To
	item := Item{Name: pair.Name, New: pair.From, Old: &old}
	switch {
	case content.Err != nil:
		item.Why = "its content cannot be compared: " + cause(content.Err)
	case content.Differs:
		item = over(item, p.plan.Rules, pair.From.Time >= pair.To.Time, "what is there is newer")
	case pair.Diff != Same:
		item.Act = Settle
	}
	return item
}

// fold makes one removal of each folder that goes as a whole.
func (p *Planner) fold() {
	if !p.plan.Rules.Delete {
		return
	}
	whole := map[string]*Tally{} // what folders hold that are removed whole, by path
	tops := map[int][]Item{}     // the items of batches with such folders
	var all []Batch
	for _, b := range p.plan.Batches {
		top := within(whole, b.Path)
		removes := false
		items := b.Items()
		for i := range items {
			item := &items[i]
			if top != nil {
				top.add(1, item.Old.Size)
				continue
			}
			if item.Act != Remove || item.Old.Kind != ends.Folder {
				continue
			}
			removes = true
			if p.kept[ends.Join(b.Path, item.Name)] {
				item.Act, item.Why = Leave, "something in it is left, so the folder is, too"
				continue
			}
			whole[ends.Join(b.Path, item.Name)] = &item.Under
		}
		switch {
		case top != nil:
			continue
		case removes:
			tops[len(all)] = items
		}
		all = append(all, b)
	}
	for i, items := range tops {
		all[i] = NewBatch(all[i].Path, items)
	}
	p.plan.Batches = all
}

// within is what the folder among some holds that a path is or lies in.
func within(whole map[string]*Tally, name string) *Tally {
	if len(whole) == 0 {
		return nil
	}
	for name != "" {
		if held := whole[name]; held != nil {
			return held
		}
		name, _ = ends.Split(name)
	}
	return nil
}
