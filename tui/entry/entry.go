// Package entry is the line a new session is written in: checked while it is
// typed, with the word at fault marked and the route it means drawn beneath.
package entry

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"meatus/core/book"
	"meatus/core/engine"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/trail"
	"meatus/core/workspace"
	"meatus/tui/action"
	"meatus/tui/fit"
	"meatus/tui/line"
	"meatus/tui/place"
	"meatus/tui/stack"
)

// The messages of the task's own: why a session was not written, the keys of the
// download folder, and how the route that is meant stands.
type (
	notSaved struct{ err error }
	saved    struct{}
	arrived  []keyfile.Sheet
	judged   struct {
		text  string
		gates []gate.Gate
	}
)

// Model is the line.
type Model struct {
	stack.Base
	s     *place.Services
	ws    *workspace.Workspace
	known routeline.Known
	input *line.Line
	line  routeline.Line
	note  string          // why saving failed, or what became of what was pasted
	keys  []keyfile.Sheet // that lie in the download folder
	first bool            // nothing is there yet: the line is part of the welcome
	gates judged          // of the target, as last judged
}

// New returns the line with a text in it, "" for none.
func New(s *place.Services, text string) stack.Layer {
	ws := s.Workspace()
	m := &Model{s: s, ws: ws, known: ws.Known(nil), input: line.New(s.Theme, "")}
	m.first = len(ws.Book.Sessions) == 0 && len(ws.Book.Problems) == 0
	m.input.Begin(text)
	m.read()
	return m
}

// Show looks for keys that lie elsewhere.
func (m *Model) Show() tea.Cmd {
	ws := m.ws
	return tea.Batch(m.s.Run(func() tea.Msg { return arrived(ws.Elsewhere()) }), m.judge())
}

func (m *Model) read() { m.line = routeline.Parse(m.input.Text(), m.known) }

// judge has the key and the identity of the target judged.
func (m *Model) judge() tea.Cmd {
	text, ws := m.input.Text(), m.ws
	r, err := m.draft()
	if err != nil || m.line.Draft.Host == "" {
		return nil
	}
	return m.s.Run(func() tea.Msg {
		report := r.Check(ws.Knowledge())
		return judged{text, report.Hops[len(report.Hops)-1].Gates}
	})
}

// draft is the route that the line means, through the sessions that it would make.
func (m *Model) draft() (route.Route, error) {
	p := m.ws.Planner()
	p.Source = m.ws.Book.With(m.line.Hops)
	return p.Draft(m.line.Draft)
}

// Typing tells that keys go into the line.
func (m *Model) Typing() bool { return true }

// Table is what can be done.
func (m *Model) Table() action.Table {
	return action.Table{
		action.On("enter", "save", m.enter),
		action.On("tab", "complete", m.complete),
		action.On("esc ctrl+c", "leave", func() tea.Cmd { m.s.Close(); return nil }),
		action.On("ctrl+d", "look at the demo", func() tea.Cmd { return m.s.Demo()() }).If(func() bool { return m.first && m.input.Text() == "" && m.s.Demo() != nil }, "it is offered for the first session alone").Also("example lantern bay"),
	}
}

// Update takes a message.
func (m *Model) Update(msg tea.Msg) tea.Cmd {
	switch msg := msg.(type) {
	case notSaved:
		m.note = msg.err.Error()
	case saved:
		m.s.Close()
	case arrived:
		m.keys, m.known = msg, m.ws.Known(msg)
		m.read()
	case judged:
		m.gates = msg
	case place.Heard:
		if c, ok := msg.Event.(engine.Changed); ok {
			m.ws, m.known = c.Workspace, c.Workspace.Known(m.keys)
			m.read()
		}
	case tea.PasteMsg:
		if !m.fromCommand(msg.Content) {
			return m.typed(msg)
		}
		return m.judge()
	case tea.KeyPressMsg:
		return m.typed(msg)
	}
	return nil
}

func (m *Model) typed(msg tea.Msg) tea.Cmd {
	m.note = ""
	m.input.Take(msg)
	m.read()
	return m.judge()
}

// enter saves the session; a pasted command becomes a line first, and is looked at.
func (m *Model) enter() tea.Cmd {
	if m.fromCommand(m.input.Text()) {
		return m.judge()
	}
	return m.save()
}

// fromCommand puts a route line in place of a pasted example command, and tells
// whether it was one. Nothing of it is run.
func (m *Model) fromCommand(text string) bool {
	c, ok := routeline.ReadCommand(text, m.known)
	if !ok {
		return false
	}
	m.note = "the command became a route line; nothing was run"
	if len(c.Left) > 0 {
		m.note += ". Left out: " + strings.Join(c.Left, ", ")
	}
	m.input.Begin(c.Line)
	m.read()
	return true
}

