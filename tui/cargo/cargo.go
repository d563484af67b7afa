// Package cargo is the place of files on the move: a folder here and one at a session's machine as one
// tree, in which each name stands once with what is here, what is there, and how they differ. One chooses
// which way each name goes, sees the plan grow, and has it carried out.
package cargo

import (
	"context"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/engine"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/line"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// Model is the place.
type Model struct {
	stack.Whole
	s             *place.Services
	width, height int
	pick          *list.List[string, string] // the sessions, while none is chosen
	look          *look                      // the trees that are looked at, nil while no session is chosen
	every         bool                       // what is the same shows, too
	entry         *entry                     // the folders being typed, nil for none
	clash         *clash                     // a save that met another's change, nil for none
	job           work.ID                    // the last carry that was begun here, 0 for none
	carry         *work.Carry                // and what tells how far it is
	asked         int                        // looks asked for; answers to older ones are dropped
	left          []*cargo.Record            // of this session's carries that did not end
	kept          map[string]cargo.Last      // the folders of the last time, by session; nil until they are read
	wants         string                     // what is to be shown then, see Select
	wanted        string                     // a path here that is to go there once its folder has been read
}

// New returns the place.
func New(s *place.Services) stack.Layer {
	return &Model{s: s, pick: list.New(func(session string) string { return session })}
}

// SetSize changes the size of the place.
func (m *Model) SetSize(width, height int) {
	m.width, m.height = width, height
	m.pick.SetRoom(max(height-2, 3))
	m.fit()
}

// fit gives the tree its room.
func (m *Model) fit() {
	if m.look != nil {
		m.look.rows.SetRoom(m.room())
	}
}

// Show is called when the place is gone to.
func (m *Model) Show() tea.Cmd {
	dir := m.s.Workspace().Dir
	m.pick.Set(m.sessions())
	return tea.Batch(m.tick(), m.s.Run(func() tea.Msg { return kept(cargo.Remembered(dir)) }))
}

// Close is called when the place is left.
func (m *Model) Close() { m.entry = nil }

// Typing tells whether keys go into a folder's name.
func (m *Model) Typing() bool { return m.entry != nil }

// Subject is the name that is chosen.
func (m *Model) Subject() string {
	if n := m.node(); n != nil {
		return cargo.Say(n.Path())
	}
	return ""
}

// Select shows a session's folders: those of the last time, else the home folders. What stands behind
// a blank is a folder of the machine.
func (m *Model) Select(at string) {
	session, folder, _ := strings.Cut(at, " ")
	if m.look != nil && m.look.session == session && folder == "" {
		return
	}
	if m.kept == nil { // until the folders of the last time are read
		m.wants = at
		return
	}
	l := m.kept[session]
	if !l.Known() {
		l.Here, _ = os.UserHomeDir()
	}
	if folder != "" {
		l.There = folder
	}
	m.begin(session, l)
}

// sessions are those one can choose among.
func (m *Model) sessions() []string { return m.s.Workspace().Book.Names() }

// node is the chosen name, nil for none.
func (m *Model) node() *cargo.Node {
	if m.look == nil {
		return nil
	}
	r, _ := m.look.rows.Selected()
	return r.node
}

// look is two trees that are looked at.
type look struct {
	session string
	last    cargo.Last
	rate    float64 // of what was carried there last, in bytes a second; 0 where it is not known
	id      int
	trees   *work.Between // nil until they are open
	tree    *cargo.Tree
	rows    *list.List[*cargo.Node, row]
	folded  map[*cargo.Node]bool
	crowded bool // there are so many names that folders are folded at first
	err     error
	over    bool // all is read
	found   *found
	preview preview
	ahead   int64 // by how many seconds the machine's clock is ahead
	stop    context.CancelFunc
}

// newRows are the lines of a tree, by their names.
func newRows() *list.List[*cargo.Node, row] {
	return list.New(func(r row) *cargo.Node { return r.node })
}

// row is a line of the tree.
type row struct {
	node  *cargo.Node
	depth int
}

// opened says that both trees are open, or why not.
type opened struct {
	id    int
	trees *work.Between
	found *found
	err   error
}

// more says that more of the trees was read.
type more struct {
	id     int
	listed []cargo.Listed
	err    error
	over   bool
	alike  map[string]cargo.Likeness
	ahead  int64
}

// again has what goes on drawn anew.
type again struct{}

// kept are the folders of the last time, by session.
type kept map[string]cargo.Last

// begin looks at two folders.
func (m *Model) begin(session string, last cargo.Last) {
	if m.look != nil {
		m.look.end()
	}
	m.asked++
	m.look = &look{session: session, last: last, rate: m.kept[session].Rate, id: m.asked, folded: map[*cargo.Node]bool{}, rows: newRows()}
}

// end gives the trees up.
func (l *look) end() {
	if l.stop != nil {
		l.stop()
	}
	if l.trees != nil {
		trees := l.trees
		go trees.Close()
		l.trees = nil
	}
}

// tick begins what was asked for, and has a carry that is under way drawn anew.
func (m *Model) tick() tea.Cmd {
	var cmds []tea.Cmd
	if l := m.look; l != nil && l.stop == nil {
		var ctx context.Context
		ctx, l.stop = context.WithCancel(context.Background())
		cmds = append(cmds, m.open(ctx, l))
	}
	if m.under() {
		cmds = append(cmds, m.s.After(200*time.Millisecond, again{}))
	}
	return tea.Batch(cmds...)
}

// under tells whether the last carry is under way.
func (m *Model) under() bool {
	s, ok := m.s.Jobs.Get(m.job)
	return m.job != 0 && ok && !s.Over()
}

// open opens both trees.
func (m *Model) open(ctx context.Context, l *look) tea.Cmd {
	here, there := cargo.Place{Path: l.last.Here}, cargo.Place{Session: l.session, Path: l.last.There}
	return m.s.Run(func() tea.Msg {
		from, err := m.s.Tools().Open(ctx, here)
		if err != nil {
			return opened{id: l.id, err: err}
		}
		to, err := m.s.Tools().Open(ctx, there)
		if err != nil {
			from.Close()
			return opened{id: l.id, err: err}
		}
		trees := &work.Between{From: from, To: to}
		return opened{id: l.id, trees: trees, found: find(ctx, trees)}
	})
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	defer m.fit() // what is under way stands above the tree
	switch msg := msg.(type) {
	case tea.MouseMsg:
		return m.mouse(msg)
	case opened:
		return m.opened(msg)
	case more:
		return m.more(msg)
	case offered:
		if m.entry != nil {
			m.entry.take(msg)
		}
	case previewed:
		if m.look != nil && m.look.id == msg.id {
			m.look.preview = msg.preview
		}
	case edited:
		return m.edited(msg)
	case ready:
		return m.ready(msg)
	case kept:
		if m.kept = msg; m.kept == nil {
			m.kept = map[string]cargo.Last{}
		}
		if at := m.wants; at != "" {
			m.wants = ""
			m.Select(at)
			return m.tick()
		}
	case undoable:
		return m.undoable(msg)
	case pasted:
		switch {
		case m.look == nil || m.look.session != msg.session:
			return nil
		case msg.err != nil:
			m.s.Tell(cargo.Say(msg.path) + ": " + sanitize.Line(msg.err.Error(), 200))
			return nil
		case m.look.trees == nil: // the folders are being read anew
			m.wanted = msg.path
			return nil
		}
		return m.send(msg.path, true)
	case again:
		return m.tick()
	case checked:
		return m.checked(msg)
	case leftOver:
		if m.look != nil && m.look.id == msg.id {
			m.left = msg.records
		}
	case place.Heard:
		return m.heard(msg)
	case tea.PasteMsg:
		if m.entry != nil {
			m.entry.line.Take(msg)
			return m.offer()
		}
		return m.drop(msg.Content)
	case tea.KeyPressMsg:
		return m.key(msg)
	}
	return nil
}

func (m *Model) heard(h place.Heard) tea.Cmd {
	switch e := h.Event.(type) {
	case engine.Changed:
		m.pick.Set(e.Workspace.Book.Names())
	case work.Ended:
		if e.State.ID == m.job {
			return m.reread() // what is there is another now
		}
	}
	return m.tick()
}

// reread reads both trees anew, where they show.
func (m *Model) reread() tea.Cmd {
	l := m.look
	if l == nil {
		return nil
	}
	at := ""
	if n := m.node(); n != nil {
		at = n.Path()
	}
	m.begin(l.session, l.last)
	m.look.preview.path = at // where the cursor comes back to
	return m.tick()
}

func (m *Model) opened(msg opened) tea.Cmd {
	l := m.look
	if l == nil || l.id != msg.id {
		if msg.trees != nil {
			go msg.trees.Close()
		}
		return nil
	}
	if l.err = msg.err; l.err != nil {
		return nil
	}
	l.trees, l.found = msg.trees, msg.found
	from, to := cargo.Place{Path: l.trees.From.Root()}, cargo.Place{Session: l.session, Path: l.trees.To.Root()}
	l.tree = cargo.NewTree(from, to, cargo.Rules{})
	l.last = cargo.Last{Here: from.Path, There: to.Path}
	dir, session, last := m.s.Workspace().Dir, l.session, l.last
	remember := m.s.Run(func() tea.Msg {
		if err := cargo.Remember(dir, session, last); err != nil {
			m.s.Notice(err.Error())
		}
		return kept(cargo.Remembered(dir))
	})
	return tea.Batch(remember, m.next(), m.findLeft())
}

// next waits for more of the trees.
func (m *Model) next() tea.Cmd {
	l := m.look
	return m.s.Run(func() tea.Msg { return l.found.take(l.id) })
}

func (m *Model) more(msg more) tea.Cmd {
	l := m.look
	if l == nil || l.id != msg.id || l.tree == nil {
		return nil
	}
	chosen := m.node()
	back := l.preview.path
	for _, listed := range msg.listed {
		l.tree.Add(listed)
		l.fold(l.tree.At(listed.Path))
	}
	l.tree.Settle(msg.alike)
	if msg.err != nil {
		l.err = msg.err
	}
	l.over, l.ahead = msg.over, msg.ahead
	m.lay()
	if back != "" && chosen == nil {
		m.point(l.tree.At(back))
	}
	if l.over {
		wanted := m.wanted
		m.wanted = ""
		return m.send(wanted, false)
	}
	return m.next()
}

// From how many names on a folder is folded at first, and every folder beneath the tree's own.
const (
	manyNames = 40
	manyInAll = 400
)

// fold folds a folder that has just been read where it would hide what stands beside it. The tree's own folder may be told
// after those in it.
func (l *look) fold(n *cargo.Node) {
	if n == nil {
		return
	}
	now := !l.crowded && l.tree.Names > manyInAll
	l.crowded = l.crowded || now
	if n.Parent != nil && (len(n.Kids) > manyNames || l.crowded) {
		l.folded[n] = true
	}
	if now || l.crowded && n.Parent == nil {
		for _, kid := range l.tree.Root.Kids {
			l.folded[kid] = true
		}
	}
}

// lay lays the tree out in rows. The chosen name stays chosen; where it shows no more, none is.
func (m *Model) lay() {
	l := m.look
	var rows []row
	var add func(n *cargo.Node, depth int)
	add = func(n *cargo.Node, depth int) {
		if n.Parent != nil && !m.every && n.Differ == 0 && n.Err == "" {
			return
		}
		rows = append(rows, row{n, depth})
		if l.folded[n] {
			return
		}
		for _, kid := range n.Kids {
			add(kid, depth+1)
		}
	}
	add(l.tree.Root, 0)
	l.rows.Set(rows)
	m.fit()
}

// point has the cursor at a name, or at the nearest folder above it that shows.
func (m *Model) point(n *cargo.Node) {
	for ; n != nil && !m.look.rows.Select(n); n = n.Parent {
	}
}

// Table is what can be done.
func (m *Model) Table() action.Table {
	switch {
	case m.entry != nil:
		return m.entryTable()
	case m.clash != nil:
		return m.clashTable()
	case m.look == nil:
		return m.pickTable()
	}
	l := m.look
	n := m.node()
	some := func() bool { return n != nil && l.trees != nil }
	file := func() bool { return some() && !n.Folder() }
	planned := func() bool { return l.tree != nil && l.tree.Totals.Any() }
	ready := func() bool { return l.over && planned() && !m.under() }
	return action.Table{
		action.On("esc q ctrl+c", "to Routes", func() tea.Cmd { return m.s.Go("0", l.session) }),
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("w", "pause or continue", m.pause).If(m.under, "nothing is under way").Suits(m.under).Whole().Also("wait resume hold").For(action.Files),
		action.On("Z", "stop the transfer", m.stop).If(m.under, "nothing is under way").Suits(m.under).Whole().Also("cancel end abort").For(action.Files),
		action.On("right", "upload", m.turn(cargo.GoThere)).If(some, "nothing is chosen").Also("send upload put push").For(action.Files),
		action.On("left", "download", m.turn(cargo.ComeHere)).If(some, "nothing is chosen").Also("fetch download get pull").For(action.Files),
		action.On("space", "skip", m.turn(cargo.Stay)).If(some, "nothing is chosen").Also("none skip clear").For(action.Files),
		action.On("D", "remove", m.turn(cargo.PutAside)).If(func() bool { return some() && n.Alone() }, "only what stands on one side alone is put aside").Also("delete remove").For(action.Files),
		action.On(">", "start the transfer", m.carryOut).If(ready, "nothing is selected, the folders are not read yet, or a transfer is running").Suits(planned).Also("go start run transfer").For(action.Files),
		action.On("enter", "fold or preview", m.enter).If(some, "nothing is chosen").Also("open preview unfold").For(action.View),
		action.On("e", "edit in your editor", m.edit).If(func() bool { return file() && n.To.Kind == ends.File }, "no file is chosen that is there").Also("change vi text remote").For(action.Files),
		action.On("v", "all files or differences", func() tea.Cmd { m.every = !m.every; m.lay(); m.point(n); return nil }).If(func() bool { return l.tree != nil }, "it is not read yet").Whole().Also("same hidden show files").For(action.View),
		action.On("tab", "other folders", m.folders).Whole().Also("path directory go to").For(action.View),
		action.On("f", "another session", func() tea.Cmd { l.end(); m.look = nil; return nil }).Whole().Also("machine").For(action.View),
		action.On("c", "compare by content", m.check).If(func() bool { return l.over && l.err == nil }, "it is not read yet").Whole().Ranked(action.InHelp).Also("checksum digest verify proof").For(action.Files),
		action.On("b", "resume the interrupted transfer", m.resume).If(func() bool { return len(m.left) > 0 && !m.under() }, "nothing was begun that did not end").Suits(func() bool { return len(m.left) > 0 }).Whole().Also("resume continue").For(action.Files),
		action.On("Z", "clean up the interrupted transfer", m.forget).If(func() bool { return len(m.left) > 0 && !m.under() }, "nothing was begun that did not end").Ranked(action.InHelp).Whole().Also("discard").For(action.Files),
		action.On("r", "read again", m.reread).Whole().Also("refresh reload").For(action.View),
		action.On("u", "undo the last transfer", m.undo).If(func() bool { return !m.under() }, "one is under way").Suits(func() bool { return m.job != 0 && !m.under() }).Whole().Also("back restore").For(action.Files),
		action.On("y", "copy the remote path", func() tea.Cmd { return m.s.Copy(path.Join(l.last.There, n.Path())) }).If(some, "nothing is chosen").Ranked(action.InHelp).For(action.View),
		action.On("X", "write the plan to a file", m.write).If(planned, "nothing is chosen to go").Ranked(action.InHelp).Also("save json").For(action.Files),
	}
}

func (m *Model) pickTable() action.Table {
	chosen, some := m.pick.Selected()
	return action.Table{
		action.On("enter", "open files", func() tea.Cmd { m.Select(chosen); return m.tick() }).If(func() bool { return some }, "no session is chosen"),
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("esc q ctrl+c", "to Routes", func() tea.Cmd { return m.s.Go("0", "") }),
	}
}

// key moves the cursor.
func (m *Model) key(msg tea.KeyPressMsg) tea.Cmd {
	switch {
	case m.entry != nil:
		m.entry.line.Take(msg)
		return m.offer()
	case m.clash != nil:
		m.clash.at.Take(msg, len(m.clash.lines), max(m.height-4, 3))
	case m.look == nil:
		m.pick.Take(msg)
	default:
		if m.look.rows.Take(msg) {
			m.look.preview = preview{}
		}
	}
	return nil
}

// mouse moves with the wheel, and to the row that is clicked.
func (m *Model) mouse(msg tea.MouseMsg) tea.Cmd {
	if m.look == nil {
		m.pick.Take(msg)
		return nil
	}
	if m.look.rows.Take(msg) {
		return nil
	}
	before := m.node()
	click, ok := msg.(tea.MouseClickMsg)
	if !ok || click.Button != tea.MouseLeft || !m.look.rows.Click(click.Y-m.headRows()) {
		return nil
	}
	if m.node() == before {
		return m.enter()
	}
	m.look.preview = preview{}
	return nil
}

// turn has the chosen name go a way, and moves on.
func (m *Model) turn(turn cargo.Turn) func() tea.Cmd {
	return func() tea.Cmd {
		n := m.node()
		chosen, why := m.look.tree.Choose(n, turn)
		switch {
		case why != "":
			m.s.Tell(m.called(n) + ": " + why)
		case turn != cargo.Stay && n.Folder():
			m.s.Tell(words.Count(chosen, "name") + " of " + m.folderCalled(n))
		}
		if why == "" && !n.Folder() {
			m.look.rows.Take(tea.KeyPressMsg{Code: tea.KeyDown})
			m.look.preview = preview{}
		}
		return nil
	}
}

// folderCalled is a folder's name, the tree's own included.
func (m *Model) folderCalled(n *cargo.Node) string {
	if n.Parent == nil {
		return cargo.Say(filepath.Base(m.look.last.Here))
	}
	return cargo.Say(n.Path())
}

// enter folds or unfolds a folder, or shows what a file begins with.
func (m *Model) enter() tea.Cmd {
	n := m.node()
	if n.Folder() {
		m.look.folded[n] = !m.look.folded[n]
		m.lay()
		return nil
	}
	return m.read(n)
}

// ready is a plan that is to be carried out, and the private keys that it sends from this machine.
type ready struct {
	id   int
	plan *cargo.Plan
	keys []string
	err  error
}

// carryOut makes the plan, and looks for private keys in what it sends.
func (m *Model) carryOut() tea.Cmd {
	l := m.look
	plan, trees, id := l.tree.Plan(), l.trees, l.id
	return m.s.Run(func() tea.Msg {
		keys, err := cargo.PrivateKeys(context.Background(), plan, trees.From, trees.To)
		return ready{id, plan, keys, err}
	})
}

// ready begins a plan, at the second press where something would be lost over there or here, or a private key leaves this
// machine.
func (m *Model) ready(msg ready) tea.Cmd {
	if m.look == nil || m.look.id != msg.id || m.under() {
		return nil
	}
	if msg.err != nil {
		m.s.Tell(sanitize.Line(msg.err.Error(), 300))
		return nil
	}
	why := m.careful(m.look.tree.Totals)
	if n := len(msg.keys); n > 0 {
		named := cargo.Say(msg.keys[0])
		if n > 1 {
			named += fmt.Sprintf(" and %d more", n-1)
		}
		why = words.And(slices.DeleteFunc([]string{why, words.Count(n, "private key") + " would leave this machine (" + named + ")"}, func(s string) bool { return s == "" }))
	}
	do := func() tea.Cmd {
		msg.plan.Rules.Keys = len(msg.keys) > 0
		m.carry = &work.Carry{Tools: m.s.Tools(), Plan: msg.plan}
		m.job = m.s.Jobs.Begin(m.carry)
		return m.tick()
	}
	if why == "" {
		return do()
	}
	return m.s.Confirm(place.Confirm{Subject: fmt.Sprint(msg.id), Say: why + ": press " + m.s.Press("carry") + " again to do it", Do: do})
}

// careful is what a plan does that is to be asked for twice, "" for nothing.
func (m *Model) careful(t cargo.Totals) string {
	var all []string
	if t.Aside.Names > 0 {
		all = append(all, words.Count(t.Aside.Names, "name")+" "+words.Choose(t.Aside.Names, "is", "are")+" put aside")
	}
	if t.Newer > 0 {
		all = append(all, words.Count(t.Newer, "newer file")+" "+words.Choose(t.Newer, "is", "are")+" replaced by older ones")
	}
	for _, side := range []struct {
		end   ends.End
		at    string
		comes int
	}{{m.look.trees.To, m.look.last.There, t.There.Names}, {m.look.trees.From, m.look.last.Here, t.Here.Names}} {
		if own, ok := side.end.(interface{ InHome() bool }); ok && side.comes > 0 && !own.InHome() {
			all = append(all, cargo.Say(side.at)+" is outside of your home")
		}
	}
	if r, ok := m.s.Plan(m.look.session); ok && r.Target().Careful {
		all = append(all, m.look.session+" is marked careful")
	}
	return words.And(all)
}

func (m *Model) pause() tea.Cmd {
	p, ok := m.carry.Progress()
	if ok {
		m.carry.Pause(!p.Paused)
	}
	return nil
}

func (m *Model) stop() tea.Cmd {
	job := m.job
	return m.s.Confirm(place.Confirm{Subject: fmt.Sprint(job), Say: "what has arrived stays, the rest does not go: press " + m.s.Press("remove-all") + " again to stop it", Do: func() tea.Cmd {
		m.s.Jobs.Stop(job)
		return nil
	}})
}

// undoable is what was carried last between the two folders of a look, nil for nothing.
type undoable struct {
	id int
	r  *cargo.Record
}

// undo finds what was carried last between these two folders, to take it back.
func (m *Model) undo() tea.Cmd {
	id, session, dir := m.look.id, m.look.session, cargo.Dir(m.s.Workspace().Dir)
	return m.s.Run(func() tea.Msg {
		records, _ := cargo.Records(dir)
		for _, r := range records {
			if !r.Undone && (r.Plan.To.Session == session || r.Plan.From.Session == session) && r.Done() > 0 {
				return undoable{id, r}
			}
		}
		return undoable{id, nil}
	})
}

// undoable takes back what was found, at the second press.
func (m *Model) undoable(msg undoable) tea.Cmd {
	switch {
	case m.look == nil || m.look.id != msg.id:
		return nil
	case msg.r == nil:
		m.s.Tell("there is no transfer to undo")
		return nil
	}
	r := msg.r
	say := "take back what was done " + r.Began.Local().Format("2 Jan 15:04") + ", " + words.Count(r.Done(), "name")
	return m.s.Confirm(place.Confirm{Subject: r.Began.String(), Say: say + ": press " + m.s.Press("undo") + " again", Do: func() tea.Cmd {
		m.carry = nil
		m.job = m.s.Jobs.Begin(&work.UndoCargo{Tools: m.s.Tools(), Plan: r.Plan})
		return m.tick()
	}})
}

// pasted is a path of this machine that was pasted, and why it cannot go, if it cannot.
type pasted struct {
	session, path string
	err           error
}

// drop takes a path that was pasted or dropped: it is to go there.
func (m *Model) drop(text string) tea.Cmd {
	full := dropped(text)
	if full == "" || m.look == nil {
		return nil
	}
	session := m.look.session
	return m.s.Run(func() tea.Msg {
		_, err := os.Lstat(full)
		return pasted{session, full, err}
	})
}

// send has a path of this machine go there. One that is not known is looked for by reading its folder, once.
func (m *Model) send(full string, look bool) tea.Cmd {
	if full == "" {
		return nil
	}
	l := m.look
	name, err := filepath.Rel(l.last.Here, full)
	outside := err != nil || name == ".." || strings.HasPrefix(name, "../")
	var n *cargo.Node
	switch {
	case name == ".":
		n = l.tree.Root
	case !outside:
		n = l.tree.At(name)
	}
	switch {
	case n == nil && !look:
		m.s.Tell(cargo.Say(full) + " is not among what can be moved")
		return nil
	case n == nil && outside:
		m.wanted = full
		m.begin(l.session, cargo.Last{Here: filepath.Dir(full), There: l.last.There})
		return m.tick()
	case n == nil:
		m.wanted = full
		return m.reread()
	}
	for up := n.Parent; up != nil; up = up.Parent {
		l.folded[up] = false
	}
	m.lay()
	m.point(n)
	return m.turn(cargo.GoThere)()
}

// dropped is the one path of this machine that a pasted text is, "" where it is none.
func dropped(text string) string {
	text = strings.TrimSpace(text)
	text = strings.Trim(strings.TrimPrefix(text, "file://"), `'"`)
	text = strings.ReplaceAll(text, `\ `, " ")
	if strings.ContainsAny(text, "\n\x00") || !filepath.IsAbs(text) {
		return ""
	}
	return filepath.Clean(text)
}

// write writes the plan to a file here.
func (m *Model) write() tea.Cmd {
	plan := m.look.tree.Plan()
	name := filepath.Join(m.look.last.Here, "cargo-"+plan.ID+".json")
	return m.s.Run(func() tea.Msg {
		if err := plan.Save(name); err != nil {
			m.s.Notice(err.Error())
			return nil
		}
		m.s.Notice("the plan is written to " + cargo.Say(name) + "; meatus cargo run takes it")
		return nil
	})
}

// newLine is a line to type a path in.
func newLine(s *place.Services, value string) *line.Line {
	l := line.New(s.Theme, "")
	l.Begin(value)
	return l
}
