package routes

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/needs"
	"meatus/core/trail"
	"meatus/core/work"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// needing is what needs the person, above the board.
type needing struct {
	all    []needs.Need
	keys   []workspace.Key
	stamp  string // of the key files that keys is of
	seen   needs.Seen
	recap  trail.Recap
	asked  string   // who asks to use a forwarded key
	before []string // sessions whose shells were open last time
	reopen func() tea.Cmd
	folded bool
	read   bool      // the files were read once
	last   time.Time // when it was told last
	due    bool      // it is told again in a moment
}

// The messages of it: the files that were read, and that it is time to tell it again.
type (
	needsRead struct {
		keys  []workspace.Key
		stamp string
		seen  needs.Seen
		recap trail.Recap
		first bool
		read  bool // the keys were
	}
	needsDue struct{}
)

// needsEvery is how often what needs the person is told anew at most.
const needsEvery = time.Second

// lookForNeeds reads the key files and, the first time, what was there when one last looked.
func (m *Model) lookForNeeds(first bool) tea.Cmd {
	ws, journal, notice, stamp := m.ws, m.s.Trail, m.s.Notice, m.needs.stamp
	return m.s.Run(func() tea.Msg {
		r := needsRead{first: first, stamp: ws.KeysStamp()}
		if r.read = first || r.stamp != stamp; r.read {
			r.keys = ws.Keys()
		}
		if first {
			var err error
			if r.seen, err = needs.ReadSeen(ws); err != nil {
				notice(err.Error())
			}
			if journal != nil && !r.seen.At.IsZero() {
				r.recap, _ = journal.Recap(context.Background(), r.seen.At, time.Now(), nil)
			}
		}
		return r
	})
}

// takeNeeds takes what was read.
func (m *Model) takeNeeds(r needsRead) tea.Cmd {
	n := &m.needs
	if r.read {
		n.keys, n.stamp = slices.DeleteFunc(r.keys, func(k workspace.Key) bool { // the others tell nothing
			return k.Source != workspace.Downloaded && !k.Loose() && k.Cert == nil
		}), r.stamp
	}
	if r.first {
		n.read = true
		n.seen, n.recap = r.seen, r.recap
	}
	n.last = time.Time{} // what was read is told at once
	return m.tellNeeds()
}

// tellNeeds tells anew what needs the person, at once or in a moment.
func (m *Model) tellNeeds() tea.Cmd {
	n := &m.needs
	if since := time.Since(n.last); since < needsEvery {
		if n.due {
			return nil
		}
		n.due = true
		return m.s.After(needsEvery-since, needsDue{})
	}
	n.last, n.due = time.Now(), false
	s := needs.Sources{Causes: m.s.Board.Causes(), Keys: n.keys, Lost: m.s.Board.Losses(), Asked: n.asked, Before: n.before, Recap: n.recap, Seen: n.seen, Grants: m.s.Grants(), Now: n.last}
	for _, l := range m.s.Board.Links().All() {
		s.Links = append(s.Links, l.State)
	}
	s.Tunnels = m.s.Board.OpenTunnels()
	n.all = needs.Of(s)
	m.settle()
	return nil
}

// SetAsked says who asks to use a forwarded key, "" for nobody.
func (m *Model) SetAsked(who string) {
	if m.needs.asked != who {
		m.needs.asked, m.needs.last = who, time.Time{}
		m.tellNeeds()
	}
}

// SetLast says which sessions' shells were open last time, and what opens them again.
func (m *Model) SetLast(sessions []string, reopen func() tea.Cmd) {
	m.needs.before, m.needs.reopen, m.needs.last = sessions, reopen, time.Time{}
	m.tellNeeds()
}

// Remember remembers what needs the person now, as seen. It writes to disk.
func (m *Model) Remember() error {
	if !m.needs.read {
		return nil
	}
	m.needs.last = time.Time{}
	m.tellNeeds()
	return needs.Remember(m.ws, m.needs.all, time.Now())
}

// needsRows is how many of them are shown.
func (m *Model) needsRows() int {
	if m.needs.folded {
		return 0
	}
	return min(len(m.needs.all), max(m.height/10, 2), 8)
}

// needsLines is how many lines they take above the board.
func (m *Model) needsLines() int {
	return len(m.viewNeeds())
}

// tall is from how many rows of the place on what needs the person is not cut.
const tall = 40

