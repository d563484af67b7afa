package estates

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"meatus/core/atomicfile"
	"meatus/core/estate"
	"meatus/core/gate"
	"meatus/core/reach"
	"meatus/core/sanitize"
	"meatus/core/words"
	"meatus/core/work"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/place"
	"meatus/tui/theme"
)

// scratch is what rules one tries, and what they would do. Nothing of it is changed anywhere but here.
type scratch struct {
	source  string
	judge   *reach.Judge
	probes  []reach.Probe // what sessions want, nil until they are found
	edits   []reach.Edit
	at      int  // the chosen rule of the chosen instance
	typing  bool // a rule is typed
	typed   *reach.Edit
	mistake string
	effects reach.Effects
	asked   int
	marks   map[string]lit  // by instance id
	turned  map[string]bool // by session: whether it opens
}

// lit is how an instance lights up.
type lit struct {
	verdict gate.Verdict
	exposed bool
}

// These are what edits do, and what became of a file of them.
type (
	effects struct {
		asked   int
		probes  []reach.Probe
		effects reach.Effects
		err     error
	}
	written struct {
		path string
		err  error
	}
)

// ruleRow is a rule of the chosen instance: as it is, dropped, or added.
type ruleRow struct {
	group         string
	rule          estate.Rule
	dropped, made bool
}

func (m *Model) beginScratch() tea.Cmd {
	source := m.chosen().Source.Source
	j := m.s.Workspace().Judge(source)
	if j == nil {
		m.s.Tell("nothing is known of estate " + sanitize.Line(source, 20))
		return nil
	}
	m.scratch = &scratch{source: source, judge: j, marks: map[string]lit{}}
	m.ways, m.details = nil, true
	m.settle()
	return m.try()
}

// renewScratch goes on with the rules as they are now; edits that fit them no more are told.
func (m *Model) renewScratch() tea.Cmd {
	s := m.scratch
	j := m.s.Workspace().Judge(s.source)
	if j == nil {
		return nil
	}
	s.judge, s.probes = j, nil
	s.edits = slices.DeleteFunc(s.edits, func(e reach.Edit) bool { _, err := j.With([]reach.Edit{e}); return err != nil })
	return m.try()
}

// all are the edits, with the one that is typed.
func (s *scratch) all() []reach.Edit {
	if s.typed != nil {
		return append(slices.Clip(s.edits), *s.typed)
	}
	return s.edits
}

// try finds out what the edits do.
func (m *Model) try() tea.Cmd {
	s := m.scratch
	s.asked++
	asked, edits, probes, source, ws, journal := s.asked, slices.Clone(s.all()), s.probes, s.source, m.s.Workspace(), m.s.Trail
	return m.s.Run(func() tea.Msg {
		out := effects{asked: asked, probes: probes}
		if out.probes == nil {
			out.probes = ws.Probes(source)
		}
		out.effects, out.err = ws.WhatIf(source, edits, out.probes, visitsOf(journal))
		return out
	})
}

// takeEffects lights up what they are about.
func (m *Model) takeEffects(msg effects) {
	s := m.scratch
	if s == nil || msg.asked != s.asked {
		return
	}
	s.probes = msg.probes
	if s.mistake = ""; msg.err != nil {
		s.mistake = msg.err.Error()
		return
	}
	s.effects, s.marks, s.turned = msg.effects, map[string]lit{}, map[string]bool{}
	for _, shift := range s.effects.Shifts {
		for _, i := range shift.Instances {
			l := s.marks[i.ID]
			l.exposed = l.exposed || shift.Everybody > 0
			l.verdict = max(l.verdict, gate.Ajar)
			s.marks[i.ID] = l
		}
	}
	for _, t := range s.effects.Turned {
		s.turned[t.Session] = t.Open
		l := s.marks[t.To.ID]
		if l.verdict = gate.Shut; t.Open {
			l.verdict = gate.Open
		}
		s.marks[t.To.ID] = l
	}
	for _, p := range s.effects.Paths {
		l := s.marks[p.To.ID]
		if l.verdict = gate.Shut; p.Open {
			l.verdict = gate.Open
		}
		s.marks[p.To.ID] = l
	}
}

