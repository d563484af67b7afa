// Package entry is the line a new session is written in: checked while it is
// typed, with the word at fault marked and the route it means drawn beneath.
package entry

import (
	"fmt"
	"strings"
	"unicode/utf8"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"meatus/core/book"
	"meatus/core/gate"
	"meatus/core/keyfile"
	"meatus/core/route"
	"meatus/core/routeline"
	"meatus/core/workspace"
	"meatus/tui/fit"
	"meatus/tui/theme"
)

// Saved says that a session was written.
type Saved struct {
	Book *book.Book
	Name string
}

// Left says that the line was given up.
type Left struct{}

// notSaved says why a session was not written.
type notSaved struct{ err error }

// Model is the line.
type Model struct {
	theme *theme.Theme
	ws    *workspace.Workspace
	known routeline.Known
	input textinput.Model
	line  routeline.Line
	width int
	note  string          // why saving failed, or what became of what was pasted
	keys  []keyfile.Sheet // that lie in the download folder
	first bool            // nothing is there yet: the line is part of the welcome
}

// Demo asks the frame for the demo in place of the empty workspace.
type Demo struct{}

// arrived brings the keys of the download folder.
type arrived []keyfile.Sheet

// New returns an empty line for a workspace.
func New(ws *workspace.Workspace, t *theme.Theme, width int) *Model {
	m := &Model{theme: t, ws: ws, known: ws.Known(nil), input: textinput.New(), width: width}
	m.first = len(ws.Book.Sessions) == 0 && len(ws.Book.Problems) == 0
	m.input.Focus()
	m.read()
	return m
}

// Write puts a text into the line, as if it had been typed.
func (m *Model) Write(text string) {
	m.input.SetValue(text)
	m.input.CursorEnd()
	m.read()
}

// Look looks for keys in the download folder.
func (m *Model) Look() tea.Cmd {
	ws := m.ws
	return func() tea.Msg { return arrived(ws.Arrived()) }
}

// SetTheme changes the styles.
func (m *Model) SetTheme(t *theme.Theme) { m.theme = t }

// SetWidth changes the width, in columns.
func (m *Model) SetWidth(width int) { m.width = width }

func (m *Model) read() { m.line = routeline.Parse(m.input.Value(), m.known) }

// Update takes a message. It returns what is asked of the frame, or nil, and
// what is to be run.
func (m *Model) Update(msg tea.Msg) (wish tea.Msg, cmd tea.Cmd) {
	switch msg := msg.(type) {
	case notSaved:
		m.note = msg.err.Error()
		return nil, nil
	case arrived:
		m.keys, m.known = msg, m.ws.Known(msg)
		m.read()
		return nil, nil
	case tea.KeyPressMsg:
		switch msg.String() {
		case "esc", "ctrl+c":
			return Left{}, nil
		case "enter":
			if m.fromCommand(m.input.Value()) {
				return nil, nil // it is looked at before it is saved
			}
			return nil, m.save()
		case "tab":
			if !m.fromCommand(m.input.Value()) {
				m.complete()
			}
			return nil, nil
		case "ctrl+d":
			if m.first && m.input.Value() == "" {
				return Demo{}, nil
			}
		}
	case tea.PasteMsg:
		if m.fromCommand(msg.Content) {
			return nil, nil
		}
	default:
		return nil, nil
	}
	m.note = ""
	m.input, cmd = m.input.Update(msg)
	m.read()
	return nil, cmd
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
	m.input.SetValue(c.Line)
	m.input.CursorEnd()
	m.read()
	return true
}

// save writes the session where nothing is wrong with it.
func (m *Model) save() tea.Cmd {
	if len(m.line.Mistakes) > 0 {
		first := m.line.Mistakes[0]
		m.input.SetCursor(utf8.RuneCountInString(m.input.Value()[:first.To]))
		return nil
	}
	path, draft := m.ws.SessionsPath(), m.line.Draft
	return func() tea.Msg {
		b, err := book.Add(path, draft)
		if err != nil {
			return notSaved{err}
		}
		return Saved{b, draft.Name}
	}
}

// at is the cursor's place in the line, in bytes.
func (m *Model) at() int {
	value := []rune(m.input.Value())
	return len(string(value[:min(m.input.Position(), len(value))]))
}

