// Package pager shows a long text on the whole terminal, to be scrolled and searched.
package pager

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"

	"meatus/tui/fit"
)

// most is the greatest width of the text, in columns: longer lines are hard to read.
const most = 100

var (
	strong = lipgloss.NewStyle().Bold(true)
	faint  = lipgloss.NewStyle().Faint(true)
)

// Show shows a text of the form that [Lines] reads until the person leaves it.
func Show(ctx context.Context, title, text string) error {
	_, err := tea.NewProgram(newModel(title, text), tea.WithContext(ctx)).Run()
	return err
}

// Model is the pager.
type Model struct {
	title, text string
	page        viewport.Model
	find        textinput.Model
	finding     bool
	note        string
	width       int
	plain       []string // the lines that are shown, in lower case, to be searched
}

func newModel(title, text string) *Model {
	m := &Model{title: title, text: text, page: viewport.New(), find: textinput.New()}
	m.find.Prompt = "find: "
	return m
}

// Init asks for nothing.
func (m *Model) Init() tea.Cmd { return nil }

// Update handles keys and the size of the terminal.
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.resize(msg.Width, msg.Height)
		return m, nil
	case tea.KeyPressMsg:
		if m.finding {
			return m, m.typed(msg)
		}
		switch m.note = ""; msg.String() {
		case "q", "esc", "ctrl+c":
			return m, tea.Quit
		case "home":
			m.page.GotoTop()
		case "end":
			m.page.GotoBottom()
		case "/":
			m.finding = true
			m.find.SetValue("")
			return m, m.find.Focus()
		case "n":
			m.next()
		}
	}
	var cmd tea.Cmd
	m.page, cmd = m.page.Update(msg)
	return m, cmd
}

// typed handles a key while the text to find is typed.
func (m *Model) typed(msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "ctrl+c":
		return tea.Quit
	case "esc":
		m.finding = false
		return nil
	case "enter":
		m.finding = false
		m.next()
		return nil
	}
	var cmd tea.Cmd
	m.find, cmd = m.find.Update(msg)
	return cmd
}

// next goes to the next line that has the text to find, from the top again behind the last.
func (m *Model) next() {
	text := strings.ToLower(m.find.Value())
	if text == "" {
		return
	}
	for i := range m.plain {
		at := (m.page.YOffset() + 1 + i) % len(m.plain)
		if strings.Contains(m.plain[at], text) {
			m.page.SetYOffset(at)
			m.note = fmt.Sprintf("%q in line %d; n goes to the next", m.find.Value(), at+1)
			return
		}
	}
	m.note = fmt.Sprintf("%q was not found", m.find.Value())
}

func (m *Model) resize(width, height int) {
	m.width = width
	m.page.SetWidth(width)
	m.page.SetHeight(max(height-1, 1))
	lines := Lines(m.text, min(width, most))
	m.plain = m.plain[:0]
	for _, l := range lines {
		m.plain = append(m.plain, strings.ToLower(l))
	}
	for i, l := range lines {
		if strings.HasPrefix(l, "#") {
			lines[i] = strong.Render(strings.TrimLeft(l, "# "))
		}
	}
	lines = append(lines, make([]string, max(height-2, 0))...) // a hit in the last lines can stand at the top
	m.page.SetContentLines(lines)
}

// View draws the page, and beneath it where one is and the keys.
func (m *Model) View() tea.View {
	foot := faint.Render(fit.Cut(m.title+"   q quit   / find   ↑ ↓ PgUp PgDn scroll", m.width))
	switch {
	case m.finding:
		foot = m.find.View()
	case m.note != "":
		foot = fit.Cut(m.note, m.width)
	}
	return tea.View{AltScreen: true, MouseMode: tea.MouseModeCellMotion, Content: m.page.View() + "\n" + foot, WindowTitle: "meatus help " + m.title}
}