// viewNeeds draws what needs the person.
func (m *Model) viewNeeds() []string {
	if len(m.needs.all) == 0 || m.find.on || m.alone() && (m.onCard || m.pane != nil) {
		return nil
	}
	t, all := m.s.Theme, m.needs.all
	fresh := 0
	for _, n := range all {
		if n.New {
			fresh++
		}
	}
	say := fmt.Sprint(len(all))
	if rows := m.needsRows(); rows > 0 && rows < len(all) {
		say = fmt.Sprintf("%d of %d", rows, len(all))
	}
	if fresh > 0 {
		say += fmt.Sprintf(", %d new", fresh)
	}
	does := " folds it"
	if m.needs.folded {
		does = " unfolds it"
	}
	lines := []string{t.Title(t.Strong.Render("needs you")+" "+t.Faint.Render(say), t.Key.Render(m.s.Press("fold"))+t.Faint.Render(does), m.width, fit.Spread)}
	shown := all[:m.needsRows()]
	wide := 0
	for _, n := range shown {
		wide = max(wide, min(fit.Width(n.Of), 28))
	}
	for i, n := range shown {
		lines = append(lines, m.needLine(i, n, wide)...)
	}
	return lines
}

// needLine draws one: the key that jumps there, what it is about, what is wrong, what mends it. In a
// tall window it takes the lines that it needs.
func (m *Model) needLine(i int, n needs.Need, wide int) []string {
	t := m.s.Theme
	mark := t.Mark(gate.Shut)
	switch n.Kind {
	case needs.Lost, needs.Open, needs.Certificate, needs.Meanwhile:
		mark = t.Mark(gate.Ajar)
	case needs.Asked, needs.Arrived, needs.Before, needs.Standing:
		mark = t.Accent.Render("▲")
	}
	say := n.Say
	if n.Sessions > 1 && n.Kind != needs.Before {
		say += fmt.Sprintf(" (%d sessions)", n.Sessions)
	}
	fresh := ""
	if n.New {
		fresh = t.Accent.Render("new ")
	}
	begin := " " + t.Key.Render(fmt.Sprint(i+1)) + " " + mark + " " + t.Strong.Render(fit.Pad(n.Of, wide)) + "  " + fresh
	if whole := say + "  " + theme.Remedy + " " + n.Remedy; m.height >= tall && n.Remedy != "" && fit.Width(begin+whole) > m.width {
		return append(wrapped(begin, say, m.width), wrapped(strings.Repeat(" ", fit.Width(begin))+t.Accent.Render(theme.Remedy+" "), t.Faint.Render(n.Remedy), m.width)...)
	}
	line := begin + say
	if rest := m.width - fit.Width(line) - 4; n.Remedy != "" && rest > 12 {
		line += t.Accent.Render("  "+theme.Remedy+" ") + t.Faint.Render(fit.Cut(n.Remedy, rest))
	}
	return []string{fit.Cut(line, m.width)}
}

// jump goes to what a need is about.
func (m *Model) jump(msg tea.KeyPressMsg) tea.Cmd {
	i := strings.Index("12345678", msg.String())
	if i < 0 || msg.String() == "" { // from the finder: the gravest
		i = 0
	}
	if i >= m.needsRows() {
		return nil
	}
	n := m.needs.all[i]
	switch {
	case n.Kind == needs.Before:
		return m.needs.reopen()
	case n.Kind == needs.Meanwhile:
		return m.s.Go("T", "")
	case n.Kind == needs.Standing:
		m.Select(n.Session)
		return m.s.Confirm(place.Confirm{Subject: n.Mark, Say: fmt.Sprintf("%d again to take the rule back now: %s, %s", i+1, n.Of, n.Say), Do: func() tea.Cmd { return m.takeBack(n.Mark) }})
	case n.Kind == needs.Asked:
		m.s.Tell("the question is answered with the leader key, then a")
	case n.Session != "":
		m.Select(n.Session)
	case n.Key != "":
		return m.s.Go("K", n.Key)
	}
	return nil
}

// takeBack takes a rule back that stands for a time.
func (m *Model) takeBack(mark string) tea.Cmd {
	grants := slices.DeleteFunc(slices.Clone(m.s.Grants()), func(g estate.Grant) bool { return g.Mark != mark })
	m.s.Jobs.Begin(&work.TakeBack{Tools: m.s.Tools(), Grants: grants, Read: m.s.ReadEstates})
	return nil
}

// foldNeeds folds the list to its line, or unfolds it.
func (m *Model) foldNeeds() tea.Cmd {
	m.needs.folded = !m.needs.folded
	m.settle()
	return nil
}
