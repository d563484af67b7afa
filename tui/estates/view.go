package estates

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"meatus/core/board"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// room is how many rows of the picture show at once.
func (m *Model) room() int {
	rows := m.height - 1 - m.headLines()
	if _, _, beside := place.Halves(m.width); !beside {
		switch {
		case m.details && rows >= tall:
			rows = rows * 40 / 100
		case m.details:
			rows = 3
		default:
			rows = rows * 55 / 100
		}
	}
	return max(rows, 3)
}

// tall is from how many rows on the picture stays in view beside details.
const tall = 30

// headLines is how many lines stand above the picture.
func (m *Model) headLines() int { return len(m.head()) }

// head tells of sources that cannot be read, and of a mistake in the query.
func (m *Model) head() []string {
	t := m.s.Theme
	var lines []string
	if m.mistake != "" {
		lines = append(lines, fit.Cut("   "+t.Verdict(gate.Shut).Render("╰ "+m.mistake), m.width))
	}
	if m.typing && len(m.offers) > 0 {
		lines = append(lines, fit.Cut("   "+t.Faint.Render(sanitize.Line(estate.Offered(m.offers, 10), 400)), m.width))
	}
	if m.form != nil {
		lines = append(lines, m.form.View(m.width)...)
	}
	if len(m.opened) > 0 {
		lines = append(lines, fit.Hang("   "+t.Accent.Render("the first password of "+m.openedOf+" is ")+t.Strong.Render(sanitize.Line(string(m.opened), 200))+t.Faint.Render(", shown for a minute; "+m.s.Press("copy")+" copies it"), 3, m.width-1).Whole...)
	}
	if s, ok := m.job(); ok {
		lines = append(lines, m.jobLines(s)...)
	}
	if m.pending != "" {
		lines = append(lines, fit.Hang("   "+t.Verdict(gate.Ajar).Render(m.pending), 3, m.width-1).Whole...)
	}
	if m.ending != "" && m.chosen() != nil {
		say := t.Verdict(gate.Shut).Render("type "+m.Subject()+" to end it for good: ") + m.line.View(30)
		lines = append(lines, "   "+say)
		lines = append(lines, fit.Hang("   "+t.Faint.Render(m.consequences(estate.End)), 3, m.width-1).Whole...)
	}
	for _, k := range m.s.Workspace().Estates {
		if k.Failed != "" && len(lines) < 4 {
			lines = append(lines, fit.Hang("  "+t.Mark(gate.Ajar)+" "+t.Strong.Render(k.Source)+" cannot be read: "+k.Failed+t.Faint.Render("; "+age(k)), 4, m.width-1).Whole...)
		}
	}
	return lines[:min(len(lines), 6)]
}

// jobLines tell of a job that was begun here: what it does, and its last step.
func (m *Model) jobLines(s work.State) []string {
	t := m.s.Theme
	mark, say := t.Accent.Render("◜"), ""
	if n := len(s.Steps); n > 0 {
		say = s.Steps[n-1].Say
	}
	if s.Over() {
		if mark = t.Mark(gate.Open); s.Err != nil {
			mark, say = t.Mark(gate.Shut), s.Err.Error()
		}
	}
	return fit.Hang("   "+mark+" "+s.Title.What+" "+t.Strong.Render(sanitize.Line(s.Title.Of, 40))+"  "+sanitize.Line(say, 300), 5, m.width-1).Whole
}

// age says how old what is known of a source is.
func age(k estate.Kept) string {
	if k.Read.IsZero() {
		return "nothing is known of it"
	}
	return "what is known is " + fit.Ago(time.Since(k.Read)) + " old"
}

