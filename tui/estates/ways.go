package estates

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"meatus/core/book"
	"meatus/core/draw"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/work"
	"meatus/tui/fit"
	"meatus/tui/form"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// found are the ways to an instance, or where there is none the nearest misses; or where it gets to.
type found struct {
	id           string
	from         bool // where it gets to, in place of the ways to it
	ways, misses []reach.Way
	reached      []reach.Reached
	at           int // the way, or the one that is reached, whose proof shows
	port         reach.Port
}

// findWays shows the ways to the chosen instance, then where it gets to, then its card.
func (m *Model) findWays() tea.Cmd {
	s := m.chosen()
	from := false
	if m.ways != nil && m.ways.id == s.Instance.ID {
		if m.ways.from {
			m.ways, m.details = nil, false
			m.settle()
			return nil
		}
		from = true
	}
	return m.findAt(from, sshPort)
}

// findAt finds the ways to a port of the chosen instance, or where it gets to.
func (m *Model) findAt(from bool, port reach.Port) tea.Cmd {
	s := m.chosen()
	ws, journal, source, i := m.s.Workspace(), m.s.Trail, s.Source.Source, s.Instance
	return m.s.Run(func() tea.Msg {
		f := found{id: i.ID, from: from, port: port}
		j := ws.Judge(source)
		if j == nil || j.Instance(i.ID) == nil {
			return f
		}
		if from {
			f.reached = j.From(j.Instance(i.ID))
			return f
		}
		visits := visitsOf(journal)
		f.ways, f.misses = ws.WaysTo(source, i, port, visits)
		return f
	})
}

// sshPort is the port that ways to an instance lead to, where no other is asked for.
var sshPort = reach.Port{Protocol: "tcp", Number: 22}

// askPort asks for another port that the ways are to lead to.
func (m *Model) askPort() tea.Cmd {
	return m.ask("port", form.Step{Prompt: "which port, as 5432 or udp/53: "})
}

// shown is how many ways, or instances that are reached, show.
func (f *found) shown() int {
	switch {
	case f.from:
		return len(f.reached)
	case len(f.ways) > 0:
		return len(f.ways)
	}
	return len(f.misses)
}

// next shows the proof of the next way, or the one before.
func (m *Model) next(by int) func() tea.Cmd {
	return func() tea.Cmd {
		if n := m.ways.shown(); n > 0 {
			m.ways.at = (m.ways.at + by + n) % n
		}
		return nil
	}
}

// waysShow tells whether ways of the chosen instance show, or where it gets to.
func (m *Model) waysShow() bool {
	s := m.chosen()
	return m.ways != nil && s != nil && m.ways.id == s.Instance.ID
}

// wayShows tells whether a way to the chosen instance shows that a session can go.
func (m *Model) wayShows() bool {
	return m.waysShow() && len(m.ways.ways) > 0 && m.ways.port == sshPort
}

// makeWay writes the sessions that the shown way needs.
func (m *Model) makeWay() tea.Cmd {
	way, ws := m.ways.ways[m.ways.at], m.s.Workspace()
	drafts, last := ws.Drafts(m.chosen().Source.Source, way)
	if len(drafts) == 0 {
		m.s.Tell("session " + last + " goes that way")
		return nil
	}
	var names []string
	for _, d := range drafts {
		name := d.Name
		if len(d.Via) > 0 {
			name += ", via " + d.Via[0]
		}
		names = append(names, name)
	}
	do := func() tea.Cmd {
		adopt := m.s.Adopt
		return m.s.Run(func() tea.Msg {
			for _, d := range drafts {
				b, err := book.Add(ws.SessionsPath(), d)
				if err != nil {
					return added{err}
				}
				adopt(b, d.Name, "session "+d.Name+" is bound to instance "+d.Instance)
			}
			return added{}
		})
	}
	return m.s.Confirm(place.Confirm{Subject: strings.Join(names, ";"), Say: fmt.Sprintf("%s again to write session %s", m.s.Press("new"), strings.Join(names, "; and ")), Do: do})
}

// draw draws the estate of the chosen instance, with the way to it highlighted where ways show.
func (m *Model) draw() tea.Cmd {
	ws, journal, source, wayTo := m.s.Workspace(), m.s.Trail, m.chosen().Source.Source, ""
	if m.waysShow() && !m.ways.from && len(m.ways.ways) > 0 {
		wayTo = m.ways.id
	}
	return m.s.Draw(place.Drawing{Kind: "estate", Of: "estate " + sanitize.Line(source, 20), Private: "addresses", Make: func(private bool) work.Draw {
		return work.Draw{Of: "estate " + source, Make: func(context.Context) (draw.Drawing, error) {
			visits := visitsOf(journal)
			d, err := work.Estate(ws, source, wayTo, visits)
			d.Private = private
			return d, err
		}}
	}})
}