// lit is an instance's name and mark where the scratch changes something for it.
func (s *scratch) lit(t *theme.Theme, at *estate.Spot, name, mark string) (string, string) {
	l, ok := s.marks[at.Instance.ID]
	for _, session := range at.Sessions {
		if opens, turned := s.turned[session]; turned && !ok {
			l.verdict, ok = map[bool]gate.Verdict{true: gate.Open, false: gate.Shut}[opens], true
		}
	}
	if !ok || at.Source.Source != s.source {
		return name, mark
	}
	say := called(at.Instance)
	if l.exposed {
		return t.Verdict(gate.Shut).Render(say + "!"), t.Mark(gate.Shut)
	}
	return t.Verdict(l.verdict).Render(say), t.Mark(l.verdict)
}

// rules are those of the chosen instance's groups, with what the scratch changes.
func (m *Model) rules() []ruleRow {
	s, spot := m.scratch, m.chosen()
	if spot == nil || spot.Source.Source != s.source {
		return nil
	}
	var rows []ruleRow
	for _, id := range spot.Instance.Groups {
		g, err := spot.Source.Snapshot.GroupNamed(id)
		if err != nil {
			continue
		}
		for _, r := range g.Rules {
			rows = append(rows, ruleRow{group: id, rule: r, dropped: slices.ContainsFunc(s.edits, func(e reach.Edit) bool { return e.Drop && e.Group == id && e.Rule.Same(r) })})
		}
		for _, e := range s.edits {
			if !e.Drop && e.Group == id {
				rows = append(rows, ruleRow{group: id, rule: e.Rule, made: true})
			}
		}
	}
	return rows
}

// row is the chosen rule.
func (m *Model) row() (ruleRow, bool) {
	rows := m.rules()
	if len(rows) == 0 {
		return ruleRow{}, false
	}
	return rows[min(m.scratch.at, len(rows)-1)], true
}

// nextRule chooses another rule.
func (m *Model) nextRule(by int) func() tea.Cmd {
	return func() tea.Cmd {
		if n := len(m.rules()); n > 0 {
			m.scratch.at = (min(m.scratch.at, n-1) + by + n) % n
		}
		return nil
	}
}

// scratchTable is what can be done while rules are tried.
func (m *Model) scratchTable() action.Table {
	s := m.scratch
	if s.typing {
		return action.Table{
			action.On("enter", "add the rule", m.keepTyped).If(func() bool { return s.typed != nil }, "not a complete rule yet"),
			action.On("esc ctrl+c", "cancel", func() tea.Cmd { s.typing, s.typed, s.mistake = false, nil, ""; return m.try() }),
		}
	}
	some := func() bool { return len(s.edits) > 0 }
	_, chosen := m.row()
	return action.Table{
		action.On("D", "remove or keep the rule", m.dropRule).If(func() bool { return chosen }, "it has no rules").Suits(func() bool { return chosen }).Also("remove delete"),
		action.On("n", "new rule", m.typeRule).If(func() bool { return chosen }, "it has no rules").Suits(func() bool { return chosen }).Also("add new open"),
		action.On("u", "undo", m.undoRule).Whole().Also("take back applied"),
		action.On("enter", "apply the changes", m.apply).If(func() bool { return some() && m.acts() }, "nothing is changed, or the estate is read-only").Suits(some).Also("change make real"),
		action.On("X", "write the changes to a file", m.writeEdits).If(some, "nothing is changed").Also("hand on save"),
		action.On("tab", "the next rule", m.nextRule(1)),
		action.On("shift+tab", "the rule before", m.nextRule(-1)).Ranked(action.Hidden),
		action.On("up down left right", "another instance", nil).Ranked(action.Movement),
		action.On("esc q ctrl+c", "discard the changes", m.leaveScratch),
	}
}