// View draws the place.
func (m *Model) View() []string {
	switch {
	case m.launch != nil:
		return m.launchView()
	case m.pairs:
		return m.pairsView()
	case m.console != nil:
		return m.consoleView()
	case m.exposed != nil:
		return m.exposedView()
	}
	t := m.s.Theme
	title := t.Accent.Render("estate")
	if m.unused {
		title += t.Accent.Render(" / not used for a week")
	}
	if m.typing || m.query.String() != "" {
		text := t.Strong.Render(sanitize.Line(m.query.String(), 60))
		if m.typing {
			text = m.line.View(40)
		}
		title += t.Accent.Render(" / ") + text
	}
	lines := append([]string{t.Title(title, t.Faint.Render(m.title()), m.width, fit.Spread)}, m.head()...)
	if say := m.empty(); say != "" {
		return append(append(lines, ""), fit.Hang("   "+t.Faint.Render(say), 3, m.width-1).Whole...)
	}
	list, pane, beside := place.Halves(m.width)
	var picture []string
	live := m.live()
	for _, r := range m.rows[min(m.top, len(m.rows)):min(m.top+m.room(), len(m.rows))] {
		if r.to == 0 {
			picture = append(picture, m.areaTitle(r.area, list, live))
		} else {
			picture = append(picture, fit.Cut(m.spots(r, live), list))
		}
	}
	if below := len(m.rows) - m.top - m.room(); below > 0 && len(picture) > 0 {
		last, more := len(picture)-1, t.Faint.Render(fmt.Sprintf("  %d more lines below ", below))
		picture[last] = fit.Pad(strings.TrimRight(picture[last], " "), list-fit.Width(more)) + more
	}
	card := m.card(pane)
	if beside {
		return append(lines, place.Joined(t, picture, card, list, max(m.height-len(lines), 0))...)
	}
	for len(picture) < m.room() {
		picture = append(picture, "")
	}
	lines = append(lines, picture...)
	return append(lines, card[:max(min(len(card), m.height-len(lines)), 0)]...)
}

// title says how much there is, and how old it is.
func (m *Model) title() string {
	var ages []string
	for _, k := range m.s.Workspace().Estates {
		if !k.Read.IsZero() && k.Failed == "" {
			ages = append(ages, sanitize.Line(k.Source, 20)+" read "+fit.Ago(time.Since(k.Read))+" ago")
		}
	}
	return strings.Join(append([]string{m.summary()}, ages...), " · ")
}

// empty says why there is nothing to draw, "" where there is something.
func (m *Model) empty() string {
	known := m.s.Workspace().Estates
	switch {
	case len(known) == 0:
		return "No estate is named. A table [estate.NAME] of sessions.toml says where instances are known from: a document in a file, at an address or from a command of yours."
	case !m.grouped || slices.ContainsFunc(known, func(k estate.Kept) bool { return k.Read.IsZero() && k.Failed == "" }) && len(m.areas) == 0:
		return "looking …"
	case len(m.areas) == 0 && m.query.String() != "":
		return "No instance is chosen by that."
	case len(m.areas) == 0 && m.unused:
		return "Everything that runs was used from here within the week, or runs for less."
	case len(m.areas) == 0:
		return "There are no instances."
	}
	return ""
}

// live are the areas that something live leads into, or through.
func (m *Model) live() map[int]bool {
	live := map[int]bool{}
	names := map[string]bool{}
	for _, i := range m.s.Board.Live() {
		if b := m.s.Workspace().Book; i < len(b.Sessions) {
			names[b.Sessions[i].Name] = true
		}
	}
	if len(names) == 0 {
		return live
	}
	for a := range m.areas {
		for _, s := range m.areas[a].Spots {
			if slices.ContainsFunc(s.Sessions, func(name string) bool { return names[name] }) {
				for up := a; up >= 0 && !live[up]; up = m.areas[up].Parent {
					live[up] = true
				}
			}
		}
	}
	return live
}

// rails are what leads past a line of an area to what stands below it.
func (m *Model) rails(area int, live map[int]bool) string {
	text := ""
	for a := area; a >= 0; a = m.areas[a].Parent {
		text = m.rail(a, live) + text
	}
	return "  " + text
}

// rail is that of one area: there where another stands below it under the same parent.
func (m *Model) rail(a int, live map[int]bool) string {
	if m.areas[a].Last {
		return "   "
	}
	for next := a + 1; next < len(m.areas); next++ {
		if m.areas[next].Parent == m.areas[a].Parent && live[next] {
			return m.s.Theme.Live.Render("┃") + "  "
		}
	}
	return m.s.Theme.Rule.Render("│") + "  "
}

// areaTitle names an area, says how one gets into it, and counts what is there.
func (m *Model) areaTitle(at, width int, live map[int]bool) string {
	t, a := m.s.Theme, &m.areas[at]
	style, turn, stroke := t.Rule, "├", "─"
	if a.Last {
		turn = "└"
	}
	switch {
	case live[at]:
		style, turn, stroke = t.Live, map[bool]string{false: "┣", true: "┗"}[a.Last], "━"
	case !a.Reached:
		stroke = "┈"
	}
	before := "  "
	if a.Parent >= 0 {
		before = m.rails(a.Parent, live)
	}
	left := before + style.Render(turn+stroke) + " " + t.Strong.Render(sanitize.Line(a.Name(), 40))
	if a.Network != nil && len(a.Network.CIDRs) > 0 {
		left += t.Faint.Render(" " + a.Network.CIDRs[0].String())
	}
	if len(m.s.Workspace().Estates) > 1 {
		left += t.Faint.Render(" of " + sanitize.Line(a.Source.Source, 20))
	}
	switch {
	case !a.Reached:
		left += t.Faint.Render(", no session leads here")
	case a.Through == "":
		left += t.Text.Render(", from here")
	default:
		left += t.Text.Render(", through " + sanitize.Line(a.Through, 40))
	}
	count := t.Faint.Render(" " + words.Count(len(a.Spots), "instance") + " ")
	for _, say := range a.Joins() { // where there is room for it
		if say = t.Faint.Render("; " + sanitize.Line(say, 100)); fit.Width(left+say+count)+3 <= width {
			left += say
		}
	}
	return fit.Spread(left+" ", count, width-1, t.Rule.Render("─"))
}