// complete finishes the word at the cursor as far as it is certain.
func (m *Model) complete() {
	value, at := m.input.Value(), m.at()
	from, candidates := routeline.Complete(value, at, m.known)
	if len(candidates) == 0 {
		return
	}
	word := shared(candidates)
	if len(candidates) == 1 {
		word += " "
	}
	m.input.SetValue(value[:from] + word + strings.TrimPrefix(value[at:], " "))
	m.input.SetCursor(utf8.RuneCountInString(value[:from] + word))
	m.read()
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

// View draws the line and what it means in height lines.
func (m *Model) View(height int) []string {
	t := m.theme
	lines := []string{t.Title(t.Accent.Render("new session"), t.Faint.Render(fit.Cut("NAME = USER@HOST:PORT via HOP with KEY bring PORT from SERVICE", max(m.width-24, 0))), m.width, fit.Spread)}
	if height > 9 {
		lines = append(lines, "")
	}
	lines = append(lines, m.typed()...)
	lines = append(lines, "")
	lines = append(lines, m.meaning()...)
	if _, candidates := routeline.Complete(m.input.Value(), m.at(), m.known); len(candidates) > 0 {
		lines = append(lines, "", "   "+t.Key.Render("tab")+" "+t.Faint.Render(fit.Cut(strings.Join(candidates, "  "), m.width-10)))
	}
	return lines[:min(len(lines), height)]
}

const margin = 5 // columns before the text: "   › "

// typed draws the line with its words in their roles and, beneath it, what is
// wrong at the first word at fault.
func (m *Model) typed() []string {
	t, value := m.theme, m.input.Value()
	mistake := m.mistake()
	at := m.at()
	// A line longer than the screen is shown around the cursor.
	skip := max(lipgloss.Width(value[:at])-(m.width-margin-4), 0)
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
		if column >= skip && column-skip < m.width-margin-1 {
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
	column = max(min(column, m.width-lipgloss.Width(say)-2), 3)
	style := t.Verdict(gate.Shut)
	if mistake.Unfinished {
		style = t.Faint
	}
	return append(lines, strings.Repeat(" ", column)+style.Render(fit.Cut(say, m.width-column)))
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
			return m.theme.Strong
		case routeline.Clause, routeline.Sign:
			return m.theme.Accent
		}
	}
	return m.theme.Text
}

// meaning draws the route the line means so far.
func (m *Model) meaning() []string {
	t := m.theme
	var lines []string
	if m.note != "" {
		for _, l := range fit.Wrap(m.note, m.width-8) {
			lines = append(lines, "   "+t.Accent.Render(l))
		}
	}
	return append(lines, m.route()...)
}

func (m *Model) route() []string {
	t, d := m.theme, m.line.Draft
	if d.Host == "" {
		return []string{"   " + t.Faint.Render("for example  tide-db = keeper@10.61.4.20 via quay with tide.pem")}
	}
	r, err := m.ws.Planner().Draft(d)
	if err != nil {
		return []string{"   " + t.Faint.Render("here ┈┈┈ … ┈┈┈ ") + d.Name}
	}
	rail := t.Faint.Render("here")
	for _, h := range r.Hops {
		rail += t.Rule.Render(" ─────── ") + t.Strong.Render(h.Name)
	}
	target := r.Target()
	lines := []string{"   " + rail, "   " + t.Faint.Render(target.User+"@"+target.Address())}
	report := r.Check(route.Knowledge{Vouched: m.ws.Vouched})
	for _, g := range report.Hops[len(report.Hops)-1].Gates {
		if g.Kind == gate.Key || g.Kind == gate.Identity {
			lines[1] += "   " + t.Mark(g.Verdict) + " " + g.Kind.String() + " " + t.Faint.Render(g.Seen)
		}
	}
	for _, tunnel := range d.Tunnels {
		lines = append(lines, "   "+t.Faint.Render(Arrow(tunnel, target.Name)))
	}
	if d.Agent == "lend" {
		lines = append(lines, "   "+t.Verdict(gate.Ajar).Render("lends the agent to "+target.Name))
	}
	if len(m.line.Mistakes) == 0 {
		lines = append(lines, "   "+t.Faint.Render("enter writes it to "+m.ws.SessionsPath()))
	}
	return lines
}

// Arrow draws a tunnel with its direction.
func Arrow(tunnel book.Tunnel, far string) string {
	switch kind, door := tunnel.Kind(); kind {
	case "bring":
		return fmt.Sprintf("brings %s ⇐ %s, as seen from %s", door, tunnel.Reach, far)
	case "lend":
		return fmt.Sprintf("lends %s ⇒ %s on %s", tunnel.Reach, door, far)
	default:
		return fmt.Sprintf("roams: what comes in at %s goes out from %s", door, far)
	}
}

// Hints are the keys of the line.
func (m *Model) Hints() []theme.Hint {
	hints := []theme.Hint{{Key: "enter", Does: "save"}, {Key: "tab", Does: "complete"}, {Key: "esc", Does: "leave"}}
	if m.first && m.input.Value() == "" {
		hints = append(hints, theme.Hint{Key: "ctrl+d", Does: "look at the demo"})
	}
	return hints
}