// save writes the session where nothing is wrong with it.
func (m *Model) save() tea.Cmd {
	if len(m.line.Mistakes) > 0 {
		first := m.line.Mistakes[0]
		m.input.SetCursor(utf8.RuneCountInString(m.input.Text()[:first.To]))
		return nil
	}
	path, draft, hops, adopt, record := m.ws.SessionsPath(), m.line.Draft, m.line.Hops, m.s.Adopt, m.s.Record
	return m.s.Run(func() tea.Msg {
		b, err := book.Add(path, append(slices.Clone(hops), draft)...)
		if err != nil {
			return notSaved{err}
		}
		adopt(b, draft.Name, "")
		for _, d := range append(slices.Clone(hops), draft) {
			record(trail.Entry{Kind: trail.Edit, Session: d.Name, Say: "written as a new session"})
		}
		return saved{}
	})
}

// at is the cursor's place in the line, in bytes.
func (m *Model) at() int {
	value := []rune(m.input.Text())
	return len(string(value[:min(m.input.Cursor(), len(value))]))
}

// complete finishes the word at the cursor as far as it is certain.
func (m *Model) complete() tea.Cmd {
	if m.fromCommand(m.input.Text()) {
		return m.judge()
	}
	value, at := m.input.Text(), m.at()
	from, candidates := routeline.Complete(value, at, m.known)
	if len(candidates) == 0 {
		return nil
	}
	word := shared(candidates)
	if len(candidates) == 1 {
		word += " "
	}
	m.input.Begin(value[:from] + word + strings.TrimPrefix(value[at:], " "))
	m.input.SetCursor(utf8.RuneCountInString(value[:from] + word))
	m.read()
	return m.judge()
}

// shared is the longest beginning that all words share.
func shared(words []string) string {
	s := words[0]
	for _, w := range words[1:] {
		for !strings.HasPrefix(w, s) {
			_, size := utf8.DecodeLastRuneInString(s)
			s = s[:len(s)-size]
		}
	}
	return s
}

// View draws the line, what it means, and on a first start what can be written there.
func (m *Model) View() []string {
	if !m.first {
		return m.entry(m.Columns, m.Rows)
	}
	lower := stack.CardRows(m.Rows)
	lines := m.welcome(m.Columns, max(m.Rows-lower, 0))
	for len(lines) < m.Rows-lower {
		lines = append(lines, "")
	}
	return append(lines, m.entry(m.Columns, lower)...)
}

// Shape is below the board, and on a first start, where nothing stands on the board, in its place, too.
func (m *Model) Shape() stack.Shape {
	if m.first {
		return stack.Wide
	}
	return stack.Below
}

// entry draws the line and what it means in height lines.
func (m *Model) entry(width, height int) []string {
	t := m.s.Theme
	const form = "NAME = USER@HOST:PORT via BASTION with KEY bring PORT from SERVICE set KEY=VALUE"
	beside := t.Faint.Render(form)
	if width < len(form)+24 {
		beside = ""
	}
	lines := []string{t.Title(t.Accent.Render("new session"), beside, width, fit.Spread)}
	if beside == "" {
		lines = append(lines, fit.Hang("   "+t.Faint.Render(form), 3, width-1).Whole...)
	} else if height > 9 {
		lines = append(lines, "")
	}
	lines = append(lines, m.words(width)...)
	lines = append(lines, "")
	lines = append(lines, m.meaning(width)...)
	if _, candidates := routeline.Complete(m.input.Text(), m.at(), m.known); len(candidates) > 0 {
		lines = append(lines, "", "   "+t.Key.Render("tab")+" "+t.Faint.Render(fit.Cut(strings.Join(candidates, "  "), width-10)))
	}
	return lines[:min(len(lines), height)]
}

const margin = 5 // columns before the text: "   › "

// words draws the line with its words in their roles and, beneath it, what is
// wrong at the first word at fault.
func (m *Model) words(width int) []string {
	t, value := m.s.Theme, m.input.Text()
	mistake := m.mistake()
	at := m.at()
	// A line longer than the screen is shown around the cursor.
	skip := max(lipgloss.Width(value[:at])-(width-margin-4), 0)
	var b strings.Builder
	column := 0
	for i := 0; i <= len(value); {
		r, size := utf8.DecodeRuneInString(value[i:])
		text := string(r)
		if i == len(value) {
			text, size = " ", 1
		}
		style := m.styleAt(i)
		if mistake != nil && i >= mistake.From && i < mistake.To {
			style = t.Verdict(gate.Shut).Underline(true)
			if mistake.Unfinished {
				style = t.Verdict(gate.Ajar).Underline(true)
			}
		}
		if i == at {
			style = style.Reverse(true)
		}
		if column >= skip && column-skip < width-margin-1 {
			b.WriteString(style.Render(text))
		}
		column += lipgloss.Width(text)
		i += size
	}
	lines := []string{"   " + t.Accent.Render("› ") + b.String()}
	if mistake == nil {
		return append(lines, "")
	}
	column = margin + lipgloss.Width(value[:mistake.From]) - skip
	say := "╰ " + mistake.Say
	column = max(min(column, width-lipgloss.Width(say)-2), 3)
	style := t.Verdict(gate.Shut)
	if mistake.Unfinished {
		style = t.Faint
	}
	return append(lines, strings.Repeat(" ", column)+style.Render(fit.Cut(say, width-column)))
}