// acts tells whether the scratch's source changes anything.
func (m *Model) acts() bool {
	e, ok := m.s.Workspace().Source(m.scratch.source)
	return ok && (&estate.Source{EstateSource: e}).Acts()
}

func (m *Model) dropRule() tea.Cmd {
	s := m.scratch
	row, _ := m.row()
	same := func(e reach.Edit) bool { return e.Group == row.group && e.Rule.Same(row.rule) && e.Drop == !row.made }
	if row.made || row.dropped {
		s.edits = slices.DeleteFunc(slices.Clone(s.edits), same)
	} else {
		s.edits = append(slices.Clip(s.edits), reach.Edit{Drop: true, Group: row.group, Rule: row.rule})
	}
	return m.try()
}

func (m *Model) typeRule() tea.Cmd {
	row, _ := m.row()
	m.scratch.typing, m.scratch.typed = true, nil
	m.line.Begin("add to " + m.scratch.judge.GroupName(row.group) + ": lets in tcp 22 from ")
	return nil
}

// tryTyped tries what is typed, as soon as it is a rule.
func (m *Model) tryTyped() tea.Cmd {
	s := m.scratch
	e, err := reach.ReadEdit(strings.TrimSpace(m.line.Text()), &m.chosen().Source.Snapshot)
	s.typed, s.mistake = nil, ""
	if err != nil {
		s.mistake = err.Error()
	} else {
		s.typed = &e
	}
	return m.try()
}

func (m *Model) keepTyped() tea.Cmd {
	s := m.scratch
	if _, err := s.judge.With(s.all()); err != nil {
		s.mistake = err.Error()
		return nil
	}
	s.edits, s.typed, s.typing = s.all(), nil, false
	return m.try()
}

// undoRule takes the last edit back, or where there is none what was applied last.
func (m *Model) undoRule() tea.Cmd {
	s := m.scratch
	if n := len(s.edits); n > 0 {
		s.edits = s.edits[:n-1]
		return m.try()
	}
	dir, source := m.s.Workspace().Dir, s.source
	return m.s.Run(func() tea.Msg {
		last, err := work.LastApplied(dir, source)
		return lastApplied{source, last, err}
	})
}

// lastApplied is what was made at an estate last.
type lastApplied struct {
	source string
	last   work.Applied
	err    error
}

// takeBack takes back what was made last, at the second press.
func (m *Model) takeBack(msg lastApplied) tea.Cmd {
	switch {
	case m.scratch == nil || m.scratch.source != msg.source:
		return nil
	case msg.err != nil:
		m.s.Tell(msg.err.Error())
		return nil
	}
	last := msg.last
	return m.s.Confirm(place.Confirm{
		Subject: last.At.String(),
		Say:     fmt.Sprintf("%s again to undo %s, of %s", m.s.Press("undo"), words.Count(len(last.Opposite()), "change"), last.At.Local().Format("2 Jan 15:04")),
		Do:      func() tea.Cmd { return m.applied(&work.Apply{Undo: true}) },
	})
}

func (m *Model) apply() tea.Cmd {
	s := m.scratch
	exposes := ""
	if slices.ContainsFunc(s.effects.Shifts, func(x reach.Shift) bool { return x.Everybody > 0 }) {
		exposes = "; it opens something to everybody"
	}
	do := func() tea.Cmd {
		cmd := m.applied(&work.Apply{Edits: s.edits})
		m.scratch, m.details = nil, false
		m.settle()
		return cmd
	}
	return m.s.Confirm(place.Confirm{Subject: s.source, Say: fmt.Sprintf("enter again to make %s at estate %s%s", words.Count(len(s.edits), "change"), sanitize.Line(s.source, 20), exposes), Do: do})
}