// waysCard draws the ways to an instance in place of its card, the chosen one with its proof hop by hop; or where
// it gets to.
func (m *Model) waysCard(s *estate.Spot, width int) []string {
	t, f := m.s.Theme, m.ways
	title := t.Strong.Render("ways to "+called(s.Instance)) + t.Faint.Render(", "+f.port.String())
	if f.from {
		title = t.Strong.Render("from " + called(s.Instance))
	}
	count := ""
	if n := f.shown(); n > 1 {
		count = t.Faint.Render(fmt.Sprintf("%d of %d, tab the next", f.at+1, n))
	}
	lines := []string{t.Title(title, count, width, fit.Spread)}
	say := func(begin, text string) {
		lines = append(lines, fit.Hang(begin+text, fit.Width(begin), width-1).Whole...)
	}
	if f.from {
		m.tellReached(say)
		return lines
	}
	ways := f.ways
	if len(ways) == 0 {
		ways = f.misses
		say("   "+t.Mark(gate.Shut)+" ", "there is none, by what estate "+sanitize.Line(s.Source.Source, 20)+" knows; the nearest misses:")
	}
	for n, w := range ways {
		pointer, style := "   ", t.Text
		if n == f.at {
			pointer, style = " "+t.Accent.Render(theme.Chosen)+" ", t.Strong
		}
		way := t.Accent.Render("here")
		for _, h := range w.Hops {
			stroke := "──"
			if !h.Answer.Open {
				stroke = "┈┈"
			}
			way += t.Rule.Render(" "+stroke+" ") + style.Render(sanitize.Line(h.Name, 40))
		}
		say(pointer, way)
		if n != f.at {
			continue
		}
		for _, h := range w.Hops {
			m.tellHop(h, say)
		}
	}
	return lines
}

// tellReached tells where an instance gets to, at which ports, with the proof of the chosen one.
func (m *Model) tellReached(say func(begin, text string)) {
	t, f := m.s.Theme, m.ways
	if len(f.reached) == 0 {
		say("   "+t.Mark(gate.Shut)+" ", "it gets to no other, by what is known of the rules")
	}
	for n, r := range f.reached {
		pointer, style := "   ", t.Text
		if n == f.at {
			pointer, style = " "+t.Accent.Render(theme.Chosen)+" ", t.Strong
		}
		say(pointer+t.Rule.Render("── "), style.Render(called(r.To))+t.Faint.Render("  "+sanitize.Line(strings.Join(r.Ports, ", "), 200)))
		if n == f.at {
			m.tellProof(r.Answer, say)
		}
	}
}

// tellHop tells of a hop what one logs in with, and the proof that one gets there.
func (m *Model) tellHop(h reach.Hop, say func(begin, text string)) {
	t := m.s.Theme
	var with []string
	if h.Means.Session != "" {
		with = append(with, "session "+sanitize.Line(h.Means.Session, 40))
	}
	if h.Means.Login != "" && h.Means.Key != "" {
		with = append(with, sanitize.Line(h.Means.Login, 32)+" with "+sanitize.Path(h.Means.Key))
	}
	if len(with) == 0 {
		with = []string{t.Verdict(gate.Ajar).Render("nothing at hand logs in")}
	}
	say("     "+t.Accent.Render("▸")+" ", sanitize.Line(h.Name, 40)+t.Faint.Render(": "+strings.Join(with, ", ")))
	m.tellProof(h.Answer, say)
}

// tellProof tells a proof, a line each.
func (m *Model) tellProof(a reach.Answer, say func(begin, text string)) {
	t := m.s.Theme
	for _, l := range a.Proof {
		mark := t.Mark(gate.Open)
		switch {
		case !l.Open:
			mark = t.Mark(gate.Shut)
		case a.Everybody && l.Stage == reach.In:
			mark = t.Mark(gate.Ajar)
		}
		say("       "+mark+" ", sanitize.Line(l.Say, 300))
	}
	if a.Change != nil {
		say("       "+t.Accent.Render("→")+" ", sanitize.Line(a.Change.Say, 300))
	}
}