// mistake is the one to show: the first that typing on would not put right, else
// the first.
func (m *Model) mistake() *routeline.Mistake {
	for i := range m.line.Mistakes {
		if !m.line.Mistakes[i].Unfinished {
			return &m.line.Mistakes[i]
		}
	}
	if len(m.line.Mistakes) > 0 {
		return &m.line.Mistakes[0]
	}
	return nil
}

func (m *Model) styleAt(i int) lipgloss.Style {
	for _, w := range m.line.Words {
		if i < w.From || i >= w.To {
			continue
		}
		switch w.Role {
		case routeline.Name:
			return m.s.Theme.Strong
		case routeline.Clause, routeline.Sign:
			return m.s.Theme.Accent
		}
	}
	return m.s.Theme.Text
}

// meaning draws the route the line means so far.
func (m *Model) meaning(width int) []string {
	t := m.s.Theme
	var lines []string
	if m.note != "" {
		for _, l := range fit.Wrap(m.note, width-8) {
			lines = append(lines, "   "+t.Accent.Render(l))
		}
	}
	return append(lines, m.route(width)...)
}

func (m *Model) route(width int) []string {
	t, d := m.s.Theme, m.line.Draft
	if d.Host == "" {
		return []string{"   " + t.Faint.Render("for example  tide-db = keeper@10.61.4.20 via quay with tide.pem")}
	}
	r, err := m.draft()
	if err != nil {
		return []string{"   " + t.Faint.Render("here ┈┈┈ … ┈┈┈ ") + d.Name}
	}
	rail := t.Faint.Render("here")
	for _, h := range r.Hops {
		rail += t.Rule.Render(" ─────── ") + t.Strong.Render(h.Name)
	}
	target := r.Target()
	lines := []string{"   " + rail, "   " + t.Faint.Render(target.User+"@"+target.Address())}
	for _, g := range m.gates.gates {
		if m.gates.text == m.input.Text() && (g.Kind == gate.Key || g.Kind == gate.Identity) {
			lines[1] += "   " + t.Mark(g.Verdict) + " " + g.Kind.String() + " " + t.Faint.Render(g.Seen)
		}
	}
	for _, tunnel := range d.Tunnels {
		lines = append(lines, "   "+t.Faint.Render(Arrow(tunnel, target.Name)))
	}
	if d.Agent == "lend" {
		lines = append(lines, "   "+t.Verdict(gate.Ajar).Render("lends the agent to "+target.Name))
	}
	for _, h := range m.line.Hops {
		lines = append(lines, fit.Hang("   "+t.Accent.Render("also the new session ")+t.Strong.Render(h.Name)+t.Faint.Render(" for the bastion "+h.User+"@"+h.Host), 3, width).Whole...)
	}
	for _, s := range d.Settings {
		say := fmt.Sprintf("%s = %s", s.Key, s.Value)
		if power := book.Power(s.Key, s.Value); power != "" {
			lines = append(lines, "   "+t.Mark(gate.Ajar)+" "+t.Verdict(gate.Ajar).Render(fit.Cut(say+": it "+power, width-6)))
			continue
		}
		lines = append(lines, "   "+t.Faint.Render(fit.Cut(say, width-4)))
	}
	if len(m.line.Mistakes) == 0 {
		lines = append(lines, fit.Hang("   "+t.Faint.Render("enter writes it to "+m.ws.SessionsPath()), 3, width).Whole...)
	}
	return lines
}

// Arrow draws a tunnel with its direction.
func Arrow(tunnel book.Tunnel, far string) string {
	switch kind, listener := tunnel.Kind(); kind {
	case "bring":
		return fmt.Sprintf("brings %s ⇐ %s, as seen from %s", listener, tunnel.Reach, far)
	case "lend":
		return fmt.Sprintf("lends %s ⇒ %s on %s", tunnel.Reach, listener, far)
	default:
		return fmt.Sprintf("roams: what comes in at %s goes out from %s", listener, far)
	}
}
