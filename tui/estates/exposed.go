package estates

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/list"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// exposed is who is let in where, as arrows from who to whom.
type exposed struct {
	arrows *list.List[arrowKey, workspace.LetsIn]
	read   bool
	unused bool // what nobody used for long alone, the oldest first
}

// arrowKey is what an arrow is told apart by.
type arrowKey struct{ source, group, who, ports, say string }

func arrowKeyOf(x workspace.LetsIn) arrowKey {
	return arrowKey{x.Source, x.Group, x.Who, x.Ports, x.Say}
}

// exposing is what was found of it.
type exposing struct{ arrows []workspace.LetsIn }

// showExposed shows who is let in where in place of the networks.
func (m *Model) showExposed() tea.Cmd {
	m.exposed = &exposed{arrows: list.New(arrowKeyOf)}
	return m.findExposed()
}

func (m *Model) findExposed() tea.Cmd {
	ws, journal, unused := m.s.Workspace(), m.s.Trail, m.exposed.unused
	return m.s.Run(func() tea.Msg { return exposing{ws.LetIn(visitsOf(journal), nil, unused, time.Now())} })
}

func (m *Model) takeExposed(msg exposing) {
	if m.exposed != nil {
		m.exposed.read = true
		m.exposed.arrows.SetRoom(m.exposedRoom())
		m.exposed.arrows.Set(msg.arrows)
	}
}

// arrow is the chosen one.
func (m *Model) arrow() (workspace.LetsIn, bool) {
	return m.exposed.arrows.Selected()
}

func (m *Model) exposedTable() action.Table {
	_, some := m.arrow()
	return action.Table{
		action.On("up down", "choose", nil).Ranked(action.Movement),
		action.On("enter", "to an affected instance", m.toExposed).If(func() bool { return some }, "there is none").Also("go show"),
		action.On("e", "preview without the rule", m.tryWithout).If(func() bool { return some }, "there is none").Suits(func() bool { return some }).Also("drop close what if scratch remove"),
		action.On("|", "not used for a week", func() tea.Cmd {
			m.exposed.unused = !m.exposed.unused
			m.exposed.arrows.Restart()
			return m.findExposed()
		}).Whole().Also("unused idle oldest filter"),
		action.On("* esc q ctrl+c", "to the instances", func() tea.Cmd { m.exposed = nil; return nil }),
	}
}

// toExposed goes to the first instance of the chosen arrow.
func (m *Model) toExposed() tea.Cmd {
	x, _ := m.arrow()
	m.exposed = nil
	m.choose(x.Source, x.To[0].ID)
	return nil
}

// choose goes to an instance.
func (m *Model) choose(source, id string) bool {
	for a := range m.areas {
		for n := range m.areas[a].Spots {
			if s := &m.areas[a].Spots[n]; s.Instance.ID == id && s.Source.Source == source {
				m.at, m.gone = spot{a, n}, ""
				m.settle()
				return true
			}
		}
	}
	return false
}

// tryWithout begins a scratch in which the chosen rule is dropped.
func (m *Model) tryWithout() tea.Cmd {
	x, _ := m.arrow()
	m.exposed = nil
	if !m.choose(x.Source, x.To[0].ID) {
		m.s.Tell("the query leaves " + called(x.To[0]) + " out")
		return nil
	}
	m.beginScratch()
	if m.scratch == nil {
		return nil
	}
	for n, r := range m.rules() {
		if r.group == x.Group && r.rule.Same(x.Rule) {
			m.scratch.at = n
			return m.dropRule()
		}
	}
	return nil
}

// exposedRoom is how many arrows show at least at once; the names of who take lines, too.
func (m *Model) exposedRoom() int {
	rows := m.height - 2
	if _, _, beside := place.Halves(m.width); !beside {
		rows = rows * 55 / 100
	}
	return max(rows/2, 2)
}

// exposedView draws who is let in where: who at the left, an arrow with its ports for each rule, and to whom.
func (m *Model) exposedView() []string {
	t, x := m.s.Theme, m.exposed
	title := t.Accent.Render("estate / what is open to whom")
	if x.unused {
		title += t.Accent.Render(" / unused for a week, the oldest first")
	}
	lines := []string{t.Title(title, t.Faint.Render(words.Count(x.arrows.Len(), "rule")), m.width, fit.Spread)}
	switch {
	case !x.read:
		return append(lines, "", "   "+t.Faint.Render("looking …"))
	case x.arrows.Len() == 0:
		return append(lines, "", "   "+t.Faint.Render("No rule lets anybody in that is told here."))
	}
	left, pane, beside := place.Halves(m.width)
	rows := m.height - 1
	if !beside {
		left, pane, rows = m.width, m.width, rows*55/100
	}
	picture := m.arrows(left, rows)
	card := m.arrowCard(pane)
	if beside {
		return append(lines, place.Joined(t, picture, card, left, max(m.height-1, 0))...)
	}
	for len(picture) < rows {
		picture = append(picture, "")
	}
	lines = append(lines, picture...)
	return append(lines, card[:max(min(len(card), m.height-len(lines)), 0)]...)
}