// spots draws some instances of an area side by side.
func (m *Model) spots(r row, live map[int]bool) string {
	t := m.s.Theme
	links := m.s.Board.Links()
	rail := " "
	if kid := r.area + 1; kid < len(m.areas) && m.areas[kid].Parent == r.area { // what hangs from it stands below
		if rail = t.Rule.Render("│"); live[kid] {
			rail = t.Live.Render("┃")
		}
	}
	line := m.rails(r.area, live) + rail + " "
	for n := r.from; n < r.to; n++ {
		s := &m.areas[r.area].Spots[n]
		name, mark := t.Text.Render(called(s.Instance)), t.Faint.Render("·")
		if s.Instance.State != estate.Running {
			name = t.Faint.Render(called(s.Instance))
		}
		if len(s.Sessions) > 0 {
			mark = m.mark(s.Sessions[0], links)
		}
		pointer := " "
		if m.gone == "" && m.at == (spot{r.area, n}) {
			pointer, name = t.Accent.Render(theme.Chosen), t.Strong.Render(called(s.Instance))
		}
		if m.scratch != nil {
			name, mark = m.scratch.lit(t, s, name, mark)
		}
		text := pointer + mark + " " + name
		if say := state(s.Instance); say != "" {
			text += " " + t.Faint.Render(say)
		}
		line += fit.Pad(text, r.cell)
	}
	return line
}

// mark is how a session stands: live, or how its gates were judged.
func (m *Model) mark(session string, links *board.Links) string {
	s, ok := m.s.Board.State(session)
	if ok && s.Details != nil {
		if n := len(s.Details.Links); n > 0 && links.At(s.Details.Links[n-1]) != nil {
			return m.s.Theme.Live.Render("━")
		}
	}
	return m.s.Theme.Mark(s.Verdict)
}

// card is everything that is known of the chosen instance.
func (m *Model) card(width int) []string {
	t, s := m.s.Theme, m.chosen()
	if s == nil {
		return nil
	}
	if m.scratch != nil {
		return m.scratchCard(s, width)
	}
	if m.waysShow() {
		return m.waysCard(s, width)
	}
	i := s.Instance
	lines := []string{t.Title(t.Strong.Render(called(i)), t.Faint.Render(sanitize.Line(i.ID, 40)), width, fit.Spread)}
	const words = 11
	say := func(word, text string) {
		lines = append(lines, fit.Hang("   "+t.Faint.Render(fit.Pad(word, words-1))+" "+text, 3+words, width-1).Whole...)
	}
	say("state", t.Text.Render(string(i.State))+t.Faint.Render(since(s)+checks(i)))
	if i.Wrong != "" {
		say("wrong", t.Verdict(gate.Ajar).Render(sanitize.Line(i.Wrong, 300)))
	}
	if idle := m.idleOf(s); idle != "" {
		say("used", t.Verdict(gate.Ajar).Render(idle))
	}
	m.tellSessions(s, say)
	m.tellJoined(s, say)
	m.tellFacts(s, say)
	return lines
}