func (m *Model) applied(job *work.Apply) tea.Cmd {
	source, ok := m.s.Workspace().Source(m.scratch.source)
	if !ok {
		return nil
	}
	job.Tools, job.Source, job.Read = m.s.Tools(), source, m.s.ReadEstates
	m.begun = m.s.Jobs.Begin(job)
	return nil
}

// writeEdits writes the edits to a file, to hand on.
func (m *Model) writeEdits() tea.Cmd {
	s := m.scratch
	text := "# estate " + s.source + ", " + time.Now().Format("2006-01-02 15:04") + "\n"
	for _, e := range s.edits {
		text += s.judge.Line(e) + "\n"
	}
	path := filepath.Join(m.s.Workspace().Dir, "rules-"+time.Now().Format("20060102-150405")+".txt")
	return m.s.Run(func() tea.Msg { return written{sanitize.Path(path), atomicfile.Write(path, []byte(text))} })
}

func (m *Model) leaveScratch() tea.Cmd {
	do := func() tea.Cmd {
		m.scratch, m.details = nil, false
		m.settle()
		return nil
	}
	n := len(m.scratch.edits)
	if n == 0 {
		return do()
	}
	return m.s.Confirm(place.Confirm{Subject: m.scratch.source, Say: fmt.Sprintf("esc again to drop %s", words.Count(n, "change")), Do: do})
}

// scratchCard draws the rules of the chosen instance with what is tried, and what that does.
func (m *Model) scratchCard(at *estate.Spot, width int) []string {
	t, s := m.s.Theme, m.scratch
	count := "as they are"
	if n := len(s.edits); n > 0 {
		count = words.Count(n, "change") + " tried"
	}
	lines := []string{t.Title(t.Strong.Render("rules of "+called(at.Instance)), t.Accent.Render(count), width, fit.Spread)}
	say := func(begin, text string) {
		lines = append(lines, fit.Hang(begin+text, fit.Width(begin), width-1).Whole...)
	}
	rows := m.rules()
	if at.Source.Source != s.source {
		say("   ", t.Faint.Render("the scratch is of estate "+sanitize.Line(s.source, 20)))
	}
	for n, r := range rows {
		pointer, mark, style := "   ", " ", t.Text
		switch {
		case r.made:
			mark, style = t.Verdict(gate.Open).Render("+"), t.Verdict(gate.Open)
		case r.dropped:
			mark, style = t.Verdict(gate.Shut).Render("-"), t.Verdict(gate.Shut).Strikethrough(true)
		}
		if n == min(s.at, len(rows)-1) && !s.typing {
			pointer = " " + t.Accent.Render(theme.Chosen) + " "
		}
		say(pointer+mark+" ", style.Render(sanitize.Line(s.judge.GroupName(r.group)+": "+r.rule.Sentence(s.judge.GroupName(r.rule.Group)), 200)))
	}
	if s.typing {
		say(" "+t.Accent.Render(theme.Chosen)+" ", m.line.View(max(width-6, 20)))
	}
	if s.mistake != "" && (!s.typing || !strings.HasSuffix(m.line.Text(), " ")) {
		say("   "+t.Verdict(gate.Ajar).Render("╰ "), t.Faint.Render(sanitize.Line(s.mistake, 200)))
	}
	if len(s.all()) == 0 {
		return append(lines, "", "   "+t.Faint.Render("Drop a rule or add one: what that opens and shuts lights up."))
	}
	lines = append(lines, t.Title(t.Accent.Render("what that does"), "", width, fit.Spread))
	told := s.effects.Say()
	if len(told) == 0 {
		say("   ", t.Faint.Render("nothing that is known here opens or shuts"))
	}
	exposes := 0
	for _, x := range s.effects.Shifts {
		if x.Everybody > 0 {
			exposes++
		}
	}
	for n, line := range told {
		mark := t.Accent.Render("▸")
		if n < exposes {
			mark = t.Mark(gate.Shut)
		}
		say("   "+mark+" ", sanitize.Line(line, 300))
	}
	return lines
}