// arrows draws the arrows around the chosen one that there is room for.
func (m *Model) arrows(width, rows int) []string {
	t, all := m.s.Theme, m.exposed.arrows.Shown()
	chosen, some := m.exposed.arrows.Selected()
	wide := 6
	for _, a := range all {
		wide = max(wide, min(fit.Width(a.Ports), 14))
	}
	var lines []string
	at := 0 // the line of the chosen one
	for n, a := range all {
		if n == 0 || a.Who != all[n-1].Who {
			lines = append(lines, m.who(a.Arrow, width))
		}
		last := n == len(all)-1 || all[n+1].Who != a.Who
		turn := map[bool]string{false: "├", true: "└"}[last]
		style, head := t.Rule, "▷"
		if a.Rank <= reach.Everybody {
			style, head = t.Verdict(m.rankOf(a.Arrow)), "▶"
			turn = map[bool]string{false: "┣", true: "┗"}[last]
		}
		pointer, to := "   ", t.Text
		if some && arrowKeyOf(a) == arrowKeyOf(chosen) {
			pointer, to, at = " "+t.Accent.Render(theme.Chosen)+" ", t.Strong, len(lines)
		}
		begin := pointer + " " + style.Render(turn+"─ ") + fit.Pad(t.Text.Render(sanitize.Line(a.Ports, 14)), wide) + style.Render(" ─"+head) + " "
		room := max(width-fit.Width(begin)-1, 10)
		lines = append(lines, begin+to.Render(instances(a.To, room)))
	}
	from := max(min(at-rows/2, len(lines)-rows), 0)
	return lines[from:min(from+rows, len(lines))]
}

// rankOf is how grave it is who is let in.
func (m *Model) rankOf(a reach.Arrow) gate.Verdict {
	switch a.Rank {
	case reach.FromOutside:
		return gate.Shut
	case reach.Everybody:
		return gate.Ajar
	}
	if a.Rank == reach.Machine && a.Of == nil {
		return gate.Ajar
	}
	return gate.Untried
}

// who names who is let in.
func (m *Model) who(a reach.Arrow, width int) string {
	t := m.s.Theme
	say := t.Strong.Render(sanitize.Line(a.Who, 80))
	if v := m.rankOf(a); v >= gate.Ajar {
		return fit.Cut("  "+t.Mark(v)+" "+t.Verdict(v).Render(sanitize.Line(a.Who, 80)), width)
	}
	return fit.Cut("  "+t.Accent.Render(theme.Marked)+" "+say, width)
}

// instances are the names of some, as many as there is room for.
func instances(all []*estate.Instance, room int) string {
	text := called(all[0])
	for n, i := range all[1:] {
		more := fmt.Sprintf(" and %d more", len(all)-n-1)
		if fit.Width(text)+2+fit.Width(called(i))+fit.Width(more) > room {
			return text + more
		}
		text += ", " + called(i)
	}
	return text
}

// arrowCard is everything that is known of the chosen arrow.
func (m *Model) arrowCard(width int) []string {
	t := m.s.Theme
	x, ok := m.arrow()
	if !ok {
		return nil
	}
	lines := []string{t.Title(t.Strong.Render(x.Called), t.Faint.Render("estate "+sanitize.Line(x.Source, 20)), width, fit.Spread)}
	say := func(word, text string) {
		lines = append(lines, fit.Hang("   "+t.Faint.Render(fit.Pad(word, 10))+" "+text, 14, width-1).Whole...)
	}
	say("rule", t.Text.Render(sanitize.Line(x.Say, 200)))
	say("from", t.Text.Render(sanitize.Line(x.Who, 200)))
	used := "never from here, as far as the trail goes back"
	if !x.Used.IsZero() {
		used = fit.Ago(time.Since(x.Used)) + " ago from here"
	}
	say("used", t.Text.Render(used))
	if x.Rank <= reach.Everybody {
		say("instead", t.Text.Render("let in the addresses alone that one comes from; "+m.s.Press("edit")+" tries it without this rule"))
	}
	if x.Rank == reach.Machine && x.Of == nil {
		say("instead", t.Text.Render("drop it where nobody knows whose address that is; "+m.s.Press("edit")+" tries it without this rule"))
	}
	var names []string
	for _, i := range x.To {
		names = append(names, called(i))
	}
	say("to", t.Text.Render(sanitize.Line(strings.Join(names, ", "), 2000)))
	return lines
}