// tellFacts tells what an instance is and has: its addresses, what it is made from, its rules, its changes.
func (m *Model) tellFacts(s *estate.Spot, say func(word, text string)) {
	t, i, snapshot := m.s.Theme, s.Instance, &s.Source.Snapshot
	for n, a := range i.Addresses {
		word := ""
		if n == 0 {
			word = "address"
		}
		where := "in " + snapshot.NetworkName(a.Network)
		if a.Outside {
			where = "outside"
		} else if a.Network == "" {
			where = "inside"
		}
		say(word, t.Text.Render(a.IP.String())+t.Faint.Render(" "+where))
	}
	if image, ok := snapshot.ImageOf(i); ok {
		text := sanitize.Line(image.Name, 60)
		if login := image.UsualLogin(); login != "" {
			text += t.Faint.Render(", its usual login is " + sanitize.Line(login, 32))
		}
		say("image", text)
	}
	if i.Size != "" {
		say("size", sanitize.Line(i.Size, 60))
	}
	if i.KeyPair != "" {
		here := t.Faint.Render(", no file of it is here")
		if file := m.files[snapshot.KeyPairOf(i)]; file != "" {
			here = t.Faint.Render(", here " + sanitize.Path(file))
		}
		say("key pair", sanitize.Line(i.KeyPair, 60)+here)
	}
	for n, joins := range m.areas[m.at.area].Joins() {
		say(map[bool]string{true: "network"}[n == 0], t.Faint.Render(sanitize.Line(joins, 200)))
	}
	if len(i.Tags) > 0 {
		say("tags", sanitize.Line(tags(i.Tags), 300))
	}
	for n, rule := range snapshot.Sentences(i) {
		word := ""
		if n == 0 {
			word = "rules"
		}
		say(word, t.Text.Render(sanitize.Line(rule, 200)))
	}
	word := "changes"
	for _, c := range slices.Backward(s.Source.Changes) {
		if c.ID == i.ID {
			say(word, t.Faint.Render(c.Seen.Local().Format("2 Jan 15:04 "))+sanitize.Line(c.Say, 200))
			word = ""
		}
	}
}

// tellSessions tells which sessions lead to an instance, and how the gates of the first stand that are
// not open; or that none does.
func (m *Model) tellSessions(s *estate.Spot, say func(word, text string)) {
	t := m.s.Theme
	links := m.s.Board.Links()
	if len(s.Sessions) == 0 {
		say("session", t.Faint.Render("none leads to it; "+m.s.Press("new")+" makes one"))
		return
	}
	for n, name := range s.Sessions[:min(len(s.Sessions), 4)] {
		word, text := "", m.mark(name, links)+" "+t.Strong.Render(name)
		if n == 0 {
			word = "session"
		}
		state, _ := m.s.Board.State(name)
		if state.Details != nil {
			var hops []string
			for _, h := range state.Details.Route.Hops[:max(len(state.Details.Route.Hops)-1, 0)] {
				hops = append(hops, h.Name)
			}
			if len(hops) > 0 {
				text += t.Faint.Render(" through " + strings.Join(hops, ", "))
			}
			if broken := state.Details.Report.Broken; broken != "" {
				text += ": " + sanitize.Line(broken, 300)
			}
		}
		say(word, text)
		if state.Details == nil || n > 0 || len(state.Details.Report.Hops) == 0 {
			continue
		}
		for _, g := range state.Details.Report.Hops[len(state.Details.Report.Hops)-1].Gates {
			seen := g.Seen
			if g.Verdict >= gate.Ajar && g.Reason != "" {
				seen = g.Reason
			}
			say("", t.Mark(g.Verdict)+" "+t.Faint.Render(fit.Pad(g.Kind.String(), 9))+sanitize.Line(seen, 300))
		}
	}
}

// tellJoined tells as what an instance has joined gateways, and whether there could be another way.
func (m *Model) tellJoined(s *estate.Spot, say func(word, text string)) {
	t := m.s.Theme
	as := m.s.JoinedAs(s.Instance.ID)
	for n, j := range as {
		text := t.Strong.Render(j.Name) + t.Faint.Render(" is not joined at "+j.Gateway)
		if !j.Joined.IsZero() {
			text = t.Strong.Render(j.Name) + " joined " + j.Gateway + t.Faint.Render(" "+fit.Ago(time.Since(j.Joined))+" ago")
		}
		say(map[bool]string{true: "gateway"}[n == 0], t.Accent.Render(theme.Gateway)+" "+text)
	}
	if len(as) > 0 && len(s.Instance.Groups) > 0 && !s.Source.Snapshot.LetsIn(s.Instance) {
		say("", t.Faint.Render("no rule lets anybody in: there is no other way"))
	}
}

func since(s *estate.Spot) string {
	if at := s.Source.Since(s.Instance); !at.IsZero() {
		return " since " + at.Local().Format("2 Jan 15:04")
	}
	return ""
}

func checks(i *estate.Instance) string {
	switch i.Checks {
	case estate.Passed:
		return ", its checks are passed"
	case estate.Initializing:
		return ", its checks go on"
	case estate.Failing:
		return ", its checks fail"
	}
	return ""
}

func tags(all map[string]string) string {
	var list []string
	for k, v := range all {
		list = append(list, k+"="+v)
	}
	slices.Sort(list)
	return strings.Join(list, ", ")
}
