package estates

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/localaddr"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/tui/fit"
)

// found are the ways to an instance, or where there is none the nearest misses.
type found struct {
	id           string
	ways, misses []reach.Way
}

// findWays finds the ways to the chosen instance, or puts them away.
func (m *Model) findWays() tea.Cmd {
	s := m.chosen()
	if m.ways != nil && m.ways.id == s.Instance.ID {
		m.ways, m.details = nil, false
		m.settle()
		return nil
	}
	ws, journal, kept, id := m.s.Workspace(), m.s.Trail, s.Source, s.Instance.ID
	return m.s.Run(func() tea.Msg {
		visits := map[string]time.Time{}
		if journal != nil {
			visits = journal.Visits()
		}
		f := reach.Finding{Here: localaddr.Outside(), To: kept.Snapshot.Instance(id), Port: reach.Port{Protocol: "tcp", Number: 22}, Means: ws.MeansOf(kept, visits)}
		if f.To == nil {
			return found{id: id}
		}
		ways, misses := reach.NewJudge(&kept.Snapshot).Ways(f)
		return found{id, ways, misses}
	})
}

// waysCard draws the ways to an instance in place of its card, each hop with its proof.
func (m *Model) waysCard(s *estate.Spot, width int) []string {
	t := m.s.Theme
	lines := []string{t.Title(t.Strong.Render("ways to "+called(s.Instance))+t.Faint.Render(", tcp 22"), t.Faint.Render(m.s.Press("via")+" its card"), width, fit.Spread)}
	say := func(begin, text string) {
		lines = append(lines, fit.Hang(begin+text, fit.Width(begin), width-1).Whole...)
	}
	ways := m.ways.ways
	if len(ways) == 0 {
		ways = m.ways.misses
		say("   "+t.Mark(gate.Shut)+" ", "there is none, by what estate "+sanitize.Line(s.Source.Source, 20)+" knows; the nearest misses:")
	}
	for _, w := range ways {
		way := t.Accent.Render("here")
		for _, h := range w.Hops {
			stroke := "──"
			if !h.Answer.Open {
				stroke = "┈┈"
			}
			way += t.Rule.Render(" "+stroke+" ") + t.Strong.Render(sanitize.Line(h.Name, 40))
		}
		say("   ", way)
		for _, h := range w.Hops {
			m.tellHop(h, say)
		}
	}
	return lines
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
	for _, l := range h.Answer.Proof {
		mark := t.Mark(gate.Open)
		switch {
		case !l.Open:
			mark = t.Mark(gate.Shut)
		case h.Answer.Everybody && l.Stage == reach.In:
			mark = t.Mark(gate.Ajar)
		}
		say("       "+mark+" ", sanitize.Line(l.Say, 300))
	}
	if h.Answer.Change != nil {
		say("       "+t.Accent.Render("→")+" ", sanitize.Line(h.Answer.Change.Say, 300))
	}
}
