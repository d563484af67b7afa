package cargo

import (
	"fmt"
	"strings"
	"time"

	"meatus/core/cargo"
	"meatus/core/cargo/ends"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/chart"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// headRows is how many lines stand above the tree.
func (m *Model) headRows() int { return 3 + len(m.jobLines()) }

// room is how many names show at once.
func (m *Model) room() int {
	rows := m.height - m.headRows()
	if _, _, beside := place.Halves(m.width); !beside {
		rows = rows * 62 / 100
		if m.look != nil {
			rows = min(rows, m.look.rows.Len()+1) // what is told of the chosen name has the rest
		}
	}
	return max(rows, 3)
}

// View draws the place.
func (m *Model) View() []string {
	if m.look == nil {
		return m.pickView()
	}
	if m.clash != nil {
		return m.clashView()
	}
	t, l := m.s.Theme, m.look
	lines := []string{t.Title(t.Accent.Render("cargo")+t.Rule.Render(" ─ ")+t.Strong.Render(l.session), t.Faint.Render(m.standing()), m.width, fit.Spread)}
	if m.entry != nil {
		return append(lines, m.entryView()...)
	}
	lines = append(lines, m.jobLines()...)
	if say := m.empty(); say != "" {
		lines = append(lines, "")
		return append(lines, fit.Hang("   "+say, 3, m.width-1).Whole...)
	}
	list, pane, beside := place.Halves(m.width)
	lines = append(lines, m.between(), m.columns(list))
	tree := l.rows.Lines(func(r row, chosen bool) string { return m.row(r, chosen, list) })
	tree = tree[:min(len(tree), m.room())]
	_, to := l.rows.Window()
	if below := l.rows.Len() - to; below > 0 && len(tree) > 0 {
		more := t.Faint.Render(fmt.Sprintf("  %d more below ", below))
		tree[len(tree)-1] = fit.Pad(fit.Cut(tree[len(tree)-1], list-fit.Width(more)), list-fit.Width(more)) + more
	}
	card := m.card(pane)
	if beside {
		return append(lines, place.Joined(t, tree, card, list, max(m.height-len(lines), 0))...)
	}
	for len(tree) < m.room() {
		tree = append(tree, "")
	}
	lines = append(lines, tree...)
	return append(lines, card[:max(min(len(card), m.height-len(lines)), 0)]...)
}

// standing says how much is known of the two folders.
func (m *Model) standing() string {
	l := m.look
	switch {
	case l.err != nil:
		return "not read"
	case l.tree == nil:
		return "connecting …"
	case !l.over:
		return words.Count(l.tree.Names, "name") + ", reading …"
	}
	return words.Count(l.tree.Names, "name") + fmt.Sprintf(", %d differ", l.tree.Root.Differ)
}

// empty says why there is no tree to show, "" where there is.
func (m *Model) empty() string {
	t, l := m.s.Theme, m.look
	switch {
	case l.err != nil:
		return t.Mark(gate.Shut) + " " + t.Verdict(gate.Shut).Render(sanitize.Text(l.err.Error(), 600)) + t.Faint.Render("  "+m.s.Press("read")+" tries again, tab takes other folders")
	case l.tree == nil:
		return t.Faint.Render("connecting to " + l.session + " …")
	case l.over && l.tree.Root.Differ == 0 && !m.every:
		return t.Mark(gate.Open) + " " + cargo.Say(l.last.Here) + " and " + l.session + ":" + cargo.Say(l.last.There) + t.Faint.Render(" are the same, "+words.Count(l.tree.Names, "name")+"; "+m.s.Press("variant")+" shows them, tab takes other folders")
	}
	return ""
}

// pickView draws the sessions to choose among.
func (m *Model) pickView() []string {
	t := m.s.Theme
	all := m.pick.All()
	lines := []string{t.Title(t.Accent.Render("cargo"), t.Faint.Render(words.Count(len(all), "session")), m.width, fit.Spread)}
	if len(all) == 0 {
		return append(lines, "", "   "+t.Faint.Render("There are no sessions yet, and so nowhere to move files to."))
	}
	lines = append(lines, "   "+t.Faint.Render("Whose files? A folder here and one there show as one tree."))
	return append(lines, m.pick.Lines(func(name string, chosen bool) string {
		pointer := "  "
		if chosen {
			pointer = t.Accent.Render(theme.Chosen + " ")
		}
		say := ""
		if last := m.kept[name]; last.Known() {
			say = t.Faint.Render("  " + cargo.Say(workspace.Short(last.Here)) + " ⇄ " + cargo.Say(last.There))
		}
		return fit.Cut(" "+pointer+t.Strong.Render(fit.Pad(name, 22))+say, m.width)
	})...)
}

// entryView draws the folder that is typed.
func (m *Model) entryView() []string {
	t, e := m.s.Theme, m.entry
	prompt, below := "the folder here: ", "enter goes on to the folder there"
	if e.there {
		prompt, below = "the folder at "+m.look.session+": ", "a path without / at its start is in the user's home folder"
	}
	lines := []string{"", "   " + t.Strong.Render(prompt) + e.line.View(max(m.width-fit.Width(prompt)-6, 10)), "   " + t.Faint.Render(below), ""}
	for _, o := range e.offers[:min(len(e.offers), max(m.height-6, 0))] {
		lines = append(lines, fit.Cut("     "+t.Faint.Render(sanitize.Line(o, 300)), m.width))
	}
	return lines
}

// The widths of the columns beside the name.
const (
	diffWidth = 13
	turnWidth = 4
	sideWidth = 17
)

func nameWidth(width int) int { return max(width-3-diffWidth-turnWidth-2*sideWidth, 12) }

// between says which two folders they are.
func (m *Model) between() string {
	t, l := m.s.Theme, m.look
	return fit.Cut("   "+t.Faint.Render("here ")+cargo.Say(workspace.Short(l.last.Here))+t.Faint.Render("  ⇄  there ")+l.session+":"+cargo.Say(l.last.There), m.width)
}

// columns heads the columns.
func (m *Model) columns(width int) string {
	head := "   " + fit.Pad("", nameWidth(width)+diffWidth) + fit.Pad("", turnWidth) + fit.Pad("here", sideWidth) + "there"
	return m.s.Theme.Faint.Render(fit.Cut(head, width))
}

// differences are the words for how two names differ.
var differences = map[cargo.Diff]string{
	cargo.OnlyFrom: "only here", cargo.OnlyTo: "only there", cargo.FromNewer: "newer here", cargo.ToNewer: "newer there",
	cargo.Differs: "differs", cargo.OtherKind: "other kind", cargo.Mode: "permissions", cargo.Touched: "other time", cargo.Refused: "stays",
}

var turns = map[cargo.Turn]string{cargo.Stay: "  ", cargo.GoThere: "━▶", cargo.ComeHere: "◀━", cargo.PutAside: "▽ "}

// row draws one name: the name, how it differs, which way it goes, what is here, what is there.
func (m *Model) row(r row, chosen bool, width int) string {
	t := m.s.Theme
	n := r.node
	pointer := "  "
	if chosen {
		pointer = t.Accent.Render(theme.Chosen + " ")
	}
	name := strings.Repeat("  ", min(r.depth, 12)) + m.nameOf(n)
	style := t.Text
	if n.Folder() {
		style = t.Strong
	}
	if n.Differ == 0 {
		style = t.Faint
	}
	diff := differences[n.Diff]
	if n.Folder() && n.Diff == cargo.Same && n.Differ > 0 {
		diff = fmt.Sprintf("%d differ", n.Differ)
	}
	if n.Err != "" {
		diff = "not read"
	}
	turn := t.Live.Render(turns[n.Turn])
	if n.Turn == cargo.PutAside {
		turn = t.Verdict(gate.Shut).Render(turns[n.Turn])
	}
	return fit.Cut(" "+pointer+style.Render(fit.Pad(name, nameWidth(width)))+t.Accent.Render(fit.Pad(diff, diffWidth))+turn+"  "+
		m.side(n.From, n)+m.side(n.To, n), width)
}

// called is a name's path, in words for all of it.
func (m *Model) called(n *cargo.Node) string {
	if n.Parent == nil {
		return "all of it"
	}
	return cargo.Say(n.Path())
}

func (m *Model) nameOf(n *cargo.Node) string {
	name := cargo.Say(n.Name)
	if n.Parent == nil {
		name = "all of it"
	}
	if !n.Folder() {
		return "  " + name
	}
	mark := "▾ "
	if m.look.folded[n] {
		mark = "▸ "
	}
	return mark + name + "/"
}

// side says in a few letters what stands on a side.
func (m *Model) side(e ends.Entry, n *cargo.Node) string {
	t := m.s.Theme
	var say string
	switch e.Kind {
	case ends.None:
		return fit.Pad(t.Rule.Render("·"), sideWidth)
	case ends.Folder:
		if say = ""; n.Parent != nil && len(n.Kids) > 0 {
			say = words.Count(len(n.Kids), "name")
		}
		return t.Faint.Render(fit.Pad(say, sideWidth))
	case ends.Link:
		say = "→ " + cargo.Say(e.Link)
	case ends.Other:
		say = "special"
	default:
		say = fit.Pad(words.Bytes(float64(e.Size)), 8) + day(e.When())
	}
	style := t.Faint
	if n.Diff != cargo.Same && n.Diff != cargo.Mode {
		style = t.Text
	}
	return style.Render(fit.Pad(say, sideWidth-1)) + " "
}

// day says when something was written, short.
func day(at time.Time) string {
	switch age := time.Since(at); {
	case age > 0 && age < 20*time.Hour:
		return at.Local().Format("15:04")
	case at.Year() == time.Now().Year():
		return at.Local().Format("_2 Jan")
	}
	return at.Local().Format("Jan 2006")
}

// jobLines tell how far the last carry is, or what came of it.
func (m *Model) jobLines() []string {
	t := m.s.Theme
	s, ok := m.s.Jobs.Get(m.job)
	if say := m.leftLine(); say != "" {
		return []string{fit.Cut("   "+t.Mark(gate.Ajar)+" "+say, m.width)}
	}
	if m.job == 0 || !ok {
		return nil
	}
	if s.Over() {
		mark, say := t.Mark(gate.Open), ""
		if n := len(s.Steps); n > 0 {
			say = s.Steps[n-1].Say
		}
		if s.Err != nil {
			mark, say = t.Mark(gate.Shut), sanitize.Line(s.Err.Error(), 300)
		}
		hint := m.s.Press("undo") + " takes it back, J has each step"
		if m.carry != nil && m.carry.Report.Unproven > 0 {
			hint = m.s.Press("check") + " reads them back to compare, " + m.s.Press("undo") + " takes it back"
		}
		return []string{fit.Cut("   "+mark+" "+say+t.Faint.Render("   "+hint), m.width)}
	}
	if m.carry == nil {
		return []string{"   " + t.Accent.Render("◜ ") + s.Title.What}
	}
	p, ok := m.carry.Progress()
	if !ok {
		return []string{"   " + t.Accent.Render("◜ ") + "connecting …"}
	}
	return []string{fit.Cut("   "+chart.Bar(m.s.Theme, p, max(m.width/4, 10)), m.width)}
}

// card tells what is planned, and of the chosen name both sides and what it begins with.
func (m *Model) card(width int) []string {
	t, l := m.s.Theme, m.look
	lines := m.planLines(width)
	n := m.node()
	if n == nil {
		return lines
	}
	lines = append(lines, t.Title(t.Strong.Render(m.called(n)), t.Faint.Render(differences[n.Diff]), width, fit.Spread))
	if why := n.Why + n.Err; why != "" {
		lines = append(lines, fit.Hang("   "+t.Verdict(gate.Ajar).Render(why), 3, width-1).Whole...)
	}
	if !n.Folder() {
		lines = append(lines, m.facts(n, width)...)
	}
	p := l.preview
	if p.path != n.Path() || n.Folder() {
		return lines
	}
	lines = append(lines, "")
	switch {
	case p.err != "":
		lines = append(lines, "   "+t.Verdict(gate.Shut).Render(fit.Cut(p.err, width-4)))
	case p.kind != "":
		lines = append(lines, "   "+t.Faint.Render(p.kind))
	}
	for _, text := range p.lines {
		lines = append(lines, "   "+fit.Cut(text, width-4))
	}
	return lines
}

// planLines tell what has been chosen and what it comes to.
func (m *Model) planLines(width int) []string {
	t, l := m.s.Theme, m.look
	if l.tree == nil {
		return nil
	}
	c := l.tree.Totals
	if !c.Any() {
		say := "nothing goes yet: → has a name go there, ← come here"
		return []string{t.Title(t.Accent.Render("plan"), "", width, fit.Spread), "   " + t.Faint.Render(fit.Cut(say, width-4)), ""}
	}
	say := "> carries it out"
	if m.under() {
		say = "under way"
	}
	lines := []string{t.Title(t.Accent.Render("plan"), t.Faint.Render(say), width, fit.Spread)}
	add := func(mark, say string, tally cargo.Tally) {
		if tally.Names > 0 {
			lines = append(lines, fit.Cut("   "+mark+" "+fit.Pad(say, 12)+t.Strong.Render(fit.Pad(words.Count(tally.Names, "name"), 12))+words.Bytes(float64(tally.Bytes))+t.Faint.Render(m.takes(tally.Bytes)), width))
		}
	}
	add(t.Live.Render(turns[cargo.GoThere]), "go there", c.There)
	add(t.Live.Render(turns[cargo.ComeHere]), "come here", c.Here)
	add(t.Verdict(gate.Shut).Render(turns[cargo.PutAside]), "put aside", c.Aside)
	if c.Newer > 0 {
		lines = append(lines, "   "+t.Verdict(gate.Ajar).Render(theme.Ajar+"  "+words.Count(c.Newer, "newer file")+" replaced by an older one; kept for a week"))
	}
	if a := l.ahead; a > 2 || a < -2 {
		lines = append(lines, "   "+t.Verdict(gate.Ajar).Render(theme.Ajar+"  the clock there is "+aheadBehind(a)+": which is newer is judged by it"))
	}
	return append(lines, "")
}

func aheadBehind(seconds int64) string {
	d := time.Duration(seconds) * time.Second
	if d < 0 {
		return fit.Ago(-d) + " behind"
	}
	return fit.Ago(d) + " ahead"
}

// takes says how long so many bytes take, by what was measured of the last carry, in this run or before.
func (m *Model) takes(bytes int64) string {
	rate := m.look.rate
	if m.carry != nil {
		if p, ok := m.carry.Progress(); ok && p.Rate >= 1 {
			rate = p.Rate
		}
	}
	if rate < 1 || bytes == 0 {
		return ""
	}
	return ", about " + fit.Ago(max(time.Duration(float64(bytes)/rate*float64(time.Second)), time.Second)) + " by the last"
}

// facts are both sides of a file.
func (m *Model) facts(n *cargo.Node, width int) []string {
	t := m.s.Theme
	var lines []string
	for _, f := range []struct{ what, here, there string }{
		{"", "here", "there"},
		{"size", sizeOf(n.From), sizeOf(n.To)},
		{"written", timeOf(n.From), timeOf(n.To)},
		{"mode", modeOf(n.From), modeOf(n.To)},
		{"leads", cargoLink(n.From), cargoLink(n.To)},
	} {
		if f.here+f.there == "" {
			continue
		}
		style := t.Text
		if f.here == f.there || f.what == "" {
			style = t.Faint
		}
		lines = append(lines, fit.Cut("   "+t.Faint.Render(fit.Pad(f.what, 9))+style.Render(fit.Pad(f.here, 26)+f.there), width))
	}
	return lines
}

func sizeOf(e ends.Entry) string {
	switch e.Kind {
	case ends.None:
		return "·"
	case ends.File:
	default:
		return ""
	}
	return words.Bytes(float64(e.Size)) + fmt.Sprintf(" (%d)", e.Size)
}

func timeOf(e ends.Entry) string {
	if e.Kind == ends.None {
		return "·"
	}
	return e.When().Local().Format("2 Jan 2006 15:04:05")
}

func modeOf(e ends.Entry) string {
	if e.Kind == ends.None {
		return "·"
	}
	return fmt.Sprintf("%04o", e.Mode)
}

func cargoLink(e ends.Entry) string {
	if e.Kind != ends.Link {
		return ""
	}
	return cargo.Say(e.Link)
}
